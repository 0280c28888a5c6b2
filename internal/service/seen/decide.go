package seen

import (
	"context"
	"fmt"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Decision is what a person said of an account that could be somebody's.
type Decision struct {
	Target   string    `json:"target"`
	Account  string    `json:"account"`
	User     string    `json:"user"`
	Theirs   bool      `json:"theirs"`
	Operator string    `json:"operator"`
	Because  string    `json:"because"`
	MadeAt   time.Time `json:"made-at"`
}

// Decide remembers that an account is a user's, or that it is not. It counts
// for more than what the rules of the target would recognise. What follows from
// it is drift at once; a round carries it out.
func (s *Seen) Decide(ctx context.Context, who door.Operator, target, account, user string, theirs bool, because string) error {
	if err := who.May(door.Draft); err != nil {
		return err
	}
	because, err := door.Reason(because)
	if err != nil {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	if err := c.Check(declared.Choice{Targets: []string{target}, Users: []string{user}}); err != nil {
		return err
	}
	o, err := s.Store.Object(ctx, target, model.Account, account)
	if err == store.ErrNone {
		return s.NotHeld(ctx, target, model.Account, account)
	} else if err != nil {
		return err
	}
	if why, shut := c.Plan.Targets[target].Shield().Covers(&o); shut && theirs {
		return door.Clashing("the account %s on %s is %s; it can be nobody's", account, target, why)
	}
	words := fmt.Sprintf("decided that account %s on %s is %s's", account, target, user)
	if !theirs {
		words = fmt.Sprintf("decided that account %s on %s is not %s's", account, target, user)
	}
	d := store.Decision{Target: target, Name: account, User: user, Theirs: theirs, Operator: who.Name, Because: because, MadeAt: s.Now()}
	if err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "decision", Operator: who.Name, Target: target, User: user, Because: because,
			Words: words}}, tx.PutDecision(ctx, d)
	}); err != nil {
		return err
	}
	_, _, err = s.Compare(ctx, target)
	return err
}

// Forget takes a decision back.
func (s *Seen) Forget(ctx context.Context, who door.Operator, target, account, user string) error {
	if err := who.May(door.Draft); err != nil {
		return err
	}
	if err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		there, err := tx.DropDecision(ctx, target, account, user)
		if err == nil && !there {
			err = &store.Refusal{Err: &door.Problem{Kind: door.Unknown,
				Words: fmt.Sprintf("nothing was decided of account %q on %s and %s; roost decision list shows what was", account, target,
					user)}}
		}
		return []*store.Entry{{At: s.Now(), Kind: "decision", Operator: who.Name, Target: target, User: user,
			Words: fmt.Sprintf("took back what was decided of account %s on %s and %s", account, target, user)}}, err
	}); err != nil {
		return err
	}
	_, _, err := s.Compare(ctx, target)
	return err
}

// Decisions lists what people decided, of one target or of all.
func (s *Seen) Decisions(ctx context.Context, who door.Operator, target string) ([]Decision, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	rows, err := s.Store.Decisions(ctx, target)
	out := make([]Decision, len(rows))
	for i, r := range rows {
		out[i] = Decision{Target: r.Target, Account: r.Name, User: r.User, Theirs: r.Theirs, Operator: r.Operator, Because: r.Because,
			MadeAt: r.MadeAt}
	}
	return out, err
}
