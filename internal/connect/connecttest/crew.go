package connecttest

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Surveyed are the objects of a survey, by kind and name.
func Surveyed(t testing.TB, s connect.Session) map[model.Named]model.Object {
	t.Helper()
	out := map[model.Named]model.Object{}
	if err := s.Survey(context.Background(), func(o model.Object) error {
		n := model.Named{Kind: o.Kind, Name: o.Name}
		if _, twice := out[n]; twice {
			t.Errorf("%v is told twice", n)
		}
		out[n] = o
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

// Act is an act on an object of its own.
func Act(verb model.Verb, kind model.ObjectKind, name string, changes ...model.Change) connect.Act {
	return connect.Act{Act: model.Act{Verb: verb, Object: kind, Name: name, Changes: changes}}
}

// Move is an act that brings an account into a set, or out of it, once accounts are made.
func Move(verb model.Verb, kind model.ObjectKind, set, account string) connect.Act {
	return connect.Act{Act: move(verb, kind, set, account), Stage: 60}
}

// Crew makes so many accounts, named by name, that join the groups deck and stores.
func Crew(n int, name func(int) string) []connect.Act {
	var out []connect.Act
	for i := range n {
		out = append(out, Act(model.Create, model.Account, name(i)))
	}
	for i := range n {
		for _, group := range []string{"deck", "stores"} {
			out = append(out, Move(model.JoinIt, model.GroupKind, group, name(i)))
		}
	}
	return out
}

// Tally counts answers by outcome.
func Tally(answers []connect.Answer) map[connect.Outcome]int {
	out := map[connect.Outcome]int{}
	for _, a := range answers {
		out[a.Outcome]++
	}
	return out
}

// Agree faults answers that are otherwise than what a survey shows, of acts that make and join. others are sets and
// members that somebody else changed meanwhile.
func Agree(t testing.TB, acts []connect.Act, answers []connect.Answer, all map[model.Named]model.Object, others ...string) {
	t.Helper()
	for i, x := range answers {
		a := acts[i]
		o, there := all[a.Of()]
		if a.Moves() {
			there = there && slices.Contains(o.Attributes.Get(model.Members), a.Member)
		}
		if slices.Contains(others, a.Name) || slices.Contains(others, a.Member) || x.Outcome == connect.Unsure {
			continue
		}
		if (x.Outcome == connect.Done) != there {
			t.Fatalf("%v is told %s (%s), and there: %v", a.Act, x.Outcome, x.Words, there)
		}
	}
}

// Restarted has a batch carried out while its target goes and comes back: what is not known is told so, and once more does
// each once.
func Restarted(t testing.TB, c connect.Connector, a connect.Access, acts []connect.Act, restart func()) {
	t.Helper()
	s := Open(t, c, a)
	done := make(chan []connect.Answer)
	go func() { done <- connect.Apply(context.Background(), s, acts) }()
	restart()
	if n := Tally(<-done); n[connect.Unsure] != len(acts) {
		t.Errorf("while it went: %v", n)
	}
	for i := range acts {
		acts[i].Again = true
	}
	if n := Tally(connect.Apply(context.Background(), Open(t, c, a), acts)); n[connect.Done] != len(acts) {
		t.Errorf("once more: %v", n)
	}
}

// Apply carries out acts on a session, however long it takes.
func Apply(s connect.Session, acts []connect.Act) []connect.Answer {
	return connect.Apply(context.Background(), s, acts)
}

// Outcomes faults answers otherwise than wanted, by outcome and beginning of the words.
func Outcomes(t testing.TB, answers []connect.Answer, want ...string) {
	t.Helper()
	for i, x := range answers {
		got := fmt.Sprintf("%s %s", x.Outcome, x.Words)
		if i >= len(want) || len(got) < len(want[i]) || got[:len(want[i])] != want[i] {
			t.Errorf("%d: %s, want %s", i, got, want[min(i, len(want)-1)])
		}
	}
}
