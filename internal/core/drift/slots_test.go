package drift_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
)

// base is a kind of target whose accounts are login and origin, with rights and seats.
var base = map[string]model.Schema{"base": {Kind: "base", FoldNames: true, Kinds: []model.KindSchema{
	{Kind: model.Account, Name: []model.NamePart{{Name: "login", Pattern: "."}, {Name: "origin", Pattern: `^[a-z0-9.%]+$`, Usual: "%"}},
		Joint: "@",
		Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt},
		Attributes: []model.AttributeSchema{{Name: model.FullName, From: "name"}, {Name: "shell", Settable: true}, {Name: model.Disabled},
			{Name: model.Home}}},
	{Kind: model.RightKind, Name: model.OnePart("name", "."),
		Verbs:   []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt, model.Remove},
		Members: []model.ObjectKind{model.Account}, Watched: true},
	{Kind: model.LicenceKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.JoinIt, model.LeaveIt},
		Members: []model.ObjectKind{model.Account}},
	{Kind: model.ElevationKind, Name: model.OnePart("command", "."), ByJoining: true, Verbs: []model.Verb{model.JoinIt, model.LeaveIt},
		Members: []model.ObjectKind{model.Account}},
}}}

const stores = `roost: 1
users:
  marit: {name: Marit Fell, roles: [clerk]}
  hanne: {name: Hanne Vik, roles: [clerk], accounts: {stores: {origin: localhost}}}
  ulla: {name: Ulla Niemi, roles: [clerk, head], accounts: {stores: {name: uniemi}}}
  jarle: {name: Jarle Holm}
roles:
  clerk: {gives: [{at: stores, account: {origin: [10.1.%, localhost], shell: sh}, rights: [sell], licences: [seat]}]}
  head: {gives: [{at: stores, elevate: all}]}
rights: {sell: {at: stores, allows: [insert]}}
targets:
  stores: {kind: base, address: a, login: {as: root}, unexpected: report, protect: [audit], removal: {keep: 30d, home: archive}}
`

// onStores compares what stores holds with what a declaration asks of it.
func onStores(t *testing.T, text string, in drift.Input) []string {
	t.Helper()
	return onKind(t, base, text, in)
}

func declared(schemas map[string]model.Schema, text string) (*model.Declaration, error) {
	return declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
}

func onKind(t *testing.T, schemas map[string]model.Schema, text string, in drift.Input) (out []string) {
	t.Helper()
	for _, f := range foundOn(t, schemas, text, in) {
		out = append(out, say(f))
	}
	return out
}

func foundOn(t *testing.T, schemas map[string]model.Schema, text string, in drift.Input) []model.Finding {
	t.Helper()
	d, err := declared(schemas, text)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	in.Desired = p.Targets["stores"]
	return drift.Compare(in)
}

func thing(kind model.ObjectKind, name string, members ...string) model.Object {
	o := model.Object{Kind: kind, Name: name}
	if members != nil {
		o.Attributes = o.Attributes.With(model.Members, members...)
	}
	return o
}

