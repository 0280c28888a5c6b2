package life

import (
	"context"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// equip gives acts that make accounts the passwords that wait for their people,
// and notes with a round which handovers its steps set.
func (s *Life) equip(ctx context.Context, c *declared.Current, acts []model.Act) (func(*store.Tx, int64) error, error) {
	var e equipment
	if err := e.fresh(ctx, s, c, acts); err != nil {
		return nil, err
	}
	byID, err := s.sealedIn(ctx, acts, e.ids)
	if err != nil {
		return nil, err
	}
	var accounts []store.HandoverAccount
	for _, a := range acts {
		for _, change := range a.Changes {
			if id := byID[change.Sealed]; id != 0 {
				accounts = append(accounts, store.HandoverAccount{Handover: id, Target: a.Target, Name: a.Name, State: store.HandedWaiting})
			}
		}
	}
	return func(tx *store.Tx, round int64) error {
		if err := tx.PutSealings(ctx, e.seals, s.Now()); err != nil {
			return err
		}
		for _, seal := range e.seals {
			switch ok, err := tx.SealHandover(ctx, e.ids[seal.ID], seal.ID); {
			case err != nil:
				return err
			case !ok:
				return &store.Refusal{Err: door.Clashing("somebody else has just drafted the making of the same accounts; look, and " +
					"draft again")}
			}
		}
		for i := range accounts {
			accounts[i].Round = round
		}
		s.enliven()
		return tx.AddHandoverAccounts(ctx, accounts)
	}, nil
}

// equipment is passwords for accounts that are to be made.
type equipment struct {
	seals []store.Sealing
	ids   map[string]int64 // of their handovers, by the id of what is in them
}

// fresh makes passwords for people whose handover has none yet, and puts them into the acts that make their accounts.
func (e *equipment) fresh(ctx context.Context, s *Life, c *declared.Current, acts []model.Act) error {
	e.ids = map[string]int64{}
	if any, err := s.Store.AnyOpenHandover(ctx); err != nil || !any {
		return err
	}
	by := map[string][]int{} // creations by user
	for i, a := range acts {
		if a.Verb == model.Create && a.Object == model.Account && a.User != "" && settable(c, a.Target) {
			by[a.User] = append(by[a.User], i)
		}
	}
	if len(by) == 0 {
		return nil
	}
	waiting, err := s.Store.OpenHandovers(ctx, door.KeysOf(by))
	if err != nil {
		return err
	}
	for _, h := range waiting {
		places := by[h.User]
		if len(places) == 0 {
			continue // an earlier handover of theirs is on them
		}
		delete(by, h.User)
		sealed := h.Sealed
		if sealed == "" {
			theirs := make([]model.Act, len(places))
			for k, i := range places {
				theirs[k] = acts[i]
			}
			seal, err := s.password(ctx, c, theirs, h.Aloud, "")
			if err != nil {
				return err
			}
			e.seals = append(e.seals, seal)
			e.ids[seal.ID], sealed = h.ID, seal.ID
		}
		for _, i := range places {
			a := &acts[i]
			a.Changes = append(slices.Clone(a.Changes), model.Change{Attribute: model.Password, Sealed: sealed})
			if _, has := c.Plan.Targets[a.Target].Schema.Find(model.Account, model.MustChange); has && !h.Keeps {
				a.Changes = append(a.Changes, mustChange())
			}
		}
	}
	return nil
}

// settable says whether accounts of a target have a password that can be set.
func settable(c *declared.Current, target string) bool {
	d := c.Plan.Targets[target]
	if d == nil {
		return false
	}
	p, ok := d.Schema.Find(model.Account, model.Password)
	return ok && p.Sealed
}

// sealedIn finds the handovers whose sealed values acts set, beside those just made.
func (s *Life) sealedIn(ctx context.Context, acts []model.Act, made map[string]int64) (map[string]int64, error) {
	var ids []string
	out := map[string]int64{}
	for id, h := range made {
		out[id] = h
	}
	for _, a := range acts {
		for _, change := range a.Changes {
			if change.Sealed != "" && made[change.Sealed] == 0 {
				ids = append(ids, change.Sealed)
			}
		}
	}
	if len(ids) == 0 {
		return out, nil
	}
	slices.Sort(ids)
	list, err := s.Store.HandoversSealed(ctx, slices.Compact(ids))
	for _, h := range list {
		out[h.Sealed] = h.ID
	}
	return out, err
}
