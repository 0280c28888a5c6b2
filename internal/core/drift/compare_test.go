package drift_test

import (
	"fmt"
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

var schema = model.Schema{Kind: "host", Kinds: []model.KindSchema{
	{Kind: model.Account, Name: model.OnePart("login", `^[a-z_][a-z0-9_.-]{0,31}$`),
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"},
			{Name: model.FullName, Settable: true, From: "name"}, {Name: "shell", Settable: true},
			{Name: "keys", Many: true, From: "keys"}, {Name: model.Disabled}}},
	{Kind: model.GroupKind, Name: model.OnePart("name", `.`), Members: []model.ObjectKind{model.Account},
		Verbs:      []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt},
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true}}}}}

const company = `roost: 1
users:
  marit.fell: {name: Marit Fell, number: 1001, mail: "marit@x", roles: [deck-crew]}
  hanne.vik: {name: Hanne Vik, number: 1014, roles: [deck-crew]}
  kari.berg: {name: Kari Berg, number: 1010, roles: [deck-crew]}
  ulla.niemi: {name: Ulla Niemi, number: 1028, roles: [deck-crew], accounts: {arctic-tern: {name: ulla}}}
  left.out: {name: Left Out, number: 1099, roles: [deck-crew], accounts: {arctic-tern: none}}
groups:
  crew: {number: 5110}
  deck: {number: 5111, in: [crew]}
roles:
  deck-crew:
    gives:
      - at: arctic-tern
        account: {shell: "/bin/${target.tags.shell}"}
        groups: [deck]
targets:
  arctic-tern: {kind: host, address: a, login: {as: root}, tags: {shell: bash}, unexpected: disable, protect: ["svc-*"]}
`

func plan(t *testing.T, text string) *resolve.Plan {
	t.Helper()
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "company.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func account(name, number string, more ...string) model.Object {
	o := model.Object{Kind: model.Account, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Disabled, "no")
	for i := 0; i < len(more); i += 2 {
		o.Attributes = o.Attributes.With(more[i], more[i+1])
	}
	return o
}

func group(name, number string, members ...string) model.Object {
	o := model.Object{Kind: model.GroupKind, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Members, members...)
	return o
}

// say puts a finding into one line.
func say(f model.Finding) string {
	s := fmt.Sprintf("%s: %s", f.Kind, round.Say(f.Act))
	if f.User != "" {
		s += " (" + f.User + ")"
	}
	return s
}

