package store_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// counted reads the chosen findings one by one, page by page, and says how many there are if that is what their counts say.
func counted(t *testing.T, s *store.Store, f store.FindingFilter) (n int, err error) {
	t.Helper()
	seen := map[string]bool{}
	last := ""
	for after := ""; ; {
		page, next, err := s.Findings(ctx, f, after, 1)
		if err != nil {
			return n, err
		}
		for _, x := range page {
			if seen[x.Key] || x.Target < last {
				return n, fmt.Errorf("%s comes twice, or out of order", x.Key)
			}
			seen[x.Key], last = true, x.Target
			n++
		}
		if after = next; after == "" {
			break
		}
	}
	counts, err := s.CountFindings(ctx, f, f.Open)
	total := 0
	for _, c := range counts {
		if total += c.N; f.Open != "" {
			total -= c.Accepted
		}
	}
	if err == nil && total != n {
		err = fmt.Errorf("%d are counted, %d are there", total, n)
	}
	return n, err
}

func TestFindings(t *testing.T) {
	s, _ := open(t)
	first := []model.Finding{finding("arctic-tern", "marit", "marit", model.Missing, model.Create),
		finding("arctic-tern", "jarle", "", model.Unexpected, model.NoRemedy)}
	put := func(list []model.Finding, at time.Time) (fresh int) {
		tx(t, s, func(tx *store.Tx) (err error) { fresh, err = tx.PutFindings(ctx, "arctic-tern", list, at); return err })
		return fresh
	}
	if n := put(first, now); n != 2 {
		t.Errorf("%d new", n)
	}
	later := append(first[:1:1], finding("arctic-tern", "hanne", "hanne", model.Different, model.Modify))
	if n := put(later, now.AddDate(0, 0, 1)); n != 1 {
		t.Errorf("%d new the second time", n)
	}
	got, next, err := s.Findings(ctx, store.FindingFilter{}, "", 10)
	if err != nil || len(got) != 2 || next != "" || !got[1].SeenAt.Equal(now) || !got[0].SeenAt.Equal(now.AddDate(0, 0, 1)) ||
		got[1].Note != first[0].Note {
		t.Errorf("%v %q %+v", err, next, got)
	}
	later[0].Note = "said otherwise"
	if n := put(later, now.AddDate(0, 0, 2)); n != 0 {
		t.Errorf("%d new the third time", n)
	}
	if got, _, _ := s.Findings(ctx, store.FindingFilter{}, "", 10); got[1].Note != "said otherwise" ||
		!got[1].SeenAt.Equal(now) {
		t.Errorf("a changed finding: %+v", got[1])
	}
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.PutFindings(ctx, "sooty-tern", []model.Finding{finding("sooty-tern", "marit", "marit", model.Missing, model.Create),
			finding("sooty-tern", "x", "", model.Unmatched, model.NoRemedy)}, now)
		return err
	})
	for _, c := range []struct {
		f    store.FindingFilter
		want int
	}{
		{store.FindingFilter{Targets: []string{"sooty-tern"}}, 2}, {store.FindingFilter{Users: []string{"marit", "hanne"}}, 3},
		{store.FindingFilter{Kinds: []string{"missing"}}, 2},
		{store.FindingFilter{Targets: []string{"sooty-tern"}, Kinds: []string{"different"}}, 0},
		{store.FindingFilter{Users: []string{"' OR 1=1 --"}}, 0},
	} {
		if page, err := counted(t, s, c.f); err != nil || page != c.want {
			t.Errorf("%+v: %d, %v", c.f, page, err)
		}
	}
	counts, err := s.CountFindings(ctx, store.FindingFilter{}, "2026-11-23")
	if err != nil || len(counts) != 4 || fmt.Sprint(counts[3]) != "{sooty-tern unmatched 1 0 0 0}" {
		t.Errorf("%v %v", counts, err)
	}
	if n, err := s.CountFindingsOf(ctx, []string{"marit", "nobody"}, "2026-11-26"); err != nil || n["marit"] != 2 || n["nobody"] != 0 {
		t.Errorf("%v %v", n, err)
	}
	tx(t, s, func(tx *store.Tx) error { return tx.KeepFindingsOf(ctx, []string{"arctic-tern"}) })
	if n, err := counted(t, s, store.FindingFilter{}); n != 2 {
		t.Errorf("%d findings are left, %v", n, err)
	}
}

// TestFindingPages: whatever comes and goes, every way to choose finds each
// finding once, in order, and counts them right.
func TestFindingPages(t *testing.T) {
	s, _ := open(t)
	draw := rand.New(rand.NewPCG(7, 7))
	kinds := []model.FindingKind{model.Missing, model.Different, model.Unexpected, model.Unmatched}
	state := map[string][]model.Finding{}
	for turn := range 12 {
		target := fmt.Sprintf("t%d", draw.IntN(3))
		var list []model.Finding
		for i := range draw.IntN(300) {
			verb := model.Modify
			if kinds[i%4] == model.Unmatched {
				verb = model.NoRemedy
			}
			list = append(list, finding(target, fmt.Sprintf("n'%03d", draw.IntN(400)), fmt.Sprintf("u%d", i%5), kinds[i%4], verb))
		}
		tx(t, s, func(tx *store.Tx) (err error) {
			if some := state[target]; turn%3 == 2 && len(some) > 10 { // only a few of them change
				_, err = tx.SwapFindings(ctx, target, some[:5], list[:min(len(list), 3)], now)
				list = append(some[5:], list[:min(len(list), 3)]...)
				return err
			}
			_, err = tx.PutFindings(ctx, target, list, now)
			return err
		})
		state[target] = list
		if turn == 6 && len(list) > 0 {
			tx(t, s, func(tx *store.Tx) error {
				until := now.AddDate(0, 0, 5)
				return tx.Accept(ctx, target, list[0].Key(), &until, "odd", "sorted out", now)
			})
		}
	}
	for _, f := range []store.FindingFilter{{}, {Targets: []string{"t1", "t2"}}, {Kinds: []string{"missing"}},
		{Kinds: []string{"different", "missing", "unmatched"}, Targets: []string{"t0", "t2"}}, {Users: []string{"u1", "u3"}},
		{Users: []string{"u2"}, Kinds: []string{"missing", "different"}}, {Open: "2026-11-25"},
		{Kinds: []string{"unexpected"}, Open: "2026-11-25"},
		{Accepted: "2026-11-25"}, {Groups: true}} {
		if n, err := counted(t, s, f); err != nil || n == 0 && f.Accepted == "" && !f.Groups {
			t.Errorf("%+v: %d, %v", f, n, err)
		}
	}
	if _, _, err := s.Findings(ctx, store.FindingFilter{}, "!", 5); !errors.Is(err, store.ErrNoSpot) {
		t.Errorf("behind nothing: %v", err)
	}
	all, _, err := s.Findings(ctx, store.FindingFilter{Targets: []string{"t1"}}, "", 1000)
	want := map[string]bool{}
	for _, f := range state["t1"] {
		want[f.Key()] = true
	}
	if err != nil || len(all) != len(want) || slices.ContainsFunc(all, func(f store.Finding) bool { return !want[f.Key] }) {
		t.Errorf("%d findings are stored of %d: %v", len(all), len(want), err)
	}
}
