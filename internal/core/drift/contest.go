package drift

import (
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Before is what is known of a difference that a round put right before.
type Before struct {
	Times int // how often it was put right
	Round int64
	At    time.Time // last
}

// Contest marks the findings of which some part was put right before and is
// there again: somebody, or something, changes it back. before holds what is
// known by the key of a single change. The list is changed in place.
func Contest(findings []model.Finding, before map[string]Before) {
	for i := range findings {
		f := &findings[i]
		var most Before
		for _, part := range f.Act.Parts() {
			if b := before[part.Key()]; b.Times > most.Times {
				most = b
			}
		}
		if most.Times == 0 || f.Verb == model.NoRemedy {
			continue
		}
		times := "once"
		if most.Times > 1 {
			times = fmt.Sprintf("%d times", most.Times)
		}
		f.Kind, f.Times = model.Contested, most.Times
		f.Note = strings.TrimSuffix(fmt.Sprintf("put right %s, last by round %d on %s, and changed back since; %s", times, most.Round,
			most.At.UTC().Format(time.DateOnly), f.Note), "; ")
		if f.Verb == model.Modify {
			f.Note += "; find out what changes it, or leave it to that: roost give-up"
		}
	}
}
