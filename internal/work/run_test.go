package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// fake is a target in memory that can be told to misbehave. It fails the test
// when two sessions change it at once.
type fake struct {
	t       *testing.T
	mu      sync.Mutex
	made    map[string]int // account → how often it was made
	opens   int
	refuse  error // what Open says
	dropAt  int   // the batch during which the connection is lost, after the change
	batches int
	busy    bool
	during  func()
	fails   func(name string) bool
}

func (f *fake) Schema() model.Schema { return model.Schema{Kind: "fake"} }

func (f *fake) Open(context.Context, connect.Access) (connect.Session, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.opens++
	if f.refuse != nil {
		return nil, f.refuse
	}
	return f, nil
}

func (f *fake) Close() error { return nil }

func (f *fake) Knows() connect.Knows { return connect.Knows{} }

func (f *fake) Offers() connect.Offers { return connect.Offers{} }

func (f *fake) Survey(_ context.Context, found func(model.Object) error) error {
	for i := range 5500 {
		if err := found(model.Object{Kind: model.Account, Name: fmt.Sprint(i), System: i%2 == 0}); err != nil {
			return err
		}
	}
	return nil
}

func (f *fake) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return connecttest.ByHand(f.apply), nil
}

func (f *fake) apply(_ context.Context, acts []connect.Act) []connect.Answer {
	f.mu.Lock()
	if f.busy {
		f.t.Error("two change one target at once")
	}
	f.busy = true
	f.batches++
	drop := f.batches == f.dropAt
	f.mu.Unlock()
	time.Sleep(100 * time.Millisecond)
	if f.during != nil {
		f.during()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.busy = false
	out := make([]connect.Answer, len(acts))
	for i, a := range acts {
		switch {
		case f.made[a.Name] > 0:
			out[i] = connect.Found(a, connect.So, "", connect.Objects{})
		case f.fails != nil && f.fails(a.Name):
			out[i] = connect.Answer{Outcome: connect.Failed, Words: "no"}
		default:
			f.made[a.Name]++
			out[i] = connect.Answer{Outcome: connect.Done}
		}
		if drop {
			out[i] = connect.Answer{Outcome: connect.Unsure, Words: "connection reset"}
		}
	}
	return out
}

// memory is a journal in memory.
type memory struct {
	mu     sync.Mutex
	leases map[string]string
	until  map[string]time.Time
	begun  map[int]int
	ended  map[int]Result
	away   time.Time // until then, nothing can be written
}

func newMemory() *memory {
	return &memory{leases: map[string]string{}, until: map[string]time.Time{}, begun: map[int]int{}, ended: map[int]Result{}}
}

var errAway = errors.New("database away")

func (m *memory) Lease(_ context.Context, what, owner string, during time.Duration) (bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if time.Now().Before(m.away) {
		return false, errAway
	}
	if m.leases[what] != owner && time.Now().Before(m.until[what]) {
		return false, nil
	}
	m.leases[what], m.until[what] = owner, time.Now().Add(during)
	return true, nil
}

func (m *memory) Halt(context.Context, int64, string, string) error { return nil }

func (m *memory) Release(_ context.Context, what, owner string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.leases[what] == owner {
		delete(m.until, what)
	}
	return nil
}

func (m *memory) Begin(_ context.Context, _ int64, l Lease, steps []Step) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.leases[l.What] != l.Owner {
		return ErrLost
	}
	if time.Now().Before(m.away) {
		return errAway
	}
	for _, s := range steps {
		m.begun[s.Seq]++
	}
	return nil
}

func (m *memory) Keep(context.Context, int64, map[int]connect.Kept) error { return nil }

func (m *memory) Trial(context.Context, int64, Lease, []Step, connect.Mark) error { return nil }

func (m *memory) End(_ context.Context, _ int64, results []Result) (func(context.Context) error, error) {
	return func(context.Context) error { return m.end(results) }, nil
}

