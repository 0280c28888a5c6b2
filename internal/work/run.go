package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"hen-roost/internal/connect"
)

// Step is one act of a round with its number in it.
type Step struct {
	Seq int
	connect.Act
}

// Result is what became of a step.
type Result struct {
	Step
	connect.Answer
}

// Journal remembers what a round does. Its functions are called by several
// goroutines at once. What they are told is durable when they return.
type Journal interface {
	// Lease takes or renews the sole right to work on something.
	Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error)
	Release(ctx context.Context, what, owner string) error
	// Begin says that the steps are about to be tried.
	Begin(ctx context.Context, round int64, steps []Step) error
	// End says what became of them.
	End(ctx context.Context, round int64, results []Result) error
}

// Reach finds out how to reach a target.
type Reach func(ctx context.Context, target string) (connect.Connector, connect.Access, error)

// Runner carries rounds out.
type Runner struct {
	Owner   string // of the leases: one for each process
	Journal Journal
	Reach   Reach
	Log     *slog.Logger
	Width   int // targets at once
	Batch   int // steps in one batch: how much is under way when something breaks
}

const (
	leaseFor   = 6 * time.Second
	renewEvery = 2 * time.Second
	persistFor = 3 * time.Minute // how long the database may be away before steps are left as they stand
	tries      = 3               // of a batch whose connection was lost
)

// Run carries out the steps of a round, several targets at once, and tells
// after each batch. When ctx ends, batches under way are finished and the
// other steps are left waiting: Run then returns the context's error, and a
// later Run goes on from there.
func (r *Runner) Run(ctx context.Context, round int64, steps []Step, told func([]Result)) error {
	byTarget := map[string][]Step{}
	var targets []string
	for _, s := range steps {
		if byTarget[s.Target] == nil {
			targets = append(targets, s.Target)
		}
		byTarget[s.Target] = append(byTarget[s.Target], s)
	}
	slices.Sort(targets)
	errs := make(chan error, len(targets))
	Each(ctx, targets, r.Width, func(ctx context.Context, target string) {
		w := worker{Runner: r, round: round, target: target, told: told, log: r.Log.With("round", round, "target", target)}
		errs <- w.run(ctx, byTarget[target])
	})
	close(errs)
	var all []error
	for err := range errs {
		all = append(all, err)
	}
	return errors.Join(all...)
}

// worker carries out one target's steps.
type worker struct {
	*Runner
	round   int64
	target  string
	told    func([]Result)
	log     *slog.Logger
	session connect.Session
	lost    *connect.Answer // why the target is given up: it is not tried again for each batch
}

func (w *worker) run(ctx context.Context, steps []Step) error {
	held, release, err := Hold(ctx, w.Journal, "target/"+w.target, w.Owner)
	if err != nil {
		return err
	}
	defer release()
	defer func() {
		if w.session != nil {
			w.session.Close()
		}
	}()
	for len(steps) > 0 {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if held.Err() != nil {
			return fmt.Errorf("%s: the lease was lost", w.target)
		}
		batch := steps[:min(w.Batch, len(steps))]
		steps = steps[len(batch):]
		// A batch that has begun is finished even if we are asked to stop.
		if err := w.batch(context.WithoutCancel(ctx), batch); err != nil {
			return err
		}
	}
	return nil
}

func (w *worker) batch(ctx context.Context, steps []Step) error {
	if err := w.persist(ctx, func() error { return w.Journal.Begin(ctx, w.round, steps) }); err != nil {
		return err
	}
	began := time.Now()
	results := w.carryOut(ctx, steps)
	w.log.Info("batch carried out", "steps", len(steps), "took", time.Since(began))
	if err := w.persist(ctx, func() error { return w.Journal.End(ctx, w.round, results) }); err != nil {
		return err
	}
	w.told(results)
	return nil
}

// persist tries until the journal takes it: what has been done must be written
// down, even if the database is away for a while.
func (w *worker) persist(ctx context.Context, write func() error) error {
	pause, until := 50*time.Millisecond, time.Now().Add(persistFor)
	for {
		err := write()
		if err == nil {
			return nil
		}
		if time.Now().After(until) {
			return fmt.Errorf("the journal cannot be written: %w", err)
		}
		w.log.Warn("journal not written, trying again", "error", err, "in", pause)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		pause = min(2*pause, 2*time.Second)
	}
}

