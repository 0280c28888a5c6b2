package model

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"
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

func TestShield(t *testing.T) {
	target := &Target{Name: "arctic-tern", Protect: []string{"svc-*", "root", "cn=app*,ou=x"}, Lent: []string{"postgres"}}
	exact := Shield{Target: target, Login: "hen", System: []string{"daemon", "postgres", "systemd-*"}}
	for name, want := range map[string]string{
		"svc-backup": `protected by "svc-*"`, "root": `protected by "root"`, "hen": "Hen Roost signs in with it", "marit.fell": "",
		"svc": "", "": "", "Hen": "", "SVC-x": "",
		"svc-a/b": `protected by "svc-*"`, "cn=app/1,ou=x": `protected by "cn=app*,ou=x"`, "daemon": "the system's own",
		"systemd-network": "the system's own", "postgres": "",
	} {
		if why, shut := exact.Protects(name); why != want || shut != (want != "") {
			t.Errorf("%s: %q %v, want %q", name, why, shut, want)
		}
	}
	folding := exact
	folding.Fold = true
	for _, name := range []string{"HEN", "Svc-Backup", "Root"} {
		if _, shut := folding.Protects(name); !shut {
			t.Errorf("%s is not protected where case does not count", name)
		}
	}
	if _, shut := (Shield{Target: target}).Protects(""); shut {
		t.Error("no name is protected by no login")
	}
	for want, o := range map[string]*Object{
		"": {Kind: Account, Name: "marit"}, "Hen Roost signs in with it": {Kind: Account, Name: "uid=other", Ours: true},
		"the system's own":    {Kind: Account, Name: "toor", System: true},
		"odd: stands twice":   {Kind: Account, Name: "marit", Marked: true, Attributes: Pack(Attribute{Odd, []string{"stands twice"}})},
		`protected by "root"`: {Kind: GroupKind, Name: "root"},
	} {
		if why, shut := exact.Covers(o); why != want || shut != (want != "") {
			t.Errorf("%+v: %q %v, want %q", o, why, shut, want)
		}
	}
	if _, shut := exact.Covers(&Object{Kind: Account, Name: "postgres", System: true}); shut {
		t.Error("an account that is lent by name is protected")
	}
}

func TestSelector(t *testing.T) {
	tern := &Target{Name: "arctic-tern", Kind: "host", Tags: map[string]string{"fleet": "vessels", "base": "northquay"}}
	for _, c := range []struct {
		s    Selector
		want bool
	}{
		{Selector{Name: "arctic-tern"}, true}, {Selector{Name: "sooty-tern"}, false}, {Selector{Kind: "host"}, true},
		{Selector{Kind: "directory"}, false},
		{Selector{Tags: map[string]string{"fleet": "vessels"}}, true},
		{Selector{Kind: "host", Tags: map[string]string{"fleet": "vessels", "base": "southness"}}, false},
		{Selector{}, true},
	} {
		if got := c.s.Matches(tern); got != c.want {
			t.Errorf("%+v: %v", c.s, got)
		}
	}
}

