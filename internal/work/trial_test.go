package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// A target that offers all there is: sets, removals, secrets, a second account of
// one person, and, when it takes changes whole, trials that run out at any moment.

// plain hides what a session can do beyond what every session owes.
type plain struct{ connect.Session }

func (plain) Offers() connect.Offers { return connect.Offers{} }

// withMemory lets a process reach a target in memory; each thing asked of it may be the one at which the process dies.
type withMemory struct {
	*process
	whole bool
}

func (c withMemory) Schema() model.Schema { return connecttest.MemorySchema }

func (c withMemory) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	s, err := c.memory.Open(ctx, a)
	if err == nil && !c.whole {
		return plain{s}, nil
	}
	return s, err
}

// trouble is what a target in memory asks before and after whatever it does.
func (p *process) trouble(string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.step() {
		return errDead
	}
	if p.chance.IntN(25) == 0 {
		return errors.Join(errors.New("connection lost"), p.after())
	}
	return p.after()
}

// everyKind are steps of every kind that lean on each other.
func everyKind() []model.Act {
	account := func(verb model.Verb, name string, changes ...model.Change) model.Act {
		return model.Act{Target: "a", Verb: verb, Object: model.Account, Name: name, User: "marit", Changes: changes}
	}
	move := func(verb model.Verb, kind model.ObjectKind, set, member string) model.Act {
		return model.Act{Target: "a", Verb: verb, Object: kind, Name: set, Member: member, MemberKind: model.Account,
			Changes: model.Entering(verb == model.JoinIt)}
	}
	to := func(attribute, after string) model.Change {
		return model.Change{Attribute: attribute, After: []string{after}}
	}
	return []model.Act{
		{Target: "a", Verb: model.Create, Object: model.GroupKind, Name: "crew"},
		account(model.Create, "marit@%", to(model.FullName, "Marit Fell")),
		account(model.Create, "marit@10.1.%", to(model.FullName, "Marit Fell"), model.Change{Attribute: model.Password, Sealed: "1"}),
		account(model.Modify, "hanne@%", model.Change{Attribute: "shell", Before: []string{"sh"}, After: []string{"bash"}}),
		account(model.Modify, "kari@%", model.Change{Attribute: model.Password, Sealed: "2"}),
		move(model.LeaveIt, model.LicenceKind, "seat", "jarle@%"),
		move(model.JoinIt, model.LicenceKind, "seat", "marit@%"),
		move(model.JoinIt, model.GroupKind, "crew", "marit@10.1.%"),
		account(model.Disable, "kari@%", model.Change{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}),
		account(model.Remove, "jarle@%", model.Change{Attribute: model.Disabled, Before: []string{"no"}}),
	}
}

func newTarget() *connecttest.Memory {
	m := &connecttest.Memory{}
	for _, name := range []string{"hanne@%", "kari@%", "jarle@%"} {
		m.Put(model.Object{Kind: model.Account, Name: name,
			Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{"sh"}},
				model.Attribute{Name: model.Disabled, Values: []string{"no"}})})
	}
	m.Put(model.Object{Kind: model.LicenceKind, Name: "seat",
		Attributes: model.Pack(model.Attribute{Name: model.Seats, Values: []string{"1"}})})
	m.Enter(model.Named{Kind: model.LicenceKind, Name: "seat"}, model.Named{Kind: model.Account, Name: "jarle@%"})
	return m
}