// carryOut applies a batch. Steps whose end is unknown are applied again on a
// new connection; the target is read first, so none is done twice.
func (w *worker) carryOut(ctx context.Context, steps []Step) []Result {
	results := make([]Result, len(steps))
	open := make([]int, len(steps)) // places in steps still without an answer
	for i := range open {
		open[i] = i
		results[i].Step = steps[i]
	}
	if w.lost != nil {
		for i := range results {
			results[i].Answer = *w.lost
		}
		return results
	}
	for try := 1; len(open) > 0; try++ {
		if w.session == nil {
			if err := w.open(ctx); err != nil {
				if try < tries && !connect.Reached(err) {
					time.Sleep(time.Duration(try) * 200 * time.Millisecond)
					continue
				}
				outcome, words := connect.OutOfReach, err.Error()
				if connect.Reached(err) {
					outcome = connect.Failed
				}
				w.lost = &connect.Answer{Outcome: outcome, Words: words}
				for _, i := range open {
					results[i].Answer = *w.lost
					if steps[i].Again {
						results[i].Words += "; it was tried before, and whether it was carried out the next survey will tell"
					}
				}
				return results
			}
		}
		acts := make([]connect.Act, len(open))
		for k, i := range open {
			acts[k] = steps[i].Act
		}
		answers := w.session.Apply(ctx, acts)
		var unsure []int
		for k, i := range open {
			results[i].Answer = answers[k]
			if answers[k].Outcome == connect.Unsure {
				steps[i].Again = true
				unsure = append(unsure, i)
			}
		}
		if open = unsure; len(open) > 0 {
			w.log.Warn("connection lost", "steps", len(open), "try", try, "error", results[open[0]].Words)
			w.session.Close()
			w.session = nil
		}
		if try >= tries {
			for _, i := range open {
				results[i].Outcome = connect.OutOfReach
				results[i].Words += "; whether it was carried out the next survey will tell"
			}
			return results
		}
	}
	return results
}

func (w *worker) open(ctx context.Context) error {
	c, access, err := w.Reach(ctx, w.target)
	if err != nil {
		return err
	}
	w.session, err = c.Open(ctx, access)
	return err
}

// ErrHeld says that somebody else has the lease.
var ErrHeld = errors.New("somebody else works on it")

// TryHold is Hold without waiting: it returns ErrHeld when somebody else has the lease.
func TryHold(ctx context.Context, j Journal, what, owner string) (held context.Context, release func(), err error) {
	return hold(ctx, j, what, owner, false)
}

// Hold waits for a lease and keeps it until release is called. The returned
// context ends early if the lease is lost. Each call is a holder of its own, so
// two of one owner take turns too.
func Hold(ctx context.Context, j Journal, what, owner string) (held context.Context, release func(), err error) {
	return hold(ctx, j, what, owner, true)
}

func hold(ctx context.Context, j Journal, what, owner string, wait bool) (held context.Context, release func(), err error) {
	owner += "/" + rand.Text()[:12]
	for {
		ok, err := j.Lease(ctx, what, owner, leaseFor)
		if ok && err == nil {
			break
		}
		if !wait {
			return nil, nil, errors.Join(ErrHeld, err)
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	held, cancel := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	go func() {
		defer close(done)
		until := time.Now().Add(leaseFor)
		for {
			select {
			case <-held.Done():
				return
			case <-time.After(renewEvery):
			}
			asked := time.Now()
			ok, err := j.Lease(held, what, owner, leaseFor)
			switch {
			case ok && err == nil:
				until = asked.Add(leaseFor)
			case err == nil, time.Now().After(until):
				cancel() // someone else has it, or may have by now
				return
			}
		}
	}()
	return held, func() {
		cancel()
		<-done
		end, stop := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer stop()
		_ = j.Release(end, what, owner) // if it fails, the lease ends by itself
	}, nil
}