func TestCompare(t *testing.T) {
	full := func(name, number, full string) model.Object {
		return account(name, number, model.FullName, full, "shell", "/bin/bash")
	}
	for _, c := range []struct {
		name             string
		accounts, groups []model.Object
		links            []model.Link
		want             []string // only those that hold these words are looked at; all with them must be listed
		of               string
	}{
		{name: "empty target", of: "marit", want: []string{
			"missing: create account marit.fell: full name Marit Fell · number 1001 · shell /bin/bash (marit.fell)",
			"missing: join group crew: marit.fell (marit.fell)", "missing: join group deck: marit.fell (marit.fell)"}},
		{name: "fits and differs", of: "hanne", accounts: []model.Object{account("hanne.vik", "1014", model.FullName, "Hanne Vik",
			"shell", "/bin/sh")}, want: []string{
			"different: adopt account hanne.vik: nobody’s → hanne.vik (hanne.vik)",
			"different: change account hanne.vik: shell /bin/sh → shell /bin/bash (hanne.vik)",
			"missing: join group crew: hanne.vik (hanne.vik)", "missing: join group deck: hanne.vik (hanne.vik)"}},
		{name: "another name, same number", of: "mfell", accounts: []model.Object{full("mfell", "1001", "Marit Fell")}, want: []string{
			"different: adopt account mfell: nobody’s → marit.fell (marit.fell)", "missing: join group crew: mfell (marit.fell)",
			"missing: join group deck: mfell (marit.fell)"}},
		{name: "two candidates", of: "kari", accounts: []model.Object{full("kari.berg", "1500", "K"), full("kberg", "1010", "Kari Berg")},
			want: []string{
				"unmatched: for a person to decide kari.berg (kari.berg)"}},
		{name: "one account, two people", of: "kari", accounts: []model.Object{full("kari.berg", "1014", "K")}, want: []string{
			"unmatched: for a person to decide kari.berg (kari.berg)"}},
		{name: "number taken by a protected account", of: "marit", accounts: []model.Object{full("svc-backup", "1001", "B")},
			want: []string{
				"unmatched: for a person to decide marit.fell: full name Marit Fell · number 1001 · shell /bin/bash (marit.fell)"}},
		{name: "given name decides", of: "ulla", accounts: []model.Object{full("ulla", "1700", "U")}, want: []string{
			"different: adopt account ulla: nobody’s → ulla.niemi (ulla.niemi)",
			"different: change account ulla: full name U · number 1700 → full name Ulla Niemi · number 1028 (ulla.niemi)",
			"missing: join group crew: ulla (ulla.niemi)", "missing: join group deck: ulla (ulla.niemi)"}},
		{name: "never an account", of: "left", accounts: []model.Object{full("left.out", "1700", "L")},
			want: []string{"unexpected: disable account left.out: open → shut"}},
		{name: "stranger", of: "jarle", accounts: []model.Object{full("jarle.holm", "1701", "Jarle Holm")},
			groups: []model.Object{group("crew", "5110", "jarle.holm")}, want: []string{
				"unexpected: disable account jarle.holm: open → shut", "unexpected: leave group crew: jarle.holm"}},
		{name: "stranger shut already", of: "jarle", accounts: []model.Object{account("jarle.holm", "1701", model.Disabled, "yes")}},
		{name: "protected", of: "svc", accounts: []model.Object{full("svc-backup", "1800", "B")},
			groups: []model.Object{group("crew", "5110", "svc-backup")}},
		{name: "linked and locked", of: "marit", accounts: []model.Object{account("mf", "1001", model.FullName, "Marit Fell", "shell",
			"/bin/bash", model.Disabled, "partly")}, links: []model.Link{{User: "marit.fell", Name: "mf"}},
			groups: []model.Object{group("crew", "5110", "mf"), group("deck", "5111", "mf")},
			want:   []string{"different: enable account mf: half shut → open (marit.fell)"}},
		{name: "group with another number", of: "group deck", groups: []model.Object{group("deck", "900")},
			want: []string{"different: change group deck: number 900 → number 5111"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := plan(t, company)
			found := drift.Compare(drift.Input{Desired: p.Targets["arctic-tern"], Accounts: c.accounts, Others: c.groups, Links: c.links})
			var got []string
			for _, f := range found {
				if s := say(f); strings.Contains(s, c.of) && (!f.Moves() || !strings.HasPrefix(c.of, "group")) {
					got = append(got, s)
				}
			}
			if !slices.Equal(got, c.want) {
				t.Errorf("got\n  %s\nwant\n  %s", strings.Join(got, "\n  "), strings.Join(c.want, "\n  "))
			}
		})
	}
}

// Carrying out every step in memory leaves nothing to find: a second comparison is empty.
func TestCarriedOut(t *testing.T) {
	p := plan(t, company)
	in := drift.Input{Desired: p.Targets["arctic-tern"],
		Accounts: []model.Object{account("mfell", "1001"), account("hanne.vik", "1514", model.Disabled, "yes"),
			account("jarle.holm", "1701"), account("svc-backup", "1800")},
		Others: []model.Object{group("crew", "17", "jarle.holm", "svc-backup")}}
	steps, undecided := round.Draft(drift.Compare(in), round.Filter{}, round.Order{})
	if len(undecided) != 0 {
		t.Fatalf("undecided: %v", undecided)
	}
	for i, s := range steps {
		if i > 0 && s.Stage < steps[i-1].Stage {
			t.Errorf("step %d comes before what it leans on", i)
		}
		carry(&in, s.Act)
	}
	if again := drift.Compare(in); len(again) != 0 {
		for _, f := range again {
			t.Errorf("still differs: %s", say(f))
		}
	}
}

