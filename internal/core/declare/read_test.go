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
	"host": {Kind: "host", AccountName: `^[a-z_][a-z0-9_.-]{0,31}$`, GroupName: `^[a-z_][a-z0-9_.-]{0,31}$`,
		Account: []model.AttributeSchema{{Name: "shell", Settable: true}, {Name: "home", Settable: true}, {Name: model.Disabled}}},
	"directory": {Kind: "directory", AccountName: `.`, GroupName: `.`, Settings: []string{"people", "groups"}, Needs: []string{"people", "groups"},
		Account: []model.AttributeSchema{{Name: "shell", Settable: true}}},
}

const fleet = `roost: 1
targets:
  arctic-tern: {kind: host, address: "127.0.2.1:22", login: {as: root}, tags: {fleet: vessels}}
`

// Each text is wrong in one way; the message says what would be right.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"no version", "users: {}\n", "f.yaml:1:1: a declaration file begins with roost: 1"},
		{"empty", "# nothing\n", "the file is empty"},
		{"not YAML", "roost: 1\nusers: [\n", "f.yaml:2:"},
		{"unknown key", "roost: 1\nuser:\n  x: {}\n", `f.yaml:2:1: unknown key "user" in the file; did you mean "users"?`},
		{"not yet", "roost: 1\npolicies: {}\n", `f.yaml:2:1: "policies" in the file is not yet carried out by this version`},
		{"not yet, user", "roost: 1\nusers:\n  x: {name: X, until: 2026-10-31}\n", `"until" in user x is not yet carried out`},
		{"not yet, role", "roost: 1\nroles:\n  x:\n    gives:\n      - {at: arctic-tern, elevate: all}\n", `"elevate" in a grant of role x is not yet carried out`},
		{"not yet, remove", "roost: 1\ntargets:\n  y: {kind: host, address: a, login: {as: r}, unexpected: remove}\n", "unexpected: remove is not yet carried out"},
		{"unknown role", "roost: 1\nusers:\n  x: {name: X, roles: [deckcrew]}\nroles: {deck-crew: {}}\n", `f.yaml:3:24: no role is called "deckcrew"; did you mean "deck-crew"?`},
		{"unknown target", "roost: 1\nroles:\n  r:\n    gives:\n      - at: artic-tern\n", `no target is called "artic-tern"; did you mean "arctic-tern"?`},
		{"unknown tag", "roost: 1\nroles:\n  r:\n    gives:\n      - at: {kind: host, tags: {fleet: vesels}}\n", `no target is chosen by tag fleet: vesels; did you mean fleet: vessels?`},
		{"unknown attribute", "roost: 1\nroles:\n  r:\n    gives:\n      - {at: arctic-tern, account: {shel: /bin/sh}}\n", `has no attribute "shel" that can be set; did you mean "shell"?`},
		{"unknown param", "roost: 1\nparams: {domain: x}\nusers:\n  x: {name: X, mail: \"${params.domian}\"}\n", `no param is called "domian"; did you mean "domain"?`},
		{"bad expression", "roost: 1\nroles:\n  r: {held-when: \"user.x ==\"}\n", "f.yaml:3:18: Syntax error"},
		{"role in a loop", "roost: 1\nroles:\n  a: {includes: [b]}\n  b: {includes: [a]}\n", `role "a" includes itself: a → b → a`},
		{"group in itself", "roost: 1\ngroups:\n  a: {in: [a]}\n", `group "a" is inside itself: a → a`},
		{"same number", "roost: 1\nusers:\n  a: {name: A, number: 7}\n  b: {name: B, number: 7}\n", `user "b" and user "a" (f.yaml:3:3) have the same number 7`},
		{"twice", "roost: 1\nusers:\n  a: {name: A}\n---\nroost: 1\n", "a second document in one file"},
		{"same local name", "roost: 1\nusers:\n  a: {name: A, accounts: {arctic-tern: {name: x}}}\n  b: {name: B, accounts: {arctic-tern: {name: x}}}\n", `account "x" on arctic-tern is given to "b" and to user "a"`},
		{"name unfit", "roost: 1\nusers:\n  a: {name: A, accounts: {arctic-tern: {name: \"o'neil; reboot\"}}}\n", `"o'neil; reboot" cannot be the name of an account on arctic-tern`},
		{"bad key", "roost: 1\nusers:\n  a: {name: A, keys: [hello]}\n", "a key is one line of the form"},
		{"no name", "roost: 1\nusers:\n  a: {}\n", `user "a" has no name`},
		{"bad number", "roost: 1\nusers:\n  a: {name: A, number: minus}\n", `"minus" is not a whole number from 1 to 2147483646`},
		{"missing setting", "roost: 1\ntargets:\n  d: {kind: directory, address: a, login: {as: x}, settings: {people: p}}\n", `needs the setting "groups"`},
		{"unknown kind", "roost: 1\ntargets:\n  d: {kind: hots, address: a, login: {as: x}}\n", `unknown kind "hots"; did you mean "host"?`},
		{"list for text", "roost: 1\nusers:\n  a: {name: [A]}\n", "a text is wanted here, not a list"},
		{"no address", "roost: 1\nusers:\n  a/b: {name: A}\n", `user "a/b" holds a /`},
		{"unknown manager", "roost: 1\nusers:\n  odd: {name: Odd}\n  x:\n    name: X\n    manager: od\n", `f.yaml:6:14: no user is called "od"; did you mean "odd"?`},
		{"unknown owner", "roost: 1\nusers:\n  odd: {name: Odd}\ngroups:\n  g: {owner: od}\n", `f.yaml:5:14: no user is called "od"; did you mean "odd"?`},
		{"held by name", "roost: 1\nroles: {e: {held-when: \"true\"}}\nusers:\n  a: {name: A, roles: [e]}\n", `role "e" is held by condition`},
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
	_, err := declare.Read([]declare.File{{Name: "a.yaml", Text: b.String()}, {Name: "b.yaml", Text: second}, {Name: "fleet.yaml", Text: fleet}}, schemas)
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
	}
	if want := "a.yaml:3:20: unknown key \"rolse\" in user user0; did you mean \"roles\"?\n      3 |   user0: {name: U, rolse: [x]}"; faults[0].String() != want {
		t.Errorf("got  %q\nwant %q", faults[0], want)
	}
}

func TestDefinedTwice(t *testing.T) {
	f := declare.File{Name: "a.yaml", Text: "roost: 1\ngroups:\n  crew: {about: x}\n"}
	g := declare.File{Name: "b.yaml", Text: "roost: 1\n\ngroups:\n  crew: {about: y}\n"}
	_, err := declare.Read([]declare.File{f, g}, schemas)
	if want := `b.yaml:4:3: group "crew" is defined twice; the other place is a.yaml:3:3`; err == nil || !strings.HasPrefix(err.Error(), want) {
		t.Errorf("%v, want %s", err, want)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"marit.fell", "arctic-tern", "deck-crew"}
	for in, want := range map[string]string{"marti.fell": "marit.fell", "Arctic-Tern": "arctic-tern", "x": "", "deck-crwe": "deck-crew", "something else": ""} {
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
