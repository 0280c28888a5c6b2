package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/pause"
)

// Step is one act of a round with its number in it.
type Step struct {
	Seq int
	connect.Act
	Trial connect.Mark // of steps that had begun: the trial on which the target took them, or was about to; the zero Mark is none
}

// Result is what became of a step.
type Result struct {
	Step
	connect.Answer
}

// Journal remembers what a round does. Its functions are called by several
// goroutines at once. What they are told is durable when they return.
type Journal interface {
	Leases
	// Begin says that the steps are about to be tried, by the holder of a lease.
	// It returns ErrStopped when the round was stopped, and ErrLost when the lease
	// no longer runs: then they are not to be tried.
	Begin(ctx context.Context, round int64, l Lease, steps []Step) error
	// Trial says that a target is about to take steps that have begun on trial. It
	// returns ErrLost when the lease no longer runs: then the trial does not begin.
	Trial(ctx context.Context, round int64, l Lease, steps []Step, mark connect.Mark) error
	// Keep keeps what makes accounts again that steps are about to remove, by step. It is durable when it returns.
	Keep(ctx context.Context, round int64, kept map[int]connect.Kept) error
	// End works out what is to be remembered of what became of them, and returns
	// what writes it down. That may be called again if it fails.
	End(ctx context.Context, round int64, results []Result) (write func(context.Context) error, err error)
	// Halt says that a guard has stopped the round, and why.
	Halt(ctx context.Context, round int64, target, words string) error
}

// How says how the steps of a round are carried out on a target.
type How struct {
	FailShare int // percent of the steps that may fail before the others are not tried; -1: all
	// Guard is asked before each batch, when nobody else can work on the target
	// and, for steps that take something away, when all that was done before is
	// written down; nil: nobody is asked.
	Guard Guard
	// After is called when all steps have ended, while nobody else can work on the target. It may be nil.
	After func()
}

// Read hands every object that a target holds on.
type Read func(ctx context.Context, found func(model.Object) error) error

// Reach finds out how to reach a target.
type Reach func(ctx context.Context, target string) (connect.Connector, connect.Access, error)

// ErrStopped says that somebody stopped the round, ErrLost that the lease no longer runs.
var (
	ErrStopped = errors.New("the round was stopped")
	ErrLost    = errors.New("the lease was lost")
)

// Runner carries out the steps of rounds, target by target. It is safe for concurrent use.
type Runner struct {
	Owner   string // of the leases: one for each process
	Journal Journal
	Reach   Reach
	Unseal  func(ctx context.Context, id string) (connect.Secret, error) // opens sealed values of acts; nil: there are none
	Log     *slog.Logger
	Batch   int // steps in one batch: up to two of them are under way when something breaks

	breakers sync.Map // target → *breaker
}

const (
	persistFor = 3 * time.Minute  // how long the database may be away before steps are left as they stand
	tries      = 3                // of a batch whose connection was lost
	batchFor   = 10 * time.Minute // the longest that one batch may take
	targetFor  = 2 * time.Hour    // the longest that the steps of one round may take on a target
	sample     = 10               // steps that must have ended before a share of failures means anything
)

// Target carries out the steps of a round on one target, unless somebody else
// works on it: then it returns ErrHeld. When ctx ends, the batch under way is
// finished and the other steps are left waiting: Target then returns the
// context's error, and a later call goes on from there.
func (r *Runner) Target(ctx context.Context, round int64, target string, steps []Step, how How) error {
	held, err := TryHold(ctx, r.Journal, "target/"+target, r.Owner)
	if err != nil {
		return err
	}
	defer held.Release()
	w := worker{Runner: r, How: how, round: round, target: target, lease: held.Lease, log: r.Log.With("round", round, "target", target)}
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
			return errors.Join(fmt.Errorf("%s: %w", target, ErrLost), w.written())
		}
		if w.lost == nil && time.Since(began) > targetFor {
			w.lost = &connect.Answer{Outcome: connect.NotTried,
				Words: fmt.Sprintf("the steps before took longer than %s on this target", targetFor)}
		}
		batch := steps[:w.most(context.WithoutCancel(ctx), steps)]
		steps = steps[len(batch):]
		// A batch that has begun is finished even if we are asked to stop.
		if err := w.batch(context.WithoutCancel(ctx), batch); err != nil {
			return errors.Join(err, w.written())
		}
	}
	err = w.written()
	if err == nil && how.After != nil {
		how.After()
	}
	return err
}