func carry(in *drift.Input, a model.Act) {
	switch {
	case a.Verb == model.AdoptIt:
		in.Links = append(in.Links, model.Link{User: a.User, Name: a.Name})
	case a.Verb == model.Create && a.Object == model.Account:
		in.Accounts = append(in.Accounts, model.Object{Kind: model.Account, Name: a.Name, Attributes: a.After().With(model.Disabled, "no")})
		in.Links = append(in.Links, model.Link{User: a.User, Name: a.Name})
	case a.Verb == model.Create:
		in.Others = append(in.Others, model.Object{Kind: model.GroupKind, Name: a.Name, Attributes: a.After()})
	default:
		list := in.Accounts
		if a.Object != model.Account {
			list = in.Others
		}
		for i := range list {
			if list[i].Name != a.Name {
				continue
			}
			members := list[i].Attributes.Get(model.Members)
			switch a.Verb {
			case model.JoinIt:
				list[i].Attributes = list[i].Attributes.With(model.Members, append(slices.Clone(members), a.Member)...)
			case model.LeaveIt:
				list[i].Attributes = list[i].Attributes.With(model.Members,
					slices.DeleteFunc(slices.Clone(members), func(m string) bool { return m == a.Member })...)
			default:
				for _, c := range a.Changes {
					list[i].Attributes = list[i].Attributes.With(c.Attribute, c.After...)
				}
			}
		}
	}
}

func TestContradiction(t *testing.T) {
	text := strings.Replace(company, "targets:\n",
		"  other:\n    held-when: \"user.number == 1001\"\n    gives: [{at: {kind: host}, account: {shell: /bin/zsh}}]\ntargets:\n", 1)
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "company.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	_, err = resolve.Resolve(d, schemas, time.Now(), nil)
	if err == nil || !strings.Contains(err.Error(),
		`user marit.fell is asked to have shell "/bin/zsh" here and "/bin/bash" at company.yaml:15:`) {
		t.Errorf("%v", err)
	}
}

func BenchmarkCompare(b *testing.B) {
	var text strings.Builder
	text.WriteString(company[:strings.Index(company, "groups:")])
	for i := range 10_000 {
		fmt.Fprintf(&text, "  hand.%d: {name: Hand %d, number: %d, roles: [deck-crew]}\n", i, i, 10_000+i)
	}
	text.WriteString(company[strings.Index(company, "groups:"):])
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text.String()}}, schemas)
	if err != nil {
		b.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Now(), nil)
	if err != nil {
		b.Fatal(err)
	}
	in := drift.Input{Desired: p.Targets["arctic-tern"]}
	for i := range 10_000 {
		in.Accounts = append(in.Accounts, account(fmt.Sprintf("hand.%d", i), fmt.Sprint(10_000+i), "shell", "/bin/bash"))
	}
	b.ReportAllocs()
	for b.Loop() {
		drift.Compare(in)
	}
}

func compared(t *testing.T, text string, in drift.Input) []string {
	t.Helper()
	in.Desired = plan(t, text).Targets["arctic-tern"]
	var out []string
	for _, f := range drift.Compare(in) {
		if f.Object == model.Account {
			out = append(out, say(f)+" | "+f.Note)
		}
	}
	return out
}

// only has the declaration without anybody but Marit.
var only = strings.NewReplacer("  hanne.vik: {name: Hanne Vik, number: 1014, roles: [deck-crew]}\n", "",
	"  kari.berg: {name: Kari Berg, number: 1010, roles: [deck-crew]}\n", "",
	"  ulla.niemi: {name: Ulla Niemi, number: 1028, roles: [deck-crew], accounts: {arctic-tern: {name: ulla}}}\n", "").Replace(company)

