package service

import (
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
)

// twoAdministrators is a service whose target has two administrators, both adopted.
func twoAdministrators(t *testing.T) (*Service, *servicetest.Tern) {
	t.Helper()
	s, f := surveyed(t, declaration, "marit", "1001", "hanne", "1014")
	settle(t, s)
	for _, name := range []string{"marit", "hanne"} {
		f.Change(name, model.Elevation, "group sudo")
	}
	f.Set(model.Object{Kind: model.RightKind, Name: model.Superuser, System: true,
		Attributes: model.Pack(model.Attribute{Name: model.MemberGroups, Values: []string{"sudo"}})})
	survey(t, s)
	return s, f
}

// approvedBulk drafts and approves one change.
func approvedBulk(t *testing.T, s *Service, user, what string) rounds.Round {
	t.Helper()
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Lines: []rounds.BulkLine{{User: user, Target: "arctic", What: what}}, Because: "test"})
	if err != nil || got.Round.ID == 0 {
		t.Fatalf("%+v %v", got, err)
	}
	r, err := s.Approve(ctx, door.Itself, got.Round.ID)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func runs(t *testing.T, s *Service, r rounds.Round) (rounds.Round, string) {
	t.Helper()
	if _, err := s.RunRound(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	r = ended(t, s, r.ID)
	steps, err := s.RoundSteps(ctx, door.Itself, r.ID, rounds.StepChoice{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	return r, steps.Items[0].Outcome + ": " + steps.Items[0].Words
}

// Two rounds that each shut one of two administrators were both harmless when they were drafted.
func TestLastAdministratorTwice(t *testing.T) {
	s, f := twoAdministrators(t)
	first, second := approvedBulk(t, s, "marit", "disable"), approvedBulk(t, s, "hanne", "disable")
	if r, words := runs(t, s, first); r.State != rounds.Complete {
		t.Fatalf("%+v %s", r, words)
	}
	r, words := runs(t, s, second)
	want := "not-tried: left out by a guard: last administrator: disable account hanne on arctic would leave nobody"
	if r.State != rounds.Incomplete || !strings.HasPrefix(words, want) {
		t.Errorf("%+v %s", r, words)
	}
	if f.Objects["accounthanne"].Attributes.One(model.Disabled) != "no" {
		t.Error("the last administrator was shut")
	}
	if entries, err := s.Record(ctx, odd, door.RecordFilter{Round: second.ID, Text: "by a guard"}, 5); err != nil ||
		len(entries.Items) == 0 {
		t.Errorf("the record does not tell of the guard: %+v %v", entries, err)
	}
}

// What the survey saw is not what is there: the other administrator was shut by somebody else meanwhile.
func TestLastAdministratorOnTheTarget(t *testing.T) {
	s, f := twoAdministrators(t)
	r := approvedBulk(t, s, "hanne", "disable")
	f.Change("marit", model.Disabled, "yes")
	if r, words := runs(t, s, r); r.State != rounds.Incomplete || !strings.Contains(words, "last administrator") {
		t.Errorf("%+v %s", r, words)
	}
}

// A name that is protected after the draft is not touched.
func TestProtectedSinceTheDraft(t *testing.T) {
	s, f := surveyed(t, declaration, "marit", "1001", "hanne", "1014")
	settle(t, s)
	r := approvedBulk(t, s, "hanne", "disable")
	shielded := strings.Replace(declaration, `protect: ["svc*"]`, `protect: ["svc*", "HANNE", "han*"]`, 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: shielded}}, "protect hanne"); err != nil {
		t.Fatal(err)
	}
	if r, words := runs(t, s, r); r.State != rounds.Incomplete ||
		!strings.Contains(words, `not-tried: left out by a guard: protected: disable account of hanne on arctic: protected by "han*"`) {
		t.Errorf("%+v %s", r, words)
	}
	if f.Objects["accounthanne"].Attributes.One(model.Disabled) != "no" {
		t.Error("a protected account was shut")
	}
}

// Whoever gains superuser rights is named, and through what, before anybody lets it happen.
func TestGainsAreHeld(t *testing.T) {
	s, f := twoAdministrators(t)
	f.Set(model.Object{Kind: model.GroupKind, Name: "sudo"})
	survey(t, s)
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Lines: []rounds.BulkLine{{User: "marit", Target: "arctic", What: "join sudo"}},
		Because: "test"})
	if err != nil || got.Round.State != rounds.OnHold || got.Round.Holds[0].Words != "superuser rights on arctic for marit (group sudo)" {
		t.Errorf("%+v %v", got, err)
	}
}