// worker carries out one target's steps.
type worker struct {
	*Runner
	How
	round         int64
	target        string
	lease         Lease
	connector     connect.Connector // once it is known
	access        connect.Access    // with which the session was opened last
	ended, failed int
	log           *slog.Logger
	session       connect.Session
	lost          *connect.Answer // why the target is given up: it is not tried again for each batch
	trials        []connect.Mark  // that may run: they are ended before anything else is done
	known         bool            // they were looked for
	proofs        time.Duration   // that the sign-ins of a batch took
	writing       chan error      // ends when the outcome of the batch before is written down; nil: it is
}

// most is how many steps are in the next batch. A target that takes changes all
// or nothing takes them all at once.
func (w *worker) most(ctx context.Context, steps []Step) int {
	if !w.known { // the first batch sees all steps
		w.known = true
		for _, s := range steps {
			if s.Trial != (connect.Mark{}) && !slices.Contains(w.trials, s.Trial) {
				w.trials = append(w.trials, s.Trial)
			}
		}
	}
	if w.lost == nil && w.ready(ctx) == nil && connect.AllOrNothing(w.session) {
		return len(steps)
	}
	return min(w.Batch, len(steps))
}

func (w *worker) batch(ctx context.Context, steps []Step) error {
	if slices.ContainsFunc(steps, takes) { // what others still have must be known
		if err := w.written(); err != nil {
			return err
		}
	}
	if err := w.persist(ctx, func() error { return w.Journal.Begin(ctx, w.round, w.lease, steps) }); err != nil {
		return err
	}
	refused, err := w.refused(ctx, steps)
	if err != nil {
		return err
	}
	refusal := refused.All
	if refusal != "" {
		w.lost = &connect.Answer{Outcome: connect.NotTried, Words: "stopped by a guard: " + refusal}
	}
	var results []Result
	rest := make([]Step, 0, len(steps))
	for i, s := range steps {
		if why := refused.Some[i]; why != "" && refusal == "" {
			results = append(results, w.spared(ctx, s, why))
		} else {
			rest = append(rest, s)
		}
	}
	if err := w.keep(ctx, rest); err != nil {
		return err
	}
	began := time.Now()
	results = append(results, w.carryOut(ctx, rest)...)
	w.log.Info("batch carried out", "steps", len(steps), "took", time.Since(began), "proofs", w.proofs)
	w.proofs = 0
	w.count(results)
	var write func(context.Context) error
	if err := w.persist(ctx, func() (err error) {
		write, err = w.Journal.End(ctx, w.round, results)
		return err
	}); err != nil {
		return err
	}
	// While the outcome is written down, the next batch begins: two are under way at most.
	if err := w.written(); err != nil {
		return err
	}
	w.writing = make(chan error, 1)
	go func(done chan error) { done <- w.persist(ctx, func() error { return write(ctx) }) }(w.writing)
	if refusal == "" {
		return nil
	}
	if err := w.written(); err != nil {
		return err
	}
	return w.persist(ctx, func() error { return w.Journal.Halt(ctx, w.round, w.target, refusal) })
}

// takes says whether a step takes something from somebody.
func takes(s Step) bool {
	return s.Verb == model.Disable || s.Verb == model.Remove || s.Verb == model.LeaveIt || s.Verb == model.Modify
}

// read reads the whole target.
func (w *worker) read(ctx context.Context, found func(model.Object) error) error {
	if err := w.ready(ctx); err != nil {
		return err
	}
	during, cancel := context.WithTimeout(ctx, batchFor)
	defer cancel()
	w.access.Says.Renew()
	err := w.session.Survey(during, found)
	if err != nil {
		w.session.Close()
		w.session = nil
		w.lost = &connect.Answer{Outcome: connect.OutOfReach, Words: err.Error()}
	}
	return err
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
	if w.lost == nil && w.FailShare >= 0 && w.ended >= sample && 100*w.failed > w.FailShare*w.ended {
		w.lost = &connect.Answer{Outcome: connect.NotTried,
			Words: fmt.Sprintf("stopped by itself: %d of the first %d steps on %s failed, more than %d%%", w.failed, w.ended, w.target,
				w.FailShare)}
	}
}

// persist tries until the journal takes it: what has been done must be written
// down, even if the database is away for a while.
func (w *worker) persist(ctx context.Context, write func() error) error {
	until := time.Now().Add(persistFor)
	return journalPauses.Retry(ctx, func(int) (bool, error) {
		err := write()
		if err == nil || errors.Is(err, ErrStopped) || errors.Is(err, ErrLost) {
			return false, err
		}
		if time.Now().After(until) {
			return false, fmt.Errorf("the journal cannot be written: %w", err)
		}
		w.log.Warn("journal not written, trying again", "error", err)
		return true, err
	})
}

var (
	journalPauses = pause.Growing{First: 50 * time.Millisecond, Most: 2 * time.Second}
	openPauses    = pause.Growing{First: 200 * time.Millisecond, Most: time.Second} // before a target is connected to again
)

