package declare_test

import (
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
)

const edited = `roost: 1

# The deck crew.
users:
  marit.fell:   # started in spring
    name: Marit Fell
    number: 1001   # her uid everywhere
    details: {base: northquay, note: "a, b: c"}
    roles:
      - deck-crew
      - {role: bosun, until: 2026-08-15, because: covering}   # for Gunnar
    keys:
      - ssh-ed25519 AAAAx marit@laptop

  # a pilot
  "olav o'hara": {name: "Olav O'Hara", roles: [deck-crew], accounts: {arctic-tern: none}}
  last: {name: Last}

groups:
  crew:
    about: All seagoing staff
`

// Each edit changes what it names, and nothing else: the other lines stay as they are.
func TestApply(t *testing.T) {
	for _, c := range []struct {
		name     string
		edit     declare.Edit
		old, new string
	}{
		{"set a value that is there", declare.Edit{Section: "users", Name: "marit.fell", Key: "number", Do: "set", Value: 1042},
			"    number: 1001   # her", "    number: 1042   # her"},
		{"set a new key", declare.Edit{Section: "users", Name: "marit.fell", Key: "until", Do: "set", Value: "2026-10-31"},
			"marit@laptop\n", "marit@laptop\n    until: 2026-10-31\n"},
		{"set inside braces", declare.Edit{Section: "users", Name: "marit.fell", Key: "details.base", Do: "set", Value: "southness"},
			"{base: northquay,", "{base: southness,"},
		{"a new key inside braces", declare.Edit{Section: "users", Name: "marit.fell", Key: "details.season", Do: "set",
			Value: "summer: 26"}, `c"}`, `c", season: "summer: 26"}`},
		{"a new mapping", declare.Edit{Section: "users", Name: "last", Key: "accounts.arctic-tern", Do: "set", Value: "none"},
			"last: {name: Last}", "last: {name: Last, accounts: {arctic-tern: none}}"},
		{"add to a list of lines", declare.Edit{Section: "users", Name: "marit.fell", Key: "roles", Do: "add", Value: "mate"},
			"# for Gunnar\n", "# for Gunnar\n      - mate\n"},
		{"add to a list in brackets", declare.Edit{Section: "users", Name: "olav o'hara", Key: "roles", Do: "add", Value: "mate"},
			"[deck-crew]", "[deck-crew, mate]"},
		{"add to no list", declare.Edit{Section: "users", Name: "last", Key: "roles", Do: "add",
			Value: map[string]any{"role": "mate", "until": "2026-12-01"}}, "{name: Last}",
			"{name: Last, roles: [{role: mate, until: 2026-12-01}]}"},
		{"take from a list of lines", declare.Edit{Section: "users", Name: "marit.fell", Key: "roles", Do: "take", Value: "bosun"},
			"      - {role: bosun, until: 2026-08-15, because: covering}   # for Gunnar\n", ""},
		{"take the last of a list", declare.Edit{Section: "users", Name: "olav o'hara", Key: "roles", Do: "take", Value: "deck-crew"},
			", roles: [deck-crew]", ""},
		{"take a key", declare.Edit{Section: "users", Name: "marit.fell", Key: "keys", Do: "take"},
			"    keys:\n      - ssh-ed25519 AAAAx marit@laptop\n", ""},
		{"take a key inside braces", declare.Edit{Section: "users", Name: "marit.fell", Key: "details.base", Do: "take"},
			"{base: northquay, note", "{note"},
		{"take an entry", declare.Edit{Section: "users", Name: "last", Do: "take"}, "  last: {name: Last}\n", ""},
		{"a new entry", declare.Edit{Section: "users", Name: "ines: #1", Do: "set",
			Value: map[string]any{"name": "Inês \"Nê\" Silva", "number": 7.0}}, "  last: {name: Last}\n",
			"  last: {name: Last}\n  \"ines: #1\": {name: \"Inês \\\"Nê\\\" Silva\", number: 7}\n"},
		{"a new section", declare.Edit{Section: "params", Name: "season", Do: "set", Value: "summer", File: "f.yaml"}, "seagoing staff\n",
			"seagoing staff\n\nparams:\n  season: summer\n"},
		{"a block by a value", declare.Edit{Section: "users", Name: "marit.fell", Key: "roles", Do: "set", Value: []any{"mate"}},
			"    roles:\n      - deck-crew\n      - {role: bosun, until: 2026-08-15, because: covering}   # for Gunnar\n",
			"    roles: [mate]\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			files, err := declare.Apply([]declare.File{{Name: "f.yaml", Text: edited}}, []declare.Edit{c.edit})
			if err != nil {
				t.Fatal(err)
			}
			if want := strings.Replace(edited, c.old, c.new, 1); files[0].Text != want || want == edited {
				t.Errorf("got\n%s\nwant\n%s", files[0].Text, want)
			}
		})
	}
	for _, c := range []struct {
		edit declare.Edit
		want string
	}{
		{declare.Edit{Section: "user", Name: "x", Do: "set"}, `did you mean "users"?`},
		{declare.Edit{Section: "users", Name: "x", Do: "put"}, `"put" is not one of set, add, take`},
		{declare.Edit{Section: "users", Name: "nobody", Do: "take"}, `nothing is called "nobody" under users`},
		{declare.Edit{Section: "users", Name: "last", Key: "roles", Do: "take", Value: "x"}, "users last has no roles"},
		{declare.Edit{Section: "users", Name: "olav o'hara", Key: "roles", Do: "take", Value: "mate"},
			`roles of users olav o'hara does not hold "mate"`},
		{declare.Edit{Section: "users", Name: "last", Key: "name.given", Do: "set", Value: "x"},
			"is a single value and has no key given"}, {declare.Edit{Section: "roles", Name: "x", Do: "set"},
			"no file has a section roles yet"},
		{declare.Edit{Section: "users", Name: "new", Do: "set", File: "g.yaml"}, `no file of the declaration is called "g.yaml"`},
	} {
		if _, err := declare.Apply([]declare.File{{Name: "f.yaml", Text: edited}}, []declare.Edit{c.edit}); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %s", c.edit, err, c.want)
		}
	}
}

