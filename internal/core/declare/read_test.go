package declare_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
)

var schemas = map[string]model.Schema{
	"host": {Kind: "host", SystemNames: []string{"daemon"}, Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", `^[a-z_][a-z0-9_.-]{0,31}$`),
			Attributes: []model.AttributeSchema{{Name: "shell", Settable: true}, {Name: "home", Settable: true}, {Name: model.Disabled}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `^[a-z_][a-z0-9_.-]{0,31}$`), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}},
	"directory": {Kind: "directory", Settings: []string{"people", "groups"}, Needs: []string{"people", "groups"}, Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", `.`),
			Attributes: []model.AttributeSchema{{Name: "shell", Settable: true}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `.`), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}},
	"application": {Kind: "application", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", `.`),
			Attributes: []model.AttributeSchema{}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `.`), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.RightKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}},
}

const fleet = `roost: 1
targets:
  arctic-tern: {kind: host, address: "127.0.2.1:22", login: {as: root}, tags: {fleet: vessels}}
`

// Each text is wrong in one way; the message says what would be right.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"NUL in a name", "roost: 1\nusers:\n  x: {name: \"Marit\\0Fell\"}\n", "f.yaml:3:13: a text here holds a NUL"},
		{"line break in a mail", "roost: 1\nusers:\n  x: {name: X, mail: \"a@b\\nc\"}\n", "f.yaml:3:22: a text here holds a line break"},
		{"escape in a detail", "roost: 1\nusers:\n  x: {name: X, details: {base: \"\\e[31m\"}}\n", "a text here holds an escape"},
		{"C1 control", "roost: 1\nusers:\n  x: {name: \"M\\x9b\"}\n", "a text here holds a control character (U+009B)"},
		{"bidi override", "roost: 1\nusers:\n  x: {name: \"M\\u202Eretsaf\"}\n",
			"a character that turns the direction of writing (U+202E)"},
		{"zero width", "roost: 1\nusers:\n  x: {name: \"Ma\\u200Brit\"}\n", "a character that cannot be seen (U+200B)"},
		{"a joiner where no letters join", "roost: 1\nusers:\n  x: {name: \"Ma\\u200Drit\"}\n", "a character that cannot be seen (U+200D)"},
		{"zero width in an id", "roost: 1\nusers:\n  \"x\\u200By\": {name: X}\n",
			"f.yaml:3:3: a text here holds a character that cannot be seen (U+200B)"},
		{"space at the end", "roost: 1\nusers:\n  x: {name: \"Marit \"}\n", "name begins or ends with a space"},
		{"field misspelt", "roost: 1\nusers:\n  x: {name: X, mail: \"${user.famly}@x\"}\n",
			`a user has no field "famly"; did you mean "family"?`},
		{"field misspelt in a condition", "roost: 1\nroles:\n  r: {held-when: \"user.details.bse == 'x'\"}\nusers:\n  x: {name: X, " +
			"details: {base: y}}\n", `f.yaml:3:18: no user has a detail "bse"; did you mean "base"?`},
		{"details misspelt", "roost: 1\nroles:\n  r: {gives: [{at: arctic-tern, account: {home: \"${user.detials.base}\"}}]}\n",
			`a user has no field "detials"; did you mean "details"?`},
		{"field of a target", "roost: 1\nroles:\n  r: {gives: [{at: arctic-tern, account: {home: \"/${target.tags.flet}\"}}]}\n",
			`no target has a tag "flet"; did you mean "fleet"?`},
		{"a claim on what is protected", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: hen}, protect: " +
			"[\"svc*\"]}\nusers:\n  x: {name: X, accounts: {y: {name: svc-a}}}\n",
			`f.yaml:5:27: the account "svc-a" on y can be nobody's: protected by "svc*"`},
		{"a claim on our login", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: hen}}\nusers:\n  x: {name: X, accounts: " +
			"{y: {name: hen}}}\n", `the account "hen" on y can be nobody's: Hen Roost signs in with it`},
		{"a claim on the system's own", "roost: 1\nusers:\n  x: {name: X, accounts: {arctic-tern: {name: daemon}}}\n",
			`the account "daemon" on arctic-tern can be nobody's: the system's own`},
		{"a claim on what is lent to services", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: hen}, lends: " +
			"[daemon]}\nusers:\n  x: {name: X, accounts: {y: {name: daemon}}}\n",
			`is lent to service identities, and user "x" is none (service: true)`},
		{"no version", "users: {}\n", "f.yaml:1:1: a declaration file begins with roost: 1"},
		{"empty", "# nothing\n", "the file is empty"},
		{"not YAML", "roost: 1\nusers: [\n", "f.yaml:2:"},
		{"unknown key", "roost: 1\nuser:\n  x: {}\n", `f.yaml:2:1: unknown key "user" in the file; did you mean "users"?`},
		{"not a day", "roost: 1\nusers:\n  x: {name: X, until: 31.10.2026}\n",
			`f.yaml:3:23: "31.10.2026" is not a day; write it as 2026-04-01`},
		{"ends before it starts", "roost: 1\nusers:\n  x: {name: X, from: 2026-05-01, until: 2026-04-30}\n",
			`user "x" starts on 2026-05-01, after the end on 2026-04-30`},
		{"role ends before it starts", "roost: 1\nroles: {r: {}}\nusers:\n  x: {name: X, roles: [{role: r, from: 2026-05-01, until: " +
			"2026-04-30}]}\n", `role "r" of user "x" starts on`},
		{"role twice", "roost: 1\nroles: {r: {}}\nusers:\n  x:\n    name: X\n    roles: [r, {role: r, from: 2026-05-01}]\n",
			`user "x" is given role "r" twice for the same days, first on line 6`},
		{"role without name", "roost: 1\nusers:\n  x: {name: X, roles: [{until: 2026-05-01}]}\n", `a role of user x without its name`},
		{"never with", "roost: 1\nroles: {a: {never-with: [c]}, b: {includes: [c]}, c: {}}\nusers:\n  x: {name: X, roles: [a, b]}\n",
			`f.yaml:4:27: user "x" would hold role c (through b) beside role a, which nobody may (never-with)`},
		{"never with, includes", "roost: 1\nroles: {a: {never-with: [c]}, b: {includes: [a, c]}, c: {}}\n",
			`role "b" includes both "a" and "c", which nobody may hold together`},
		{"never with itself", "roost: 1\nroles: {a: {never-with: [a]}}\n", `role "a" stands in its own never-with`},
		{"own manager", "roost: 1\nusers:\n  x: {name: X, manager: x}\n", `user "x" is their own manager`},
		{"elevate nothing", "roost: 1\nroles:\n  x:\n    gives:\n      - {at: arctic-tern, elevate: reboot}\n",
			`"reboot" is neither all, none nor a command with its whole path`},
		{"elevate where it cannot be", "roost: 1\nroles:\n  x:\n    gives:\n      - {at: arctic-tern, elevate: all}\n",
			`nobody can be given superuser rights on arctic-tern: Hen Roost cannot set that on targets of kind host`},
		{"remove where it cannot be", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, unexpected: remove}\n",
			"accounts of kind host cannot be removed yet"},
		{"right where it cannot be", "roost: 1\nrights:\n  counter: {at: arctic-tern, allows: [sell]}\n",
			"right counter is declared at arctic-tern, but a target of kind host cannot be asked for a right"},
		{"right elsewhere", "roost: 1\nrights: {counter: {at: office, allows: [sell]}}\ntargets:\n  office: {kind: application, address: " +
			"a, login: {as: r}}\n  shop: {kind: application, address: b, login: {as: r}}\nroles:\n  r: {gives: [{at: shop, rights: " +
			"[counter]}]}\n", `right "counter" is not declared at shop; it is declared at f.yaml:2:10`},
		{"right unknown", "roost: 1\nrights: {counter: {at: office, allows: [sell]}}\ntargets: {office: {kind: application, address: a, " +
			"login: {as: r}}}\nroles:\n  r: {gives: [{at: office, rights: [couter]}]}\n",
			`no right is called "couter"; did you mean "counter"?`},
		{"pool without seats", "roost: 1\npools: {suite: {at: {office: desk}}}\ntargets: {office: {kind: application, address: a, login: " +
			"{as: r}}}\n", `pool suite does not say how many seats it has`},
		{"pool of nothing", "roost: 1\npools: {suite: {seats: 3}}\n", `pool suite does not say which licences take its seats`},
		{"pool at a target without licences", "roost: 1\npools: {suite: {seats: 3, at: {arctic-tern: desk}}}\n",
			`pool suite names a licence at arctic-tern, but a target of kind host has none`},
		{"pool at no target", "roost: 1\npools: {suite: {seats: 3, at: {artic-tern: desk}}}\n", `did you mean "arctic-tern"?`},
		{"a licence in two pools", "roost: 1\npools: {a: {seats: 3, at: {office: [desk, plan]}}, b: {seats: 1, at: {office: plan}}}\n" +
			"targets: {office: {kind: elsewhere, address: a, login: {as: r}}}\n",
			`the licence plan at office is in pool "a" (f.yaml:2:9) already: a seat is taken once`},
		{"power left to others", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, leaves: [disabled]}\n",
			`target "y" leaves disabled to others, by which it is decided who may do what there`},
		{"what nobody knows left to others", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, leaves: [shel]}\n",
			`has no attribute "shel" that can be set; did you mean "shell"?`},
		{"container without path", "roost: 1\ncontainers:\n  people: {at: arctic-tern}\n", `container "people" has no path`},
		{"policy nowhere", "roost: 1\npolicies:\n  staff: {password: {length: 12}}\n", `policy staff does not say at which targets`},
		{"policy, length of time", "roost: 1\npolicies:\n  staff: {at: arctic-tern, lockout: {for: 15 minutes}}\n",
			`"15 minutes" is not a length of time; write it as 90d, 12h, 15m, 30s, or never`},
		{"limit", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, limits: {remove-share: 10}}\n",
			`"10" is not a share; write it as 10%`},
		{"limit unknown", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, limits: {removes: 10}}\n",
			`unknown key "removes" in limits of y; did you mean "remove"?`},
		{"window", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, window: {days: [munday], from: 25:00}}\n",
			`did you mean "monday"?`},
		{"removal", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, removal: {home: burn}}\n",
			`"burn" is not one of keep, archive, remove`},
		{"after itself", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, after: [z]}\n  z: {kind: host, address: a, " +
			"login: {as: r}, after: [y]}\n", `target "y" comes after itself: y → z → y`},
		{"unknown role", "roost: 1\nusers:\n  x: {name: X, roles: [deckcrew]}\nroles: {deck-crew: {}}\n",
			`f.yaml:3:24: no role is called "deckcrew"; did you mean "deck-crew"?`},
		{"unknown target", "roost: 1\nroles:\n  r:\n    gives:\n      - at: artic-tern\n",
			`no target is called "artic-tern"; did you mean "arctic-tern"?`},
		{"unknown tag", "roost: 1\nroles:\n  r:\n    gives:\n      - at: {kind: host, tags: {fleet: vesels}}\n",
			`no target is chosen by tag fleet: vesels; did you mean fleet: vessels?`},
		{"unknown attribute", "roost: 1\nroles:\n  r:\n    gives:\n      - {at: arctic-tern, account: {shel: /bin/sh}}\n",
			`has no attribute "shel" that can be set; did you mean "shell"?`},
		{"unknown param", "roost: 1\nparams: {domain: x}\nusers:\n  x: {name: X, mail: \"${params.domian}\"}\n",
			`no param is called "domian"; did you mean "domain"?`},
		{"bad expression", "roost: 1\nroles:\n  r: {held-when: \"user.x ==\"}\n", "f.yaml:3:18: Syntax error"},
		{"role in a loop", "roost: 1\nroles:\n  a: {includes: [b]}\n  b: {includes: [a]}\n", `role "a" includes itself: a → b → a`},
		{"group in itself", "roost: 1\ngroups:\n  a: {in: [a]}\n", `group "a" is inside itself: a → a`},
		{"same number", "roost: 1\nusers:\n  a: {name: A, number: 7}\n  b: {name: B, number: 7}\n",
			`user "b" and user "a" (f.yaml:3:3) have the same number 7`},
		{"twice", "roost: 1\nusers:\n  a: {name: A}\n---\nroost: 1\n", "a second document in one file"},
		{"same local name", "roost: 1\nusers:\n  a: {name: A, accounts: {arctic-tern: {name: x}}}\n" +
			"  b: {name: B, accounts: {arctic-tern: {name: x}}}\n", `account "x" on arctic-tern is given to "b" and to user "a"`},
		{"name unfit", "roost: 1\nusers:\n  a: {name: A, accounts: {arctic-tern: {name: \"o'neil; reboot\"}}}\n",
			`"o'neil; reboot" cannot be the name of an account on arctic-tern`},
		{"bad key", "roost: 1\nusers:\n  a: {name: A, keys: [hello]}\n", "a key is one line of the form"},
		{"no name", "roost: 1\nusers:\n  a: {}\n", `user "a" has no name`},
		{"bad number", "roost: 1\nusers:\n  a: {name: A, number: minus}\n", `"minus" is not a whole number from 1 to 2147483646`},
		{"missing setting", "roost: 1\ntargets:\n  d: {kind: directory, address: a, login: {as: x}, settings: {people: p}}\n",
			`needs the setting "groups"`},
		{"unknown kind", "roost: 1\ntargets:\n  d: {kind: hots, address: a, login: {as: x}}\n",
			`unknown kind "hots"; did you mean "host"?`},
		{"list for text", "roost: 1\nusers:\n  a: {name: [A]}\n", "a text is wanted here, not a list"},
		{"no address", "roost: 1\nusers:\n  a/b: {name: A}\n", `user "a/b" holds a /`},
		{"unknown manager", "roost: 1\nusers:\n  odd: {name: Odd}\n  x:\n    name: X\n    manager: od\n",
			`f.yaml:6:14: no user is called "od"; did you mean "odd"?`},
		{"unknown owner", "roost: 1\nusers:\n  odd: {name: Odd}\ngroups:\n  g: {owner: od}\n",
			`f.yaml:5:14: no user is called "od"; did you mean "odd"?`},
		{"held by name", "roost: 1\nroles: {e: {held-when: \"true\"}}\nusers:\n  a: {name: A, roles: [e]}\n",
			`role "e" is held by condition`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := declare.Read([]declare.File{{Name: "f.yaml", Text: c.text}, {Name: "fleet.yaml", Text: fleet}}, schemas)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("got %v\nwant %s", err, c.want)
			}
		})
	}
}

