package service

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// A value that is sealed is seen by the target, and stands nowhere else: not in
// the steps, not in the record, not in what is asked of the service.
func TestSealedValue(t *testing.T) {
	s, f := surveyed(t, declaration, "marit", "1001", "hanne", "1014")
	settle(t, s)
	id, err := s.sealFor(ctx, []byte("Rope-91-knots"))
	if err != nil {
		t.Fatal(err)
	}
	c, err := s.current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	act := model.Act{Target: "arctic", Verb: model.Modify, Object: model.Account, Name: "marit", User: "marit",
		Changes: []model.Change{{Attribute: model.Password, Sealed: id}}}
	r, err := s.draft(ctx, odd, c, []model.Act{act}, store.Round{Because: "test"})
	if err != nil {
		t.Fatal(err)
	}
	if r, err = s.Approve(ctx, Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	r, words := runs(t, s, r)
	if r.State != Complete || !strings.Contains(words, "not proved") {
		t.Errorf("%s %s", r.State, words)
	}
	if string(f.secrets["marit"].Reveal()) != "Rope-91-knots" {
		t.Error("the target did not get it")
	}
	steps, err := s.RoundSteps(ctx, odd, r.ID, nil, Page{})
	if err != nil || len(steps.Items) != 1 || steps.Items[0].After != "a new password" || steps.Items[0].Before != "" {
		t.Errorf("%+v %v", steps.Items, err)
	}
	record, err := s.Record(ctx, odd, RecordFilter{}, 100)
	if err != nil {
		t.Fatal(err)
	}
	said, _ := json.Marshal([]any{steps, record, r})
	if strings.Contains(string(said), "Rope") || strings.Contains(fmt.Sprintf("%+v", f.secrets), "Rope") ||
		!strings.Contains(string(said), "(sealed)") {
		t.Errorf("%s", said)
	}
	if _, err := s.unseal(ctx, "nothing"); err == nil {
		t.Error("what is not kept is opened")
	}
}