// A finding keeps its key while it is the same difference, whatever its values, and no two differences share one.
func TestKey(t *testing.T) {
	base := Finding{Kind: Different, Act: Act{Target: "t", Verb: Modify, Object: Account, Name: "n", User: "u",
		Changes: []Change{{Attribute: "shell", After: []string{"a"}}}}}
	other := base
	other.Changes = []Change{{Attribute: "shell", After: []string{"b"}}}
	other.Note = "x"
	if base.Key() != other.Key() || len(base.Key()) != 32 {
		t.Error("the key changes with the values")
	}
	seen := map[string]int{base.Key(): -1}
	for i, change := range []func(*Finding){
		func(f *Finding) { f.Kind = Missing }, func(f *Finding) { f.Target = "tn" }, func(f *Finding) { f.Name = "" },
		func(f *Finding) { f.Target, f.Name = "tn", "" },
		func(f *Finding) { f.Verb = Enable }, func(f *Finding) { f.Member = "m" }, func(f *Finding) { f.User = "" },
		func(f *Finding) { f.Object = GroupKind },
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
	a := Act{Object: Account, Name: "x", Changes: []Change{{Attribute: "shell", Before: []string{"b"}, After: []string{"a"}},
		{Attribute: "home", After: []string{"h"}}}}
	if a.Before().One("shell") != "b" || a.After().One("home") != "h" || a.Account() != "x" {
		t.Errorf("%v %v %q", a.Before(), a.After(), a.Account())
	}
	m := Act{Verb: JoinIt, Object: GroupKind, Name: "crew", Member: "marit", MemberKind: Account}
	if g := (Act{Object: GroupKind, Name: "crew"}); m.Account() != "marit" || g.Account() != "" {
		t.Error("whose account")
	}
}

// What was packed is read back, whatever is in it; what was cut is noticed and never read past its end.
func FuzzAttributes(f *testing.F) {
	f.Add("shell", "/bin/bash", "keys", "a b")
	f.Add("", "", strings.Repeat("n", 300), strings.Repeat("v", 70_000))
	f.Fuzz(func(t *testing.T, a, x, b, y string) {
		packed := Pack(Attribute{a, []string{x, y}}, Attribute{b, []string{y}})
		if err := packed.Check(); err != nil {
			t.Fatal(err)
		}
		if a != b && (!slices.Equal(packed.Get(a), []string{x, y}) || packed.One(b) != y) || packed.With(a, y).One(a) != y {
			t.Fatalf("%q", packed)
		}
		if Pack().With(b, y).With(a, x, y) != packed && a != b {
			t.Fatalf("one by one: %q", packed)
		}
		for i := range min(len(packed), 50) {
			cut := packed[:i]
			cut.Map()
			if cut.Check() == nil && len(cut.Map()) > 1 {
				t.Fatalf("cut at %d: %q", i, cut)
			}
		}
		Attributes(x).Map()
		if Attributes(x).Check() == nil {
			Attributes(x).With("k", "v").Get("k")
		}
	})
}

func TestWindow(t *testing.T) {
	at := func(s string) time.Time {
		x, err := time.Parse("2006-01-02 15:04", s)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	night := Window{Days: []time.Weekday{time.Friday}, From: 22 * 60, Till: 4 * 60}
	day := Window{From: 8 * 60, Till: 17 * 60}
	for _, c := range []struct {
		w    Window
		at   string
		open bool
	}{
		{Window{}, "2026-11-23 03:00", true}, {day, "2026-11-23 08:00", true}, {day, "2026-11-23 17:00", false},
		{night, "2026-11-27 22:00", true}, {night, "2026-11-28 03:59", true}, {night, "2026-11-28 04:00", false},
		{night, "2026-11-27 03:00", false}, {night, "2026-11-28 22:30", false},
	} {
		if got := c.w.Open(at(c.at)); got != c.open {
			t.Errorf("%+v at %s: %v", c.w, c.at, got)
		}
	}
	for _, c := range []struct {
		a, b  Span
		meets bool
	}{{Span{}, Span{}, true}, {Span{Until: "2026-04-30"}, Span{From: "2026-05-01"}, false},
		{Span{Until: "2026-05-01"}, Span{From: "2026-05-01"}, true}, {Span{From: "2026-05-01"}, Span{Until: "2026-04-30"}, false}} {
		if c.a.Meets(c.b) != c.meets || c.b.Meets(c.a) != c.meets {
			t.Errorf("%v %v", c.a, c.b)
		}
	}
}

// Of permissions those stay that no other of the list brings with it; of two that bring each other, one.
func TestLeast(t *testing.T) {
	s := &Spelling{Covers: func(wide, narrow string) bool {
		return wide == narrow || wide == "all" || strings.EqualFold(wide, narrow) || strings.HasPrefix(narrow, wide+".")
	}}
	for in, want := range map[string]string{"": "", "a": "a", "a a.b a.b.c": "a", "a.b.c a.b a": "a", "b a.x all": "all", "a A": "a",
		"A a a.b": "A", "a.b b.a": "a.b b.a", "x x": "x"} {
		if got := strings.Join(s.Least(strings.Fields(in)), " "); got != want {
			t.Errorf("of %q stays %q, want %q", in, got, want)
		}
	}
}