func TestAccounts(t *testing.T) {
	marit := func(name, unique string, more ...string) model.Object {
		o := account(name, "1001", append([]string{model.FullName, "Marit Fell", "shell", "/bin/bash"}, more...)...)
		o.Unique = unique
		return o
	}
	link := func(name, unique string) []model.Link {
		return []model.Link{{User: "marit.fell", Name: name, Unique: unique}}
	}
	for _, c := range []struct {
		name string
		text string
		in   drift.Input
		want []string
	}{
		{"as declared", only, drift.Input{Accounts: []model.Object{marit("marit.fell", "u1")}, Links: link("marit.fell", "u1")}, nil},
		{"a key that ends", strings.Replace(only, "name: Marit Fell,", "name: Marit Fell, keys: [ssh-ed25519 "+
			"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 "+
			"until=2026-12-01],", 1),
			drift.Input{Accounts: []model.Object{marit("marit.fell", "", model.Keys, "ssh-ed25519 "+
				"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 until=2026-12-01")},
				Links: link("marit.fell", "")},
			[]string{"expiring: for a person to decide marit.fell (marit.fell) | the last day of a key of marit.fell is 2026-12-01; " +
				"roost rotate marit.fell --key makes another"}},
		{"a key that ends, under another name", strings.Replace(only, "name: Marit Fell,",
			"name: Marit Fell, accounts: {arctic-tern: {name: mfell}}, keys: [ssh-ed25519 "+
				"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 until=2026-11-01],", 1),
			drift.Input{Accounts: []model.Object{marit("mfell", "", model.Keys,
				"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 until=2026-11-01")},
				Links: link("mfell", "")},
			[]string{"expiring: for a person to decide mfell (marit.fell) | the last day of a key of marit.fell is 2026-11-01; " +
				"roost rotate marit.fell --key makes another"}},
		{"a key that ends later", strings.Replace(only, "name: Marit Fell,", "name: Marit Fell, keys: [ssh-ed25519 "+
			"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 "+
			"until=2027-12-01],", 1),
			drift.Input{Accounts: []model.Object{marit("marit.fell", "", model.Keys, "ssh-ed25519 "+
				"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 hen-roost-1 until=2027-12-01")},
				Links: link("marit.fell", "")}, nil},
		{"renamed, by its own id", only, drift.Input{Accounts: []model.Object{marit("mfell", "u1")}, Links: link("marit.fell", "u1")},
			[]string{"different: adopt account mfell: known as marit.fell → known as mfell (marit.fell) | renamed there from marit.fell " +
				"to mfell: the target's own id for it is the same"}},
		{"another in its place", only, drift.Input{Accounts: []model.Object{marit("marit.fell", "u2")}, Links: link("marit.fell", "u1")},
			[]string{"different: adopt account marit.fell: nobody’s → marit.fell (marit.fell) | recognised by name and number"}},
		{"differs, and is protected", strings.Replace(only, `protect: ["svc-*"]`, `protect: ["marit*"]`, 1),
			drift.Input{Accounts: []model.Object{marit("marit.fell", "", "shell", "/bin/sh")}, Links: link("marit.fell", "")},
			[]string{`unmatched: for a person to decide marit.fell: shell /bin/sh → shell /bin/bash (marit.fell) | differs, but is protected by "marit*"`}},
		{"who changed it", only, drift.Input{Accounts: []model.Object{marit("marit.fell", "", "shell", "/bin/sh", model.ChangedBy,
			"cn=somebody 20261123")}, Links: link("marit.fell", "")},
			[]string{"different: change account marit.fell: shell /bin/sh → shell /bin/bash (marit.fell) | changed last by cn=somebody " +
				"20261123"}},
		{"decided", only, drift.Input{Accounts: []model.Object{marit("x", "", model.Number, "7")},
			Decisions: []model.Decision{{Name: "x", User: "marit.fell", Theirs: true}}},
			[]string{"different: adopt account x: nobody’s → marit.fell (marit.fell) | recognised by decision",
				"different: change account x: number 7 → number 1001 (marit.fell) | "}},
		{"their last day is over", strings.Replace(only, "name: Marit Fell,", "name: Marit Fell, until: 2026-11-22,", 1),
			drift.Input{Accounts: []model.Object{marit("marit.fell", "")}, Links: link("marit.fell", "")},
			[]string{`unexpected: disable account marit.fell: open → shut (marit.fell) | the last day of marit.fell was 2026-11-22; it calls itself "Marit Fell"`}},
		{"too early", strings.Replace(only, "name: Marit Fell,", "name: Marit Fell, from: 2026-11-24,", 1),
			drift.Input{Accounts: []model.Object{marit("marit.fell", "")}, Links: link("marit.fell", "")},
			[]string{`unexpected: disable account marit.fell: open → shut (marit.fell) | marit.fell starts on 2026-11-24; it calls itself "Marit Fell"`}},
		{"in any order", only, drift.Input{Accounts: []model.Object{account("z", "9", model.Disabled, "yes"), marit("marit.fell", ""),
			account("a", "8", model.Disabled, "yes")}, Links: []model.Link{{User: "z", Name: "zz"}, link("marit.fell", "")[0],
			{User: "b", Name: "b"}}}, nil},
		{"two links to one name", only, drift.Input{Accounts: []model.Object{marit("marit.fell", "")},
			Links: []model.Link{{User: "gone", Name: "marit.fell"}, link("marit.fell", "")[0]}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := compared(t, c.text, c.in); !slices.Equal(got, c.want) {
				t.Errorf("got\n  %s\nwant\n  %s", strings.Join(got, "\n  "), strings.Join(c.want, "\n  "))
			}
		})
	}
}