func same(t *testing.T, what string, got []string, want ...string) {
	t.Helper()
	if !slices.Equal(got, want) {
		t.Errorf("%s:\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// A person has an account for each origin asked for, and each is matched, adopted and changed for itself.
func TestSlots(t *testing.T) {
	held := func(name, shell string) model.Object {
		return model.Object{Kind: model.Account, Name: name,
			Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{shell}},
				model.Attribute{Name: model.Disabled, Values: []string{"no"}},
				model.Attribute{Name: model.FullName, Values: []string{"Marit Fell"}})}
	}
	sell := thing(model.RightKind, "sell", "marit@10.1.%")
	sell.Attributes = sell.Attributes.With(model.Allows, "insert")
	others := []model.Object{sell, thing(model.LicenceKind, "seat", "marit@10.1.%", "jarle@%")}
	text := strings.ReplaceAll(stores, "  ulla: {name: Ulla Niemi, roles: [clerk, head], accounts: {stores: {name: uniemi}}}\n  jarle: "+
		"{name: Jarle Holm}\n", "  jarle: {name: Jarle Holm}\n")
	same(t, "some of them there", onStores(t, text, drift.Input{
		Accounts: []model.Object{held("marit@10.1.%", "sh"), held("MARIT@LOCALHOST", "bash"), held("marit@%", "sh"),
			held("jarle@%", "sh")}, Others: others,
		Links: []model.Link{{User: "marit", Name: "marit@10.1.%", Rest: "10.1.%"}, {User: "jarle", Name: "jarle@%", Rest: "%"}}}),
		"missing: create account hanne@localhost: full name Hanne Vik · shell sh (hanne)",
		"different: adopt account MARIT@LOCALHOST: nobody’s → marit (marit)",
		"different: change account MARIT@LOCALHOST: shell bash → shell sh (marit)",
		"unexpected: disable account jarle@%: open → shut (jarle)",
		"unexpected: disable account marit@%: open → shut (marit)",
		"missing: give right sell: MARIT@LOCALHOST (marit)", "missing: give right sell: hanne@localhost (hanne)",
		"missing: take seat seat: MARIT@LOCALHOST (marit)", "missing: take seat seat: hanne@localhost (hanne)",
		"unexpected: free seat seat: jarle@% (jarle)")
	same(t, "by hand, and superuser", onStores(t, stores, drift.Input{Others: others})[3:5],
		"missing: create account uniemi@10.1.%: full name Ulla Niemi · shell sh (ulla)",
		"missing: create account uniemi@localhost: full name Ulla Niemi · shell sh (ulla)")
}

// What nobody declared is found where its kind is watched, what is asked for and cannot be made is told.
func TestWatched(t *testing.T) {
	got := onStores(t, stores, drift.Input{Others: []model.Object{thing(model.RightKind, "refund", "marit@%"),
		thing(model.RightKind, "audit"), {Kind: model.RightKind, Name: "own", System: true}}})
	for _, want := range []string{"missing: create right sell: allows insert", "unexpected: for a person to decide refund",
		"unmatched: for a person to decide seat", "missing: elevate all: uniemi@localhost (ulla)"} {
		if !slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, want) }) {
			t.Errorf("%q is not found:\n%s", want, strings.Join(got, "\n"))
		}
	}
	for _, s := range got {
		if strings.Contains(s, "take seat") || strings.Contains(s, "audit") || strings.Contains(s, "own") ||
			strings.Contains(s, "elevate /bin") {
			t.Errorf("found: %s", s)
		}
	}
	protected := strings.Replace(stores, "protect: [audit]", "protect: [sell]", 1)
	if got := onStores(t, protected, drift.Input{}); !slices.Contains(got, "unmatched: for a person to decide sell: allows insert") {
		t.Errorf("a protected right is not told: %q", got)
	}
}

// Who is suspended is shut, and everything else of them is as it was.
func TestSuspended(t *testing.T) {
	off := strings.Replace(stores, "jarle: {name: Jarle Holm}",
		`jarle: {name: Jarle Holm, roles: [clerk], suspended: {since: 2026-11-20, because: lost laptop}}`, 1)
	open := model.Object{Kind: model.Account, Name: "jarle@10.1.%",
		Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{"other"}},
			model.Attribute{Name: model.Disabled, Values: []string{"no"}})}
	links := []model.Link{{User: "jarle", Name: "jarle@10.1.%", Rest: "10.1.%"}}
	about := func(text string, o model.Object) (out []string) {
		sell := thing(model.RightKind, "sell", "jarle@10.1.%")
		for _, s := range onStores(t, text, drift.Input{Accounts: []model.Object{o},
			Others: []model.Object{sell, thing(model.LicenceKind, "seat")}, Links: links}) {
			if strings.Contains(s, "jarle") {
				out = append(out, s)
			}
		}
		return out
	}
	shut := open
	shut.Attributes = shut.Attributes.With(model.Disabled, "yes")
	same(t, "open", about(off, open), "different: disable account jarle@10.1.%: open → shut (jarle)")
	same(t, "shut", about(off, shut))
	if got := about(strings.Replace(off, "2026-11-20", "2026-11-26", 1), open); !slices.Contains(got,
		"missing: create account jarle@localhost: full name Jarle Holm · shell sh (jarle)") {
		t.Errorf("suspended later: %q", got)
	}
	back := strings.Replace(off, ", suspended: {since: 2026-11-20, because: lost laptop}", "", 1)
	if got := about(back, shut); !slices.Contains(got, "different: enable account jarle@10.1.%: shut → open (jarle)") {
		t.Errorf("restored: %q", got)
	}
}

// Accounts of people we know, which nothing asks for, go when they have been shut for as long as the target's removal says.
func TestLeaversGo(t *testing.T) {
	gone := model.Object{Kind: model.Account, Name: "jarle@%",
		Attributes: model.Pack(model.Attribute{Name: model.Disabled, Values: []string{"yes"}},
			model.Attribute{Name: model.Home, Values: []string{"/home/jarle"}})}
	day := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	for days, want := range map[int]string{29: "", 31: "unexpected: remove account jarle@%: shut → gone, its home archived (jarle)"} {
		got := ""
		for _, s := range onStores(t, stores, drift.Input{Accounts: []model.Object{gone},
			Links: []model.Link{{User: "jarle", Name: "jarle@%", Rest: "%"}},
			Shut:  map[string]time.Time{"jarle@%": day.AddDate(0, 0, -days)}}) {
			if strings.Contains(s, "jarle") {
				got += s
			}
		}
		if got != want {
			t.Errorf("after %d days: %q, want %q", days, got, want)
		}
	}
	for text, want := range map[string]string{"keep: 30d, ": "", "kind: base": "kind: base"} {
		if got := onStores(t, strings.Replace(stores, text, want, 1),
			drift.Input{Accounts: []model.Object{gone}}); slices.ContainsFunc(got,
			func(s string) bool { return strings.Contains(s, "remove") }) {
			t.Errorf("gone before its time: %q", got)
		}
	}
}