// Twenty faults in three files are all told, in order of place, each with its line.
func TestAllAtOnce(t *testing.T) {
	var b strings.Builder
	b.WriteString("roost: 1\nusers:\n")
	for i := range 10 {
		fmt.Fprintf(&b, "  user%d: {name: U, rolse: [x]}\n", i)
	}
	second := "roost: 1\nroles:\n" + strings.Repeat("  r: {abuot: x}\n", 1) + "groups:\n  g: {in: [nowhere], owner: nobody}\n"
	for i := range 7 {
		second += fmt.Sprintf("  h%d: {numbr: 1}\n", i)
	}
	_, err := declare.Read([]declare.File{{Name: "a.yaml", Text: b.String()}, {Name: "b.yaml", Text: second},
		{Name: "fleet.yaml", Text: fleet}}, schemas)
	var faults declare.Faults
	if !errors.As(err, &faults) || len(faults) != 20 {
		t.Fatalf("%d faults, want 20:\n%v", len(faults), err)
	}
	for i, f := range faults {
		if i > 0 && f.At.File == faults[i-1].At.File && f.At.Line < faults[i-1].At.Line {
			t.Errorf("out of order: %v after %v", f, faults[i-1])
		}
		if f.Line == "" {
			t.Errorf("no line with %v", f)
		}
		if f.At.File == "a.yaml" && (len(f.Users) != 1 || !strings.HasSuffix(f.Message, "roles\"?") ||
			!strings.Contains(f.Message, "user "+f.Users[0]+";")) || f.At.File != "a.yaml" && f.Users != nil {
			t.Errorf("%v is told to concern %v", f, f.Users)
		}
	}
	if want := "a.yaml:3:20: unknown key \"rolse\" in user user0; did you mean \"roles\"?\n" +
		"      3 |   user0: {name: U, rolse: [x]}"; faults[0].String() != want {
		t.Errorf("got  %q\nwant %q", faults[0], want)
	}
}

