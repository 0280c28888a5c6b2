package rounds

import (
	"context"
	"strconv"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Renumber drafts a round that gives an account or a group another number, with all files that it owns: a way out where two
// names claim one number. It need be nobody's that is declared.
func (s *Carrier) Renumber(ctx context.Context, who door.Operator, target, account, group string, number int,
	because string) (Round, error) {
	if err := who.May(door.Draft); err != nil {
		return Round{}, err
	}
	what := model.Named{Kind: model.Account, Name: account}
	if group != "" {
		what = model.Named{Kind: model.GroupKind, Name: group}
	}
	if (account == "") == (group == "") {
		return Round{}, door.Wrong("account", "name an account or a group, not both")
	}
	because, err := door.Reason(because)
	if err != nil {
		return Round{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Round{}, err
	}
	d := c.Plan.Targets[target]
	if d == nil {
		return Round{}, door.NotKnown("target", target, door.KeysOf(c.Plan.Targets))
	}
	if a, ok := d.Schema.Find(what.Kind, model.Number); !ok || !a.Settable || number < 1 {
		return Round{}, door.Wrong("number", "a %s on %s cannot be given the number %d", what.Kind, target, number)
	}
	o, err := s.Store.Object(ctx, target, what.Kind, what.Name)
	if err == store.ErrNone {
		return Round{}, s.NotHeld(ctx, target, what.Kind, what.Name)
	}
	if err != nil {
		return Round{}, err
	}
	owner := map[string]string{}
	if what.Kind == model.Account {
		if owner, err = s.Store.LinkedNames(ctx, target, []string{what.Name}); err != nil {
			return Round{}, err
		}
	}
	return s.Ask(ctx, who, []model.Act{{Target: target, Verb: model.Modify, Object: what.Kind, Name: what.Name, User: owner[what.Name],
		Changes: []model.Change{{Attribute: model.Number, Before: o.Attributes.Get(model.Number),
			After: []string{strconv.Itoa(number)}}}}}, because)
}