// carryOut applies a batch. Steps whose end is unknown are applied again on a
// new connection; the target is read first, so none is done twice.
func (w *worker) carryOut(ctx context.Context, steps []Step) []Result {
	results := make([]Result, len(steps))
	open := make([]int, len(steps)) // places in steps still without an answer
	for i := range open {
		open[i] = i
		results[i].Step = steps[i]
	}
	for try := 1; len(open) > 0; try++ {
		if w.lost == nil {
			_ = w.ready(ctx)
		}
		if w.lost != nil {
			w.giveUp(ctx, results, open)
			w.strike(nil, results)
			return results
		}
		if open = w.opened(ctx, steps, results, open); len(open) == 0 {
			return results
		}
		acts := make([]connect.Act, len(open))
		for k, i := range open {
			acts[k] = steps[i].Act
		}
		answers := w.apply(ctx, steps, acts)
		var unsure []int
		for k, i := range open {
			results[i].Answer = answers[k]
			if answers[k].Outcome == connect.Unsure {
				steps[i].Again, results[i].Again = true, true
				unsure = append(unsure, i)
			}
		}
		w.prove(ctx, acts, results, open)
		w.strike(acts, results)
		if open = unsure; len(open) > 0 {
			w.log.Warn("connection lost", "steps", len(open), "try", try, "error", results[open[0]].Words)
			w.session.Close()
			w.session = nil
		}
		if try >= tries {
			for _, i := range open {
				results[i].Outcome = connect.OutOfReach
				results[i].Words += untold
			}
			return results
		}
	}
	return results
}

// shutBy says whether an act of the same batch shuts an account, or removes it.
func shutBy(acts []connect.Act, account string) bool {
	return slices.ContainsFunc(acts, func(a connect.Act) bool {
		return a.Object == model.Account && a.Name == account && (a.Verb == model.Disable || a.Verb == model.Remove)
	})
}

// opened opens the sealed values of steps. One that cannot be opened ends its step,
// and where a target takes all or nothing all of them. It returns the others.
func (w *worker) opened(ctx context.Context, steps []Step, results []Result, open []int) []int {
	var rest []int
	refused := ""
	for _, i := range open {
		secrets := map[string]connect.Secret{}
		for _, c := range steps[i].Changes {
			if c.Sealed == "" {
				continue
			}
			secret, err := w.unseal(ctx, c.Sealed)
			if err != nil {
				refused = fmt.Sprintf("the sealed %s of %s: %v", c.Attribute, steps[i].Name, err)
				results[i].Answer = connect.Answer{Outcome: connect.Failed, Words: refused}
				break
			}
			secrets[c.Attribute] = secret
		}
		if results[i].Outcome != connect.Failed {
			steps[i].Secrets = secrets
			rest = append(rest, i)
		}
	}
	if refused == "" || !connect.AllOrNothing(w.session) {
		return rest
	}
	w.lost = &connect.Answer{Outcome: connect.NotTried, Words: "the target takes all of it or nothing: " + refused}
	w.giveUp(ctx, results, rest)
	return nil
}

func (w *worker) unseal(ctx context.Context, id string) (s connect.Secret, err error) {
	if w.Unseal == nil {
		return s, errors.New("nobody can open it")
	}
	return w.Unseal(ctx, id)
}

// apply lets the target take acts: whole and on trial where it can, else one by one.
func (w *worker) apply(ctx context.Context, steps []Step, acts []connect.Act) []connect.Answer {
	during, cancel := context.WithTimeout(ctx, batchFor)
	defer cancel()
	w.access.Says.Renew()
	answers, whole := connect.Whole(during, w.session, acts, func(m connect.Mark) error {
		err := w.persist(ctx, func() error { return w.Journal.Trial(ctx, w.round, w.lease, steps, m) })
		if err == nil {
			w.trials = append(w.trials, m)
		}
		return err
	})
	if !whole {
		return connect.Apply(during, w.session, acts)
	}
	if !slices.ContainsFunc(answers, func(a connect.Answer) bool { return a.Outcome == connect.Unsure }) {
		w.trials = nil // it is confirmed, or has gone back
		for i, a := range acts {
			if answers[i].Outcome == connect.NotTried && a.Again && len(a.Secrets) > 0 { // what was set before cannot be read
				answers[i] = connect.Answer{Outcome: connect.OutOfReach, Words: answers[i].Words + untold}
			}
		}
		return answers
	}
	for i := range answers { // of all or nothing nobody knows a part
		answers[i].Outcome = connect.Unsure
	}
	return answers
}

// provedAtOnce is how many sign-ins are tried at once on a target: fewer than what
// an SSH server lets begin at once as it comes, ten.
const provedAtOnce = 4