func TestDefinedTwice(t *testing.T) {
	f := declare.File{Name: "a.yaml", Text: "roost: 1\ngroups:\n  crew: {about: x}\n"}
	g := declare.File{Name: "b.yaml", Text: "roost: 1\n\ngroups:\n  crew: {about: y}\n"}
	_, err := declare.Read([]declare.File{f, g}, schemas)
	if want := `b.yaml:4:3: group "crew" is defined twice; the other place is a.yaml:3:3`; err == nil ||
		!strings.HasPrefix(err.Error(), want) {
		t.Errorf("%v, want %s", err, want)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"marit.fell", "arctic-tern", "deck-crew"}
	for in, want := range map[string]string{"marti.fell": "marit.fell", "Arctic-Tern": "arctic-tern", "x": "", "deck-crwe": "deck-crew",
		"something else": ""} {
		if got := declare.Nearest(in, known); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", in, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(fleet)
	f.Add("roost: 1\nusers: &a\n  x: *a\n")
	f.Add("roost: 1\nparams: {a: \"${'}\"}\n? [x]: y\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, err := declare.Read([]declare.File{{Name: "f", Text: text}}, schemas)
		var faults declare.Faults
		if err != nil && !errors.As(err, &faults) {
			t.Errorf("an error that is no fault: %v", err)
		}
	})
}

