package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/store"
)

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
			_, err := tx.PutFindings(ctx, "arctic", nil, s.Now())
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	disturb()
	if r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "after"}); err != nil || r.Steps != 2 {
		t.Errorf("a draft of findings that nobody compared: %+v %v", r, err)
	}
	if _, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "as seen", Revision: 7}); err == nil ||
		!strings.Contains(err.Error(), "revision 1 is declared since you looked (at revision 7)") {
		t.Errorf("%v", err)
	}
	disturb()
	if n, _, err := s.Compare(gone, "arctic"); err != nil || n != 2 {
		t.Errorf("a comparison ended with who asked for it: %d %v", n, err)
	}
}

// A target that never answered is not surveyed, and nothing is found missing there.
func TestNeverSurveyed(t *testing.T) {
	s, f := start(t)
	f.Err = errors.New("it does not answer")
	if _, err := s.Declare(ctx, door.Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].Findings != 0 {
			t.Fatalf("%+v %v", got, err)
		}
		if r, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: declaration + strings.Repeat("#", i+1)}},
			"again"); err != nil || r.Findings != 0 || r.Unchanged {
			t.Errorf("%+v %v", r, err)
		}
	}
	u, err := s.User(ctx, door.Itself, "marit")
	if err != nil || len(u.Accounts) != 1 || u.Accounts[0].State != "not surveyed" {
		t.Errorf("%+v %v", u, err)
	}
	if d, err := s.Target(ctx, door.Itself, "arctic"); err != nil || d.SurveyedAt != nil {
		t.Errorf("%+v %v", d, err)
	}
	if _, err := s.TargetMatrix(ctx, door.Itself, "arctic", "group", seen.MatrixQuery{}); err == nil ||
		!strings.Contains(err.Error(), "nobody knows yet what arctic holds") {
		t.Errorf("who is in what where nobody looked: %v", err)
	}
}

// silent are targets of which some take the connection and say nothing until the gate opens.
type silent struct {
	*servicetest.Tern
	dead, hang bool
	gate       chan struct{}
}

func (f *silent) Open(c context.Context, a connect.Access) (connect.Session, error) {
	if f.dead && strings.HasPrefix(a.Target, "aground") {
		if f.hang {
			<-f.gate
		}
		return nil, errors.New("it took the connection but said nothing")
	}
	return f.Tern.Open(c, a)
}

// Targets that say nothing hold up no other, however many they are.
func TestSilentTargets(t *testing.T) {
	s, f := start(t)
	q := &silent{Tern: f, gate: make(chan struct{})}
	s.Kinds()["tern"] = q
	var text strings.Builder
	at := strings.Index(declaration, "targets:\n") + len("targets:\n")
	text.WriteString(declaration[:at])
	for i := range s.Width {
		fmt.Fprintf(&text, "  aground%02d: {kind: tern, address: \"a:1\", login: {as: root, secret: key}}\n", i)
	}
	text.WriteString(declaration[at:])
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text.String()}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	all := func(want string, told func(seen.SurveyResult)) {
		t.Helper()
		got, err := s.Survey(ctx, door.Itself, nil, told)
		if err != nil || len(got) != s.Width+1 {
			t.Fatalf("%d surveyed: %v", len(got), err)
		}
		for _, r := range got {
			if r.Target != "arctic" && r.State != want {
				t.Fatalf("%+v", r)
			}
		}
	}
	all(seen.Surveyed, nil)
	q.dead = true
	all(seen.OutOfReach, nil)
	q.hang = true
	var once sync.Once
	all(seen.OutOfReach, func(r seen.SurveyResult) { // the gate opens when the one that answers has answered: else this never ends
		if r.Target == "arctic" {
			once.Do(func() { close(q.gate) })
		}
	})
}

// A service is ready when it can answer, not before it has read what is declared.
func TestReady(t *testing.T) {
	s, _ := surveyed(t, declaration)
	if err := s.Ready(ctx); err == nil || door.ProblemOf(err).Kind != door.Away ||
		!strings.Contains(err.Error(), "the declaration is being read") {
		t.Errorf("%v", err)
	}
	s.Warm(ctx)
	if err := s.Ready(ctx); err != nil {
		t.Error(err)
	}
}

// The time that a survey says it took is all that whoever waits has waited for, its comparison included.
func TestSurveyTime(t *testing.T) {
	s, f := surveyed(t, declaration)
	f.Add("jarle", "1701")
	const kept = 300 * time.Millisecond
	locked, done := make(chan struct{}), make(chan error)
	go func() { // nothing can be recorded while this lasts, so no comparison ends
		done <- s.Store.Tx(ctx, func(tx *store.Tx) error {
			err := tx.Append(ctx, &store.Entry{At: s.Now(), Kind: "comment", Operator: "odd.strand", Words: "in the way"})
			close(locked)
			time.Sleep(kept)
			return err
		})
	}()
	<-locked
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	if err != nil || got[0].TookMS < (kept-50*time.Millisecond).Milliseconds() {
		t.Errorf("%+v %v", got, err)
	}
	if err := <-done; err != nil {
		t.Error(err)
	}
}