// prove signs in with what was set and cannot be read back, and tells of it. What
// does not work was not done, whatever the target said.
func (w *worker) prove(ctx context.Context, acts []connect.Act, results []Result, open []int) {
	defer func(began time.Time) { w.proofs += time.Since(began) }(time.Now())
	var tries errgroup.Group
	tries.SetLimit(provedAtOnce)
	for k, i := range open {
		secret, set := acts[k].Secrets[model.Password]
		if !set || results[i].Outcome != connect.Done {
			continue
		}
		tries.Go(func() error {
			p, words := connect.NotProved, "the account is shut"
			if o := results[i].Answer.Object; (o == nil || o.Attributes.One(model.Disabled) != "yes") && !shutBy(acts, acts[k].Name) {
				p, words = connect.Prove(ctx, w.session, acts[k].Name, secret)
			}
			if results[i].Proof = p; p == connect.Disproved {
				results[i].Outcome = connect.Failed
			}
			words = strings.TrimSuffix(string(p)+": "+words, ": ")
			results[i].Words = strings.TrimPrefix(results[i].Words+"; "+words, "; ")
			return nil
		})
	}
	_ = tries.Wait()
}

// strike strikes out of what the target said every secret that it was told: ours, and those that acts set.
func (w *worker) strike(acts []connect.Act, results []Result) {
	public := []string{w.access.Target, w.access.As, w.access.Address}
	for _, r := range results {
		public = append(public, r.Name, r.User)
	}
	strikes := connect.Striking(public, append(connect.SecretsOf(acts), w.access.Secret, w.access.Next)...)
	for i := range results {
		strikes.Answer(&results[i].Answer)
	}
	if w.lost != nil {
		w.lost.Words = strikes.Text(w.lost.Words)
	}
}

const untold = "; it was tried before, and whether it was carried out the next survey will tell"

// giveUp ends steps of a target that is given up. Nothing is said to be not
// tried that may be done: of those that had begun before, the target is asked.
func (w *worker) giveUp(ctx context.Context, results []Result, open []int) {
	var begun []int
	for _, i := range open {
		if results[i].Answer = *w.lost; results[i].Again {
			begun = append(begun, i)
		}
	}
	if len(begun) == 0 {
		return
	}
	view, err := connect.View(nil), error(nil)
	if w.lost.Outcome == connect.NotTried {
		why := w.lost
		view, err = w.look(ctx, results, begun)
		w.lost = why
	}
	for _, i := range begun {
		if view == nil || err != nil {
			results[i].Words += untold
			if results[i].Outcome == connect.NotTried {
				results[i].Outcome = connect.OutOfReach
			}
			continue
		}
		if standing, _ := connect.Judge(results[i].Act, w.connector.Schema(), view); standing == connect.So {
			results[i].Answer = connect.Found(results[i].Act, standing, "", view)
		} else {
			results[i].Words = "it had begun, and is not done; " + results[i].Words
		}
	}
}

// look reads of a target what some steps speak of.
func (w *worker) look(ctx context.Context, results []Result, which []int) (connect.View, error) {
	if err := w.ready(ctx); err != nil {
		return nil, err
	}
	during, cancel := context.WithTimeout(ctx, batchFor)
	defer cancel()
	w.access.Says.Renew()
	acts := make([]connect.Act, len(which))
	for k, i := range which {
		acts[k] = results[i].Act
	}
	return connect.Lookup(during, w.session, acts)
}

// ready connects if need be, several times. When it cannot, the target is given up.
func (w *worker) ready(ctx context.Context) error {
	if w.session != nil {
		return nil
	}
	return openPauses.Retry(ctx, func(try int) (bool, error) {
		err := w.open(ctx)
		switch {
		case err == nil:
		case connect.Reached(err):
			w.lost = &connect.Answer{Outcome: connect.Failed, Words: err.Error()}
		case try >= tries:
			w.lost = &connect.Answer{Outcome: connect.OutOfReach, Words: err.Error()}
		default:
			return true, err
		}
		return false, err
	})
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
	access.Says = connect.NewBudget(connect.SaysMost)
	w.connector, w.access = c, access
	session, err := connect.Open(ctx, c, access)
	b.note(err, time.Now())
	if err != nil {
		return err
	}
	for len(w.trials) > 0 {
		if err := connect.Settle(ctx, session, w.trials[0]); err != nil {
			session.Close()
			return fmt.Errorf("a change that may be on trial until %s cannot be ended: %w", w.trials[0].Until.UTC().Format(time.RFC3339),
				access.Strikes().Error(err))
		}
		w.trials = w.trials[1:]
	}
	w.session = session
	return nil
}
