package service

import (
	"context"
	"errors"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/store"
)

// An older comparison is not put in the place of a newer one.
func TestOlderComparison(t *testing.T) {
	s, _ := surveyed(t, declaration)
	old, err := s.current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	row, err := s.Store.Target(ctx, "arctic")
	if err != nil {
		t.Fatal(err)
	}
	less := strings.Replace(declaration, "  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1)
	if r, err := s.Declare(ctx, Itself, []declare.File{{Name: "c.yaml", Text: less}}, "hanne left"); err != nil || r.Findings != 1 {
		t.Fatalf("%+v %v", r, err)
	}
	if _, _, err := s.compareOnce(ctx, old, row); !errors.Is(err, errStale) {
		t.Errorf("%v", err)
	}
	if n, err := s.Store.AllFindings(ctx); err != nil || n != 1 {
		t.Errorf("%d findings %v", n, err)
	}
}

// A revision whose comparison never came, as when its service was killed, is
// compared before anything is drafted, and by itself after a while.
func TestInterruptedComparison(t *testing.T) {
	s, _ := surveyed(t, declaration)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	disturb := func() {
		if err := s.Store.Tx(ctx, func(tx *store.Tx) error {
			if err := tx.Disturbed(ctx, "arctic"); err != nil {
				return err
			}
			_, err := tx.PutFindings(ctx, "arctic", nil, s.now())
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	disturb()
	if r, err := s.Draft(ctx, odd, DraftRequest{Because: "after"}); err != nil || r.Steps != 2 {
		t.Errorf("a draft of findings that nobody compared: %+v %v", r, err)
	}
	if _, err := s.Draft(ctx, odd, DraftRequest{Because: "as seen", Revision: 7}); err == nil || !strings.Contains(err.Error(), "revision 1 is declared since you looked (at revision 7)") {
		t.Errorf("%v", err)
	}
	disturb()
	if n, _, err := s.compare(gone, "arctic"); err != nil || n != 2 {
		t.Errorf("a comparison ended with who asked for it: %d %v", n, err)
	}
}

// What repeats drafts no second round while the first waits, and none at all for a target that does not answer.
func TestReconcileByItself(t *testing.T) {
	s, f := surveyed(t, strings.Replace(declaration, "unexpected: disable", "unexpected: disable, limits: {disable: 0}", 1), "jarle", "1701")
	for range 3 {
		if err := s.reconcileByItself(ctx, "arctic"); err != nil {
			t.Fatal(err)
		}
	}
	rounds, total, err := s.Rounds(ctx, odd, nil, Page{})
	if err != nil || total != 1 || rounds[0].State != OnHold {
		t.Fatalf("%d rounds: %+v %v", total, rounds, err)
	}
	if e, err := s.Record(ctx, odd, RecordFilter{Text: "is held and waits"}, 9); err != nil || len(e.Items) != 1 {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := s.Stop(ctx, Itself, rounds[0].ID, "away"); err != nil {
		t.Fatal(err)
	}
	f.err = errors.New("it does not answer")
	if err := s.reconcileByItself(ctx, "arctic"); err != nil {
		t.Fatal(err)
	}
	if _, total, _ := s.Rounds(ctx, odd, nil, Page{}); total != 1 {
		t.Error("a round was drafted for a target that does not answer")
	}
}

// A target that never answered is not surveyed, and nothing is found missing there.
func TestNeverSurveyed(t *testing.T) {
	s, f := start(t)
	f.err = errors.New("it does not answer")
	if _, err := s.Declare(ctx, Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		if got, err := s.Survey(ctx, Itself, nil, nil); err != nil || got[0].Findings != 0 {
			t.Fatalf("%+v %v", got, err)
		}
		if r, err := s.Declare(ctx, Itself, []declare.File{{Name: "c.yaml", Text: declaration + strings.Repeat("#", i+1)}}, "again"); err != nil || r.Findings != 0 || r.Unchanged {
			t.Errorf("%+v %v", r, err)
		}
	}
	u, err := s.User(ctx, Itself, "marit")
	if err != nil || len(u.Accounts) != 1 || u.Accounts[0].State != "not surveyed" {
		t.Errorf("%+v %v", u, err)
	}
	if d, err := s.Target(ctx, Itself, "arctic"); err != nil || d.SurveyedAt != nil {
		t.Errorf("%+v %v", d, err)
	}
}
