// Package rounds is the service's room for what is changed: rounds are drafted,
// approved, carried, told and undone here, at once or at their time.
package rounds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Any number of services carry rounds together. What there is to do stands in
// the database: the steps that have not ended, in phases. A phase is one wave
// and tier; its targets are taken one by one, each under its lease, by whoever
// is free. The next phase begins when the one before has ended, and the next
// wave only if the one before held.

const (
	lookEvery = 250 * time.Millisecond // for rounds that other services have started
	soon      = 20 * time.Millisecond
)

// Config is what a Carrier is made of.
type Config struct {
	Batch  int            // steps in a batch
	Widths map[string]int // targets of a kind at once, where fewer than Width
}

// Carrier drafts rounds and carries them, at once and at their time.
type Carrier struct {
	*seen.Seen
	Config
	runner *work.Runner
	// Equip gives acts that make accounts the credentials that wait for their
	// people, in place, and returns what notes it with the round that is stored. The
	// room above sets it before anything is drafted.
	Equip func(ctx context.Context, c *declared.Current, acts []model.Act) (note func(*store.Tx, int64) error, err error)

	carrying sync.WaitGroup
	busy     sync.Map      // targets on which this process carries steps, and other work that goes on once
	aside    atomic.Int64  // how much of that other work is under way
	slots    *work.Slots   // of them
	wake     chan struct{} // there may be something to carry
}

// New makes the room. It does nothing of its own accord until Begin.
func New(below *seen.Seen, c Config) *Carrier {
	s := &Carrier{Seen: below, Config: c, slots: work.NewSlots(below.Width, c.Widths), wake: make(chan struct{}, 1)}
	s.runner = &work.Runner{Owner: s.Owner, Journal: journal{s.Store, s}, Reach: s.reachIn, Unseal: s.unseal, Log: s.Log,
		Batch: c.Batch}
	return s
}

// Begin carries rounds, those too that another service left unfinished, and does
// what is to be done at its time, until the service's life ends.
func (s *Carrier) Begin() {
	s.carrying.Go(s.carryAll)
	s.carrying.Go(s.keepTime)
}

// Drain returns when the batches under way have ended. The other steps wait for
// the next service.
func (s *Carrier) Drain() { s.carrying.Wait() }

// slotKey finds the slot of the target that a context's work is for, wordsKey what it is for in words.
type (
	slotKey  struct{}
	wordsKey struct{}
)

// reachIn says how to reach a target whose steps are carried: its slot is given back while it says nothing.
func (s *Carrier) reachIn(ctx context.Context, target string) (connect.Connector, connect.Access, error) {
	c, a, err := s.Reach(ctx, target)
	if slot, ok := ctx.Value(slotKey{}).(*work.Slot); ok && err == nil {
		a = slot.Through(a)
	}
	a.Words, _ = ctx.Value(wordsKey{}).(string)
	return c, a, err
}

// nudge has the carrier look at once.
func (s *Carrier) nudge() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// carryAll carries what there is until the service ends.
func (s *Carrier) carryAll() {
	for {
		rounds, err := s.Store.UnfinishedRounds(s.Life)
		if err != nil && s.Life.Err() == nil {
			s.Log.Warn("cannot look for rounds to carry", "error", err)
		}
		for _, r := range rounds {
			if err := s.carry(s.Life, r); err != nil && s.Life.Err() == nil {
				s.Log.Error("round interrupted; it will be taken up again", "round", r.ID, "error", err)
			}
		}
		select {
		case <-s.Life.Done():
			return
		case <-s.wake:
			select { // several targets often end together
			case <-s.Life.Done():
				return
			case <-time.After(soon):
			}
		case <-time.After(lookEvery):
		}
	}
}

// phase is a round's steps that may be carried at the same time.
type phase struct{ wave, tier int }

