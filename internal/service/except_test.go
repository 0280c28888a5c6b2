package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// askedFor drafts changes asked for, and runs the round to its end.
func askedFor(t *testing.T, s *Service, until string, lines ...rounds.BulkLine) rounds.Round {
	t.Helper()
	got, err := s.Bulk(ctx, door.Itself, rounds.BulkRequest{Because: "lent", Until: until, Lines: lines})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range got.Lines {
		if l.Outcome != "drafted" || until != "" && !strings.Contains(l.Words, "kept until "+until) {
			t.Fatalf("%+v", l)
		}
	}
	r := approvedBy(t, s, odd, got.Round.ID)
	if r.State != rounds.Complete {
		t.Fatalf("%+v", r)
	}
	return r
}

// approvedBy has an operator approve a round and run it to its end.
func approvedBy(t *testing.T, s *Service, who door.Operator, id int64) rounds.Round {
	t.Helper()
	_, err := s.Approve(ctx, who, id)
	if err == nil {
		_, err = s.RunRound(ctx, who, id)
	}
	if err != nil {
		t.Fatal(err)
	}
	return ended(t, s, id)
}

// undone takes a round back.
func undone(t *testing.T, s *Service, id int64) {
	t.Helper()
	u, err := s.Undo(ctx, odd, id, "")
	if err != nil {
		t.Fatal(err)
	}
	approvedBy(t, s, door.Itself, u.ID)
}

// What is against the declaration is kept until the day that was said, through surveys and drafts, and no longer when it is undone.
func TestKeptUntil(t *testing.T) {
	s, m := onMemory(t)
	filled(t, s)
	survey(t, s)
	before := kinds(t, s, seen.DriftRequest{})
	day := s.Now().AddDate(0, 0, 3).Format(time.DateOnly)
	lines := []rounds.BulkLine{{User: "hanne", Target: "stores", What: "leave crew"}, {User: "marit", Target: "stores", What: "remove"}}
	r := askedFor(t, s, day, lines...)
	if r.KeptUntil != day {
		t.Errorf("%+v", r)
	}
	survey(t, s)
	if now := kinds(t, s, seen.DriftRequest{}); now != before {
		t.Errorf("what was kept is to be put right: %s", now)
	}
	d, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "nightly"})
	if err != nil || d.ID != 0 {
		t.Errorf("%+v %v", d, err)
	}
	s.Clock = func() time.Time { return time.Now().AddDate(0, 0, 4) }
	now := kinds(t, s, seen.DriftRequest{})
	if !strings.Contains(now, "create account marit@") || !strings.Contains(now, "join group hanne@") {
		t.Errorf("the day has gone by: %s", now)
	}
	s.Clock = time.Now
	undone(t, s, r.ID)
	account, crew := model.Named{Kind: model.Account, Name: "hanne@localhost"}, model.Named{Kind: model.GroupKind, Name: "crew"}
	if !m.Member(crew, account) {
		t.Error("the undo did not bring hanne back")
	}
	m.Part(crew, account) // by somebody's hand: nobody accepted that
	survey(t, s)
	if now := kinds(t, s, seen.DriftRequest{}); !strings.Contains(now, "join group hanne@") {
		t.Errorf("what was kept is so after the undo too: %s", now)
	}
	for _, wrong := range []string{"soon", "2020-01-01", "2200-01-01"} {
		if _, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "x", Until: wrong, Lines: lines}); err == nil {
			t.Errorf("until %s was taken", wrong)
		}
	}
}

// A group goes by a line without a user, with its members out of it first, and comes back with them.
func TestGroupRemoved(t *testing.T) {
	s, m := onMemory(t)
	filled(t, s)
	yard := model.Named{Kind: model.GroupKind, Name: "yard"}
	m.Put(model.Object{Kind: model.GroupKind, Name: "yard"})
	for _, name := range []string{"marit@10.1.%", "jarle@%"} {
		m.Enter(yard, model.Named{Kind: model.Account, Name: name})
	}
	survey(t, s)
	r := askedFor(t, s, "", rounds.BulkLine{Target: "stores", What: "remove group yard"})
	if r.Steps != 3 || m.Object(yard) != nil {
		t.Errorf("%+v", r)
	}
	before := kinds(t, s, seen.DriftRequest{})
	survey(t, s)
	if now := kinds(t, s, seen.DriftRequest{}); now != before {
		t.Errorf("a survey finds %s", now)
	}
	undone(t, s, r.ID)
	if m.Object(yard) == nil || !m.Member(yard, model.Named{Kind: model.Account, Name: "jarle@%"}) {
		t.Error("it is not back as it was")
	}
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Look: true, Lines: []rounds.BulkLine{{Target: "stores", What: "remove group crew"},
		{Target: "stores", What: "remove group none"}, {Target: "nowhere", What: "remove group crew"}, {Target: "stores", What: "disable"},
		{Target: "stores", What: "remove container x"}}})
	if err != nil || !strings.Contains(got.Lines[0].Words, "against the declaration") {
		t.Errorf("%+v %v", got, err)
	}
	for _, l := range got.Lines[1:] {
		if l.Outcome != "refused" || l.Words == "" {
			t.Errorf("%+v", l)
		}
	}
}

// A draft leaves findings out, and with an account what it would be brought into.
func TestDraftWithout(t *testing.T) {
	s, _ := onMemory(t)
	all, err := s.Drift(ctx, odd, seen.DriftRequest{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(all.Items, func(f seen.Finding) bool { return f.What == "create account" && f.Subject == "hanne@localhost" })
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "all but Hanne", Without: []string{all.Items[at].Key}})
	if err != nil {
		t.Fatal(err)
	}
	steps, err := s.RoundSteps(ctx, odd, r.ID, rounds.StepChoice{}, 0)
	for _, x := range steps.Items {
		if strings.Contains(x.Subject, "hanne@localhost") {
			t.Errorf("%+v", x)
		}
	}
	if err != nil || r.Steps < 5 {
		t.Errorf("%+v %v", r, err)
	}
	if _, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x", Without: []string{"ffff"}}); err == nil {
		t.Error("a finding that is not there was left out")
	}
}

// A group that is made, and taken back by us, is missing, and not contested.
func TestGroupTakenBack(t *testing.T) {
	s, _ := onMemory(t)
	r := filled(t, s)
	undone(t, s, r.ID)
	survey(t, s)
	if now := kinds(t, s, seen.DriftRequest{}); strings.Contains(now, "contested") || !strings.Contains(now, "missing create group crew") {
		t.Error(now)
	}
}
