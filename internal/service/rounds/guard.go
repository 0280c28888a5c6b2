package rounds

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// The guards of a round (round.Holds) are worked out at its draft, where those
// that an operator may lift wait for one, and are asked again before each batch:
// against what is declared by then, and what is there. Who still can administer
// a target is asked of the target itself, where a step could take that away.

// facts are what the guards want to know of the targets of some steps, as far as it is stored.
func (s *Carrier) facts(ctx context.Context, c *declared.Current, steps []round.Step) (map[string]round.Facts, error) {
	names := map[string][]string{}
	for _, st := range steps {
		list := names[st.Target]
		if name := st.Account(); name != "" {
			list = append(list, name)
		}
		names[st.Target] = list
	}
	out := map[string]round.Facts{}
	cut, err := s.cutOff(ctx, steps)
	if err != nil {
		return nil, err
	}
	opens := map[string][]model.Act{}
	for _, st := range steps {
		if st.Verb == model.Enable {
			opens[st.Target] = append(opens[st.Target], st.Act)
		}
	}
	for target, touched := range names {
		if c.Plan.Targets[target] == nil {
			continue
		}
		f, err := s.factsOn(ctx, c, target, touched)
		if err != nil {
			return nil, err
		}
		row, err := s.Store.Target(ctx, target)
		if err != nil {
			return nil, err
		}
		f.Accounts, f.Suspended = row.Accounts, cut
		if f.Pools, err = s.pools(ctx, target, steps); err != nil {
			return nil, err
		}
		if f.Shared, err = s.sharedPools(ctx, c, target, steps); err != nil {
			return nil, err
		}
		if f.Purpose, err = s.Purpose(ctx, target, opens[target]); err != nil {
			return nil, err
		}
		out[target] = f
	}
	return out, nil
}

// cutOff are the users who were cut off, of those whom steps would let in.
func (s *Carrier) cutOff(ctx context.Context, steps []round.Step) (map[string]bool, error) {
	users := map[string]bool{}
	for _, st := range steps {
		if st.User != "" && (st.Verb == model.Enable || st.Verb == model.Create && st.Object == model.Account) {
			users[st.User] = true
		}
	}
	return s.Store.SuspendedAmong(ctx, door.KeysOf(users))
}

// Purpose finds out which accounts that acts would open were shut on purpose: by
// which round, or by which suspension (less than 0).
func (s *Carrier) Purpose(ctx context.Context, target string, opens []model.Act) (map[string]int64, error) {
	if len(opens) == 0 {
		return nil, nil
	}
	keys := make([]string, len(opens))
	for i, a := range opens {
		keys[i] = a.Key()
	}
	known, err := s.Store.MendedAmong(ctx, []string{target}, keys, time.Time{})
	out := map[string]int64{}
	for i, a := range opens {
		if m, ok := known[keys[i]]; ok && m.Times == 0 {
			out[a.Name] = m.Round
		}
	}
	return out, err
}

// factsOn are the facts of one target for steps that touch the named accounts.
func (s *Carrier) factsOn(ctx context.Context, c *declared.Current, target string, names []string) (round.Facts, error) {
	d := c.Plan.Targets[target]
	slices.Sort(names)
	names = slices.Compact(names)
	f := round.Facts{Target: d.Target, Shield: d.Shield()}
	if k := d.Schema.Of(model.RightKind); k != nil && k.Spelled != nil {
		f.Mighty = k.Spelled.Mighty
	}
	var err error
	if f.Seen, err = s.Store.Flagged(ctx, target, names); err != nil {
		return f, err
	}
	linked, err := s.Store.LinkedNames(ctx, target, door.KeysOf(f.Seen))
	if err != nil {
		return f, err
	}
	f.Linked = func(user, name string) bool { return user != "" && linked[name] == user }
	right, err := s.Store.Set(ctx, target, model.Named{Kind: model.RightKind, Name: model.Superuser})
	switch {
	case err == nil:
		f.Power = round.PowerOf(&right)
	case err != store.ErrNone:
		return f, err
	}
	if err == nil || slices.ContainsFunc(door.KeysOf(f.Seen), func(n string) bool { return f.Seen[n].Administers() }) {
		f.Administrators, err = s.Store.Administrators(ctx, target, d.Login)
		return f, err
	}
	return f, nil
}

// Keeps says of acts that are to be carried out at once, outside of any round,
// which of them a guard that nobody can lift keeps from being done, and why: by
// their places, "" for those that it lets be.
func (s *Carrier) Keeps(ctx context.Context, c *declared.Current, acts []model.Act) ([]string, error) {
	steps := make([]round.Step, len(acts))
	for i, a := range acts {
		steps[i] = round.Step{Act: a}
	}
	facts, err := s.facts(ctx, c, steps)
	if err != nil {
		return nil, err
	}
	out := make([]string, len(acts))
	for _, h := range round.Holds(steps, facts, func(string) (string, string, bool) { return "", "", false }) {
		for _, at := range h.Steps {
			if h.Firm {
				out[at] = h.Words
			}
		}
	}
	return out, nil
}

