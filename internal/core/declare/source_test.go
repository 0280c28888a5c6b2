package declare

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

// told lists all that a declaration says of its users and groups, and where.
func told(d *model.Declaration) string {
	var b strings.Builder
	for _, id := range sorted(d.Users) {
		u := d.Users[id]
		fmt.Fprintf(&b, "%s at %s: %q %d %s manager %q at %s", id, d.Locate(u.Pos), u.Name.Raw, u.Number, d.Locate(u.Mail.Pos),
			u.Manager.Name, d.Locate(u.Manager.Pos))
		for _, h := range u.Roles {
			fmt.Fprintf(&b, ", %s at %s", h.Name, d.Locate(h.Pos))
		}
		for _, target := range sorted(u.Accounts) {
			fmt.Fprintf(&b, ", on %s %+v", target, u.Accounts[target].Name)
		}
		b.WriteByte('\n')
	}
	for _, name := range sorted(d.Groups) {
		fmt.Fprintf(&b, "%s at %s\n", name, d.Locate(d.Groups[name].Pos))
	}
	return b.String()
}

var kinds = map[string]model.Schema{"host": {Kind: "host", Kinds: []model.KindSchema{
	{Kind: model.Account, Name: model.OnePart("login", ".")}}}}

const crewRoles = "roost: 1\nroles: {crew: {}, mate: {}}\ntargets: {t: {kind: host, address: a, login: {as: root}}}\n"

// turns is how often something random is tried: an eighth of it, unless LONG is set.
func turns(n int) int {
	if os.Getenv("LONG") == "" {
		return n / 8
	}
	return n
}

// A revision read on the one before says the same as when it is read alone, and has the same faults.
func TestReadOn(t *testing.T) {
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	files := []File{{"big.yaml", large(1200, "")}, {"roles.yaml", crewRoles}}
	before, err := ReadOn(nil, files, kinds)
	if err != nil {
		t.Fatal(err)
	}
	alone, faulty := 0, 0
	user := func() string { return fmt.Sprintf("   hand.%d:\n", random.IntN(1200)) }
	for i := range turns(60) {
		next := slices.Clone(files)
		text := &next[0].Text
		at := strings.Index(*text, user())
		if at < 0 {
			continue
		}
		put := func(s string) { *text = (*text)[:at] + s + (*text)[at:] }
		id := fmt.Sprintf("new.%d", i)
		switch random.IntN(14) {
		case 0:
			put("   " + id + ":\n      name: New\n")
		case 1:
			put(fmt.Sprintf("   %s: {name: New, number: %d, roles: [crew]}\n", id, 1000+random.IntN(2000)))
		case 2:
			put(fmt.Sprintf("   %s: {name: New, manager: hand.%d, accounts: {t: {name: hand.%d}}}\n", id, random.IntN(1200),
				random.IntN(1300)))
		case 3: // somebody goes
			end := strings.Index((*text)[at+4:], "   hand.")
			if end > 0 {
				*text = (*text)[:at] + (*text)[at+4+end:]
			}
		case 4:
			*text = strings.Replace(*text, "      number: ", "      numbr: ", 1)
		case 5:
			put("# a line more\n")
		case 6:
			at = strings.Index(*text, "groups:\n")
			put("   " + id + ": {name: Last}\n")
		case 7:
			*text += "  gang-" + id + ": {}\n"
		case 8:
			put("   hand.7: {name: Twice}\n")
		case 9:
			put("  odd: {name: Odd}\n")
		case 10:
			at++
			put("x")
		case 11:
			put("roles:\n  late: {}\n")
		case 12:
			put("   " + id + ": {name: New, roles: [mat]}\n")
			*text += "# the end"
		case 13:
			next[1].Text = strings.Replace(next[1].Text, "mate: {}", "mate: {about: x}", 1)
		}
		followed, ferr := ReadOn(before, next, kinds)
		fresh, err := ReadOn(nil, next, kinds)
		switch {
		case err != nil:
			faulty++
			if ferr == nil || ferr.Error() != err.Error() {
				t.Fatalf("seed %d, step %d: followed: %v\nalone: %v", seed, i, ferr, err)
			}
			continue
		case ferr != nil:
			t.Fatalf("seed %d, step %d: only followed: %v", seed, i, ferr)
		case told(followed.Declaration) != told(fresh.Declaration):
			t.Fatalf("seed %d, step %d: it is said otherwise", seed, i)
		case !slices.Equal(followed.Files(), next):
			t.Fatalf("seed %d, step %d: the text is not kept", seed, i)
		}
		if !followed.Whole {
			alone++
			if len(followed.Touched) > 400 {
				t.Errorf("%d users touched by one change", len(followed.Touched))
			}
		}
		before, files = followed, next
	}
	if alone < turns(10) || os.Getenv("LONG") != "" && faulty < 5 {
		t.Errorf("seed %d: %d changes of users alone, %d faulty", seed, alone, faulty)
	}
}