// carry begins what can begin of a round now, and ends the round when nothing is left.
func (s *Carrier) carry(ctx context.Context, r store.Round) error {
	counts, err := s.Store.Phases(ctx, r.ID)
	if err != nil {
		return err
	}
	var now *phase // the first that has steps to carry
	var targets []string
	for _, c := range counts {
		p := phase{c.Wave, c.Tier}
		if (c.Outcome == waiting || c.Outcome == running) && (now == nil || *now == p) {
			now = &p
			if !slices.Contains(targets, c.Target) {
				targets = append(targets, c.Target)
			}
		}
	}
	elsewhere, err := s.Store.Held(ctx, "target/") // by other services, or by surveys
	if err != nil {
		return err
	}
	if now == nil { // it is over when what it left behind is compared, so that drift is told as it is
		if slices.ContainsFunc(counts, func(c store.PhaseCount) bool { return elsewhere[c.Target] }) {
			return nil
		}
		return s.finish(ctx, r)
	}
	switch {
	case now.wave > 1 && r.State == Running && s.badBefore(counts, now.wave) > 0:
		return s.drop(ctx, r, fmt.Sprintf("the first wave did not hold: %s",
			door.Count(s.badBefore(counts, now.wave), "step did not succeed", "steps did not succeed")))
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	for _, target := range targets {
		if elsewhere[target] {
			continue
		}
		kind, share := "", -1
		if d := c.Plan.Targets[target]; d != nil {
			kind, share = d.Target.Kind, d.Target.Limits.FailShare
		}
		if _, mine := s.busy.LoadOrStore("target/"+target, true); mine {
			continue
		}
		slot := s.slots.Try(kind, s.nudge)
		if slot == nil {
			s.busy.Delete("target/" + target)
			continue
		}
		s.carrying.Go(func() {
			err := s.carryTarget(context.WithValue(ctx, slotKey{}, slot), r, target, *now, share)
			s.busy.Delete("target/" + target)
			slot.Leave()
			if !errors.Is(err, work.ErrHeld) {
				s.nudge()
			}
			if err != nil && ctx.Err() == nil && !errors.Is(err, work.ErrHeld) && !errors.Is(err, work.ErrStopped) {
				s.Log.Error("steps interrupted; they will be taken up again", "round", r.ID, "target", target, "error", err)
			}
		})
	}
	return nil
}

// held says whether a step ended as it should.
func held(outcome string) bool {
	return outcome == string(connect.Done) || outcome == string(connect.AlreadySo)
}

func (s *Carrier) badBefore(counts []store.PhaseCount, wave int) int {
	n := 0
	for _, c := range counts {
		if c.Wave < wave && !held(c.Outcome) {
			n += c.N
		}
	}
	return n
}

// carryTarget carries one target's steps of a phase, and compares the target when they have ended.
func (s *Carrier) carryTarget(ctx context.Context, r store.Round, target string, p phase, failShare int) error {
	rows, err := s.Store.TargetSteps(ctx, r.ID, target, p.wave, p.tier)
	if err != nil {
		return err
	}
	steps := make([]work.Step, len(rows))
	for i, row := range rows {
		steps[i] = work.Step{Seq: row.Seq, Act: connect.Act{Act: row.Act, Stage: row.Stage, Again: row.Tries > 0}}
		if row.Outcome == running && row.Trial != "" {
			steps[i].Trial = connect.Mark{Token: row.Trial, Until: *row.TrialEnds}
		}
	}
	words := fmt.Sprintf("round %d, approved by %s: %s", r.ID, r.ApprovedBy, r.Because)
	ctx = context.WithValue(ctx, wordsKey{}, words)
	return s.runner.Target(ctx, r.ID, target, steps, work.How{FailShare: failShare, Guard: s.guard(r, target), After: func() {
		if err := s.settled(context.WithoutCancel(ctx), target); err != nil {
			s.Log.Error("not compared after the round", "round", r.ID, "target", target, "error", err)
		}
	}})
}

// settled leaves a target as a survey would at the end of steps on it, and compares it.
func (s *Carrier) settled(ctx context.Context, target string) error {
	row, err := s.Store.Target(ctx, target)
	if err != nil {
		return err
	}
	if row.SurveyDue > 0 {
		slot, _ := ctx.Value(slotKey{}).(*work.Slot)
		r := s.SurveyAfter(ctx, target, slot)
		if r.State == seen.Surveyed {
			return nil // and compared
		}
		s.Log.Warn("not surveyed after steps that changed more than they name; it is tried again", "target", target, "error", r.Words)
	}
	_, _, err = s.Compare(ctx, target)
	return err
}

// drop ends the steps of a round that nobody has begun, without trying them.
func (s *Carrier) drop(ctx context.Context, r store.Round, words string) error {
	defer s.nudge()
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		n, err := tx.DropSteps(ctx, r.ID, words, s.Now())
		if err != nil || n == 0 {
			return nil, err
		}
		return []*store.Entry{{At: s.Now(), Kind: "round", Operator: door.Itself.Name, Round: r.ID, Because: r.Because,
			Words: fmt.Sprintf("did not try %s of round %d: %s", door.Count(int(n), "step", "steps"), r.ID, words)}}, nil
	})
}

// finish closes a round whose steps have all ended.
func (s *Carrier) finish(ctx context.Context, r store.Round) error {
	counts, err := s.Store.CountSteps(ctx, r.ID)
	if err != nil {
		return err
	}
	by, state := map[string]int{}, Complete
	for _, c := range counts {
		if by[c.Outcome] += c.N; !held(c.Outcome) {
			state = Incomplete
		}
	}
	if r.State == Stopped {
		state = Stopped
	}
	words := fmt.Sprintf("round %d is %s: %s", r.ID, state, Tally(by))
	operator := cmp.Or(r.StoppedBy, r.RunBy)
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		ended, err := tx.EndRound(ctx, r.ID, state, s.Now())
		if err != nil || !ended {
			return nil, err
		}
		entries := []*store.Entry{{At: s.Now(), Kind: "round", Operator: operator, Round: r.ID, Because: r.Because, Words: words}}
		if r.Undoes != 0 && by[string(connect.Done)]+by[string(connect.AlreadySo)] > 0 {
			if err := tx.Undone(ctx, r.Undoes); err != nil {
				return nil, err
			}
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "round", Operator: r.RunBy, Round: r.Undoes, Because: r.Because,
				Words: fmt.Sprintf("round %d was undone by round %d", r.Undoes, r.ID)})
		}
		return entries, nil
	})
}

// outcomes in the order in which people want to hear of them.
var outcomes = []string{"failed", "out-of-reach", "moved", "not-tried", "running", "waiting", "done", "already-so", "undone"}

// Tally says outcomes in words: "1 failed, 46 done".
func Tally(by map[string]int) string {
	out := ""
	for _, o := range outcomes {
		if by[o] == 0 {
			continue
		}
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf("%d %s", by[o], o)
	}
	if out == "" {
		return "nothing to do"
	}
	return out
}
