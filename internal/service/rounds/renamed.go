package rounds

import (
	"context"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
)

// calledNow has an act that was written down speak of its user by the id that they have now, if they were renamed since.
func (s *Carrier) calledNow(ctx context.Context, c *declared.Current, a *model.Act) error {
	if a.User == "" || c.Declared.Users[a.User] != nil {
		return nil
	}
	now, err := s.Store.NameNow(ctx, a.User)
	if err != nil || now == "" || c.Declared.Users[now] == nil {
		return err
	}
	a.Changes = slices.Clone(a.Changes)
	for i, change := range a.Changes {
		if change.Attribute == model.Owner {
			a.Changes[i].Before, a.Changes[i].After = renamedIn(change.Before, a.User, now), renamedIn(change.After, a.User, now)
		}
	}
	a.User = now
	return nil
}

// renamedIn is a list of owners with another id in the place of one.
func renamedIn(list []string, from, to string) []string {
	out := slices.Clone(list)
	for i, x := range out {
		if x == from {
			out[i] = to
		}
	}
	return out
}