// fresh is the edit that makes somebody new.
func fresh(name, file string) Edit {
	return Edit{Section: "users", Name: name, Do: Set, Value: map[string]any{"name": "Somebody " + name}, File: file}
}

// Edits made in the parts alone leave the text that edits of the whole files do.
func TestApplyInParts(t *testing.T) {
	files := []File{{"big.yaml", large(1200, "")}, {"roles.yaml", crewRoles}}
	s, err := ReadOn(nil, files, kinds)
	if err != nil {
		t.Fatal(err)
	}
	for _, edits := range [][]Edit{
		{{Section: "users", Name: "hand.600", Key: "number", Do: Set, Value: 77}},
		{{Section: "users", Name: "hand.600", Do: Take}, {Section: "users", Name: "hand.2", Key: "roles", Do: Add, Value: "crew"},
			{Section: "users", Name: "hand.2", Key: "roles", Do: Add, Value: "mate"}},
		{{Section: "users", Name: "nina", Do: Set, Value: map[string]any{"name": "Nina"}},
			{Section: "users", Name: "nina", Key: "number", Do: Set, Value: 8}},
		{{Section: "roles", Name: "bosun", Do: Set, Value: map[string]any{"about": "x"}}},
		{{Section: "groups", Name: "crew", Key: "about", Do: Set, Value: "all"}},
		{{Section: "params", Name: "domain", Do: Set, Value: "y"}},
		{{Section: "rights", Name: "r", Do: Set, Value: map[string]any{"at": "t"}, File: "roles.yaml"}},
		{fresh("a", ""), fresh("b", ""), fresh("c", "big.yaml"), {Section: "users", Name: "b", Key: "number", Do: Set, Value: 9},
			fresh("d", ""), fresh("a", ""), {Section: "users", Name: "hand.600", Do: Take}, fresh("hand.600", ""), fresh("e", "")},
		{fresh("a", "roles.yaml"), fresh("b", "roles.yaml"), fresh("c", "")},
		{{Section: "roles", Name: "x", Do: Set, Value: map[string]any{"about": "x"}}, {Section: "roles", Name: "y", Do: Set,
			Value: map[string]any{"about": "y"}}, {Section: "groups", Name: "z", Do: Set, File: "roles.yaml",
			Value: map[string]any{"about": "z"}},
			{Section: "roles", Name: "x", Do: Set, Value: map[string]any{"about": "again"}}, {Section: "roles", Name: "y", Do: Take},
			{Section: "roles", Name: "y", Do: Set, Value: map[string]any{"about": "back"}}},
		{fresh("a", "none.yaml"), fresh(" ", ""), fresh("c", "")},
		{{Section: "policies", Name: "p", Do: Set, Value: map[string]any{"at": "t"}, File: "big.yaml"}, fresh("c", "")},
		{{Section: "policies", Name: "p", Do: Set, Value: map[string]any{"at": "t"}}},
		{{Section: "users", Name: "nobody", Do: Take}},
		{{Section: "usrs", Name: "nobody", Do: Take}},
	} {
		whole, werr := Apply(files, edits)
		parts, perr := s.Apply(edits, nil)
		if werr == nil && !slices.Equal(whole, parts) || fmt.Sprint(werr) != fmt.Sprint(perr) {
			t.Errorf("%+v: %v, %v", edits, werr, perr)
		}
	}
}
