package declare_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
)

func texts(lines ...string) []declare.File {
	return []declare.File{{Name: "a.yaml", Text: strings.Join(lines, "\n") + "\n"}}
}

func TestMerge(t *testing.T) {
	base := texts("a", "b", "c", "d", "e", "f")
	for name, c := range map[string]struct {
		theirs, mine []declare.File
		want         string // "" for a clash
	}{
		"only mine":                        {base, texts("a", "B", "c", "d", "e", "f"), "a B c d e f"},
		"only theirs":                      {texts("a", "b", "c", "d", "e", "F"), base, "a b c d e F"},
		"apart":                            {texts("A", "b", "c", "d", "e", "f"), texts("a", "b", "c", "d", "e", "F"), "A b c d e F"},
		"the same":                         {texts("a", "X", "c", "d", "e", "f"), texts("a", "X", "c", "d", "e", "f"), "a X c d e f"},
		"the same and another":             {texts("a", "X", "c", "d", "e", "f"), texts("a", "X", "c", "d", "E", "f"), "a X c d E f"},
		"lines come and go":                {texts("a", "new", "b", "c", "d", "e", "f"), texts("a", "b", "c", "d", "f"), "a new b c d f"},
		"one line":                         {texts("a", "X", "c", "d", "e", "f"), texts("a", "Y", "c", "d", "e", "f"), ""},
		"neighbours":                       {texts("a", "X", "c", "d", "e", "f"), texts("a", "b", "Y", "d", "e", "f"), ""},
		"one line between":                 {texts("a", "X", "c", "d", "e", "f"), texts("a", "b", "c", "Y", "e", "f"), "a X c Y e f"},
		"both add at one place":            {texts("a", "x", "b", "c", "d", "e", "f"), texts("a", "y", "b", "c", "d", "e", "f"), ""},
		"one takes what the other changes": {texts("a", "c", "d", "e", "f"), texts("a", "X", "c", "d", "e", "f"), ""},
	} {
		merged, clashes := declare.Merge(base, c.theirs, c.mine)
		got := ""
		if len(clashes) == 0 {
			got = strings.TrimSpace(strings.ReplaceAll(merged[0].Text, "\n", " "))
		}
		if got != c.want {
			t.Errorf("%s: %q %+v, want %q", name, got, clashes, c.want)
		}
	}
	_, clashes := declare.Merge(base, texts("a", "X", "c", "d", "e", "f"), texts("a", "Y", "c", "d", "e", "f"))
	if len(clashes) != 1 || clashes[0].Line != 2 || !slices.Equal(clashes[0].Theirs, []string{"X"}) ||
		!slices.Equal(clashes[0].Mine, []string{"Y"}) || !slices.Equal(clashes[0].Before, []string{"b"}) {
		t.Errorf("%+v", clashes)
	}
	other := declare.File{Name: "b.yaml", Text: "x\n"}
	if merged, clashes := declare.Merge(base, append(slices.Clone(base), other),
		texts("A", "b", "c", "d", "e", "f")); len(clashes) != 0 || len(merged) != 2 {
		t.Errorf("%+v %+v", merged, clashes)
	}
	if _, clashes := declare.Merge(append(slices.Clone(base), other), base,
		append(slices.Clone(base), declare.File{Name: "b.yaml", Text: "y\n"})); len(clashes) != 1 || clashes[0].File != "b.yaml" {
		t.Errorf("a file that one took away and the other changed: %+v", clashes)
	}
}

// Whoever comes first makes no difference, nothing is lost, and what only one changed is as they left it.
func TestMergeAnything(t *testing.T) {
	for seed := range uint64(2000) {
		random := rand.New(rand.NewPCG(seed, 3))
		var base []string
		for i := range 5 + random.IntN(20) {
			base = append(base, fmt.Sprint("line ", i))
		}
		edit := func(who string) []string {
			out := slices.Clone(base)
			for range random.IntN(3) {
				switch i := random.IntN(len(out)); random.IntN(3) {
				case 0:
					out[i] = who + out[i]
				case 1:
					out = slices.Insert(out, i, who+"new")
				default:
					out = slices.Delete(out, i, i+1)
				}
			}
			return out
		}
		a, b := texts(edit("a ")...), texts(edit("b ")...)
		one, clash := declare.Merge(texts(base...), a, b)
		two, clash2 := declare.Merge(texts(base...), b, a)
		if len(clash) != len(clash2) || len(clash) == 0 && one[0].Text != two[0].Text {
			t.Fatalf("seed %d: %v %v", seed, one, two)
		}
		if len(clash) > 0 {
			continue
		}
		for _, side := range [][]declare.File{a, b} {
			for line := range strings.Lines(side[0].Text) {
				if !strings.HasPrefix(line, "line") && !strings.Contains("\n"+one[0].Text, "\n"+line) {
					t.Fatalf("seed %d: %q is lost in\n%s", seed, line, one[0].Text)
				}
			}
		}
	}
}
