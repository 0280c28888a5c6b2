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
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// The guards of a round (round.Holds) are worked out at its draft, where those
// that an operator may lift wait for one, and are asked again before each batch:
// against what is declared by then, and what is there. Who still can administer
// a target is asked of the target itself, where a step could take that away.

// facts are what the guards want to know of the targets of steps that are drafted, as far as it is stored.
// asked says that an operator asked for just these steps: then what is shut on purpose may be opened.
func (s *Carrier) facts(ctx context.Context, c *declared.Current, steps []round.Step, asked bool) (map[string]round.Facts, error) {
	by, out := map[string][]round.Step{}, map[string]round.Facts{}
	for _, st := range steps {
		by[st.Target] = append(by[st.Target], st)
	}
	for target, list := range by {
		if c.Plan.Targets[target] == nil {
			continue
		}
		f, err := s.factsOn(ctx, c, target, list, steps, asked)
		if err != nil {
			return nil, err
		}
		out[target] = f
	}
	return out, nil
}

// factsOn are the facts of one target for steps on it; all are those of every target that are looked at with them. It is the one
// place where facts are gathered, so that what is asked at the draft is asked before each batch.
func (s *Carrier) factsOn(ctx context.Context, c *declared.Current, target string, steps, all []round.Step, asked bool) (f round.Facts,
	err error) {
	d := c.Plan.Targets[target]
	var names []string
	var opens []model.Act
	for _, st := range steps {
		if name := st.Account(); name != "" {
			names = append(names, name)
		}
		if st.Verb == model.Enable && !asked {
			opens = append(opens, st.Act)
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	f = round.Facts{Target: d.Target, Shield: d.Shield()}
	var linked map[string]string
	var row store.Target
	var admins map[string]*model.Object
	for _, gather := range []func() error{
		func() (err error) { f.Seen, err = s.Store.Flagged(ctx, target, names); return err },
		func() (err error) { linked, err = s.Store.LinkedNames(ctx, target, door.KeysOf(f.Seen)); return err },
		func() (err error) { f.Power, err = s.PowerOn(ctx, d, movedSets(steps)); return err },
		func() (err error) { admins, err = s.Store.Administrators(ctx, target, d.Login); return err },
		func() (err error) { row, err = s.Store.Target(ctx, target); return err },
		func() (err error) { f.Suspended, err = s.cutOff(ctx, steps); return err },
		func() (err error) { f.Pools, err = s.pools(ctx, target, steps); return err },
		func() (err error) { f.Shared, err = s.sharedPools(ctx, c, target, all); return err },
		func() (err error) { f.Purpose, err = s.Purpose(ctx, target, opens); return err },
	} {
		if err := gather(); err != nil {
			return f, err
		}
	}
	f.Linked = func(user, name string) bool { return user != "" && linked[name] == user }
	f.Accounts, f.Administrators = row.Accounts, map[string]bool{}
	for _, o := range f.Seen {
		f.Power.Account(o)
	}
	for name, o := range admins {
		f.Administrators[name] = true
		f.Power.Account(o)
	}
	return f, nil
}

// movedSets are the sets that steps bring into others, or take out.
func movedSets(steps []round.Step) (out []model.Named) {
	for _, st := range steps {
		if st.Moves() && st.MemberKind == model.GroupKind {
			out = append(out, model.Named{Kind: st.MemberKind, Name: st.Member})
		}
	}
	return out
}

// conflict says which two roles a user holds that nobody may hold both.
func conflict(c *declared.Current) func(user string) (a, b string, ok bool) {
	return func(user string) (string, string, bool) {
		p, ok := c.Plan.Person(user)
		if !ok {
			return "", "", false
		}
		return p.Conflict()
	}
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

// Keeps says of acts that are to be carried out at once, outside of any round,
// which of them a guard that nobody can lift keeps from being done, and why: by
// their places, "" for those that it lets be. last are those that leave nobody who can administer a target: why.
func (s *Carrier) Keeps(ctx context.Context, c *declared.Current, acts []model.Act) (kept, last []string, err error) {
	steps := make([]round.Step, len(acts))
	for i, a := range acts {
		steps[i] = round.Step{Act: a}
	}
	facts, err := s.facts(ctx, c, steps, false)
	if err != nil {
		return nil, nil, err
	}
	kept, last = make([]string, len(acts)), make([]string, len(acts))
	for _, h := range round.Holds(steps, facts, nil) {
		for _, at := range h.Steps {
			switch {
			case h.Kind == round.LastAdmin:
				last[at] = h.Words
			case h.Firm:
				kept[at] = h.Words
			}
		}
	}
	return kept, last, nil
}

// guard is what the runner asks before each batch of a round on a target.
func (s *Carrier) guard(r store.Round, target string) work.Guard {
	var held []round.Hold
	var closed *round.Closed
	due := false
	return func(ctx context.Context, steps []work.Step, read work.Read) (refusal work.Refusal, err error) {
		c, err := s.Current(ctx)
		if err != nil {
			return refusal, err
		}
		if c.Plan.Targets[target] == nil {
			return work.Refusal{All: fmt.Sprintf("%s is no longer declared", target)}, nil
		}
		if held == nil {
			if held, err = s.heldFor(ctx, r.ID); err != nil {
				return refusal, err
			}
		}
		acts, seqs := make([]round.Step, len(steps)), make([]int, len(steps))
		closes := false
		for i, st := range steps {
			if err := s.calledNow(ctx, c, &st.Act.Act); err != nil {
				return refusal, err
			}
			acts[i], seqs[i] = round.Step{Act: st.Act.Act}, st.Seq
			closes = closes || round.Shuts(st.Act.Act) || round.Removes(st.Act.Act)
		}
		f, err := s.factsOn(ctx, c, target, acts, acts, r.Bulk || r.Undoes != 0)
		if err != nil {
			return refusal, err
		}
		renames := slices.ContainsFunc(acts, func(x round.Step) bool { return x.Formerly() != "" })
		if !due && (renames || f.Spreads(acts, c.Plan.Targets[target].Schema)) {
			if err := s.Store.DueSurvey(ctx, target); err != nil {
				return refusal, err
			}
			due = true
		}
		if closes {
			if closed == nil {
				var all round.Closed
				if all.Disabled, all.Removed, err = s.Store.ClosedOn(ctx, r.ID, target); err != nil {
					return refusal, err
				}
				closed = &all
			}
			f.Closed = closedBeside(acts, *closed)
		}
		if f.Weakens(acts) {
			if err := s.administratorsNow(ctx, c, target, acts, &f, read); err != nil {
				return refusal, err
			}
		}
		all, some := round.Refused(acts, seqs, f, held, conflict(c))
		renamesPower(f, acts, some)
		if all != nil {
			refusal.All = all.Kind + ": " + all.Words
		}
		refusal.Some = some
		return refusal, s.decidedSince(ctx, c, r, target, acts, some)
	}
}

// renamesPower adds steps that would rename a group whose old or new name gives power by now: with the name it would go, or come.
func renamesPower(f round.Facts, steps []round.Step, some map[int]string) {
	course := f.Power.Course()
	for i, st := range steps {
		for _, name := range []string{st.Name, st.Formerly()} {
			if st.Formerly() != "" && some[i] == "" && course.Gives(model.Named{Kind: st.Object, Name: name}) {
				some[i] = fmt.Sprintf("members of the group %s can become superuser there, so it is not renamed from here; "+
					"rename it on the target", name)
			}
		}
	}
}

// decidedSince adds steps that what was decided since the draft keeps from being carried out, each with why: whose finding was
// accepted, and those that the declaration no longer asks for.
func (s *Carrier) decidedSince(ctx context.Context, c *declared.Current, r store.Round, target string, steps []round.Step,
	some map[int]string) error {
	if r.Bulk || r.Undoes != 0 { // asked for in so many words
		return nil
	}
	accepted, err := s.Store.AcceptedSince(ctx, target, r.DraftedAt, s.Now().Format(time.DateOnly))
	if err != nil {
		return err
	}
	for i, st := range steps {
		if some[i] != "" {
			continue
		}
		if c.Revision != r.Revision && !c.Plan.Asks(st.Act) {
			some[i] = fmt.Sprintf("revision %d no longer asks for it, and the round was drafted from revision %d", c.Revision, r.Revision)
		}
		for _, kind := range model.FindingKinds {
			if len(accepted) == 0 {
				break
			}
			if a, is := accepted[model.Finding{Kind: kind, Act: st.Act}.Key()]; is {
				some[i] = fmt.Sprintf("%s accepted it until %s since the round was drafted", a.By, a.Until.Format(time.DateOnly))
			}
		}
	}
	return nil
}

// closedBeside is all that a round closes on a target, without the steps that are looked at, which count by themselves.
func closedBeside(steps []round.Step, all round.Closed) round.Closed {
	for _, st := range steps {
		switch {
		case round.Shuts(st.Act):
			all.Disabled--
		case round.Removes(st.Act):
			all.Removed--
		}
	}
	return all
}

// administratorsNow asks the target itself who can become superuser there.
func (s *Carrier) administratorsNow(ctx context.Context, c *declared.Current, target string, steps []round.Step, f *round.Facts,
	read work.Read) error {
	could, sets := map[string]*model.Object{}, map[model.Named]model.Object{}
	var right *model.Object
	var ways []model.Named
	err := read(ctx, func(o model.Object) error {
		n := model.Named{Kind: o.Kind, Name: o.Name}
		switch {
		case o.Administers():
			could[o.Name] = &o
		case o.Kind == model.RightKind && o.Name == model.Superuser:
			right = &o
		case o.Kind == model.GroupKind || o.Kind == model.RightKind || o.Kind == model.ElevationKind:
			sets[n] = o
			if o.Kind == model.ElevationKind {
				ways = append(ways, n)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	load := func(names []model.Named) (out []model.Object, err error) {
		for _, n := range names {
			if o, there := sets[n]; there {
				out = append(out, o)
			}
		}
		return out, nil
	}
	if f.Power, err = seen.PowerFrom(c.Plan.Targets[target], right, ways, movedSets(steps), load); err != nil {
		return err
	}
	linked, err := s.Store.LinkedNames(ctx, target, door.KeysOf(could))
	if err != nil {
		return err
	}
	f.Administrators = map[string]bool{}
	for _, o := range f.Seen {
		f.Power.Account(o)
	}
	for name, o := range could {
		f.Power.Account(o)
		if linked[name] != "" && name != f.Shield.Login {
			f.Administrators[name] = true
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
