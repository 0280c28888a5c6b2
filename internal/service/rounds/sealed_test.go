package rounds

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// A value that is sealed is seen by the target, and stands nowhere else: not in
// the steps, not in the record, not in what is asked of the service.
func TestSealedValue(t *testing.T) {
	s, f := start(t)
	f.Add("marit", "1001")
	f.Add("hanne", "1014")
	if _, err := s.Survey(ctx, door.Itself, nil, nil); err != nil {
		t.Fatal(err)
	}
	sealing, err := s.Sealed([]byte("Rope-91-knots"))
	if err != nil {
		t.Fatal(err)
	}
	id := sealing.ID
	err = s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.PutSealings(ctx, []store.Sealing{sealing}, time.Now()) })
	if err != nil {
		t.Fatal(err)
	}
	c, err := s.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	act := model.Act{Target: "arctic", Verb: model.Modify, Object: model.Account, Name: "marit", User: "marit",
		Changes: []model.Change{{Attribute: model.Password, Sealed: id}}}
	r, err := s.draft(ctx, door.Itself, c, []model.Act{act}, store.Round{Because: "test"})
	if err != nil {
		t.Fatal(err)
	}
	if r, err = s.Approve(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	for range 400 {
		if r, err = s.Round(ctx, door.Itself, r.ID); err != nil || r.EndedAt != nil {
			break
		}
		time.Sleep(25 * time.Millisecond)
	}
	steps, err := s.RoundSteps(ctx, door.Itself, r.ID, StepChoice{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	words := steps.Items[0].Words
	if r.State != Complete || !strings.Contains(words, "not proved") {
		t.Errorf("%s %s", r.State, words)
	}
	if string(f.Secrets["marit"].Reveal()) != "Rope-91-knots" {
		t.Error("the target did not get it")
	}
	if len(steps.Items) != 1 || steps.Items[0].After != "a new password" || steps.Items[0].Before != "" {
		t.Errorf("%+v %v", steps.Items, err)
	}
	record, err := s.Record(ctx, door.Itself, door.RecordFilter{}, 100)
	if err != nil {
		t.Fatal(err)
	}
	said, _ := json.Marshal([]any{steps, record, r})
	if strings.Contains(string(said), "Rope") || strings.Contains(fmt.Sprintf("%+v", f.Secrets), "Rope") ||
		!strings.Contains(string(said), "(sealed)") {
		t.Errorf("%s", said)
	}
	if _, err := s.Unseal(ctx, "nothing"); err == nil {
		t.Error("what is not kept is opened")
	}
}
