package rounds

import (
	"context"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

const tick = 2 * time.Second

// keepTime starts what is due: scheduled rounds, and surveys and
// reconciliations that targets repeat. Of several services, one does each.
func (s *Carrier) keepTime() {
	seen := map[string]time.Time{}
	looked := time.Now()
	for {
		select {
		case <-s.Life.Done():
			return
		case <-time.After(tick):
		}
		if err := s.startDue(s.Life); err != nil && s.Life.Err() == nil {
			s.Log.Warn("scheduled rounds not looked at", "error", err)
		}
		if err := s.repeat(s.Life); err != nil && s.Life.Err() == nil && door.ProblemOf(err).Kind != door.NotYet {
			s.Log.Warn("repeated surveys not looked at", "error", err)
		}
		if err := s.CheckpointInTime(s.Life); err != nil && s.Life.Err() == nil {
			s.Log.Warn("the record was not signed", "error", err)
		}
		if due, err := s.sealing(s.Life); due && err == nil {
			s.Once("record/seal", s.SealRecord)
		}
		if time.Since(looked) > time.Minute {
			looked = time.Now()
			s.Once("store/room", s.giveBack)
			s.Once("steps/pack", s.packSteps)
		}
		if err := s.compareBehind(s.Life, seen); err != nil && s.Life.Err() == nil && door.ProblemOf(err).Kind != door.NotYet {
			s.Log.Warn("targets not compared", "error", err)
		}
	}
}

// backlogMost is how many entries may wait to be sealed while rounds run.
const backlogMost = 200_000

// sealing says whether it is time to seal entries of the record: when there are
// enough, and no round runs that would have to wait for it.
func (s *Carrier) sealing(ctx context.Context) (bool, error) {
	due, rows, err := s.SealDue(ctx)
	if err != nil || !due || rows > backlogMost {
		return due, err
	}
	busy, err := s.Store.BusyTargets(ctx)
	return len(busy) == 0, err
}

// stepsKept is for how long the steps of rounds that have ended are rows.
const stepsKept = 30 * 24 * time.Hour

// packSteps packs the steps of rounds that ended long ago.
func (s *Carrier) packSteps(ctx context.Context) error {
	for found := true; found && ctx.Err() == nil; {
		var err error
		if found, err = s.Store.PackSteps(ctx, s.Now().Add(-stepsKept)); err != nil {
			return fmt.Errorf("steps of old rounds are not packed: %w", err)
		}
	}
	return ctx.Err()
}

// giveBack gives the room back that deleted rows have left.
func (s *Carrier) giveBack(ctx context.Context) error {
	tables, err := s.Store.Spare(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		began := time.Now()
		if err := s.Store.Rebuild(ctx, t); err != nil {
			return fmt.Errorf("the room left in table %s is not given back: %w", t, err)
		}
		s.Log.Info("room given back", "table", t, "took", time.Since(began))
	}
	return nil
}

// startDue starts the scheduled rounds whose time has come.
func (s *Carrier) startDue(ctx context.Context) error {
	rounds, err := s.Store.DueRounds(ctx, s.Now())
	if err != nil || len(rounds) == 0 {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	for _, r := range rounds {
		if r.InWindow {
			open, err := s.windowsOpen(ctx, c, r.ID)
			if err != nil {
				return err
			}
			if !open {
				continue
			}
		}
		who := door.Itself
		who.Name = r.ApprovedBy // it runs in the name of who let it
		if _, err := s.move(ctx, who, r, []string{Approved}, Running, "started round %d, as scheduled", nil); err != nil &&
			door.ProblemOf(err).Kind != door.Conflict {
			return err
		}
		s.nudge()
	}
	return nil
}

func (s *Carrier) windowsOpen(ctx context.Context, c *declared.Current, id int64) (bool, error) {
	counts, err := s.Store.CountSteps(ctx, id)
	if err != nil {
		return false, err
	}
	for _, n := range counts {
		if d := c.Plan.Targets[n.Target]; d != nil && !d.Target.Window.Open(s.Now()) {
			return false, nil
		}
	}
	return true, nil
}

// repeat surveys and reconciles the targets that ask for it.
func (s *Carrier) repeat(ctx context.Context) error {
	c, known, err := s.Standing(ctx)
	if err != nil {
		return err
	}
	names := door.KeysOf(c.Plan.Targets)
	slices.SortStableFunc(names, func(a, b string) int { return before(known[a].TriedAt, known[b].TriedAt) }) // whoever has waited longest
	for _, name := range names {
		t, row := c.Plan.Targets[name].Target, known[name]
		switch now := s.Now(); {
		case due(t.Repeat.Reconcile, row.Reconciled, name, now) && t.Window.Open(now):
			s.Once("reconcile/"+name, func(ctx context.Context) error { return s.reconcileByItself(ctx, name) })
		case due(t.Repeat.Survey, row.TriedAt, name, now):
			s.Once("survey/"+name, func(ctx context.Context) error {
				_, err := s.Survey(ctx, door.Itself, []string{name}, nil)
				return err
			})
		}
	}
	return nil
}

// before puts what was never tried first, and then what was tried longest ago.
func before(a, b *time.Time) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return -1
	case b == nil:
		return 1
	}
	return a.Compare(*b)
}

