package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

const renamable = `roost: 1
users:
  marit.fell: {name: Marit Fell, number: 1001, roles: [all]}
  kari.berg: {name: Kari Berg, number: 1010, manager: marit.fell, roles: [all]}
roles: {all: {gives: [{at: t}]}}
targets:
  t: {kind: tern, address: a, login: {as: root, secret: key}, match: [name, number]}
`

// Who is renamed keeps their accounts, and is found by both ids.
func TestRename(t *testing.T) {
	s, f := surveyed(t, renamable)
	settle(t, s)
	of := seen.RenameRequest{User: "marit.fell", To: "marit.krag", Because: "married", Look: true}
	if got, err := s.Rename(ctx, odd, of); err != nil || got.Places != 2 || len(got.Accounts) != 1 || got.Revision.Number != 0 {
		t.Fatalf("%+v %v", got, err)
	}
	of.Look = false
	for _, wrong := range []seen.RenameRequest{{User: "marit.fell", To: "kari.berg", Because: "x"}, {User: "marit.fell", Because: "x"},
		{User: "nobody", To: "x", Because: "x"}, {User: "marit.fell", To: "x"}} {
		if _, err := s.Rename(ctx, odd, wrong); err == nil {
			t.Errorf("%+v was taken", wrong)
		}
	}
	got, err := s.Rename(ctx, odd, of)
	if err != nil || got.Revision.Number != 2 {
		t.Fatalf("%+v %v", got, err)
	}
	differs := func() string { return kinds(t, s, seen.DriftRequest{}) }
	if now := differs(); now != "" {
		t.Errorf("renaming makes differences: %s", now)
	}
	survey(t, s)
	if now := differs(); now != "" {
		t.Errorf("a survey afterwards finds %s", now)
	}
	u, err := s.User(ctx, odd, "marit.krag")
	if err != nil || fmt.Sprint(u.Formerly) != "[marit.fell]" ||
		u.Accounts[0].Name != "marit.fell" || u.Accounts[0].State != "as declared" {
		t.Errorf("%+v %v", u, err)
	}
	var p *door.Problem
	if _, err := s.User(ctx, odd, "marit.fell"); !errors.As(err, &p) || !strings.Contains(p.Words, "is called marit.krag now") {
		t.Error(err)
	}
	page, err := s.Record(ctx, odd, door.RecordFilter{User: "marit.krag"}, 0)
	if words := fmt.Sprint(page.Items); err != nil || !strings.Contains(words, "create account marit.fell") ||
		!strings.Contains(words, "is called marit.krag from now on") {
		t.Errorf("%v %v", words, err)
	}
	// What happens to them after it happens to the account that they have.
	text := strings.ReplaceAll(strings.Replace(renamable, "number: 1001", "number: 1001, suspended: {since: 2020-01-01, because: x}", 1),
		"marit.fell", "marit.krag")
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "shut"); err != nil {
		t.Fatal(err)
	}
	if now := differs(); now != "different disable account marit.fell" {
		t.Error(now)
	}
	if len(f.Objects) != 2 {
		t.Error(f.Objects)
	}
}

// Whoever has the number and the name of somebody no longer declared is that person under a new id: their account is theirs to
// adopt, and is given back when that is taken back.
func TestAdoptFromSomebodyGone(t *testing.T) {
	s, _ := surveyed(t, renamable)
	settle(t, s)
	text := strings.ReplaceAll(renamable, "marit.fell", "marit.krag")
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "by hand"); err != nil {
		t.Fatal(err)
	}
	owners := func() string {
		t.Helper()
		links, err := s.Store.LinksOn(ctx, "t")
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, l := range links {
			out = append(out, l.Name+"="+l.User)
		}
		return strings.Join(out, " ")
	}
	r := settle(t, s)
	if got := owners(); r.Steps != 1 || got != "kari.berg=kari.berg marit.fell=marit.krag" {
		t.Errorf("%d steps: %s", r.Steps, got)
	}
	u, err := s.Undo(ctx, door.Itself, r.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	carried(t, s, u)
	if got := owners(); got != "kari.berg=kari.berg marit.fell=marit.fell" {
		t.Error(got)
	}
}

// An account that is recognised by id and name alone would be lost under another id: it is adopted first.
func TestRenameUnadopted(t *testing.T) {
	for want, there := range map[string][]string{
		"marit.fell on t is recognised as marit.fell’s": {"marit.fell", "1001"},
		"is marit.fell’s is not decided":                {"marit.fell", "1", "fell", "1001"},
	} {
		s, _ := surveyed(t, renamable, there...)
		for _, look := range []bool{true, false} {
			_, err := s.Rename(ctx, odd, seen.RenameRequest{User: "marit.fell", To: "marit.krag", Because: "married", Look: look})
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", kinds(t, s, seen.DriftRequest{}), err)
			}
		}
		// An account of which nothing is there yet is simply made under the new id.
		if _, err := s.Rename(ctx, odd, seen.RenameRequest{User: "kari.berg", To: "kari.lund", Because: "married"}); err != nil {
			t.Error(err)
		}
	}
}

// What waits, what was accepted and what can be undone goes along with who is renamed.
func TestRenameBetween(t *testing.T) {
	s, f := surveyed(t, renamable)
	made := settle(t, s)
	f.Change("marit.fell", model.FullName, "M. Fell")
	f.Change("kari.berg", model.FullName, "K. Berg")
	survey(t, s)
	list, err := s.Drift(ctx, odd, seen.DriftRequest{}, 0)
	if err != nil || len(list.Items) != 2 {
		t.Fatalf("%+v %v", list, err)
	}
	waits, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "before"})
	if err != nil {
		t.Fatal(err)
	}
	day := s.Now().AddDate(0, 0, 3)
	at := slices.IndexFunc(list.Items, func(x seen.Finding) bool { return x.User == "kari.berg" })
	if _, err := s.Accept(ctx, odd, []string{list.Items[at].Key}, &day, "as she likes"); err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{"marit.fell": "marit.krag", "kari.berg": "kari.lund"} {
		if _, err := s.Rename(ctx, odd, seen.RenameRequest{User: from, To: to, Because: "married"}); err != nil {
			t.Fatal(err)
		}
	}
	if now := kinds(t, s, seen.DriftRequest{}); now != "different change account marit.fell" {
		t.Errorf("what was accepted is to be put right: %s", now)
	}
	r := carried(t, s, waits)
	if r.Outcomes["done"] != 1 || f.Objects["accountmarit.fell"].Attributes.One(model.FullName) != "Marit Fell" {
		t.Errorf("what waited is not carried out: %+v", r)
	}
	u, err := s.Undo(ctx, door.Itself, made.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	carried(t, s, u)
	steps, err := s.RoundSteps(ctx, odd, u.ID, rounds.StepChoice{}, 0)
	for _, x := range steps.Items {
		if x.User != "marit.krag" && x.User != "kari.lund" {
			t.Errorf("the undo speaks of %s", x.User)
		}
	}
	survey(t, s)
	if links, err := s.Store.LinksOf(ctx, "marit.fell"); err != nil || len(links) > 0 {
		t.Errorf("%v %v", links, err)
	}
}
