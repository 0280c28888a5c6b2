package rounds

import (
	"context"
	"strconv"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Renumber drafts a round that gives an account another number, with all files that it owns: a way out where two names
// claim one number. The account need be nobody's that is declared.
func (s *Carrier) Renumber(ctx context.Context, who door.Operator, target, account string, number int, because string) (Round, error) {
	if err := who.May(door.Draft); err != nil {
		return Round{}, err
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
	if a, ok := d.Schema.Find(model.Account, model.Number); !ok || !a.Settable || number < 1 {
		return Round{}, door.Wrong("number", "accounts on %s cannot be given the number %d", target, number)
	}
	o, err := s.Store.Object(ctx, target, model.Account, account)
	if err == store.ErrNone {
		return Round{}, &door.Problem{Kind: door.Unknown, Words: target + " was not seen to hold the account " + account}
	}
	if err != nil {
		return Round{}, err
	}
	owner, err := s.Store.LinkedNames(ctx, target, []string{account})
	if err != nil {
		return Round{}, err
	}
	return s.Ask(ctx, who, []model.Act{{Target: target, Verb: model.Modify, Object: model.Account, Name: account, User: owner[account],
		Changes: []model.Change{{Attribute: model.Number, Before: o.Attributes.Get(model.Number),
			After: []string{strconv.Itoa(number)}}}}}, because)
}