// What was put right before and is there again is contested, however often.
func TestContest(t *testing.T) {
	f := func(verb model.Verb, name string) model.Finding {
		return model.Finding{Kind: model.Different, Act: model.Act{Verb: verb, Object: model.Account, Name: name}, Note: "n"}
	}
	list := []model.Finding{f(model.Modify, "a"), f(model.Modify, "b"), f(model.NoRemedy, "c"), f(model.Enable, "a")}
	at := time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)
	drift.Contest(list, map[string]drift.Before{list[0].Act.Key(): {Times: 1, Round: 4, At: at},
		list[1].Act.Key(): {Times: 3, Round: 5, At: at}, list[2].Act.Key(): {Times: 1}})
	const leave = "; find out what changes it, or leave it to that: roost give-up"
	for i, want := range []string{"contested put right once, last by round 4 on 2026-11-20, and changed back since; n" + leave,
		"contested put right 3 times, last by round 5 on 2026-11-20, and changed back since; n" + leave, "different n", "different n"} {
		if got := string(list[i].Kind) + " " + list[i].Note; got != want {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
}

// Rights, containers and policies are there or not, and have their values.
func TestThings(t *testing.T) {
	schemas := map[string]model.Schema{"app": {Kind: "app", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "."),
			Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.RightKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.PlaceKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.Create, model.Modify}},
		{Kind: model.PolicyKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.Create, model.SetRule}}}}}
	d, err := declare.Read([]declare.File{{Name: "f",
		Text: "roost: 1\nrights: {counter: {at: t, allows: [sell, refund]}}\ncontainers: {people: {at: t, path: " +
			"\"ou=People\"}}\npolicies: {staff: {at: t, password: {length: 12}}}\ntargets: {t: {kind: app, address: a, login: {as: x}, " +
			"unexpected: remove}}\n"}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Now(), nil)
	if err != nil {
		t.Fatal(err)
	}
	lines := func(in drift.Input) string {
		in.Desired = p.Targets["t"]
		var out []string
		for _, f := range drift.Compare(in) {
			out = append(out, say(f))
		}
		return strings.Join(out, "\n")
	}
	if got, want := lines(drift.Input{}), "missing: create container people: path ou=People · protected there no\nmissing: set policy "+
		"policy staff: shortest password 12\nmissing: create right counter: allows refund, sell"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	thing := func(kind model.ObjectKind, name string, list ...model.Attribute) model.Object {
		return model.Object{Kind: kind, Name: name, Attributes: model.Pack(list...)}
	}
	others := []model.Object{
		thing(model.PlaceKind, "people", model.Attribute{Name: model.Path, Values: []string{"ou=People"}},
			model.Attribute{Name: model.Guarded, Values: []string{"no"}}),
		thing(model.PolicyKind, "staff", model.Attribute{Name: "password.length", Values: []string{"8"}}),
		thing(model.RightKind, "counter", model.Attribute{Name: model.Allows, Values: []string{"refund", "sell"}}),
	}
	shut := account("jarle", "1701", model.Disabled, "yes")
	if got, want := lines(drift.Input{Others: others, Accounts: []model.Object{account("eva", "1702"), shut}}),
		"different: set policy policy staff: shortest password 8 → shortest password 12\nunexpected: disable account eva: open → "+
			"shut\nunexpected: remove account jarle"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	// Where shut accounts are kept for a time, they go when it is over.
	d.Targets["t"].Removal.Keep = 90 * 24 * time.Hour
	today := time.Now().UTC()
	for days, want := range map[int]string{10: "", 89: "", 91: "unexpected: remove account jarle"} {
		in := drift.Input{Others: others, Accounts: []model.Object{shut}, Shut: map[string]time.Time{"jarle": today.AddDate(0, 0, -days)}}
		if got := lines(in); got != "different: set policy policy staff: shortest password 8 → shortest password 12\n"+want && got+
			"\n" != "different: set policy policy staff: shortest password 8 → shortest password 12\n"+want {
			t.Errorf("shut for %d days:\n%s", days, got)
		}
	}
}