// Whoever has what of it, carrying out what is found leaves nothing to find.
func TestSlotsCarriedOut(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 9))
		var in drift.Input
		for _, name := range []string{"marit@%", "marit@10.1.%", "marit@localhost", "hanne@localhost", "uniemi@10.1.%", "jarle@%", "zz@%"} {
			if r.IntN(2) == 0 {
				continue
			}
			in.Accounts = append(in.Accounts, account(name, "", "shell", []string{"sh", "bash"}[r.IntN(2)], model.Disabled,
				[]string{"no", "yes"}[r.IntN(2)]))
			login, rest, _ := strings.Cut(name, "@")
			if user := map[string]string{"marit": "marit", "hanne": "hanne", "uniemi": "ulla", "jarle": "jarle"}[login]; user != "" &&
				r.IntN(2) == 0 {
				in.Links = append(in.Links, model.Link{User: user, Name: name, Rest: rest})
			}
		}
		in.Others = []model.Object{thing(model.RightKind, "sell", "marit@%", "hanne@localhost"), thing(model.LicenceKind, "seat"),
			thing(model.ElevationKind, "all")}
		d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: stores}}, base)
		if err != nil {
			t.Fatal(err)
		}
		p, err := resolve.Resolve(d, base, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC), nil)
		if err != nil {
			t.Fatal(err)
		}
		in.Desired = p.Targets["stores"]
		steps, undecided := round.Draft(drift.Compare(in), round.Filter{}, round.Order{Schemas: base, Targets: d.Targets})
		left := slices.IndexFunc(steps, func(s round.Step) bool { return s.Verb == model.JoinIt })
		for i, s := range steps {
			if s.Verb == model.LeaveIt && left >= 0 && i > left {
				t.Fatal("a seat is taken before it is freed")
			}
			carry(&in, s.Act)
		}
		if again := drift.Compare(in); len(again) != len(undecided) {
			for _, f := range again {
				t.Errorf("seed %d, still differs: %s %s", seed, say(f), f.Note)
			}
			t.FailNow()
		}
	}
}

// Seats that are freed count for those who take one; when they are too few it is told, with who uses theirs least.
func TestSeats(t *testing.T) {
	held := func(name, last string) model.Object {
		return model.Object{Kind: model.Account, Name: name, Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{"sh"}},
			model.Attribute{Name: model.Disabled, Values: []string{"no"}}, model.Attribute{Name: model.LastSignIn, Values: []string{last}},
			model.Attribute{Name: model.FullName, Values: []string{"Marit Fell"}})}
	}
	text := strings.ReplaceAll(stores, "protect: [audit]", "protect: [audit, kiosk@*], unused-seats: 30d")
	for seats, want := range map[string]string{"6": "",
		"5": "5 seats, 3 of them taken, and 1 would be freed; 4 are to be taken: 1 too few; " +
			"buy more, or have somebody give one up; least of all use it: kiosk@% (last signed in 2026-01-02), marit@10.1.% (last " +
			"signed in 2026-11-25)", "": "", "many": ""} {
		licence := thing(model.LicenceKind, "seat", "marit@10.1.%", "jarle@%", "kiosk@%")
		licence.Attributes = licence.Attributes.With(model.Seats, seats)
		short, unused := "", ""
		for _, f := range foundOn(t, base, text, drift.Input{Accounts: []model.Object{held("marit@10.1.%", "2026-11-25"),
			held("jarle@%", "2026-01-01"), held("kiosk@%", "2026-01-02")}, Others: []model.Object{licence},
			Links: []model.Link{{User: "marit", Name: "marit@10.1.%", Rest: "10.1.%"}, {User: "jarle", Name: "jarle@%", Rest: "%"}}}) {
			switch f.Kind {
			case model.SeatsShort:
				short += f.Note
			case model.UnusedSeat:
				unused += f.Note
			}
		}
		if short != want || unused != "kiosk@% has a seat, and has not signed in since 2026-01-02" { // jarle's goes anyway
			t.Errorf("%s seats: %s\n%s", seats, short, unused)
		}
	}
}
