package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// The step journal as a state machine:
//
//	waiting ──begin──► running ──end──► done, already-so, moved, failed, out-of-reach, not-tried
//	                    ▲   │
//	                    └───┘ begin again, after a crash
//
// The table in this test is the journal and counts as the truth; targets and
// processes around it crash, answer and lose connections in every way that
// there is.
type table struct {
	mu      sync.Mutex
	outcome map[int]connect.Outcome // "" waiting, "running", or the end
	tries   map[int]int
	ends    map[int]int
	leases  map[string]string
	until   map[string]time.Time
	trials  map[int]connect.Mark
	stopped bool
}

func newTable() *table {
	return &table{outcome: map[int]connect.Outcome{}, tries: map[int]int{}, ends: map[int]int{},
		leases: map[string]string{}, until: map[string]time.Time{}, trials: map[int]connect.Mark{}}
}

const inHand connect.Outcome = "running"

// process is one service: it dies at its n-th call to the journal or a target,
// before the call or after it, and from then on nothing it does has any effect.
type process struct {
	*table
	target *simulated
	memory *connecttest.Memory // in place of target
	chance *rand.Rand          // for it
	calls  int
	diesAt int
	before bool
	dead   bool
}

var errDead = errors.New("this process is dead")

// step counts a call and says whether it still takes effect. after must be called when it has.
func (p *process) step() (alive bool) {
	if p.dead {
		return false
	}
	p.calls++
	if p.calls == p.diesAt && p.before {
		p.dead = true
	}
	return !p.dead
}

func (p *process) after() error {
	if p.calls == p.diesAt {
		p.dead = true
	}
	if p.dead {
		return errDead
	}
	return nil
}

func (p *process) random() *rand.Rand {
	if p.memory != nil {
		return p.chance
	}
	return p.target.random
}

// answered is after, for the database: its answer may be lost although it did what it was told.
func (p *process) answered() error {
	if p.random().IntN(6) == 0 {
		return errors.Join(errors.New("connection to the database lost"), p.after())
	}
	return p.after()
}

func (p *process) Lease(_ context.Context, what, owner string, during time.Duration) (bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.dead {
		return false, errDead
	}
	if p.leases[what] != owner && time.Now().Before(p.until[what]) {
		return false, nil
	}
	p.leases[what], p.until[what] = owner, time.Now().Add(during)
	return true, nil
}

func (p *process) Release(_ context.Context, what, owner string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.dead {
		return errDead
	}
	if p.leases[what] == owner {
		delete(p.until, what)
	}
	return nil
}

func (p *process) Begin(_ context.Context, _ int64, l Lease, steps []Step) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	if p.leases[l.What] != l.Owner || time.Now().After(p.until[l.What]) {
		return errors.Join(ErrLost, p.after())
	}
	for _, s := range steps {
		if p.stopped && p.outcome[s.Seq] == "" {
			return errors.Join(ErrStopped, p.after())
		}
	}
	for _, s := range steps {
		p.outcome[s.Seq] = inHand
		p.tries[s.Seq]++
	}
	return p.answered()
}

func (p *process) End(_ context.Context, _ int64, results []Result) (func(context.Context) error, error) {
	return func(context.Context) error { return p.end(results) }, nil
}

func (p *process) end(results []Result) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	for _, r := range results {
		if p.outcome[r.Seq] != inHand {
			continue // told twice
		}
		p.outcome[r.Seq] = r.Outcome
		p.ends[r.Seq]++
	}
	return p.answered()
}

func (*process) Keep(context.Context, int64, map[int]connect.Kept) error { return nil }

func (p *process) Trial(_ context.Context, _ int64, l Lease, steps []Step, mark connect.Mark) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	if p.leases[l.What] != l.Owner || time.Now().After(p.until[l.What]) {
		return errors.Join(ErrLost, p.after())
	}
	for _, s := range steps {
		p.trials[s.Seq] = mark
	}
	return p.answered()
}

func (p *process) Halt(context.Context, int64, string, string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	p.stopped = true
	return p.answered()
}

