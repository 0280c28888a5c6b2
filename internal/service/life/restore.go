package life

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// stillFor is how long a restoration waits for those who are still shutting the same person out.
const stillFor = 45 * time.Second

// Restored is what came of a restoration.
type Restored struct {
	Suspension Suspension   `json:"suspension"`
	Round      rounds.Round `json:"round" doc:"that opens the accounts again; its id is 0 when there is none to open, or somebody else must want it too"`
	Handover   *Handover    `json:"handover,omitempty" doc:"of the new password with which the accounts are opened"`
	Link       *Linked      `json:"link,omitempty" doc:"how the person collects it; neither link nor code can be had again"`
	Words      string       `json:"words"`
}

// RestoreRequest asks for the end of a suspension.
type RestoreRequest struct {
	User    string
	Because string
	Fresh   *bool // whether the accounts are opened with a new password; nil: those of a suspension for security's sake are
}

// RestoreUser ends a person's suspension: the accounts that it shut are opened again by
// a round, and nothing else. One that was begun for security's sake by somebody
// else ends when two operators want it.
//
// A password that somebody may have stolen meanwhile must not work again: after one
// for security's sake the accounts are opened with a new one, handed over once.
func (s *Life) RestoreUser(ctx context.Context, who door.Operator, q RestoreRequest) (Restored, error) {
	user := q.User
	if err := who.May(door.Restore); err != nil {
		return Restored{}, err
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return Restored{}, err
	}
	x, err := s.Store.SuspensionOf(ctx, user)
	if errors.Is(err, store.ErrNone) {
		return Restored{}, door.Clashing("%s is not suspended by roost suspend; what the declaration says of them is changed there", user)
	}
	if err != nil {
		return Restored{}, err
	}
	fresh := x.Security
	if q.Fresh != nil {
		fresh = *q.Fresh
	}
	// Until the declaration says so no more, nobody writes into it that the same person is suspended anew.
	turn, err := work.Hold(ctx, s.Store, declaring, s.Owner, stillFor)
	if err != nil {
		return Restored{}, &door.Problem{Kind: door.Away, Err: err, Words: "others who suspend or restore are changing the declaration; " +
			"nothing was done, try again"}
	}
	release := sync.OnceFunc(turn.Release)
	defer release()
	asked, err := s.end(ctx, who, x.ID, because, fresh)
	if err != nil {
		return Restored{}, err
	}
	out := Restored{}
	if asked {
		out.Words = fmt.Sprintf("%s was suspended by %s for security's sake: somebody else must want it too, with roost restore %s", user,
			x.Operator, user)
		out.Suspension, err = s.SuspensionByID(ctx, who, x.ID)
		return out, err
	}
	// What follows is done whoever waits for it: the person must not be left between.
	ctx = context.WithoutCancel(ctx)
	if err := s.still(ctx, x.ID); err != nil {
		return Restored{}, err
	}
	if x, err = s.Store.Suspension(ctx, x.ID); err != nil {
		return Restored{}, err
	}
	if x.Revision != 0 {
		if _, err := s.Edit(ctx, acting(who), 0, []declare.Edit{{Section: "users", Name: user, Key: "suspended", Do: declare.Take}},
			because); err != nil {
			return Restored{}, fmt.Errorf("the suspension has ended, and the accounts are still shut, since the declaration could not be "+
				"changed: %w", err)
		}
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Restored{}, err
	}
	release()
	if out.Words = staysShut(c, user); out.Words != "" {
		out.Suspension, err = s.SuspensionByID(ctx, who, x.ID)
		return out, err
	}
	if err := s.Store.ReleaseCertificates(ctx, user, !fresh); err != nil {
		return out, err
	}
	if err := s.reopen(ctx, who, c, x.ID, because, fresh, &out); err != nil {
		return out, err
	}
	switch {
	case out.Round.ID == 0:
		out.Words = "nothing was shut that is to be opened again"
	case out.Round.State == rounds.OnHold:
		out.Words = fmt.Sprintf("round %d opens the accounts again, once somebody else has approved it: it is held", out.Round.ID)
	default:
		out.Words = fmt.Sprintf("round %d opens the accounts again", out.Round.ID)
	}
	out.Suspension, err = s.SuspensionByID(ctx, who, x.ID)
	return out, err
}

// staysShut says why the accounts of somebody whose suspension has ended stay shut all the same; "": nothing else keeps them so.
func staysShut(c *declared.Current, user string) string {
	if u := c.Declared.Users[user]; u != nil && u.Suspended.Since != "" {
		return fmt.Sprintf("the declaration says since %s that %s is suspended (%s), so the accounts stay shut", u.Suspended.Since, user,
			u.Suspended.Because)
	}
	if p, known := c.Plan.Person(user); known && p.State == resolve.Left {
		return fmt.Sprintf("the last day of %s was %s, so the accounts stay shut; if they stay: roost edit users %s --take until", user,
			p.Declared.Span.Until, user)
	}
	return ""
}

