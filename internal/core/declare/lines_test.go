package declare_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
)

func TestCompareFiles(t *testing.T) {
	before := []declare.File{{Name: "a", Text: "one\ntwo\nthree\nfour\n"}, {Name: "gone", Text: "x\n"}, {Name: "same", Text: "s\n"}}
	after := []declare.File{{Name: "a", Text: "one\n2\nthree\nfour\nfive\n"}, {Name: "new", Text: "y\nz\n"}, {Name: "same", Text: "s\n"}}
	var got []string
	for _, c := range declare.Compare(before, after) {
		got = append(got, fmt.Sprintf("%s:%d %q → %q", c.File, c.Line, c.Before, c.After))
	}
	want := []string{`a:2 ["two"] → ["2"]`, `a:5 [] → ["five"]`, `gone:1 ["x"] → []`, `new:1 [] → ["y" "z"]`}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got  %v\nwant %v", got, want)
	}
}

// Making the changes turns the older version into the newer, whatever they are.
func TestCompareIsEnough(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	lines := func() []string {
		out := make([]string, random.IntN(30))
		for i := range out {
			out[i] = string(rune('a' + random.IntN(5)))
		}
		return out
	}
	for range 2000 {
		a, b := lines(), lines()
		file := func(l []string) []declare.File {
			return []declare.File{{Name: "f", Text: strings.Join(l, "\n") + "\n"}}
		}
		var made []string
		at := 0 // in a
		for _, c := range declare.Compare(file(a), file(b)) {
			for len(made) < c.Line-1 {
				made, at = append(made, a[at]), at+1
			}
			made, at = append(made, c.After...), at+len(c.Before)
		}
		if made = append(made, a[min(at, len(a)):]...); strings.Join(made, "\n") != strings.Join(b, "\n") {
			t.Fatalf("%q to %q made %q", a, b, made)
		}
	}
}