// guard refuses steps on somebody that nobody may touch, or the batch in which they are, as soon as that is declared.
func (p *process) guard(_ context.Context, steps []Step, _ Read) (r Refusal, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r.Some = map[int]string{}
	for i, s := range steps {
		if p.target.shielded[s.Name] && time.Now().After(p.target.shieldedFrom) {
			if r.Some[i] = s.Name + " is protected"; i%2 == 0 {
				r.All = s.Name + " is protected"
			}
		}
	}
	return r, nil
}

func (p *process) Schema() model.Schema { return model.Schema{} }

func (p *process) Open(context.Context, connect.Access) (connect.Session, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return nil, errDead
	}
	if p.target.refuses() {
		return nil, errors.New("connection refused")
	}
	return processSession{p}, p.after()
}

func (p *process) Close() error { return nil }

func (p *process) Survey(_ context.Context, found func(model.Object) error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	if p.target.refuses() {
		return errors.New("connection reset")
	}
	for name, n := range p.target.made {
		if n > 0 {
			if err := found(model.Object{Kind: model.Account, Name: name}); err != nil {
				return err
			}
		}
	}
	return p.after()
}

// processSession is a session of a process, which is a journal too.
type processSession struct{ *process }

func (p processSession) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return &processBatch{connecttest.ByHand(p.apply), p.process, false}, nil
}

// processBatch reads what was made where nothing is carried out.
type processBatch struct {
	connecttest.ByHand
	p       *process
	carried bool
}

func (b *processBatch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.carried = true
	b.ByHand.Carry(ctx, x, ready)
}

func (b *processBatch) ReadBack(ctx context.Context, _ *connect.Batch) (connect.View, error) {
	seen := connect.Objects{}
	if b.carried {
		return seen, nil
	}
	return seen, processSession{b.p}.Survey(ctx, func(o model.Object) error {
		seen[model.Named{Kind: o.Kind, Name: o.Name}] = &o
		return nil
	})
}

// apply carries out acts one by one; the process or the connection may be lost between any two.
func (p *process) apply(_ context.Context, acts []connect.Act) []connect.Answer {
	time.Sleep(50 * time.Millisecond)
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]connect.Answer, len(acts))
	lost := false
	for i, a := range acts {
		out[i] = connect.Answer{Outcome: connect.Unsure, Words: "connection reset"}
		if lost || !p.step() {
			continue
		}
		lost = p.target.answer(a, &out[i])
		if p.after() != nil {
			out[i] = connect.Answer{Outcome: connect.Unsure}
		}
	}
	return out
}

// simulated is a target that counts what is done to it.
type simulated struct {
	t       *testing.T
	random  *rand.Rand
	made    map[string]int
	foreign map[string]bool // made by somebody else since the survey, and different
	broken  map[string]bool // what it refuses to make

	shielded     map[string]bool // what guards refuse to let anybody touch
	shieldedFrom time.Time
}

func (s *simulated) refuses() bool { return s.random.IntN(10) == 0 }

// answer carries an act out, or not, and says whether the connection is lost with its answer.
func (s *simulated) answer(a connect.Act, out *connect.Answer) (lost bool) {
	if s.random.IntN(12) == 0 {
		return true // before it was done
	}
	switch {
	case s.foreign[a.Name]:
		*out = connect.Answer{Outcome: connect.Moved}
	case s.broken[a.Name]:
		*out = connect.Answer{Outcome: connect.Failed}
	case s.made[a.Name] > 0:
		*out = connect.Found(a, connect.So, "", connect.Objects{})
	default:
		s.made[a.Name]++
		*out = connect.Answer{Outcome: connect.Done}
	}
	if s.random.IntN(12) == 0 {
		*out = connect.Answer{Outcome: connect.Unsure}
		return true // after it was done, before we heard
	}
	return false
}