// The system's own accounts and our login cannot be claimed, nor be changed in bulk.
func TestSystemAccounts(t *testing.T) {
	claiming := strings.Replace(declaration, "hanne: {name: Hanne Vik, number: 1014, roles: [crew]}",
		"hanne: {name: Hanne Vik, number: 1014, roles: [crew], accounts: {arctic: {name: sshd}}}", 1)
	s, f := surveyed(t, claiming)
	f.Set(model.Object{Kind: model.Account, Name: "sshd", System: true,
		Attributes: model.Pack(model.Attribute{Name: model.Number, Values: []string{"100"}},
			model.Attribute{Name: model.Disabled, Values: []string{"no"}})})
	survey(t, s)
	if got := kinds(t, s, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}); got != "unmatched for a person to decide "+
		"sshd" {
		t.Errorf("claimed: %s", got)
	}
	if err := s.Decide(ctx, odd, "arctic", "sshd", "hanne", true, "mine"); err == nil ||
		!strings.Contains(err.Error(), "the system's own") {
		t.Errorf("decided: %v", err)
	}
	// Only a service identity may have one, and only where the target lends it by name.
	lent := strings.Replace(strings.Replace(claiming, "hanne: {name", "hanne: {service: true, name", 1), "unexpected: disable",
		"unexpected: disable, lends: [sshd]", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: lent}}, "lent"); err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}); !strings.Contains(got,
		"different adopt account sshd") {
		t.Errorf("lent: %s", got)
	}
}

// What was accepted since the draft, and what the declaration no longer asks for, is left out of a round, and named.
func TestDecidedSinceTheDraft(t *testing.T) {
	without := strings.Replace(declaration, "  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1)
	for name, c := range map[string]struct {
		since func(*Service, string) error
		want  string
	}{
		"accepted": {func(s *Service, key string) error {
			until := s.Now().AddDate(0, 0, 5).Truncate(24 * time.Hour)
			_, err := s.Accept(ctx, odd, []string{key}, &until, "not yet")
			return err
		}, "not-tried: left out by a guard: odd accepted it until "},
		"declared anew": {func(s *Service, _ string) error {
			_, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: without}}, "hanne goes")
			return err
		}, "not-tried: left out by a guard: revision 2 no longer asks for it, and the round was drafted from revision 1"},
	} {
		t.Run(name, func(t *testing.T) {
			s, _ := surveyed(t, declaration, "marit", "1001")
			found, err := s.Drift(ctx, odd, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}, 1)
			if err != nil || len(found.Items) != 1 {
				t.Fatalf("%+v %v", found, err)
			}
			r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "test", Choice: declared.Choice{Users: []string{"hanne"}}})
			if err != nil {
				t.Fatal(err)
			}
			if err := c.since(s, found.Items[0].Key); err != nil {
				t.Fatal(err)
			}
			if r, err = s.Approve(ctx, door.Itself, r.ID); err != nil || (r.Declared == 2) != (name == "declared anew") {
				t.Fatalf("%+v %v", r, err)
			}
			if r, words := runs(t, s, r); r.State != rounds.Incomplete || !strings.HasPrefix(words, c.want) {
				t.Errorf("%+v %s", r, words)
			}
		})
	}
}

// Who was taken out of the declaration can be named as long as an account of theirs is known.
func TestNamedThoughGone(t *testing.T) {
	s, _ := surveyed(t, declaration, "marit", "1001", "hanne", "1014")
	settle(t, s)
	without := strings.Replace(declaration, "  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: without}}, "hanne goes"); err != nil {
		t.Fatal(err)
	}
	choice := declared.Choice{Users: []string{"hanne"}}
	if got, err := s.Drift(ctx, odd, seen.DriftRequest{Choice: choice}, 5); err != nil || got.Total != 1 {
		t.Errorf("%+v %v", got, err)
	}
	if r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "test", Choice: choice}); err != nil || r.Steps != 1 {
		t.Errorf("%+v %v", r, err)
	}
	if _, err := s.Drift(ctx, odd, seen.DriftRequest{Choice: declared.Choice{Users: []string{"henne"}}}, 5); err == nil ||
		!strings.Contains(err.Error(), `no user is called "henne"`) {
		t.Errorf("somebody who never was: %v", err)
	}
}
