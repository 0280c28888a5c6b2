package life

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// settledAtOnce is how many handovers change their state in one transaction.
const settledAtOnce = 200

// keepHandovers lets handovers be collected when their accounts have them, and
// ends those that have waited too long, until the service ends.
func (s *Life) keepHandovers() {
	s.during(s.hand, "handovers", func(ctx context.Context) error {
		if err := s.Store.UnsetHandovers(ctx, s.Now()); err != nil {
			return err
		}
		for {
			n, err := s.settle(ctx)
			if err != nil {
				return err
			}
			if n < settledAtOnce {
				break
			}
		}
		if err := s.expire(ctx); err != nil {
			return err
		}
		if until := s.lively.Load(); until > s.Now().UnixNano() { // somebody waits for it
			time.AfterFunc(livelyEvery, s.settleSoon)
		}
		return nil
	})
}

// keepProving does what waits for targets, which may take their time, until the service ends.
func (s *Life) keepProving() {
	s.during(s.prove, "credentials to prove", s.finish)
}

// finish does what one service does at a time: it proves keys, and sets anew what may not be set.
func (s *Life) finish(ctx context.Context) error {
	keys, err := s.Store.KeysToProve(ctx, 1)
	if err != nil {
		return err
	}
	unsure, err := s.Store.UnsureHandovers(ctx, 1)
	if err != nil || len(keys)+len(unsure) == 0 {
		return err
	}
	held, err := work.TryHold(ctx, s.Store, "handovers", s.Owner)
	if errors.Is(err, work.ErrHeld) {
		return nil // another service does
	}
	if err != nil {
		return err
	}
	defer held.Release()
	return errors.Join(s.proveKeys(held), s.setAnew(held))
}

// A handover that was just made is looked after more often, for whoever waits for it.
const (
	livelyEvery = 100 * time.Millisecond
	livelyFor   = 2 * time.Minute
)

// enliven has handovers looked after often for a while.
func (s *Life) enliven() {
	s.lively.Store(s.Now().Add(livelyFor).UnixNano())
	s.settleSoon()
}

func (s *Life) settleSoon() {
	for _, wake := range []chan struct{}{s.hand, s.prove} {
		select {
		case wake <- struct{}{}:
		default:
		}
	}
}

// settle lets those be collected that are set somewhere, ends those that are set
// nowhere, and those that newer ones have replaced. It returns how many.
func (s *Life) settle(ctx context.Context) (n int, err error) {
	list, err := s.Store.SettledHandovers(ctx, settledAtOnce)
	if n = len(list); err != nil || n == 0 {
		return n, err
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		for _, id := range list {
			h, err := tx.LockHandover(ctx, id)
			if err != nil {
				return nil, err
			}
			if h.State != Made {
				continue // another service was quicker
			}
			set, err := tx.HandedTo(ctx, h.ID)
			if err != nil {
				return nil, err
			}
			if set == 0 && h.What != certificateKind {
				entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: door.Itself.Name, User: h.User,
					Because: h.Because, Words: fmt.Sprintf("no account took handover %d, and it is gone", h.ID)})
				if err := tx.EndHandover(ctx, h, NotSet, "no account took it", s.Now()); err != nil {
					return nil, err
				}
				continue
			}
			if h.Given {
				err = tx.EndHandover(ctx, h, Collected, "nobody: its person has it", s.Now())
			} else {
				err = tx.AwaitHandover(ctx, h.ID, s.Now().Add(time.Duration(h.Lasts)*time.Second))
			}
			if err != nil {
				return nil, err
			}
			more, err := s.replaced(ctx, tx, h)
			if err != nil {
				return nil, err
			}
			entries = append(entries, more...)
		}
		return entries, nil
	})
	return n, err
}

// replaced withdraws the passwords whose place a newer one has taken everywhere.
func (s *Life) replaced(ctx context.Context, tx *store.Tx, h store.Handover) (entries []*store.Entry, err error) {
	if h.What != passwordKind && h.What != hashKind {
		return nil, nil
	}
	old, err := tx.OutdatedHandovers(ctx, h.User, h.ID)
	for _, o := range old {
		entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: door.Itself.Name, User: h.User, Because: h.Because,
			Words: fmt.Sprintf("withdrew handover %d: handover %d took its place", o.ID, h.ID)})
		if err := tx.EndHandover(ctx, o, Withdrawn, fmt.Sprintf("handover %d took its place", h.ID), s.Now()); err != nil {
			return nil, err
		}
	}
	return entries, err
}

// setAnew sets credentials anew of which nobody knows whether they are set, once
// their targets give a sign of life: the same ones, so that whoever has them signs in.
func (s *Life) setAnew(ctx context.Context) error {
	unsure, err := s.Store.UnsureHandovers(ctx, settledAtOnce)
	if err != nil || len(unsure) == 0 {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	for i := 0; i < len(unsure); {
		id := unsure[i].Handover
		rows, err := s.Store.Handovers(ctx, store.HandoverFilter{IDs: []int64{id}}, 1)
		if err != nil || len(rows) == 0 {
			return err
		}
		h := rows[0]
		x := rotation{Life: s, c: c, q: RotateRequest{Keeps: h.Keeps}, hashed: h.What == hashKind}
		for ; i < len(unsure) && unsure[i].Handover == id; i++ {
			act, why, err := x.act(ctx, model.Link{Target: unsure[i].Target, Name: unsure[i].Name, User: h.User})
			if err != nil {
				return err
			}
			if why != "" { // not there any more, or shut
				if err := s.Store.Unhand(ctx, unsure[i], why, s.Now()); err != nil {
					return err
				}
				continue
			}
			act.Changes[0].Sealed = h.Sealed
			x.acts = append(x.acts, act)
		}
		if len(x.acts) == 0 {
			continue
		}
		if _, err := s.carryOut(ctx, acting(door.Operator{Name: h.Operator}), x.acts, h.Because); err != nil {
			return err
		}
		s.enliven()
	}
	return nil
}

// expire ends those that have waited too long.
func (s *Life) expire(ctx context.Context) error {
	list, err := s.Store.ExpiredHandovers(ctx, s.Now(), settledAtOnce)
	if err != nil || len(list) == 0 {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		for _, id := range list {
			h, err := tx.LockHandover(ctx, id)
			if err != nil {
				return nil, err
			}
			if h.State != ToCollect {
				continue // somebody was quicker
			}
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: door.Itself.Name, User: h.User,
				Because: h.Because, Words: fmt.Sprintf("handover %d has expired: nobody collected it", h.ID)})
			if err := tx.EndHandover(ctx, h, Expired, "nobody collected it", s.Now()); err != nil {
				return nil, err
			}
		}
		return entries, nil
	})
}

// keptEvery is how often is done what nobody waits for.
const keptEvery = time.Hour

// keepHouse tells of the week before, and forgets what nobody needs any more, until the service ends.
func (s *Life) keepHouse() {
	for {
		if err := errors.Join(s.tellScreenings(s.Life), s.Store.ForgetSealings(s.Life),
			s.Store.ForgetRemoved(s.Life, s.Now().Add(-rounds.KeptFor))); err != nil && s.Life.Err() == nil {
			s.Log.Warn("the house is not kept", "error", err)
		}
		select {
		case <-s.Life.Done():
			return
		case <-time.After(keptEvery):
		}
	}
}
