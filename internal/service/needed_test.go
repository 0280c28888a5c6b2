package service

import (
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// What a round brought is taken back, but not what others have come to need since; and what is still declared is said.
func TestUndoKeepsWhatOthersNeed(t *testing.T) {
	s, m := onMemory(t)
	r := filled(t, s)
	crew := model.Named{Kind: model.GroupKind, Name: "crew"}
	m.Enter(crew, model.Named{Kind: model.Account, Name: "jarle@%"}) // by somebody's hand
	survey(t, s)
	u, err := s.Undo(ctx, door.Itself, r.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	lost := strings.Join(u.Lost, "\n")
	for _, want := range []string{"group crew on stores stays: others have come into it since: jarle@%", "the declaration still asks for",
		"and the next round brings it back"} {
		if !strings.Contains(lost, want) {
			t.Errorf("it does not say %q: %s", want, lost)
		}
	}
	steps, err := s.RoundSteps(ctx, door.Itself, u.ID, rounds.StepChoice{}, 0)
	removes := func(x rounds.Step) bool { return x.What == "remove group" }
	if err != nil || slices.ContainsFunc(steps.Items, removes) {
		t.Errorf("the group would be removed: %v", err)
	}
	if _, err := s.Approve(ctx, odd, u.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, odd, u.ID); err != nil {
		t.Fatal(err)
	}
	ended(t, s, u.ID)
	account := func(name string) model.Named { return model.Named{Kind: model.Account, Name: name} }
	if !m.Member(crew, account("jarle@%")) || m.Object(account("ulla@10.1.%")) != nil {
		t.Error("somebody else lost the group, or what the round brought is still there")
	}
}

// Seats are counted as they are after each round: how many there are is not forgotten, and who is gone sits nowhere.
func TestSeatsAfterRounds(t *testing.T) {
	s, m := onMemory(t)
	filled(t, s)
	stored := func() (seats string, taken int) {
		o, err := s.Store.Set(ctx, "stores", model.Named{Kind: model.LicenceKind, Name: "seat"})
		if err != nil {
			t.Fatal(err)
		}
		return o.Attributes.One(model.Seats), len(o.Attributes.Get(model.Members))
	}
	if seats, taken := stored(); seats != "9" || taken != 5 {
		t.Errorf("%s seats, %d taken", seats, taken)
	}
	m.Put(model.Object{Kind: model.LicenceKind, Name: "seat",
		Attributes: model.Pack(model.Attribute{Name: model.Seats, Values: []string{"5"}})})
	survey(t, s)
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "x",
		Lines: []rounds.BulkLine{{User: "ulla", Target: "stores", What: "remove"}}})
	if err != nil || got.Round.Steps != 2 {
		t.Fatalf("%+v %v", got, err)
	}
	if _, err := s.Approve(ctx, door.Itself, got.Round.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, door.Itself, got.Round.ID); err != nil {
		t.Fatal(err)
	}
	ended(t, s, got.Round.ID)
	if seats, taken := stored(); seats != "5" || taken != 3 {
		t.Errorf("%s seats, %d taken, when two who sat there are gone", seats, taken)
	}
}

// After a round of ours has removed an account, no finding says that somebody else did: neither of the account nor of its groups.
func TestOwnRemovalIsNotContested(t *testing.T) {
	s, _ := onMemory(t)
	filled(t, s)
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "x",
		Lines: []rounds.BulkLine{{User: "ulla", Target: "stores", What: "remove"}}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Approve(ctx, door.Itself, got.Round.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, door.Itself, got.Round.ID); err != nil {
		t.Fatal(err)
	}
	ended(t, s, got.Round.ID)
	survey(t, s)
	list, err := s.Drift(ctx, odd, seen.DriftRequest{}, 100)
	if err != nil || len(list.Items) == 0 || list.Kinds[string(model.Contested)] != 0 {
		t.Errorf("%v %v", list.Kinds, err)
	}
}