func (m *memory) end(results []Result) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if time.Now().Before(m.away) {
		return errAway
	}
	for _, r := range results {
		m.ended[r.Seq] = r
	}
	return nil
}

func setup(t *testing.T, targets map[string]*fake) (*Runner, *memory) {
	m := newMemory()
	for _, f := range targets {
		f.t, f.made = t, map[string]int{}
	}
	return &Runner{Owner: "me", Journal: m, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Batch: 10,
		Reach: func(_ context.Context, name string) (connect.Connector, connect.Access, error) {
			if targets[name] == nil {
				return nil, connect.Access{}, errors.New(name + ": is no longer declared")
			}
			return targets[name], connect.Access{Target: name}, nil
		}}, m
}

func steps(n int, targets ...string) []Step {
	var out []Step
	for _, t := range targets {
		for i := range n {
			out = append(out, Step{Seq: len(out) + 1, Act: connect.Act{Act: model.Act{Target: t, Verb: model.Create,
				Object: model.Account, Name: fmt.Sprintf("%s-%d", t, i)}}})
		}
	}
	return out
}

func (m *memory) count() map[connect.Outcome]int {
	out := map[connect.Outcome]int{}
	for _, r := range m.ended {
		out[r.Outcome]++
	}
	return out
}

// run carries out steps target by target, as the service does.
func (r *Runner) run(ctx context.Context, steps []Step) error {
	by := map[string][]Step{}
	for _, s := range steps {
		by[s.Target] = append(by[s.Target], s)
	}
	var all error
	var mu sync.Mutex
	Each(ctx, slices.Sorted(maps.Keys(by)), 4, func(ctx context.Context, target string) {
		err := r.Target(ctx, 1, target, by[target], How{FailShare: -1})
		mu.Lock()
		defer mu.Unlock()
		all = errors.Join(all, err)
	})
	return all
}

func TestRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		targets := map[string]*fake{"a": {}, "b": {}, "down": {refuse: errors.New("connection refused")},
			"stranger": {refuse: &connect.KeyError{Target: "stranger", Print: "x"}}}
		r, m := setup(t, targets)
		if err := r.run(context.Background(), steps(25, "a", "b", "down", "stranger", "gone")); err != nil {
			t.Fatal(err)
		}
		if got := m.count(); got[connect.Done] != 50 || got[connect.OutOfReach] != 50 || got[connect.Failed] != 25 {
			t.Errorf("outcomes %v", got)
		}
		for seq, n := range m.begun {
			if n != 1 {
				t.Errorf("step %d was begun %d times", seq, n)
			}
		}
		if targets["a"].opens != 1 {
			t.Errorf("%d connections for one round", targets["a"].opens)
		}
		if targets["down"].opens != tries {
			t.Errorf("a target that is down was tried %d times, though its steps came in three batches", targets["down"].opens)
		}
		if targets["stranger"].opens != 1 {
			t.Errorf("a target that answers and refuses was tried %d times", targets["stranger"].opens)
		}
		// A target that stays down is left alone for a while, and then tried again.
		down := steps(1, "down")
		for range 5 {
			if err := r.run(context.Background(), down); err != nil {
				t.Fatal(err)
			}
		}
		if n := targets["down"].opens; n != breakAfter {
			t.Errorf("tried %d times, want %d", n, breakAfter)
		}
		if words := m.ended[1].Words; !strings.Contains(words, "connection refused; it is left alone until ") {
			t.Error(words)
		}
		time.Sleep(2 * breaks.First)
		targets["down"].refuse = nil
		if err := r.run(context.Background(), down); err != nil || m.ended[1].Outcome != connect.Done {
			t.Errorf("%v %+v", err, m.ended[1].Answer)
		}
	})
}

