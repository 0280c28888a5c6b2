package service

import (
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/guard"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// What an operator declares of guarded settings waits, in every service on one database; another approves it, as it was looked at.
func TestGuardedSettings(t *testing.T) {
	s, f := start(t)
	f.Add("marit", "1001")
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	ann, bo := door.Operator{Name: "ann", Duties: []door.Duty{door.Look, door.Draft, door.Approve}},
		door.Operator{Name: "bo", Duties: []door.Duty{door.Look, door.Approve, door.Administer}}
	if r, err := s.Declare(ctx, ann, files, "begin"); err != nil || r.Pending == 0 {
		t.Fatalf("%+v %v", r, err)
	}
	if got, _ := s.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.NotApproved {
		t.Errorf("a target that nobody approved: %+v", got)
	}
	other, err := New(configOf(s))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if got, _ := other.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.NotApproved {
		t.Errorf("in another service: %+v", got)
	}
	approve := func(who door.Operator, revision int) error {
		_, err := s.ApproveSettings(ctx, who, declared.ApproveRequest{Revision: revision, Things: []string{"arctic"}})
		return err
	}
	if err := approve(ann, 1); door.ProblemOf(err).Kind != door.Forbidden {
		t.Errorf("where secrets go is approved without the duty: %v", err)
	}
	if err := approve(bo, 7); err == nil || !strings.Contains(err.Error(), "look again at what waits") {
		t.Errorf("what was not looked at: %v", err)
	}
	if err := approve(bo, 1); err != nil {
		t.Fatal(err)
	}
	for _, x := range []*Service{s, other} {
		if got, _ := x.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.Surveyed {
			t.Errorf("approved: %+v", got)
		}
	}
	loose := strings.Replace(declaration, `, protect: ["svc*"]`, "", 1)
	m, err := s.Means(ctx, ann, []declare.File{{Name: "c.yaml", Text: loose}})
	if err != nil || len(m.Pending) != 1 || m.Pending[0].Setting != "protect" || m.Pending[0].InForce != "svc*" ||
		m.Pending[0].By != "ann" {
		t.Fatalf("%+v %v", m.Pending, err)
	}
	if _, err := s.Declare(ctx, ann, []declare.File{{Name: "c.yaml", Text: loose}}, "loosen"); err != nil {
		t.Fatal(err)
	}
	// Somebody who changes a user meanwhile neither approves it nor becomes who asked for it.
	if _, err := s.Edit(ctx, bo, 0, nil, "x"); err == nil {
		t.Error("without the duty")
	}
	both := door.Operator{Name: "cy", Duties: door.Duties}
	if _, err := s.Edit(ctx, both, 0, []declare.Edit{{Section: "users", Name: "marit", Key: "mail", Do: declare.Set, Value: "m@x.example"}},
		"mail"); err != nil {
		t.Fatal(err)
	}
	for _, x := range []*Service{s, other} {
		c, err := x.Current(ctx)
		if err != nil {
			t.Fatal(err)
		}
		st := c.Guarded[guard.Thing{Kind: guard.Target, Name: "arctic"}]
		if st.Pending["protect"].By != "ann" || len(c.Plan.Targets["arctic"].Target.Protect) != 1 {
			t.Errorf("%+v %+v", st, c.Plan.Targets["arctic"].Target.Protect)
		}
	}
	if err := approve(both, 4); err != nil {
		t.Errorf("who did not declare it: %v", err)
	}
	if c, _ := other.Current(ctx); len(c.Plan.Targets["arctic"].Target.Protect) != 0 {
		t.Error("the other service does not know that it was approved")
	}
}

// A target is surveyed only where it is: one that was approved just now, or that moved, is told as not surveyed until it is.
func TestSurveyedElsewhere(t *testing.T) {
	s, f := start(t)
	f.Add("marit", "1001")
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	ann, bo := door.Operator{Name: "ann", Duties: door.Duties}, door.Operator{Name: "bo", Duties: door.Duties}
	revision := 0
	declare := func(text string, approved bool) {
		t.Helper()
		r, err := s.Declare(ctx, ann, []declare.File{{Name: "c.yaml", Text: text}}, "go on")
		if err == nil && approved {
			r, err = s.ApproveSettings(ctx, bo, declared.ApproveRequest{Revision: r.Number})
		}
		if revision = r.Number; err != nil {
			t.Fatal(err)
		}
	}
	is := func(state string, unread int) {
		t.Helper()
		d, err := s.Target(ctx, bo, "arctic")
		if err != nil || d.State != state {
			t.Errorf("revision %d: %s (%s) %v, want %s", revision, d.State, d.Words, err, state)
		}
		if got, err := s.Drift(ctx, bo, seen.DriftRequest{}, 1); err != nil || len(got.Unread) != unread {
			t.Errorf("revision %d: %q not surveyed: %v", revision, got.Unread, err)
		}
	}
	survey := func() {
		t.Helper()
		if _, err := s.Survey(ctx, bo, nil, nil); err != nil {
			t.Fatal(err)
		}
	}
	declare(declaration, false)
	survey()
	is(seen.NotApproved, 1)
	declare(declaration, true)
	is(seen.NotSurveyed, 1)
	declare(strings.Replace(declaration, `, protect: ["svc*"]`, "", 1), false)
	is(seen.NotSurveyed, 1) // though something else waits now
	survey()
	is(seen.Surveyed, 0)
	moved := strings.Replace(declaration, `"a:1"`, `"b:1"`, 1)
	declare(moved, false)
	is(seen.Surveyed, 0) // the address that is in force
	declare(moved, true)
	is(seen.NotSurveyed, 1)
	survey()
	is(seen.Surveyed, 0)
	declare(declaration, true)
	is(seen.NotSurveyed, 1)
}

// A declaration that an earlier version stored is taken over as it stands, with the keys that were accepted.
func TestTakeOver(t *testing.T) {
	s, f := start(t)
	f.Add("marit", "1001")
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Declare(ctx, door.Operator{Name: "ann", Duties: door.Duties}, files, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.Store.Tx(ctx, func(tx *store.Tx) error { // as an earlier version left it
		if _, err := tx.ExecContext(ctx, "DELETE FROM guarded"); err != nil {
			return err
		}
		return tx.PutTarget(ctx, store.Target{Name: "arctic", Accepted: "a key", State: seen.Surveyed})
	}); err != nil {
		t.Fatal(err)
	}
	later, err := New(configOf(s))
	if err != nil {
		t.Fatal(err)
	}
	defer later.Close()
	later.TakeOver(ctx)
	c, err := later.Current(ctx)
	if err != nil || c.Unapproved("arctic") || c.Revision != 2 {
		t.Fatalf("%+v %v", c, err)
	}
	row, err := later.Store.Target(ctx, "arctic")
	if err != nil || row.For != seen.PlaceOf(c.Plan.Targets["arctic"]) {
		t.Errorf("%+v %v", row, err)
	}
	later.TakeOver(ctx)
	if c, _ := later.Current(ctx); c.Revision != 2 {
		t.Errorf("it was taken over twice: revision %d", c.Revision)
	}
}