// Whatever the order and the state of observed accounts, the walk along both
// sides finds what looking at each by itself would find: carried out, nothing is left.
func TestWalkFindsAll(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		p := plan(t, company)
		in := drift.Input{Desired: p.Targets["arctic-tern"]}
		for i, name := range []string{"marit.fell", "hanne.vik", "kari.berg", "ulla", "jarle", "aa", "zz", "m"} {
			if random.IntN(3) == 0 {
				continue
			}
			o := account(name, fmt.Sprint(2000+i), "shell", []string{"/bin/sh", "/bin/bash"}[random.IntN(2)], model.Disabled,
				[]string{"no", "yes", "partly"}[random.IntN(3)])
			if random.IntN(2) == 0 {
				o.Unique = fmt.Sprint("u", i)
			}
			in.Accounts = append(in.Accounts, o)
			user := map[string]string{"ulla": "ulla.niemi"}[name]
			if user == "" {
				user = name
			}
			if _, known := p.Person(user); known && random.IntN(2) == 0 {
				in.Links = append(in.Links, model.Link{User: user, Name: name, Unique: o.Unique})
			}
		}
		random.Shuffle(len(in.Accounts), func(i, j int) { in.Accounts[i], in.Accounts[j] = in.Accounts[j], in.Accounts[i] })
		steps, undecided := round.Draft(drift.Compare(in), round.Filter{}, round.Order{})
		for _, s := range steps {
			carry(&in, s.Act)
		}
		if again := drift.Compare(in); len(again) != len(undecided) {
			for _, f := range again {
				t.Errorf("still differs: %s %s", say(f), f.Note)
			}
			t.Fatalf("%+v", in.Accounts)
		}
	}
}

// A group's number that another group has is told of before anything is made; one that it has itself, beside another, is well.
func TestGroupNumberTaken(t *testing.T) {
	in := drift.Input{Desired: plan(t, company).Targets["arctic-tern"], Others: []model.Object{group("bilge", "5111"), group("crew",
		"5110"),
		group("hands", "5110"), group("odd", "5199")}}
	found, keys := drift.Loose(in)
	var of []string
	for _, f := range found {
		if f.Object == model.GroupKind {
			of = append(of, say(f)+" "+f.Note)
		}
	}
	if len(of) == 0 || !strings.Contains(strings.Join(of, "\n"), "group deck should have number 5111, which the group bilge has") ||
		strings.Contains(strings.Join(of, "\n"), "hands") {
		t.Errorf("%q", of)
	}
	for number, want := range map[string]bool{"5111": true, "5199": true, "5112": false} {
		if slices.Contains(keys, drift.NumberKey(model.GroupKind, number)) != want {
			t.Errorf("%s is taken: not %v", number, want)
		}
	}
}