// Whatever is written is read back as it was, and every comment stays.
func FuzzApply(f *testing.F) {
	for _, v := range []string{"x", "a: b", "- [", "#", "null", "1e3", "yes", "it's", `"`, "a\nb", " ", "${user.id}", "نور", "\u0085",
		"2026-01-01", "!t", "a #b", "{", "key:"} {
		f.Add(v, true)
		f.Add(v, false)
	}
	f.Fuzz(func(t *testing.T, value string, inside bool) {
		name := "marit.fell"
		if inside {
			name = "olav o'hara"
		}
		for _, r := range value {
			if r == 0xfffd {
				return
			}
		}
		files, err := declare.Apply([]declare.File{{Name: "f.yaml", Text: edited}}, []declare.Edit{
			{Section: "users", Name: name, Key: "given", Do: "set", Value: value},
			{Section: "users", Name: name, Key: "details.new", Do: "set", Value: value}})
		if err != nil {
			t.Fatal(err)
		}
		text := files[0].Text
		for _, comment := range []string{"# The deck crew.", "# started in spring", "# her uid everywhere", "# for Gunnar", "# a pilot"} {
			if !strings.Contains(text, comment) {
				t.Fatalf("%q is gone from\n%s", comment, text)
			}
		}
		roles := declare.File{Name: "r.yaml", Text: "roost: 1\nroles: {deck-crew: {}, bosun: {}}\n"}
		d, err := declare.Read([]declare.File{files[0], roles, {Name: "fleet.yaml", Text: fleet}}, schemas)
		if err != nil {
			if strings.Contains(err.Error(), "not YAML") || strings.Contains(err.Error(), "wanted here") {
				t.Fatalf("%q: %v\n%s", value, err, text)
			}
			return // such as ${ without its end
		}
		u := d.Users[name]
		if u == nil {
			t.Fatalf("%q: nobody is called so in\n%s", value, text)
		}
		if detail, _ := u.Details.Get("new"); u.Given.Raw != value || detail.Raw != value {
			t.Fatalf("%q came back as %q and %q from\n%s", value, u.Given.Raw, detail.Raw, text)
		}
		back, err := declare.Apply(files, []declare.Edit{{Section: "users", Name: name, Key: "given", Do: "take"},
			{Section: "users", Name: name, Key: "details.new", Do: "take"}})
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Replace(back[0].Text, ", details: {}", "", 1); got != edited {
			t.Fatalf("%q, taken back, leaves\n%s", value, got)
		}
	})
}

func TestApplyMany(t *testing.T) {
	files := []declare.File{{Name: "a.yaml", Text: "roost: 1\nusers:\n  a: {name: A}\n"},
		{Name: "b.yaml", Text: "roost: 1\nusers:\n- wrong\n"}}
	out, err := declare.Apply(files, []declare.Edit{{Section: "users", Name: "a", Key: "number", Do: "set", Value: 1},
		{Section: "users", Name: "x", Do: "take"}, {Section: "users", Name: "b", Do: "set", Value: map[string]any{"name": "B"}}})
	if err == nil || !strings.Contains(err.Error(), "edit 2: ") || slices.Equal(out, files) ||
		files[0].Text != "roost: 1\nusers:\n  a: {name: A}\n" {
		t.Errorf("%v %v", err, out)
	}
}