// What would take for ever, or fill the memory, is refused in words.
func TestBounds(t *testing.T) {
	bomb := "roost: 1\nparams:\n  a: &a x\nusers:\n  u: &u {name: U, details: &d {" + strings.Repeat("k: v, ", 1) + "}}\n"
	details := &strings.Builder{}
	for i := range 2000 {
		fmt.Fprintf(details, "k%d: v, ", i)
	}
	bomb = strings.Replace(bomb, "k: v, ", details.String(), 1)
	users := &strings.Builder{}
	for i := range 2000 {
		fmt.Fprintf(users, "  u%d: {name: U, details: *d}\n", i)
	}
	many := &strings.Builder{}
	many.WriteString("roost: 1\nusers:\n")
	for i := range 10_000 {
		fmt.Fprintf(many, "  u%d: {nmae: U}\n", i)
	}
	for _, c := range []struct {
		name  string
		files []declare.File
		want  string
	}{
		{"aliases", []declare.File{{Name: "f.yaml", Text: bomb + users.String()}}, "aliases unfold this file to more than it can hold"},
		{"a large file", []declare.File{{Name: "f.yaml", Text: "roost: 1\n" + strings.Repeat("# nothing but words\n", 50<<20/20)}},
			"the file has 52428809 bytes; the most is 33554432, so spread it over several"},
		{"many files", []declare.File{{Name: "a.yaml", Text: "roost: 1\n" + strings.Repeat("# a long line\n", 2<<20)},
			{Name: "b.yaml", Text: "roost: 1\n" + strings.Repeat("# a long line\n", 2<<20)}},
			"all files together have more than 50331648 bytes"},
		{"many lines", []declare.File{{Name: "f.yaml", Text: "roost: 1\n" + strings.Repeat("#\n", 4<<20)}},
			"the file has 4194305 lines; the most is 3145728"},
		{"many faults", []declare.File{{Name: "f.yaml", Text: many.String()}},
			"there is more to mend; only the first 1000 faults are told"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := declare.Read(c.files, schemas)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%.300v; want %s", err, c.want)
			}
			if faults := (declare.Faults)(nil); errors.As(err, &faults) && len(faults) > 1001 {
				t.Errorf("%d faults", len(faults))
			}
		})
	}
}