// end ends a suspension, or notes that one of two wants it.
// What follows with a new password hands over a credential, which is a duty of its own.
func (s *Life) end(ctx context.Context, who door.Operator, id int64, because string, fresh bool) (asked bool, err error) {
	now := s.Now()
	alone, err := s.Alone(ctx, who, door.Restore)
	if err != nil {
		return false, err
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		x, err := tx.LockSuspension(ctx, id)
		if err != nil {
			return nil, err
		}
		if !x.Active {
			return nil, &store.Refusal{Err: door.Clashing("%s is suspended no longer: %s ended it", x.User, x.EndedBy)}
		}
		entry := &store.Entry{At: now, Kind: "suspension", Operator: who.Name, User: x.User, Because: because}
		if asked = x.Security && x.Operator != who.Name && !alone && (x.AskedBy == "" || x.AskedBy == who.Name); asked {
			entry.Words = "wants to restore " + x.User + "; somebody else must want it too"
			return []*store.Entry{entry}, tx.AskToRestore(ctx, id, who.Name)
		}
		if fresh && who.May(door.Credential) != nil {
			return nil, &store.Refusal{Err: &door.Problem{Kind: door.Forbidden,
				Words: fmt.Sprintf("restoring %s hands over new passwords, which needs the duty %q beside %q; %s has not got it: somebody "+
					"who has both restores them", x.User, door.Credential, door.Restore, who.Name)}}
		}
		if x.Security && x.Operator != who.Name && !alone {
			if err := s.Apart(ctx, who, x.AskedBy); err != nil {
				return nil, &store.Refusal{Err: err}
			}
		}
		entry.Words = "restored " + x.User
		if x.Security && x.Operator != who.Name && alone {
			entry.Words += ", alone: nobody else could"
		}
		return []*store.Entry{entry}, tx.EndSuspension(ctx, id, who.Name, because, now)
	})
	var p *door.Problem
	if errors.As(err, &p) {
		err = p
	}
	return asked, err
}

// still waits until nobody shuts the person out any more.
func (s *Life) still(ctx context.Context, id int64) error {
	list, err := s.Store.SuspendedAccounts(ctx, []int64{id})
	if err != nil {
		return err
	}
	for until := time.Now().Add(stillFor); ; {
		busy, err := s.Store.Held(ctx, leaseOn(""))
		if err != nil {
			return err
		}
		under := ""
		for _, a := range list {
			if busy[a.Target] {
				under = a.Target
			}
		}
		if under == "" {
			return nil
		}
		if time.Now().After(until) {
			return &door.Problem{Kind: door.Away,
				Words: fmt.Sprintf("the suspension has ended, but somebody is still shut out on %s at this "+
					"moment; what was shut is found as drift, and a round opens it", under)}
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// reopen drafts, approves and runs the round that opens what a suspension shut,
// with a new password where that is asked.
func (s *Life) reopen(ctx context.Context, who door.Operator, c *declared.Current, id int64, because string, fresh bool,
	out *Restored) error {
	list, err := s.Store.SuspendedAccounts(ctx, []int64{id})
	if err != nil {
		return err
	}
	x := rotation{Life: s, c: c}
	for _, a := range list {
		if !a.Begun || a.Before == Shut {
			continue
		}
		o, err := s.Store.Object(ctx, a.Target, model.Account, a.Name)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		before := o.Attributes.Get(model.Disabled)
		if len(before) != 1 || before[0] != "yes" {
			continue
		}
		act := model.Act{Target: a.Target, Verb: model.Enable, Object: model.Account, Name: a.Name, User: a.User}
		if fresh && settable(c, a.Target) {
			act.Changes = []model.Change{{Attribute: model.Password}}
			if x.asks(a.Target, a.User) {
				act.Changes = append(act.Changes, mustChange())
			}
			x.users = []string{a.User}
		}
		act.Changes = append(act.Changes, model.Change{Attribute: model.Disabled, Before: before, After: []string{"no"}})
		x.acts = append(x.acts, act)
	}
	if len(x.acts) == 0 {
		return nil
	}
	if len(x.users) > 0 {
		if err := x.make(ctx); err != nil {
			return err
		}
		if err := x.store(ctx, who, because, lastsUsual); err != nil {
			return err
		}
	}
	out.Round, err = s.carryOut(ctx, acting(who), x.acts, because)
	if out.Round.ID != 0 {
		err = errors.Join(err, s.Store.RestoredBy(ctx, id, out.Round.ID))
	}
	if err != nil || len(x.ids) == 0 {
		return err
	}
	s.enliven()
	// Whoever restores may not be one who hands over: the link comes with the restoration all the same.
	l, err := s.LinkTo(ctx, door.Operator{Name: who.Name, Duties: []door.Duty{door.Credential}}, x.ids[0])
	if err == nil {
		out.Handover, out.Link = &l.Handover, &l
	}
	return err
}
