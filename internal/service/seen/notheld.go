package seen

import (
	"context"
	"fmt"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

// nearestAmong bounds among how many names the nearest is looked for.
const nearestAmong = 20_000

// NotHeld says that a target was not seen to hold something of a name, and which name is the nearest.
func (s *Seen) NotHeld(ctx context.Context, target string, kind model.ObjectKind, name string) *door.Problem {
	known, err := s.Store.NamesHeld(ctx, target, kind, nearestAmong)
	if err != nil {
		known = nil // then the name alone is told
	}
	return &door.Problem{Kind: door.Unknown, Nearest: declare.Nearest(name, known),
		Words: declare.Meant(fmt.Sprintf("%s was not seen to hold the %s %q", target, kind, name), name, known)}
}
