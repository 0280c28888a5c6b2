package dialect_test

import (
	"os"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// Sets that a system always has are named by the file, and need no list: those are there in which nobody is.
func TestNames(t *testing.T) {
	_, l, a := skerry(t)
	delete(l.Is.People, "install")
	text, err := os.ReadFile("../../../demo/dialects/harbour-switch.yaml")
	if err != nil {
		t.Fatal(err)
	}
	const list = "    list:\n      - say: tell classes\n        read: " +
		"{blocks: {begin: '^class (?P<name>\\S+)$', lines: ['^  may (?P<may>.*)$']}}\n" +
		"        is: {name: row.name, allows: row.may}\n"
	if !strings.Contains(string(text), list) {
		t.Fatal("the switch lists its classes otherwise")
	}
	named := strings.Replace(string(text), list, "    names: [master, mooring]\n", 1)
	f, err := language.Read("named.yaml", []byte(named))
	if err != nil {
		t.Fatal(err)
	}
	s := connecttest.Open(t, dialect.Connector{File: f}, a)
	all := connecttest.Surveyed(t, s)
	right := func(name string) model.Object { return all[model.Named{Kind: model.RightKind, Name: name}] }
	if got := right("master").Attributes.Get(model.Members); strings.Join(got, " ") != "hen-roost" || right("mooring").Name == "" {
		t.Errorf("%+v %+v", right("master"), right("mooring"))
	}
	create := connecttest.Act(model.Create, model.Account, "ulla", model.Change{Attribute: model.FullName, After: []string{"Ulla"}})
	join := model.Act{Target: a.Target, Verb: model.JoinIt, Object: model.RightKind, Name: "mooring", Member: "ulla",
		MemberKind: model.Account, Changes: model.Entering(true)}
	connecttest.Outcomes(t, connect.Apply(ctx, s, []connect.Act{create, {Act: join, Stage: 1000}}), "done ", "done ")
	for old, wrong := range map[string]string{"names: [master, mooring]": "names: []", "        in:\n": "        out:\n"} {
		if _, err := language.Read("named.yaml", []byte(strings.Replace(named, old, wrong, 1))); err == nil {
			t.Errorf("%s was taken", wrong)
		}
	}
}

// Why something is changed stands in the system's own history, with the mark by which a commit of ours is known again.
func TestWordsOfRound(t *testing.T) {
	_, l, a := skerry(t)
	a.Words = "round 7, approved by odd: " + strings.Repeat("a long story of it; ", 10)
	s := connecttest.Open(t, dialect.Connector{File: file(t, "harbour-switch")}, a)
	connecttest.Outcomes(t, connect.Apply(ctx, s, []connect.Act{connecttest.Act(model.Create, model.Account, "ulla",
		model.Change{Attribute: model.FullName, After: []string{"Ulla"}})}), "done ")
	last := l.Is.Keeps[len(l.Is.Keeps)-1].Words
	if !strings.HasPrefix(last, "Hen Roost ") || !strings.Contains(last, ", round 7, approved by odd: a long story") || len(last) > 100 {
		t.Errorf("%q", last)
	}
}
