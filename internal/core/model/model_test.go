package model

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

func TestAttributes(t *testing.T) {
	var a Attributes
	for _, name := range []string{"shell", "home", "number", "full-name"} {
		a = a.With(name, name+"!")
	}
	a = a.With("shell", "/bin/bash", "/bin/sh").With("empty")
	var names []string
	for name := range a.All() {
		names = append(names, name)
	}
	if !slices.IsSorted(names) || len(names) != 5 {
		t.Errorf("names out of order: %v", names)
	}
	if got := a.One("shell"); got != "/bin/bash" || len(a.Get("shell")) != 2 {
		t.Errorf("shell is %q of %v", got, a.Get("shell"))
	}
	if !a.Has("empty") || a.Has("nothing") || a.One("empty") != "" || a.Get("nothing") != nil {
		t.Error("empty is not nothing")
	}
	b, err := json.Marshal(a)
	if err != nil {
		t.Fatal(err)
	}
	var back Attributes
	if err := json.Unmarshal(b, &back); err != nil {
		t.Fatal(err)
	}
	again, err := json.Marshal(back)
	if err != nil || string(again) != string(b) {
		t.Errorf("%s came back as %s (%v)", b, again, err)
	}
	if err := json.Unmarshal([]byte(`{"shell":"x"}`), &back); err == nil {
		t.Error("a value that is no list was taken")
	}
}

func TestSameSet(t *testing.T) {
	same := func(s string) string { return s }
	for _, c := range []struct {
		a, b []string
		fold func(string) string
		want bool
	}{
		{nil, nil, same, true},
		{nil, []string{}, same, true},
		{[]string{"a"}, nil, same, false},
		{[]string{"a", "b"}, []string{"b", "a"}, same, true},
		{[]string{"a", "a"}, []string{"a", "b"}, same, false},
		{[]string{"A"}, []string{"a"}, same, false},
		{[]string{"Åsen", "B"}, []string{"b", "åsen"}, strings.ToLower, true},
	} {
		if got := SameSet(c.a, c.b, c.fold); got != c.want {
			t.Errorf("SameSet(%q, %q) = %v", c.a, c.b, got)
		}
	}
}

func TestProtected(t *testing.T) {
	target := Target{Name: "arctic-tern", Protect: []string{"svc-*", "root"}}
	for name, want := range map[string]string{
		"svc-backup": `protected by "svc-*"`, "root": `protected by "root"`, "hen": "Hen Roost signs in with it", "marit.fell": "", "svc": "",
	} {
		why, shut := target.Protected(name, "hen")
		if why != want || shut != (want != "") {
			t.Errorf("%s: %q %v, want %q", name, why, shut, want)
		}
	}
	if _, shut := target.Protected("", ""); shut {
		t.Error("no name is protected by no login")
	}
}

func TestSelector(t *testing.T) {
	tern := &Target{Name: "arctic-tern", Kind: "host", Tags: map[string]string{"fleet": "vessels", "base": "northquay"}}
	for _, c := range []struct {
		s    Selector
		want bool
	}{
		{Selector{Name: "arctic-tern"}, true}, {Selector{Name: "sooty-tern"}, false}, {Selector{Kind: "host"}, true}, {Selector{Kind: "directory"}, false},
		{Selector{Tags: map[string]string{"fleet": "vessels"}}, true}, {Selector{Kind: "host", Tags: map[string]string{"fleet": "vessels", "base": "southness"}}, false},
		{Selector{}, true},
	} {
		if got := c.s.Matches(tern); got != c.want {
			t.Errorf("%+v: %v", c.s, got)
		}
	}
}

// A finding keeps its key while it is the same difference, whatever its values, and no two differences share one.
func TestKey(t *testing.T) {
	base := Finding{Kind: Different, Act: Act{Target: "t", Verb: Modify, Object: Account, Name: "n", User: "u", Changes: []Change{{Attribute: "shell", After: []string{"a"}}}}}
	other := base
	other.Changes = []Change{{Attribute: "shell", After: []string{"b"}}}
	other.Note = "x"
	if base.Key() != other.Key() || len(base.Key()) != 32 {
		t.Error("the key changes with the values")
	}
	seen := map[string]int{base.Key(): -1}
	for i, change := range []func(*Finding){
		func(f *Finding) { f.Kind = Missing }, func(f *Finding) { f.Target = "tn" }, func(f *Finding) { f.Name = "" }, func(f *Finding) { f.Target, f.Name = "tn", "" },
		func(f *Finding) { f.Verb = Enable }, func(f *Finding) { f.Member = "m" }, func(f *Finding) { f.User = "" }, func(f *Finding) { f.Object = GroupKind },
	} {
		f := base
		change(&f)
		if j, twice := seen[f.Key()]; twice {
			t.Errorf("changes %d and %d have one key", i, j)
		}
		seen[f.Key()] = i
	}
}

func TestActSides(t *testing.T) {
	a := Act{Object: Account, Name: "x", Changes: []Change{{Attribute: "shell", Before: []string{"b"}, After: []string{"a"}}, {Attribute: "home", After: []string{"h"}}}}
	if a.Before().One("shell") != "b" || a.After().One("home") != "h" || a.Account() != "x" {
		t.Errorf("%v %v %q", a.Before(), a.After(), a.Account())
	}
	m := Act{Object: Membership, Name: "crew", Member: "marit", MemberKind: Account}
	if g := (Act{Object: GroupKind, Name: "crew"}); m.Account() != "marit" || g.Account() != "" {
		t.Error("whose account")
	}
}