// trial runs one story to its end: processes that die at the given calls, one
// after the other, then one that lives; sometimes somebody stops the round.
func trial(t *testing.T, seed uint64, deaths []int, before bool, stopAt time.Duration) {
	random := rand.New(rand.NewPCG(seed, 7))
	tab := newTable()
	target := &simulated{t: t, random: random, made: map[string]int{}, foreign: map[string]bool{}, broken: map[string]bool{},
		shielded: map[string]bool{}, shieldedFrom: time.Now().Add(time.Duration(random.IntN(4000)) * time.Millisecond)}
	const n = 7
	var all []Step
	for i := range n {
		name := fmt.Sprint("hand-", i)
		all = append(all, Step{Seq: i, Act: connect.Act{Act: model.Act{Target: "a", Verb: model.Create, Object: model.Account,
			Name: name}}})
		switch random.IntN(8) {
		case 0:
			target.foreign[name] = true
		case 1:
			target.broken[name] = true
		case 2:
			target.shielded[name] = seed%4 == 0
		}
	}
	began := time.Now()
	for life := 0; life < len(deaths)+40; life++ {
		p := &process{table: tab, target: target, before: before}
		if life < len(deaths) {
			p.diesAt = deaths[life]
		}
		r := &Runner{Owner: fmt.Sprint("process-", life), Journal: p, Batch: 3, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
			Reach: func(context.Context, string) (connect.Connector, connect.Access, error) {
				return p, connect.Access{}, nil
			}}
		var open []Step
		tab.mu.Lock()
		for _, s := range all {
			if o := tab.outcome[s.Seq]; o == inHand || o == "" && !tab.stopped {
				s.Again = tab.tries[s.Seq] > 0
				open = append(open, s)
			}
		}
		tab.mu.Unlock()
		if len(open) == 0 {
			break
		}
		ctx, cancel := context.WithCancel(context.Background())
		go func() { // a dead process does not wait for its database
			for ctx.Err() == nil {
				time.Sleep(10 * time.Millisecond)
				tab.mu.Lock()
				dead := p.dead
				tab.stopped = tab.stopped || stopAt > 0 && time.Since(began) > stopAt
				tab.mu.Unlock()
				if dead {
					cancel()
				}
			}
		}()
		_ = r.Target(ctx, 1, "a", open, How{FailShare: -1, Guard: p.guard})
		cancel()
		time.Sleep(leaseFor + time.Second)
	}
	tab.mu.Lock()
	defer tab.mu.Unlock()
	for _, s := range all {
		made, outcome := target.made[s.Name], tab.outcome[s.Seq]
		switch {
		case made > 1:
			t.Errorf("%s was made %d times", s.Name, made)
		case tab.ends[s.Seq] > 1:
			t.Errorf("%s ended %d times", s.Name, tab.ends[s.Seq])
		case outcome == connect.Unsure, outcome == inHand:
			t.Errorf("%s is left %q", s.Name, outcome)
		case outcome == "" && !tab.stopped:
			t.Errorf("%s was forgotten", s.Name)
		case outcome == connect.Done && made != 1:
			t.Errorf("%s is told done and was never made", s.Name)
		case outcome == connect.AlreadySo:
			t.Errorf("%s was found so, but it was ours", s.Name)
		case made == 1 && outcome != connect.Done && outcome != connect.OutOfReach:
			t.Errorf("%s was made and is told %s", s.Name, outcome)
		}
	}
	if t.Failed() {
		t.Fatalf("seed %d, deaths %v, before %v, stop after %s", seed, deaths, before, stopAt)
	}
}

// Every point at which one process can die, before and after what it is at.
func TestEveryCrash(t *testing.T) {
	for at := 1; at <= 30; at++ {
		for _, before := range []bool{true, false} {
			for seed := range uint64(20) {
				synctest.Test(t, func(t *testing.T) { trial(t, seed, []int{at}, before, 0) })
			}
		}
	}
}

// Thousands of stories with several deaths and now and then a stop.
func TestManyCrashes(t *testing.T) {
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 99))
		var deaths []int
		for range random.IntN(5) {
			deaths = append(deaths, 1+random.IntN(12))
		}
		var stop time.Duration
		if random.IntN(3) == 0 {
			stop = time.Duration(random.IntN(2000)) * time.Millisecond
		}
		synctest.Test(t, func(t *testing.T) { trial(t, seed, deaths, random.IntN(2) == 0, stop) })
	}
}

func (p *process) Offers() connect.Offers { return connect.Offers{} }
func (p *process) Knows() connect.Knows   { return connect.Knows{} }