// behindFor is for how long findings may be of another revision or day, while
// whoever changed that compares, before somebody else does.
const behindFor = 10 * time.Second

// dueEvery is how often a survey is tried that is due after steps.
const dueEvery = 10 * time.Minute

// compareBehind compares targets whose findings are of another day or revision:
// a day has passed, or a service ended before it had compared. since remembers since when.
func (s *Carrier) compareBehind(ctx context.Context, since map[string]time.Time) error {
	c, known, err := s.Standing(ctx)
	if err != nil {
		return err
	}
	busy, err := s.Store.BusyTargets(ctx)
	if err != nil {
		return err
	}
	now, names := time.Now(), seen.Behind(c, known, nil)
	for name, row := range known {
		if row.SurveyDue > 0 && c.Plan.Targets[name] != nil && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	names = slices.DeleteFunc(names, func(name string) bool { return busy[name] }) // compared at the end of their steps
	for name := range since {
		if !slices.Contains(names, name) {
			delete(since, name)
		}
	}
	for _, name := range names {
		if first, ok := since[name]; !ok {
			since[name] = now
		} else if now.Sub(first) > behindFor && s.Life.Err() == nil {
			if known[name].SurveyDue > 0 { // a target that does not answer is not asked every moment
				since[name] = now.Add(dueEvery)
			}
			s.Once("compare/"+name, func(ctx context.Context) error {
				if known[name].SurveyDue > 0 {
					_, err := s.Survey(ctx, door.Itself, []string{name}, nil)
					return err
				}
				_, _, err := s.Compare(ctx, name)
				return err
			})
		}
	}
	return nil
}

// due says whether something is to be repeated. Each target has its own moment
// within a tenth of the time between, so that they do not all come at once.
func due(every time.Duration, last *time.Time, target string, now time.Time) bool {
	if every <= 0 {
		return false
	}
	if last == nil {
		return true
	}
	h := fnv.New64a()
	fmt.Fprint(h, target, last.Unix()/int64(max(time.Second, every)/time.Second))
	jitter := time.Duration(h.Sum64() % uint64(every/10+1))
	return now.Sub(*last) >= every-every/20+jitter
}

// Once does something beside everything else, unless this or another service is
// at it, or as much as may be at once is under way already: then its time comes again.
func (s *Carrier) Once(what string, do func(context.Context) error) {
	if s.aside.Load() >= int64(2*s.Width) {
		return
	}
	if _, mine := s.busy.LoadOrStore(what, true); mine {
		return
	}
	s.aside.Add(1)
	s.carrying.Go(func() {
		defer s.aside.Add(-1)
		defer s.busy.Delete(what)
		held, err := work.TryHold(s.Life, s.Store, what, s.Owner)
		if err != nil {
			return
		}
		defer held.Release()
		if err := do(held); err != nil && s.Life.Err() == nil {
			s.Log.Warn("not done", "what", strings.Replace(what, "/", " ", 1), "error", err)
		}
	})
}

// reconcileByItself is a reconciliation at its time, in the name of who declared that
// and of who approved it: it runs what those two could run without anybody else. While a round that it drafted before
// still waits, there is no other.
func (s *Carrier) reconcileByItself(ctx context.Context, target string) error {
	now := s.Now()
	err := s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.NoteReconciled(ctx, target, now) })
	if err != nil {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	by, agreed := c.Reconciling(target)
	drafter, err := s.Acting(ctx, by, door.Draft)
	var approver door.Operator
	if err == nil {
		approver, err = s.Acting(ctx, agreed, door.Approve, door.Run)
	}
	if err != nil {
		if door.ProblemOf(err).Kind == door.Conflict {
			err = s.sayOnce(ctx, "unable/"+target+"/"+err.Error(), &store.Entry{At: now, Kind: "round",
				Operator: door.Itself.Name, Target: target, Words: fmt.Sprintf("%s is not reconciled by itself, as declared by %s "+
					"and approved by %s: %v", target, by, agreed, err)})
		}
		return err
	}
	waiting, err := s.Store.WaitingRound(ctx, target, drafter.Name)
	if err != nil && err != store.ErrNone {
		return err
	}
	if err == nil {
		words := fmt.Sprintf("no other round was drafted for %s: round %d, drafted before, is %s and waits", target, waiting.ID,
			waiting.State)
		s.Log.Info("not reconciled", "target", target, "words", words)
		return s.sayOnce(ctx, fmt.Sprintf("told/%s/%d", target, waiting.ID), &store.Entry{At: now, Kind: "round",
			Operator: door.Itself.Name, Target: target, Round: waiting.ID, Because: waiting.Because, Words: words})
	}
	_, err = s.reconcile(ctx, door.Itself, drafter, approver, DraftRequest{Choice: declared.Choice{Targets: []string{target}},
		Because: fmt.Sprintf("repeated reconciliation, declared by %s and approved by %s", by, agreed)})
	return err
}

// sayOnce writes an entry into the record, unless this service has written the same before.
func (s *Carrier) sayOnce(ctx context.Context, what string, e *store.Entry) error {
	if _, said := s.busy.LoadOrStore(what, true); said {
		return nil
	}
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) { return []*store.Entry{e}, nil })
}