// Too many failures on a target, and the rest is not tried; one failure is not too many.
func TestFailShare(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for share, want := range map[int]map[connect.Outcome]int{
			-1: {connect.Failed: 10, connect.Done: 20}, 40: {connect.Failed: 10, connect.Done: 20},
			20: {connect.Failed: 4, connect.Done: 6, connect.NotTried: 20},
		} {
			f := &fake{fails: func(name string) bool {
				return strings.HasSuffix(name, "1") || strings.HasSuffix(name, "4") || strings.HasSuffix(name, "7") || name == "a-0"
			}}
			r, m := setup(t, map[string]*fake{"a": f})
			if err := r.Target(context.Background(), 1, "a", steps(30, "a"), How{FailShare: share}); err != nil {
				t.Fatal(err)
			}
			if got := m.count(); !maps.Equal(got, want) {
				t.Errorf("with %d%%: %v, want %v", share, got, want)
			}
			if w := m.ended[30].Words; share == 20 && w != "stopped by itself: 4 of the first 10 steps on a failed, more than 20%" {
				t.Error(w)
			}
		}
	})
}

// A connection lost after the change: the batch is applied again, found done, and made once.
func TestLostConnection(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &fake{dropAt: 2}
		r, m := setup(t, map[string]*fake{"a": f})
		if err := r.run(context.Background(), steps(30, "a")); err != nil {
			t.Fatal(err)
		}
		if got := m.count(); got[connect.Done] != 30 || f.opens != 2 {
			t.Errorf("outcomes %v over %d connections", got, f.opens)
		}
		for name, n := range f.made {
			if n != 1 {
				t.Errorf("%s was made %d times", name, n)
			}
		}
		if words := m.ended[11].Words; !strings.Contains(words, "read back now") {
			t.Errorf("step 11 says %q", words)
		}
	})
}

// Asked to stop, it finishes the batch under way and leaves the others waiting; the next goes on.
func TestStop(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &fake{}
		r, m := setup(t, map[string]*fake{"a": f})
		ctx, cancel := context.WithCancel(context.Background())
		f.during = func() { cancel() }
		all := steps(30, "a")
		if err := r.run(ctx, all); !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
		if len(m.ended) != 10 || len(m.begun) != 10 {
			t.Fatalf("%d begun, %d ended", len(m.begun), len(m.ended))
		}
		if err := r.run(context.Background(), all[10:]); err != nil || len(m.ended) != 30 {
			t.Errorf("%v, %d ended", err, len(m.ended))
		}
	})
}

// The database goes away between change and journal: what was done is written down once it is back.
func TestJournalAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &fake{}
		r, m := setup(t, map[string]*fake{"a": f})
		f.during = func() {
			if f.batches == 1 {
				m.mu.Lock()
				m.away = time.Now().Add(4 * time.Second)
				m.mu.Unlock()
			}
		}
		began := time.Now()
		if err := r.run(context.Background(), steps(20, "a")); err != nil {
			t.Fatal(err)
		}
		if got := m.count(); got[connect.Done] != 20 || time.Since(began) < 4*time.Second {
			t.Errorf("outcomes %v after %s", got, time.Since(began))
		}
	})
}

// Away for longer than it waits: it gives up, and says why.
func TestJournalGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r, m := setup(t, map[string]*fake{"a": {}})
		ok := make(chan bool)
		go func() {
			time.Sleep(50 * time.Millisecond)
			m.mu.Lock()
			m.away = time.Now().Add(time.Hour)
			m.mu.Unlock()
			close(ok)
		}()
		err := r.run(context.Background(), steps(20, "a"))
		<-ok
		if !errors.Is(err, errAway) {
			t.Errorf("%v", err)
		}
	})
}

