package candidate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var schema = model.Schema{Kinds: []model.KindSchema{{Kind: model.Account, Name: model.OnePart("login", "."),
	Verbs:      []model.Verb{model.Create, model.Modify},
	Attributes: []model.AttributeSchema{{Name: model.FullName, Settable: true}, {Name: model.Disabled}}}}}

var errBroken = errors.New("the connection was reset")

// system is one in memory: what holds, its candidate, and what holds again when a trial ends. Each thing that is asked of it is
// said to ask, whose error it answers.
type system struct {
	holds, draft, before connect.Objects
	ask                  func(what string) error
	did                  []string
}

func (s *system) told(what string) error {
	s.did = append(s.did, what)
	return s.ask(what)
}

type batch struct {
	connect.Usual
	connect.Objects
	of *system
}

func (s *system) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return batch{connect.Usual{Schema: schema}, maps.Clone(s.holds), s}, nil
}

func (b batch) Carry(_ context.Context, x *connect.Batch, ready []int) {
	for _, i := range ready {
		a := x.Acts[i]
		if err := b.of.ask("carry " + a.Name); err != nil {
			x.Trouble[i] = err
			continue
		}
		o := model.Object{Kind: a.Object, Name: a.Name, Attributes: a.After().With(model.Disabled, "no")}
		b.of.draft[a.Of()] = &o
	}
}

func (b batch) ReadBack(_ context.Context, x *connect.Batch) (connect.View, error) {
	return x.After(func([]connect.Act) (connect.View, error) { return b.of.holds, nil })
}

func (s *system) Open(context.Context) error {
	s.draft = maps.Clone(s.holds)
	return s.told("open")
}
func (s *system) Difference(context.Context) ([]string, error) {
	return []string{fmt.Sprintf("+%d", len(s.draft)-len(s.holds))}, nil
}
func (s *system) Check(context.Context) error { return s.told("check") }
func (s *system) Keep(context.Context) error {
	err := s.told("keep")
	if err == nil {
		s.holds = s.draft
	}
	return err
}
func (s *system) Drop(context.Context) error {
	if s.before != nil {
		s.holds, s.before = s.before, nil
	}
	return s.told("drop")
}
func (s *system) Mark() connect.Mark { return connect.Mark{Token: "one", Until: time.Now()} }
func (s *system) Try(context.Context, connect.Mark) error {
	err := s.told("try")
	if err == nil {
		s.before, s.holds = s.holds, s.draft
	}
	return err
}
func (s *system) Again(context.Context) (Second, error) { return second{s}, s.told("again") }
func (s *system) Runs(context.Context, connect.Mark) (bool, error) {
	return s.before != nil, nil
}
func (*system) Broken(err error) bool         { return errors.Is(err, errBroken) }
func (*system) Fail(op string, e error) error { return fmt.Errorf("%s: %w", op, e) }

type second struct{ *system }

func (s second) Read(context.Context, []connect.Act) (connect.View, error) {
	return s.holds, s.told("read")
}
func (s second) Confirm(context.Context, connect.Mark) error {
	err := s.told("confirm")
	if err == nil {
		s.before = nil
	}
	return err
}
func (second) Close() error { return nil }

func crew(names ...string) (acts []connect.Act) {
	for _, n := range names {
		acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: n,
			Changes: []model.Change{{Attribute: model.FullName, After: []string{n}}}}})
	}
	return acts
}

// Whatever fails, and wherever the connection is lost, all of a batch holds or nothing, and the answers say which.
func TestWhole(t *testing.T) {
	no := errors.New("no")
	for _, c := range []struct {
		at    string
		err   error
		want  string // outcomes and words
		holds int    // once a trial that may run is settled
		did   string
	}{
		{"", nil, "done , done ", 2, "open check tell try again read confirm"},
		{"open", no, "not-tried no, not-tried no", 0, "open"},
		{"open", errBroken, "unsure change: the connection was reset", 0, "open"},
		{"carry bo", no, "not-tried the target takes all of it or nothing: create bo: no, failed no", 0, "open drop"},
		{"check", no, "not-tried the target's own check: no", 0, "open check drop"},
		{"check", errBroken, "unsure change", 0, "open check"},
		{"tell", no, "not-tried no", 0, "open check tell drop"},
		{"try", no, "not-tried no", 0, "open check tell try drop"},
		{"try", errBroken, "unsure change", 0, "open check tell try"},
		{"again", no, "not-tried gone back: after it our own login was let in no more: no", 0, "open check tell try again drop"},
		{"read", no, "not-tried gone back: after it our own login could not read it: no", 0, "open check tell try again read drop"},
		{"confirm", no, "not-tried gone back: after it our own login could not confirm it: no", 0,
			"open check tell try again read confirm drop"},
		{"confirm", errBroken, "unsure change", 0, "open check tell try again read confirm"},
	} {
		s := &system{holds: connect.Objects{}, ask: func(what string) error {
			if what == c.at {
				return c.err
			}
			return nil
		}}
		trial := Trial(s)
		answers := trial.Whole(context.Background(), crew("ada", "bo"), func(connect.Mark) error { return s.told("tell") })
		var got []string
		for _, a := range answers {
			got = append(got, fmt.Sprintf("%s %s", a.Outcome, a.Words))
		}
		did := strings.Join(s.did, " ")
		if answers[0].Outcome == connect.Unsure {
			if err := trial.Settle(context.Background(), s.Mark()); err != nil {
				t.Error(err)
			}
		}
		if !strings.HasPrefix(strings.Join(got, ", "), c.want) || len(s.holds) != c.holds || did != c.did {
			t.Errorf("%s %v: %q, %d hold, %s", c.at, c.err, got, len(s.holds), did)
		}
	}
}

// What is kept at once is answered as it came to be, and a preview changes nothing.
func TestKept(t *testing.T) {
	for at, want := range map[string]connect.Outcome{"": connect.Done, "open": connect.Failed, "keep": connect.Failed} {
		s := &system{holds: connect.Objects{}, ask: func(what string) error {
			if what == at {
				return errors.New("no")
			}
			return nil
		}}
		lines, err := Preview(context.Background(), s, crew("ada"))
		if at != "open" && (err != nil || !slices.Equal(lines, []string{"+1"}) || len(s.holds) > 0) {
			t.Errorf("%q %v %v", lines, err, s.holds)
		}
		c, err := Begin(context.Background(), s, crew("ada"))
		if err != nil {
			t.Fatal(err)
		}
		b := connect.NewBatch(crew("ada"), c)
		b.Stages(func(ready []int) { c.Carry(context.Background(), b, ready) })
		answers := b.Conclude(c.ReadBack(context.Background(), b))
		if answers[0].Outcome != want || (len(s.holds) == 1) != (want == connect.Done) {
			t.Errorf("%s: %+v, %v", at, answers, s.holds)
		}
	}
}