// A finding of somebody who is to exchange numbers with others names them all: none of them can go first.
func TestCircle(t *testing.T) {
	has := func(name, number, full string) model.Object {
		return account(name, number, model.FullName, full, "shell", "/bin/bash")
	}
	in := drift.Input{Desired: plan(t, company).Targets["arctic-tern"], Accounts: []model.Object{has("kari.berg", "1010", "Kari Berg"),
		has("hanne.vik", "1001", "Hanne Vik"), has("mf", "1014", "Marit Fell")},
		Others: []model.Object{group("crew", "5111"), group("deck", "5110"), group("off", "5112")}}
	for user, name := range map[string]string{"kari.berg": "kari.berg", "hanne.vik": "hanne.vik", "marit.fell": "mf"} {
		in.Links = append(in.Links, model.Link{User: user, Name: name})
	}
	told := func() (of []string) {
		for _, f := range drift.Compare(in) {
			if strings.Contains(f.Note, "exchange") {
				of = append(of, f.Name+": "+f.Note)
			}
		}
		return of
	}
	const end = " are to exchange numbers, and each is in the way of the next: declare a free number for "
	for i, want := range []string{"crew: the groups crew and deck" + end + "crew first",
		"deck: the groups crew and deck" + end + "crew first",
		"hanne.vik: hanne.vik and mf" + end + "hanne.vik first", "mf: hanne.vik and mf" + end + "hanne.vik first"} {
		if got := told(); i >= len(got) || !strings.HasPrefix(got[i], want) {
			t.Errorf("%d: want %s, got %q", i, want, got)
		}
	}
	in.Accounts[1] = has("hanne.vik", "1010", "Hanne Vik")
	in.Accounts[0] = has("kari.berg", "1001", "Kari Berg") // three in a circle
	if got := strings.Join(told(), "\n"); strings.Count(got, "hanne.vik, kari.berg and mf are to exchange") != 3 {
		t.Error(got)
	}
}

// An account that exists keeps its name; where the declaration says another this is told, and so is whose that one is.
func TestCalledOtherwise(t *testing.T) {
	text := strings.Replace(company, "users:", "users:\n  xa.one: {name: Xa One, number: 1301, roles: [deck-crew], accounts: "+
		"{arctic-tern: {name: yb}}}\n  yb.two: {name: Yb Two, number: 1302, roles: [deck-crew]NAMED}", 1)
	for declared, want := range map[string]string{
		", accounts: {arctic-tern: {name: xa}}": "xa.one: xa and yb are to exchange names, and each is in the way of the next; an " +
			"account keeps its name: rename them on arctic-tern, first xa to a free name\nyb.two: xa and yb are to " +
			"exchange names",
		", accounts: {arctic-tern: {name: yb.2}}": "yb.two: the account of yb.two is called yb, and the declaration says yb.2; an " +
			"account keeps its name: either rename it on arctic-tern",
		"": "xa.one: the account of xa.one is called xa, and yb, which the declaration says, belongs to yb.two",
	} {
		in := drift.Input{Desired: plan(t, strings.Replace(text, "NAMED", declared, 1)).Targets["arctic-tern"],
			Accounts: []model.Object{account("xa", "1301"), account("yb", "1302")},
			Links:    []model.Link{{User: "xa.one", Name: "xa"}, {User: "yb.two", Name: "yb"}}}
		got := ""
		for _, f := range drift.Compare(in) {
			if f.Kind == model.Unmatched && strings.Contains(f.Note, "name") {
				got += f.User + ": " + f.Note + "\n"
			}
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s declared: %s", declared, got)
		}
	}
}

// A group whose number another has that nobody declares is that one under a new name, unless with a name power would go or come.
func TestRenamedGroup(t *testing.T) {
	s := schema
	s.Kinds = slices.Clone(s.Kinds)
	s.Kinds[1].Renames = true
	s.Kinds = append(s.Kinds, model.KindSchema{Kind: model.RightKind, Name: model.OnePart("name", ".")})
	d, err := declare.Read([]declare.File{{Name: "company.yaml", Text: company}}, map[string]model.Schema{"host": s})
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, map[string]model.Schema{"host": s}, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	said := func(others ...model.Object) (out string) {
		for _, f := range drift.Compare(drift.Input{Desired: p.Targets["arctic-tern"], Others: others}) {
			if f.Name == "deck" {
				out += say(f) + "; "
			}
		}
		return out
	}
	power := model.Object{Kind: model.RightKind, Name: model.Superuser}
	power.Attributes = power.Attributes.With(model.MemberGroups, "bilge")
	bilge := group("bilge", "5111", "marit.fell")
	if got := said(bilge, group("crew", "5110")); got != "different: rename group deck: bilge → deck; " {
		t.Error(got)
	}
	ours := bilge
	ours.System = true
	for name, others := range map[string][]model.Object{"power": {bilge, power}, "the system's own": {ours},
		"declared": {group("crew", "5111")}, "both there": {bilge, group("deck", "5199")}} {
		if got := said(others...); strings.Contains(got, "rename") {
			t.Errorf("%s: %s", name, got)
		}
	}
}