// onTrial runs one story on a target in memory to its end.
func onTrial(t *testing.T, seed uint64, whole bool) {
	random := rand.New(rand.NewPCG(seed, 11))
	tab, m := newTable(), newTarget()
	m.Trial = []time.Duration{20 * time.Second, 4 * time.Minute,
		10 * time.Minute}[random.IntN(3)] // a process that dies is three minutes about it
	var all []Step
	readable := random.IntN(2) == 0 // nothing that cannot be read back
	for i, a := range everyKind() {
		if readable && slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.Sealed != "" }) {
			a.Changes = []model.Change{{Attribute: model.FullName, After: []string{"Marit Fell"}}}
		}
		all = append(all, Step{Seq: i, Act: connect.Act{Act: a, Stage: i}})
	}
	changed := random.IntN(4) == 0 // by somebody else, since the survey
	for life := range 60 {
		p := &process{table: tab, memory: m, chance: random, before: random.IntN(2) == 0}
		if life < 6 {
			p.diesAt = 1 + random.IntN(40)
		}
		m.Trouble = p.trouble
		r := &Runner{Owner: fmt.Sprint("process-", life), Journal: p, Batch: 4, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
			Reach: func(context.Context, string) (connect.Connector, connect.Access, error) {
				return withMemory{p, whole}, connect.Access{Target: "a", As: "root", Key: "memory"}, nil
			},
			Unseal: func(_ context.Context, id string) (connect.Secret, error) {
				return connect.Seal([]byte("pass-" + id)), nil
			}}
		var open []Step
		tab.mu.Lock()
		for _, s := range all {
			if o := tab.outcome[s.Seq]; o == inHand || o == "" {
				s.Again, s.Trial = tab.tries[s.Seq] > 0, tab.trials[s.Seq]
				open = append(open, s)
			}
		}
		tab.mu.Unlock()
		if len(open) == 0 {
			break
		}
		ctx, cancel := context.WithCancel(context.Background())
		go func() {
			for ctx.Err() == nil {
				time.Sleep(10 * time.Millisecond)
				tab.mu.Lock()
				if p.dead {
					cancel()
				}
				tab.mu.Unlock()
			}
		}()
		_ = r.Target(ctx, 1, "a", open, How{FailShare: -1})
		cancel()
		time.Sleep(leaseFor + time.Duration(random.IntN(20))*time.Second)
		if m.Trouble = nil; changed && life == 0 {
			m.Put(model.Object{Kind: model.Account, Name: "hanne@%",
				Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{"zsh"}},
					model.Attribute{Name: model.Disabled, Values: []string{"no"}})})
		}
	}
	time.Sleep(15 * time.Minute) // whatever is on trial goes back
	done := 0
	for _, s := range all {
		times, outcome := m.Times(s.Act.Act), tab.outcome[s.Seq]
		sealed := s.Act.Act.Changes != nil && s.Act.Act.Changes[len(s.Act.Act.Changes)-1].Sealed != ""
		if times > 0 {
			done++
		}
		switch {
		case times > 1 && !sealed:
			t.Errorf("step %d was carried out %d times", s.Seq, times)
		case tab.ends[s.Seq] != 1:
			t.Errorf("step %d ended %d times: %s", s.Seq, tab.ends[s.Seq], outcome)
		case outcome == connect.Unsure, outcome == inHand, outcome == connect.AlreadySo:
			t.Errorf("step %d is told %q", s.Seq, outcome)
		case outcome == connect.Done && times == 0:
			t.Errorf("step %d is told done, and is not there", s.Seq)
		case changed && s.Name == "hanne@%" && outcome == connect.Moved: // carried out, perhaps, and then changed by somebody else
		case times > 0 && outcome != connect.Done && outcome != connect.OutOfReach:
			t.Errorf("step %d was carried out and is told %s", s.Seq, outcome)
		}
	}
	if whole && done != 0 && done != len(all) {
		t.Errorf("%d of %d steps were carried out on a target that takes all or nothing", done, len(all))
	}
	if t.Failed() {
		t.Fatalf("seed %d, whole %v, changed %v", seed, whole, changed)
	}
}

func TestTrials(t *testing.T) {
	for seed := range uint64(2000) {
		synctest.Test(t, func(t *testing.T) { onTrial(t, seed, seed%2 == 0) })
	}
}

// What cannot be read back is proved by signing in, or told as not proved; what does not work was not done.
func TestProofs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, c := range []struct {
			session func(connect.Session) connect.Session
			unseal  error
			want    connect.Outcome
			words   string
		}{
			{func(s connect.Session) connect.Session { return s }, nil, connect.Done, "proved by signing in"},
			{func(s connect.Session) connect.Session { return plain{s} }, nil, connect.Done,
				"not proved: targets of this kind offer no way to try it"},
			{func(s connect.Session) connect.Session { return liar{s} }, nil, connect.Failed, "signing in with it does not work"},
			{func(s connect.Session) connect.Session { return plain{s} }, errors.New("sealed under another key"), connect.Failed,
				"the sealed password of kari@%: sealed under another key"},
		} {
			m, tab := newTarget(), newTable()
			p := &process{table: tab, memory: m, chance: rand.New(rand.NewPCG(1, 1))}
			var got []Result
			r := &Runner{Owner: "one", Journal: listening{p, &got}, Batch: 4, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
				Reach: func(context.Context, string) (connect.Connector, connect.Access, error) {
					return wrapped{m, c.session}, connect.Access{Target: "a", Key: "memory"}, nil
				},
				Unseal: func(context.Context, string) (connect.Secret, error) { return connect.Seal([]byte("Rope91")), c.unseal }}
			step := Step{Act: connect.Act{Act: everyKind()[4]}}
			if err := r.Target(context.Background(), 1, "a", []Step{step}, How{FailShare: -1}); err != nil || len(got) != 1 {
				t.Fatal(err, got)
			}
			if got[0].Outcome != c.want || got[0].Words != c.words {
				t.Errorf("%s %q, want %s %q", got[0].Outcome, got[0].Words, c.want, c.words)
			}
			if said := fmt.Sprintf("%+v %#v", got, got); c.unseal == nil && len(said) > 0 && strings.Contains(said, "Rope91") {
				t.Errorf("the secret is shown: %s", said)
			}
		}
	})
}

// liar says that nobody can sign in.
type liar struct{ connect.Session }

func (l liar) Offers() connect.Offers {
	o := l.Session.Offers()
	o.Prove = func(context.Context, string, connect.Secret) (bool, error) { return false, nil }
	return o
}

type wrapped struct {
	*connecttest.Memory
	with func(connect.Session) connect.Session
}

func (w wrapped) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	s, err := w.Memory.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	return w.with(s), nil
}

// listening keeps what ended.
type listening struct {
	*process
	got *[]Result
}

func (l listening) End(_ context.Context, _ int64, results []Result) (func(context.Context) error, error) {
	*l.got = results
	return func(context.Context) error { return nil }, nil
}
