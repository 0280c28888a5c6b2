package declare

import (
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

// large is a file that is cut: comments, blank lines, odd indents and a text over several lines among its entries.
func large(users int, fault string) string {
	var b strings.Builder
	b.WriteString("# The crew.\n\nroost: 1\nparams: {domain: x}\nusers:   # all of them\n")
	for i := range users {
		fmt.Fprintf(&b, "   # number %[1]d\n\n   hand.%[1]d:\n      name: >\n        Hand\n        Number %[1]d\n      mail: "+
			"${user.id}@${params.domain}\n      number: %[2]d\n", i, 1000+i)
		if i == users/2 {
			b.WriteString(fault)
		}
	}
	b.WriteString("groups:\n  crew:\n    number: 7\n")
	return b.String()
}

func cutWhole(text string) []*part { return partsOf(File{Name: "f", Text: text}, nil) }

// A large file means the same in pieces as it does whole, and its faults stand where they stand.
func TestPieces(t *testing.T) {
	text := large(6000, "")
	if n := len(cutWhole(text)); n < 5 {
		t.Fatalf("%d pieces", n)
	}
	d, err := Read([]File{{Name: "big.yaml", Text: text}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(d.Users) != 6000 || len(d.Groups) != 1 || len(d.Params) != 1 {
		t.Fatalf("%d users, %d groups", len(d.Users), len(d.Groups))
	}
	lines := strings.Split(text, "\n")
	for id, u := range d.Users {
		if got := strings.TrimSpace(lines[d.Locate(u.Pos).Line-1]); got != id+":" {
			t.Fatalf("%s is said to stand on line %d: %q", id, d.Locate(u.Pos).Line, got)
		}
	}
	for fault, want := range map[string]string{
		"      numbr: 5\n":        `unknown key "numbr" in user hand.3000`,
		"      manager: [\n":      "not YAML",
		"   hand.17: {name: X}\n": `user "hand.17" is defined twice; the other place is big.yaml:144:4`,
	} {
		text := large(6000, fault)
		line := strings.Count(text[:strings.Index(text, fault)], "\n") + 1
		_, err := Read([]File{{Name: "big.yaml", Text: text}}, nil)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		} else if want != "not YAML" && !strings.Contains(err.Error(), fmt.Sprintf("big.yaml:%d:", line)) {
			t.Errorf("%v, want it on line %d", err, line)
		}
	}
}

// What is not of the usual shape is left whole for the parser.
func TestLeftWhole(t *testing.T) {
	filler := strings.Repeat("# a comment that makes the file large\n", largeFile/36)
	for name, text := range map[string]string{
		"small": "roost: 1\nusers:\n  a: {name: A}\n", "anchored": filler + "roost: 1\nusers:\n  a: &a {name: A}\n  b: *a\n",
		"flow":  filler + "{roost: 1, users: {a: {name: A}}}\n",
		"twice": filler + "roost: 1\nusers:\n  a: {name: A}\nusers:\n  b: {name: B}\n", "two documents": filler +
			"roost: 1\n---\nroost: 1\n",
	} {
		if got := cutWhole(text); len(got) != 1 || got[0].text != text {
			t.Errorf("%s: %d pieces", name, len(got))
		}
	}
	if _, err := Read([]File{{Name: "f", Text: filler + "roost: 1\nusers:\n  a: {name: A}\nusers:\n  b: {name: B}\n"}},
		map[string]model.Schema{}); err == nil {
		t.Error("a key that stands twice is taken")
	}
	if got := cutWhole(filler + "roost: 1\nusers: {a: {name: A}}\ngroups:\n  b:\n   number: 1\n"); len(got) != 3 {
		t.Errorf("%d pieces", len(got))
	}
	if got := cutWhole(filler + "users:\n    a:\n      name: A\n  b:\n    name: B\n"); len(got) != 1 {
		t.Errorf("a section indented in two ways: %d pieces", len(got))
	}
}
