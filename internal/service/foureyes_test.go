package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// Whoever could sign in as somebody else is not a second pair of eyes.
func TestFourEyes(t *testing.T) {
	tight := strings.Replace(declaration, "unexpected: disable", "unexpected: disable, limits: {disable: 0}", 1)
	s, _ := surveyed(t, tight, "jarle", "1701")
	for name, full := range map[string]string{"drafter": "Dag Rafter", "second": "Signe Cond"} {
		if err := s.Store.Tx(ctx, func(tx *store.Tx) error {
			return tx.PutOperator(ctx, store.Operator{Name: name, FullName: full, Password: "x",
				Duties: "look,draft,approve,run,administer", MadeAt: s.Now()})
		}); err != nil {
			t.Fatal(err)
		}
	}
	drafter, second := door.Operator{Name: "drafter", Duties: door.Duties}, door.Operator{Name: "second", Duties: door.Duties}
	puppet, chain := door.Operator{Name: "puppet", Duties: door.Duties}, door.Operator{Name: "chain", Duties: door.Duties}
	all := []string{"look", "draft", "approve", "run", "administer"}
	if _, err := s.AddOperator(ctx, drafter, "puppet", "Pelle Upp", "", all); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperator(ctx, puppet, "chain", "Kjed Ja", "", all); err != nil {
		t.Fatal(err)
	}
	r, err := s.Draft(ctx, drafter, rounds.DraftRequest{Because: "clean up"})
	if err != nil || r.State != rounds.OnHold {
		t.Fatalf("%+v %v", r, err)
	}
	for _, who := range []door.Operator{puppet, chain} {
		if _, err := s.Approve(ctx, who, r.ID); err == nil || !strings.Contains(err.Error(), "drafter made "+who.Name) {
			t.Errorf("%s: %v", who.Name, err)
		}
	}
	for who, want := range map[string]string{"drafter": "another administrator must confirm them",
		"puppet": "another administrator must confirm them", "chain": "another administrator must confirm them"} {
		if err := s.ConfirmOperator(ctx, door.Operator{Name: who, Duties: door.Duties}, "puppet"); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("confirmed by %s: %v", who, err)
		}
	}
	// A password that was reset is as good as an operator that was made.
	if _, err := s.ResetPassword(ctx, drafter, "second", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Approve(ctx, second, r.ID); err == nil || !strings.Contains(err.Error(), "drafter made second") {
		t.Errorf("after a reset: %v", err)
	}
	if list, err := s.Operators(ctx, drafter); err != nil || !slices.ContainsFunc(list, func(o door.Operator) bool {
		return o.Name == "chain" && slices.Equal(o.GivenBy, []string{"drafter", "puppet"})
	}) {
		t.Errorf("%+v %v", list, err)
	}
	if err := s.ConfirmOperator(ctx, odd, "puppet"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Approve(ctx, puppet, r.ID); err != nil {
		t.Errorf("confirmed by another: %v", err)
	}
	later := s.Now().Add(8 * 24 * time.Hour)
	s.Clock = func() time.Time { return later }
	if err := s.Apart(ctx, chain, "drafter"); err != nil {
		t.Errorf("after eight days: %v", err)
	}
	for name, c := range map[string]struct{ name, full, want string }{
		"the service itself": {"hen-roost", "", "the name of the service itself"},
		"like the service":   {"hen.r00st", "", "the name of the service itself"},
		"like another":       {"puppe7", "Other", ""}, "like another's letters": {"pupp-et", "Another", "looks like the operator puppet"},
		"other script": {"dora", "Dag R\u0430fter", "looks like the name of the operator drafter"},
		"control":      {"dora", "Do\x1bra", "cannot hold an escape"}, "turned": {"dora", "Do\u202era", "turns the direction"},
	} {
		_, err := s.AddOperator(ctx, second, c.name, c.full, "", all)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
