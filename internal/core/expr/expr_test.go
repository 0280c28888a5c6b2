package expr

import (
	"strings"
	"testing"
)

var scope = Scope{
	User: Vars{"id": "marit.fell", "number": 1042, "details": map[string]any{"base": "northquay"}, "roles": []any{"deck-crew"},
		"service": false},
	Target: Vars{"name": "arctic-tern", "tags": map[string]any{"fleet": "vessels"}},
	Params: Vars{"domain": "ternsound.example"},
	Day:    "2026-11-23",
}

func TestFill(t *testing.T) {
	s := NewSet()
	for in, want := range map[string]string{
		"":                            "",
		"plain $ text {x}":            "plain $ text {x}",
		"${user.id}@${params.domain}": "marit.fell@ternsound.example",
		"/home/${user.details.base}/${ user.id }": "/home/northquay/marit.fell",
		"${user.number}":                         "1042",
		"${user.number > 1000 ? 'high' : 'low'}": "high",
		"${'a}b' + \"{\"}":                       "a}b{",
		"${{'x': user.id}['x']}":                 "marit.fell",
		"${target.tags.fleet} ${day}":            "vessels 2026-11-23",
		"${user.roles[0]}":                       "deck-crew",
		"${'it\\'s'}":                            "it's",
	} {
		got, err := s.Fill(in, scope)
		if err != nil || got != want {
			t.Errorf("Fill(%q) = %q, %v; want %q", in, got, err, want)
		}
	}
	for in, want := range map[string]string{
		"${user.id":          "${ without its }",
		"${user.}":           "Syntax error",
		"${nobody}":          "undeclared reference to 'nobody'",
		"${user.nothing}":    "no such key: nothing",
		"${user.roles}":      "is list and cannot stand in a text",
		"${user.number / 0}": "division by zero",
		"${[1,2,3].map(x, [1,2,3].map(y, [1,2,3].map(z, x)))}": "cannot stand in a text",
	} {
		if _, err := s.Fill(in, scope); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("Fill(%q): %v; want %q", in, err, want)
		}
	}
}

func TestHolds(t *testing.T) {
	s := NewSet()
	for in, want := range map[string]bool{
		"true": true, "false": false, "!user.service": true, "user.details.base == 'northquay'": true, "'mate' in user.roles": false,
		"user.number >= 1000 && day < '2027-01-01'": true, "user.id.startsWith('marit')": true, "has(user.details.base)": true,
		"has(user.details.ship)": false,
	} {
		if got, err := s.Holds(in, scope); err != nil || got != want {
			t.Errorf("Holds(%q) = %v, %v", in, got, err)
		}
	}
	if _, err := s.Holds("user.id", scope); err == nil || err.Error() != "user.id is string, and a condition must be true or false" {
		t.Errorf("a condition that is a text: %v", err)
	}
	for _, c := range []string{"user.details.nothing == 'x'", "user.details.nothing != 'x'", "user.nothing"} {
		if yes, err := s.Holds(c, scope); yes || err != nil {
			t.Errorf("%s of somebody who has no such thing: %v %v", c, yes, err)
		}
	}
	if got, err := s.Fill("a${'\\u0000' + user.id}", scope); err == nil || !strings.Contains(err.Error(), "makes a text that holds a NUL") {
		t.Errorf("a text with a NUL was made: %q %v", got, err)
	}
}

// An expression cannot run away.
// What is remembered of one user is true of another only when they are alike in all that is asked.
func TestHoldsForEach(t *testing.T) {
	other := scope
	other.User = Vars{"id": "zoe.lind", "number": 7, "mail": "zoe@yard.example", "details": map[string]any{"base": "southquay",
		"ship": "x"},
		"roles": []any{}, "service": true, "manager": "marit.fell"}
	one := scope
	one.User = Vars{"id": "marit.fell", "number": 1042, "mail": "marit@ternsound.example", "details": map[string]any{"base": "northquay"},
		"roles": []any{"deck-crew"}, "service": false, "manager": "odd.strand"}
	for _, c := range []string{"user.id.startsWith('zoe')", "user.mail.endsWith('@yard.example')", "user.manager.startsWith('marit')",
		"user.details.exists(k, k == 'ship')", "user.details.exists (k, k == 'ship')", "user.details.exists // so\n (k, k == 'ship')",
		"user.details.base.startsWith('south')", "user.manager == 'marit.fell'", "user.manager.size() == 10 && user.service",
		"user.details['base'] == 'southquay'", "user['manager'] == 'marit.fell'", "user.details.base == 'southquay'", "user.number < 10"} {
		s := NewSet()
		for i, sc := range []Scope{one, other, one} {
			if yes, err := s.Holds(c, sc); err != nil || yes != (i == 1) {
				t.Errorf("%s of user %d: %v, %v", c, i+1, yes, err)
			}
		}
	}
}

func TestBounded(t *testing.T) {
	s := NewSet()
	big := "[" + strings.TrimSuffix(strings.Repeat("1,", 200), ",") + "]"
	if _, err := s.Holds(big+".all(a, "+big+".all(b, "+big+".all(c, a + b + c > 0)))", scope); err == nil ||
		!strings.Contains(err.Error(), "goes on for too long") {
		t.Errorf("eight million steps were taken: %v", err)
	}
}

func TestCheck(t *testing.T) {
	s := NewSet()
	for in, bare := range map[string]bool{"${user.id": false, "${1 +}": false, "user.id ==": true, "": true} {
		if s.Check(in, bare) == nil {
			t.Errorf("Check(%q) finds nothing", in)
		}
	}
	for in, bare := range map[string]bool{"plain": false, "${user.id}": false, "user.id == 'x'": true} {
		if err := s.Check(in, bare); err != nil {
			t.Errorf("Check(%q): %v", in, err)
		}
	}
}

func FuzzFill(f *testing.F) {
	for _, in := range []string{"${user.id}", "${'}'}", "${{}}", "${\"\\\"}", "$${"} {
		f.Add(in)
	}
	s := NewSet()
	f.Fuzz(func(t *testing.T, in string) {
		out, err := s.Fill(in, scope)
		if err == nil && !strings.Contains(in, "${") && out != in {
			t.Errorf("%q became %q", in, out)
		}
	})
}

// An expression that goes on for too long is stopped once, for everybody: nobody is asked after that.
func TestEndless(t *testing.T) {
	s := NewSet()
	list := "[" + strings.Repeat("1,", 200) + "1]"
	source := list + ".all(a, " + list + ".all(b, " + list + ".all(c, a + b + c > 0)))"
	asked := 0
	for range 1000 {
		_, err := s.Holds(source, Scope{User: asking{&asked}})
		if err == nil || !strings.Contains(err.Error(), "goes on for too long") {
			t.Fatalf("%v", err)
		}
	}
	if asked > 1 {
		t.Errorf("%d people were asked", asked)
	}
}

// asking counts who is asked for what they are.
type asking struct{ n *int }

func (a asking) Text(string) (string, bool) { return "", false }
func (a asking) Vars() map[string]any       { *a.n++; return nil }