// guard is what the runner asks before each batch of a round on a target.
func (s *Carrier) guard(r store.Round, target string) func(context.Context, []work.Step, work.Read) (string, error) {
	var held []round.Hold
	var closed *round.Closed
	return func(ctx context.Context, steps []work.Step, read work.Read) (string, error) {
		c, err := s.Current(ctx)
		if err != nil {
			return "", err
		}
		if c.Plan.Targets[target] == nil {
			return fmt.Sprintf("%s is no longer declared", target), nil
		}
		if held == nil {
			if held, err = s.heldFor(ctx, r.ID); err != nil {
				return "", err
			}
		}
		acts, seqs, names := make([]round.Step, len(steps)), make([]int, len(steps)), []string{}
		var opens []model.Act
		closes := false
		for i, st := range steps {
			acts[i], seqs[i] = round.Step{Act: st.Act.Act}, st.Seq
			if name := st.Account(); name != "" {
				names = append(names, name)
			}
			if st.Verb == model.Enable && !r.Bulk && r.Undoes == 0 {
				opens = append(opens, st.Act.Act)
			}
			closes = closes || round.Shuts(st.Act.Act) || round.Removes(st.Act.Act)
		}
		f, err := s.factsOn(ctx, c, target, names)
		if err != nil {
			return "", err
		}
		if f.Suspended, err = s.cutOff(ctx, acts); err != nil {
			return "", err
		}
		if f.Purpose, err = s.Purpose(ctx, target, opens); err != nil {
			return "", err
		}
		if closes {
			if closed == nil {
				var all round.Closed
				if all.Disabled, all.Removed, err = s.Store.ClosedOn(ctx, r.ID, target); err != nil {
					return "", err
				}
				closed = &all
			}
			if err := s.closing(ctx, acts, &f, *closed); err != nil {
				return "", err
			}
		}
		if slices.ContainsFunc(acts, func(a round.Step) bool { return f.Weakens(a.Act) }) {
			if err := s.administratorsNow(ctx, target, &f, read); err != nil {
				return "", err
			}
		}
		if h := round.Refused(acts, seqs, f, held); h != nil {
			return h.Kind + ": " + h.Words, nil
		}
		return "", nil
	}
}

// closing fills in what the limits count: all that the round closes on the
// target, of which the steps looked at count by themselves, and the accounts there.
func (s *Carrier) closing(ctx context.Context, steps []round.Step, f *round.Facts, all round.Closed) error {
	row, err := s.Store.Target(ctx, f.Target.Name)
	if err != nil {
		return err
	}
	f.Accounts, f.Closed = row.Accounts, all
	for _, st := range steps {
		switch {
		case round.Shuts(st.Act):
			f.Closed.Disabled--
		case round.Removes(st.Act):
			f.Closed.Removed--
		}
	}
	return nil
}

// administratorsNow asks the target itself who can become superuser there.
func (s *Carrier) administratorsNow(ctx context.Context, target string, f *round.Facts, read work.Read) error {
	could := map[string][]string{}
	err := read(ctx, func(o model.Object) error {
		if o.Administers() {
			could[o.Name] = o.Attributes.Get(model.Elevation)
		}
		if o.Kind == model.RightKind && o.Name == model.Superuser {
			f.Power = round.PowerOf(&o)
		}
		return nil
	})
	if err != nil {
		return err
	}
	linked, err := s.Store.LinkedNames(ctx, target, door.KeysOf(could))
	if err != nil {
		return err
	}
	f.Administrators = map[string][]string{}
	for name, ways := range could {
		if linked[name] != "" && name != f.Shield.Login {
			f.Administrators[name] = ways
		}
	}
	return nil
}

// heldFor are the holds of a round, each with the numbers of its steps.
func (s *Carrier) heldFor(ctx context.Context, id int64) ([]round.Hold, error) {
	rows, err := s.Store.Holds(ctx, id)
	out := make([]round.Hold, len(rows))
	for i, h := range rows {
		out[i] = round.Hold{Kind: h.Kind, Target: h.Target, Words: h.Words, Firm: h.Firm}
		if h.Steps != "" {
			if err := json.Unmarshal([]byte(h.Steps), &out[i].Steps); err != nil {
				return nil, fmt.Errorf("holds of round %d: %w", id, err)
			}
		}
	}
	return out, err
}
