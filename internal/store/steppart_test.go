package store_test

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// Steps are the same packed as they were as rows, whichever are asked for; and can be marked as taken back.
func TestPackedSteps(t *testing.T) {
	s, db := open(t)
	odd := []string{"", "o'neil; reboot", `Durand, "A"`, "50%_off", "نور", "two\nlines\tand a tab"}
	list := make([]store.Step, 6200)
	for i := range list {
		list[i] = store.Step{Wave: 1 + i/4000, Tier: i / 2000 % 2, Stage: i % 4, Outcome: []string{"done", "failed", "done"}[i/7%3],
			Act: model.Act{Target: fmt.Sprintf("t%d é", i/900), Verb: model.Create, Object: model.Account, Name: fmt.Sprint(odd[i%6], i),
				User: odd[i%6]}}
	}
	list[6100].Outcome = "gone"
	var id, young int64
	tx(t, s, func(tx *store.Tx) error {
		r, err := tx.AddRound(ctx, store.Round{State: "running", Because: "spring", DraftedBy: "odd", DraftedAt: now}, list, nil, nil)
		if id = r.ID; err != nil {
			return err
		}
		r, err = tx.AddRound(ctx, store.Round{State: "running", Because: "later", DraftedBy: "odd", DraftedAt: now}, list[:3], nil, nil)
		if young = r.ID; err != nil {
			return err
		}
		if ok, err := tx.EndRound(ctx, id, "done", now); !ok || err != nil {
			return fmt.Errorf("%v %w", ok, err)
		}
		_, err = tx.EndRound(ctx, young, "done", now.Add(time.Hour))
		return err
	})
	if _, err := db.Exec(`UPDATE step SET words = CONCAT('said "', target, '"'), tries = 2, ended_at = ? WHERE round = ? AND seq % 3 = 0`, now,
		id); err != nil {
		t.Fatal(err)
	}
	filters := []store.StepFilter{{}, {After: 499}, {After: 6199}, {Outcomes: []string{"gone"}},
		{Target: "t6 é", Outcomes: []string{"failed"}}, {Target: "t6 é", Outcomes: []string{"failed", "gone"}, After: 5900},
		{Target: "none"}}
	see := func() (out [][]store.Step) {
		t.Helper()
		for _, f := range filters {
			for _, most := range []int{7, 1300, 10_000} {
				list, total, err := s.Steps(ctx, id, f, most)
				if err != nil {
					t.Fatal(err)
				}
				out = append(out, append(list, store.Step{Seq: total}))
			}
		}
		return out
	}
	were := see()
	for n, left := range []int{1200, 0} {
		if found, err := s.PackSteps(ctx, now.Add(time.Minute)); !found || err != nil {
			t.Fatalf("turn %d: %v %v", n, found, err)
		}
		var rows int
		if err := db.QueryRow(`SELECT COUNT(*) FROM step WHERE round = ?`, id).Scan(&rows); err != nil || rows != left {
			t.Errorf("after turn %d %d steps are rows, want %d (%v)", n, rows, left, err)
		}
		if are := see(); !reflect.DeepEqual(are, were) {
			t.Errorf("after turn %d the steps are not those that were there", n)
		}
	}
	if found, err := s.PackSteps(ctx, now.Add(time.Minute)); found || err != nil {
		t.Errorf("a round that ended later is packed, or one again: %v", err)
	}
	tx(t, s, func(tx *store.Tx) error { return tx.Undone(ctx, id) })
	_, done, err := s.Steps(ctx, id, store.StepFilter{Outcomes: []string{"done"}}, 10)
	undone, total, err2 := s.Steps(ctx, id, store.StepFilter{Outcomes: []string{"undone"}}, 10_000)
	want := 0
	for _, st := range list {
		if st.Outcome == "done" {
			want++
		}
	}
	if done != 0 || total != want || len(undone) != want || err != nil || err2 != nil {
		t.Errorf("%d are done, %d (told: %d) undone, want %d (%v, %v)", done, len(undone), total, want, err, err2)
	}
	if _, gone, _ := s.Steps(ctx, id, store.StepFilter{Outcomes: []string{"gone"}}, 1); gone != 1 {
		t.Error("what was not done is undone")
	}
	if !slices.IsSortedFunc(undone, func(a, b store.Step) int { return a.Seq - b.Seq }) {
		t.Error("out of order")
	}
}

// What cannot be read back says which steps it was.
func TestPackedStepsBroken(t *testing.T) {
	s, db := open(t)
	if _, err := db.Exec(`INSERT INTO step_part (round, last, low, high, outcomes, body) VALUES (7, 12, 'a', 'b', 'done', 'no')`); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO phase (round, wave, tier, target, outcome, writer, n) VALUES (7, 1, 0, 'a', 'done', 0, 12)`); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Steps(ctx, 7, store.StepFilter{}, 5); err == nil ||
		!strings.HasPrefix(err.Error(), "the packed steps up to 12 of round 7 cannot be read") {
		t.Errorf("%v", err)
	}
}
