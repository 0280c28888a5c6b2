package intake

import (
	"context"
	"errors"
	"slices"

	"hen-roost/internal/core/declare"
)

// unfit are the users of whom edits say what the declaration cannot, and why: a name that a host knows no account by, a field
// that nobody declared. Of faults that are no user's it says nothing; whoever takes the edits is told them.
func (s *Intake) unfit(ctx context.Context, edits []declare.Edit) (map[string]string, error) {
	if len(edits) == 0 {
		return nil, nil
	}
	var faults declare.Faults
	if _, err := s.PlanAfter(ctx, edits, s.Now()); !errors.As(err, &faults) {
		return nil, ctx.Err()
	}
	out, edited := map[string]string{}, map[string]bool{}
	for _, e := range edits {
		edited[e.Name] = true
	}
	for _, f := range faults {
		// Of two who are in each other's way one need not come.
		if i := slices.IndexFunc(f.Users, func(user string) bool { return edited[user] }); i >= 0 && out[f.Users[i]] == "" {
			out[f.Users[i]] = f.Message
		}
	}
	return out, nil
}
