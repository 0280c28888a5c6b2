package service

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

const stores = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [clerk]}
  hanne: {name: Hanne Vik, number: 1014, roles: [clerk], accounts: {stores: {origin: localhost}}}
  ulla: {name: Ulla Niemi, number: 1028, roles: [clerk, head]}
roles:
  clerk: {gives: [{at: stores, account: {origin: [10.1.%, localhost], shell: sh}, groups: [crew], rights: [sell], licences: [seat]}]}
  head: {gives: [{at: stores, elevate: all}]}
groups: {crew: {}}
rights: {sell: {at: stores, allows: [insert]}}
containers: {people: {at: stores, path: "ou=People"}}
policies: {staff: {at: stores, password: {length: 12}}}
targets:
  stores: {kind: memory, address: "a:1", login: {as: root@%}, unexpected: disable, protect: ["audit*"]}
`

// onMemory makes a service with stores surveyed.
func onMemory(t *testing.T) (*Service, *connecttest.Memory) {
	t.Helper()
	s, f := start(t)
	f.Memory.Put(model.Object{Kind: model.LicenceKind, Name: "seat",
		Attributes: model.Pack(model.Attribute{Name: model.Seats, Values: []string{"9"}})})
	f.Memory.Put(holding("jarle@%", "sh"))
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: stores}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].State != seen.KeyUnknown {
		t.Fatalf("%+v %v", got, err)
	}
	if err := s.AcceptKey(ctx, door.Itself, "stores", "memory"); err != nil {
		t.Fatal(err)
	}
	survey(t, s)
	return s, f.Memory
}

func holding(name, shell string) model.Object {
	return model.Object{Kind: model.Account, Name: name,
		Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{shell}},
			model.Attribute{Name: model.Disabled, Values: []string{"no"}})}
}

// filled drafts everything, lets somebody else lift what is held, and runs it.
func filled(t *testing.T, s *Service) rounds.Round {
	t.Helper()
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "settle"})
	if err == nil {
		r, err = s.Approve(ctx, odd, r.ID)
	}
	if err == nil {
		r, err = s.RunRound(ctx, odd, r.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	return ended(t, s, r.ID)
}

// findingsOf are the stored findings of stores, as they are.
func findingsOf(t *testing.T, s *Service) string {
	t.Helper()
	rows, _, err := s.Store.Findings(ctx, store.FindingFilter{}, "", door.PageMost)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, r := range rows {
		b, _ := json.Marshal(r.Finding)
		out = append(out, string(b))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// Everything that a target of any kind can be asked for goes the whole way, on
// one that takes changes all or nothing, and nothing is left to do.
func TestEveryKind(t *testing.T) {
	s, m := onMemory(t)
	r := filled(t, s)
	if r.State != rounds.Complete || r.Outcomes["done"] != r.Steps {
		steps, _ := s.RoundSteps(ctx, odd, r.ID, rounds.StepChoice{}, 0)
		t.Fatalf("%+v\n%+v", r, steps.Items)
	}
	if got := findingsOf(t, s); got != "" {
		t.Errorf("left to do:\n%s", got)
	}
	survey(t, s)
	if got := findingsOf(t, s); got != "" {
		t.Errorf("left to do after another survey:\n%s", got)
	}
	u, err := s.User(ctx, odd, "ulla")
	if err != nil || len(u.Accounts) != 2 || u.Targets != 1 || u.Accounts[0].Name != "ulla@10.1.%" ||
		u.Accounts[1].State != "as declared" ||
		fmt.Sprint(u.Accounts[0].Groups, u.Accounts[0].Rights, u.Accounts[0].Licences,
			u.Accounts[0].Elevation) != "[crew] [sell] [seat] [all]" {
		t.Errorf("%+v %v", u, err)
	}
	x, err := s.Explain(ctx, odd, seen.Question{User: "ulla", Target: "stores", Account: "ulla@localhost", What: "sell"})
	if err != nil || x.Account != "ulla@localhost" || len(x.Others) != 1 || x.Answers[0].State != "as declared" {
		t.Errorf("%+v %v", x, err)
	}
	// One line of a bulk change is about both accounts; each of them is answered.
	got, err := s.Bulk(ctx, odd, rounds.BulkRequest{Lines: []rounds.BulkLine{{User: "ulla", Target: "stores", What: "leave licence seat"},
		{User: "ulla", Target: "*", What: "disable"}}, Because: "test"})
	if err != nil || got.Round.Steps != 4 || len(got.Lines) != 4 {
		t.Fatalf("%+v %v", got, err)
	}
	if r := carried(t, s, got.Round); r.State != rounds.Complete {
		t.Errorf("%+v", r)
	}
	// What was shut on purpose is not opened by a round drafted from findings without somebody's word.
	draft, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "reconcile"})
	if err != nil || draft.State != rounds.OnHold || !strings.Contains(draft.Holds[0].Words,
		"it would open on stores what was shut on purpose: ulla@10.1.% (round 2), ulla@localhost (round 2)") {
		t.Errorf("%+v %v", draft, err)
	}
	if m.Object(model.Named{Kind: model.PolicyKind, Name: "staff"}) == nil {
		t.Error("the policy is not set")
	}
}

// Who is suspended is shut everywhere, is left alone by bulk and reconciliation, and comes back as they were.
func TestSuspendedPerson(t *testing.T) {
	s, m := onMemory(t)
	filled(t, s)
	off := strings.Replace(stores, "marit: {name: Marit Fell,",
		`marit: {name: Marit Fell, suspended: {since: 2026-01-01, because: lost laptop},`, 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: off}}, "suspend"); err != nil {
		t.Fatal(err)
	}
	if r := filled(t, s); r.State != rounds.Complete || r.Steps != 2 {
		t.Fatalf("%+v", r)
	}
	o := m.Object(model.Named{Kind: model.Account, Name: "marit@10.1.%"})
	if o.Attributes.One(model.Disabled) != "yes" || !m.Member(model.Named{Kind: model.RightKind, Name: "sell"},
		model.Named{Kind: model.Account, Name: "marit@10.1.%"}) {
		t.Errorf("%v", o.Attributes.Map())
	}
	u, err := s.User(ctx, odd, "marit")
	if err != nil || u.State != "suspended" || u.Suspended != "since 2026-01-01: lost laptop" || u.Accounts[0].State != "shut" {
		t.Errorf("%+v %v", u, err)
	}
	if got := findingsOf(t, s); got != "" {
		t.Errorf("left to do:\n%s", got)
	}
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: stores}}, "restore"); err != nil {
		t.Fatal(err)
	}
	if r := filled(t, s); r.State != rounds.Complete || r.Steps != 2 ||
		m.Object(model.Named{Kind: model.Account, Name: "marit@10.1.%"}).Attributes.One(model.Disabled) != "no" {
		t.Errorf("%+v", r)
	}
}

// Whatever changes on a target, what is found from the changes alone is what is found from everything.
func TestChangedAlone(t *testing.T) {
	s, m := onMemory(t)
	filled(t, s)
	survey(t, s)
	r := rand.New(rand.NewPCG(3, 4))
	for turn := range 60 {
		for range 1 + r.IntN(2) {
			name := []string{"marit@10.1.%", "marit@localhost", "hanne@localhost", "ulla@10.1.%", "jarle@%", "kari@%"}[r.IntN(6)]
			o := holding(name, []string{"sh", "bash"}[r.IntN(2)])
			if r.IntN(6) == 0 {
				o.Attributes = o.Attributes.With(model.Disabled, "yes")
			}
			o.Attributes = o.Attributes.With(model.FullName, map[string]string{"marit": "Marit Fell", "hanne": "Hanne Vik",
				"ulla": "Ulla Niemi"}[strings.Split(name, "@")[0]])
			o.Attributes = o.Attributes.With(model.Number, []string{"1001", "1014", "1028"}[r.IntN(3)])
			m.Put(o)
		}
		survey(t, s)
		got := findingsOf(t, s)
		if _, _, err := s.Compare(ctx, "stores"); err != nil {
			t.Fatal(err)
		}
		if want := findingsOf(t, s); got != want {
			t.Fatalf("turn %d: from the changes alone\n%s\nfrom everything\n%s", turn, got, want)
		}
		target, err := s.Store.Target(ctx, "stores")
		if err != nil || target.Mark == "" {
			t.Fatalf("no mark: %+v %v", target, err)
		}
		accounts, _, _, err := s.Store.Holding(ctx, "stores")
		if err != nil || len(accounts) != target.Accounts {
			t.Fatalf("turn %d: %d accounts, counted %d", turn, len(accounts), target.Accounts)
		}
	}
}

// An administrator who cannot be proved is taken back, and nothing is closed.
func TestCommissionTakenBack(t *testing.T) {
	s, _ := onMemory(t)
	text := strings.Replace(stores, "roles: [clerk, head]", "roles: [head], accounts: {stores: {origin: localhost}}", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "ulla administers"); err != nil {
		t.Fatal(err)
	}
	commission := func(q life.CommissionRequest) life.Commissioned {
		t.Helper()
		out, err := s.Commission(ctx, door.Itself, "stores", q)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	out := commission(life.CommissionRequest{Administrator: "ulla", Given: "not hers at all", Because: "begin"})
	var got []string
	for _, x := range out.Stages {
		got = append(got, x.What+" "+x.State)
	}
	if want := "administrator done, password already-so, proof failed, closing not-tried, way back undone"; strings.Join(got,
		", ") != want ||
		out.Complete {
		t.Errorf("%q %+v", got, out)
	}
	survey(t, s)
	if _, err := s.Store.Object(ctx, "stores", model.Account, "ulla@localhost"); err != store.ErrNone {
		t.Errorf("the account is still there: %v", err)
	}
	out = commission(life.CommissionRequest{Administrator: "ulla", Because: "begin"})
	if !out.Complete || len(out.Links) != 1 {
		t.Errorf("with a new password: %+v", out)
	}
}
