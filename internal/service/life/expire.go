package life

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// Expire has people change their passwords at the next sign-in, without new ones.
func (s *Life) Expire(ctx context.Context, who door.Operator, users, targets []string, because string) (Rotated, error) {
	return s.simply(ctx, who, users, targets, because, func(d model.Schema, o model.Object) (model.Change, model.Verb, string) {
		if _, has := d.Find(model.Account, model.MustChange); !has {
			return model.Change{}, "", "accounts there cannot be asked for another password"
		}
		return mustChange(), model.Modify, ""
	})
}

// Unlock lets people in again who were locked out after wrong passwords. What was
// shut on purpose stays shut.
func (s *Life) Unlock(ctx context.Context, who door.Operator, users, targets []string, because string) (Rotated, error) {
	return s.simply(ctx, who, users, targets, because, func(d model.Schema, o model.Object) (model.Change, model.Verb, string) {
		if !d.Account().Does(model.Enable) {
			return model.Change{}, "", "accounts there cannot be opened"
		}
		if o.Attributes.One(model.Disabled) == "yes" {
			return model.Change{}, "", "it is shut on purpose, and not for wrong passwords"
		}
		// It may have been locked since it was last seen: the target is read before it is touched.
		return model.Change{Attribute: model.Disabled, Before: []string{"partly"}, After: []string{"no"}}, model.Enable, ""
	})
}

// simply does one thing to the accounts of people, at once.
func (s *Life) simply(ctx context.Context, who door.Operator, users, targets []string, because string,
	what func(model.Schema, model.Object) (model.Change, model.Verb, string)) (Rotated, error) {
	if err := who.May(door.Credential); err != nil {
		return Rotated{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Rotated{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Rotated{}, err
	}
	if users, err = chosen(c, SuspendRequest{Users: users}); err != nil {
		return Rotated{}, err
	}
	if err := c.Check(declared.Choice{Targets: targets}); err != nil {
		return Rotated{}, err
	}
	out := Rotated{Handovers: []Handover{}, Left: []LeftOut{}}
	var acts []model.Act
	for _, user := range users {
		links, err := s.Store.LinksOf(ctx, user)
		if err != nil {
			return Rotated{}, err
		}
		known := 0
		for _, l := range links {
			d := c.Plan.Targets[l.Target]
			if d == nil || len(targets) > 0 && !slices.Contains(targets, l.Target) {
				continue
			}
			known++
			o, err := s.Store.Object(ctx, l.Target, model.Account, l.Name)
			if errors.Is(err, store.ErrNone) {
				out.Left = append(out.Left, LeftOut{user, l.Target, l.Name, "it was not there when the target was last surveyed"})
				continue
			}
			if err != nil {
				return Rotated{}, err
			}
			change, verb, why := what(d.Schema, o)
			if why != "" {
				out.Left = append(out.Left, LeftOut{user, l.Target, l.Name, why})
				continue
			}
			acts = append(acts, model.Act{Target: l.Target, Verb: verb, Object: model.Account, Name: l.Name, User: user,
				Changes: []model.Change{change}})
		}
		if known == 0 {
			out.Left = append(out.Left, LeftOut{User: user, Words: "has no account there that we know of"})
		}
	}
	out.Words = "nothing is to be done"
	if len(acts) == 0 {
		return out, nil
	}
	if out.Round, err = s.carryOut(ctx, acting(who), acts, because); err != nil {
		return out, err
	}
	out.Words = fmt.Sprintf("round %d does it", out.Round.ID)
	if out.Round.State == rounds.OnHold {
		out.Words = strings.TrimSuffix(out.Words, " does it") + " is held: somebody else must approve it"
	}
	return out, nil
}
