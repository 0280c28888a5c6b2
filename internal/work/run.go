package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
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
	// Begin says that the steps are about to be tried. It returns ErrStopped when
	// the round was stopped, and then they are not to be.
	Begin(ctx context.Context, round int64, steps []Step) error
	// End says what became of them.
	End(ctx context.Context, round int64, results []Result) error
}

// Reach finds out how to reach a target.
type Reach func(ctx context.Context, target string) (connect.Connector, connect.Access, error)

// ErrStopped says that somebody stopped the round.
var ErrStopped = errors.New("the round was stopped")

// Runner carries out the steps of rounds, target by target. It is safe for concurrent use.
type Runner struct {
	Owner   string // of the leases: one for each process
	Journal Journal
	Reach   Reach
	Log     *slog.Logger
	Batch   int // steps in one batch: up to two of them are under way when something breaks

	breakers sync.Map // target → *breaker
}

const (
	leaseFor   = 6 * time.Second
	renewEvery = 2 * time.Second
	persistFor = 3 * time.Minute  // how long the database may be away before steps are left as they stand
	tries      = 3                // of a batch whose connection was lost
	batchFor   = 10 * time.Minute // the longest that one batch may take
	targetFor  = 2 * time.Hour    // the longest that the steps of one round may take on a target
	sample     = 10               // steps that must have ended before a share of failures means anything
)

// Target carries out the steps of a round on one target, unless somebody else
// works on it: then it returns ErrHeld. When more than failShare percent have
// failed the others are not tried; -1 means that none are too many. When ctx
// ends, the batch under way is finished and the other steps are left waiting:
// Target then returns the context's error, and a later call goes on from there.
// When all have ended, after is called while nobody else can work on the target.
func (r *Runner) Target(ctx context.Context, round int64, target string, steps []Step, failShare int, after func()) error {
	held, release, err := TryHold(ctx, r.Journal, "target/"+target, r.Owner)
	if err != nil {
		return err
	}
	defer release()
	w := worker{Runner: r, round: round, target: target, failShare: failShare, log: r.Log.With("round", round, "target", target)}
	defer func() {
		if w.session != nil {
			w.session.Close()
		}
	}()
	began := time.Now()
	for len(steps) > 0 {
		if ctx.Err() != nil {
			return errors.Join(ctx.Err(), w.written())
		}
		if held.Err() != nil {
			return errors.Join(fmt.Errorf("%s: the lease was lost", target), w.written())
		}
		if w.lost == nil && time.Since(began) > targetFor {
			w.lost = &connect.Answer{Outcome: connect.NotTried, Words: fmt.Sprintf("the steps before took longer than %s on this target", targetFor)}
		}
		batch := steps[:min(r.Batch, len(steps))]
		steps = steps[len(batch):]
		// A batch that has begun is finished even if we are asked to stop.
		if err := w.batch(context.WithoutCancel(ctx), batch); err != nil {
			return errors.Join(err, w.written())
		}
	}
	err = w.written()
	if err == nil && after != nil {
		after()
	}
	return err
}

// worker carries out one target's steps.
type worker struct {
	*Runner
	round         int64
	target        string
	failShare     int
	ended, failed int
	log           *slog.Logger
	session       connect.Session
	lost          *connect.Answer // why the target is given up: it is not tried again for each batch
	writing       chan error      // ends when the outcome of the batch before is written down; nil: it is
}

func (w *worker) batch(ctx context.Context, steps []Step) error {
	if err := w.persist(ctx, func() error { return w.Journal.Begin(ctx, w.round, steps) }); err != nil {
		return err
	}
	began := time.Now()
	results := w.carryOut(ctx, steps)
	w.log.Info("batch carried out", "steps", len(steps), "took", time.Since(began))
	w.count(results)
	// While the outcome is written down, the next batch begins: two are under way at most.
	if err := w.written(); err != nil {
		return err
	}
	w.writing = make(chan error, 1)
	go func(done chan error) {
		done <- w.persist(ctx, func() error { return w.Journal.End(ctx, w.round, results) })
	}(w.writing)
	return nil
}

// written waits until the outcome of the batch before is written down.
func (w *worker) written() error {
	if w.writing == nil {
		return nil
	}
	err := <-w.writing
	w.writing = nil
	return err
}

// count gives the target up when too many steps have failed on it.
func (w *worker) count(results []Result) {
	for _, r := range results {
		w.ended++
		if r.Outcome == connect.Failed {
			w.failed++
		}
	}
	if w.lost == nil && w.failShare >= 0 && w.ended >= sample && 100*w.failed > w.failShare*w.ended {
		w.lost = &connect.Answer{Outcome: connect.NotTried, Words: fmt.Sprintf("stopped by itself: %d of the first %d steps on %s failed, more than %d%%", w.failed, w.ended, w.target, w.failShare)}
	}
}

// persist tries until the journal takes it: what has been done must be written
// down, even if the database is away for a while.
func (w *worker) persist(ctx context.Context, write func() error) error {
	pause, until := 50*time.Millisecond, time.Now().Add(persistFor)
	for {
		err := write()
		if err == nil || errors.Is(err, ErrStopped) {
			return err
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
					time.Sleep(jittered(200 * time.Millisecond << (try - 1)))
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
		during, cancel := context.WithTimeout(ctx, batchFor)
		answers := w.session.Apply(during, acts)
		cancel()
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

// open connects, unless the target was out of reach a moment ago.
func (w *worker) open(ctx context.Context) error {
	b := w.breaker(w.target)
	if err := b.closed(time.Now()); err != nil {
		return err
	}
	c, access, err := w.Reach(ctx, w.target)
	if err != nil {
		return err
	}
	w.session, err = c.Open(ctx, access)
	b.note(err, time.Now())
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