func TestHolders(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := newMemory()
		ctx := context.Background()
		const long = time.Hour
		held, err := Hold(ctx, m, "target/a", "me", long)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Hold(ctx, m, "target/a", "me", time.Second); !errors.Is(err, ErrHeld) {
			t.Errorf("who is not patient: %v", err)
		}
		if _, err := TryHold(ctx, m, "target/a", "me"); !errors.Is(err, ErrHeld) {
			t.Errorf("the same owner holds it twice: %v", err)
		}
		time.Sleep(time.Minute) // far longer than the lease
		if held.Err() != nil {
			t.Error("the lease was not renewed")
		}
		var second time.Time
		done := make(chan bool)
		go func() {
			other, err := Hold(ctx, m, "target/a", "other", long)
			if err != nil {
				t.Error(err)
				return
			}
			second = time.Now()
			other.Release()
			close(done)
		}()
		time.Sleep(time.Second)
		let := time.Now()
		held.Release()
		<-done
		if second.Before(let) {
			t.Error("two held it at once")
		}
		held, err = Hold(ctx, m, "target/a", "me", long)
		if err != nil {
			t.Fatal(err)
		}
		m.mu.Lock()
		m.away = time.Now().Add(time.Hour)
		m.mu.Unlock()
		time.Sleep(leaseFor + 2*renewEvery)
		if held.Err() == nil {
			t.Error("the holder does not notice that its lease ran out")
		}
		held.Release()
		stopped, cancel := context.WithCancel(ctx)
		cancel()
		if _, err := Hold(stopped, m, "target/b", "me", long); !errors.Is(err, context.Canceled) {
			t.Errorf("%v", err)
		}
	})
}

func TestSurvey(t *testing.T) {
	f := &fake{t: t}
	portions, n := 0, 0
	accounts, err := Survey(context.Background(), f, connect.Access{},
		Sink{Put: func(list []model.Object) error { portions++; n += len(list); return nil }})
	if err != nil || accounts.Accounts != 2750 || n != 5500 || portions != 3 {
		t.Errorf("%v: %d accounts of %d in %d portions", err, accounts.Accounts, n, portions)
	}
	full := errors.New("disk full")
	if _, err := Survey(context.Background(), f, connect.Access{}, Sink{Put: func([]model.Object) error { return full }}); !errors.Is(err,
		full) {
		t.Errorf("%v", err)
	}
}

// What is too large for the store is cut and marked, so that one object does not end a survey.
func TestFit(t *testing.T) {
	long := strings.Repeat("ø", model.NameMost)
	for _, c := range []struct {
		in    model.Object
		name  string
		words string
	}{
		{model.Object{Name: long, Unique: "7"}, long, ""},
		{model.Object{Name: long + "a"}, long[:2*(model.NameMost-20)] + "… ", "its name has 201 letters"},
		{model.Object{Name: "a", Unique: strings.Repeat("u", uniqueMost+1)}, "a", ""},
		{model.Object{Name: "a", Attributes: model.Attributes("").With("shell", strings.Repeat("s", bodyMost))}, "a",
			"none of them is kept"},
	} {
		fit(&c.in)
		if o := c.in; !strings.HasPrefix(o.Name, c.name) || len([]rune(o.Name)) > model.NameMost || len(o.Unique) > uniqueMost ||
			len(o.Attributes) > bodyMost ||
			o.Marked != (c.words != "") || !strings.Contains(o.Attributes.One(model.Odd), c.words) {
			t.Errorf("%.30s…: marked %v, %q", o.Name, o.Marked, o.Attributes.One(model.Odd))
		}
	}
	a, b := model.Object{Name: long + "a"}, model.Object{Name: long + "b"}
	fit(&a)
	fit(&b)
	if a.Name == b.Name {
		t.Error("two long names became one")
	}
}

func TestEach(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		now, most := 0, 0
		Each(context.Background(), make([]int, 50), 8, func(context.Context, int) {
			mu.Lock()
			now++
			most = max(most, now)
			mu.Unlock()
			time.Sleep(time.Second)
			mu.Lock()
			now--
			mu.Unlock()
		})
		if most != 8 {
			t.Errorf("%d at once, want 8", most)
		}
	})
	Each(context.Background(), nil, 8, func(context.Context, int) { t.Error("called for nothing") })
}
