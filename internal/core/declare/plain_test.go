package declare

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// alike says where two trees differ, "" when nowhere. Where nothing stands is nobody's business.
func alike(a, b *node, path string) string {
	switch {
	case a.form != b.form || a.text != b.text || len(a.inside) != len(b.inside):
		return fmt.Sprintf("%s: %d %q with %d, and %d %q with %d", path, a.form, a.text, len(a.inside), b.form, b.text, len(b.inside))
	case a.form != nothing && (a.line != b.line || a.column != b.column):
		return fmt.Sprintf("%s: %q at %d:%d, and %d:%d", path, a.text, a.line, a.column, b.line, b.column)
	}
	for i := range a.inside {
		if d := alike(&a.inside[i], &b.inside[i], fmt.Sprintf("%s/%d", path, i)); d != "" {
			return d
		}
	}
	return ""
}

// bothWays reads a text both ways, and says whether it was plain. What is read as plain is what the parser reads.
func bothWays(t *testing.T, text string) bool {
	t.Helper()
	mine, ok := readPlain(text)
	if !ok {
		return false
	}
	theirs, err := grow(text)
	if err != nil || theirs == nil {
		t.Fatalf("read as plain, but the parser says %v of %q", err, text)
	}
	if d := alike(&mine, theirs, ""); d != "" {
		t.Fatalf("%s, of %q", d, text)
	}
	return true
}

// shapes are texts that are plain, the first six, and others that may not be.
var shapes = []string{
	"roost: 1\nusers:\n  a.b:\n    name: \"Åse Hand\"  # ours\n    given: Åse Ø   # and so on\n" +
		"    roles: [one, \"two three\", {role: x, from: 2026-01-01}]\n",
	"a:\n  - b: c\n    d: e\n  - f\n  - [g, h]\n  - {i: j}\n\n  # a word\n  -   k: l\n      m: 'n o'\n",
	"groups:\n- one\n- two\nx:\ny: z\n", "a: {b: {c: [d, {e: f}]}, g: []}\nh: {}\n",
	"a: b:c\nd: x#y\n'q r': 1\n\"s\": u\nt: null\n",
	"roles:\n  everyone:\n    held-when: \"!user.service\"\n    gives:\n      - at: {kind: host}\n" +
		"        account: {home: \"/home/${user.id}\"}\n",
	"a: -1\n", "a: 0x1F\nb: 1_000\nc: .inf\nd: 2026-01-01\ne: yes\nf: True\ng: 1e3\n",
	"a:\n    b:\n      c: d\n    e: f\n", "a: |\n  b\n", "a: &x b\nc: *x\n", "a: b\n  c\n", "a: [b,\n c]\n",
	"a: \"b\\n\"\n", "a: 'b''c'\n", "a\n", "- a\n", "a: b\na: c\n", "a:\tb\n", "a: b\r\n", "---\na: b\n",
	"a: b\n---\nc: d\n", "? a\n", "a: !!str b\n", "a: b: c\n", "a: {b}\n", "a: [b, ]\n", "<<: x\n",
	"a: \u00a0b\n", "a: x #\n", "a: # b\n  c: d\n", " a: b\n", "a: {b: c,d: e}\n", "a: {b: c , d : e}\n",
	"a: [b c , d]\n", "a: = \nb: =x\n", "a : b\n", "a: 'x' y\n", "a: \"x\"#y\n", "a: [x]y\n", "a: b - c\n",
	"a: it's\n", "a: b, c]\n", "a:\n  - - b\n", "a:\n  -\n    b: c\n", "a:\n- b: c\n  d: e\n- f: g\n",
	"a:\n  b: c\n d: e\n", "a: [\"b\", 'c']\n", "a: ${x}\n", "a: b${x: y}\n", "é: ü\nab: [é, ö]\n",
}

func TestPlain(t *testing.T) {
	for i, text := range shapes {
		if got := bothWays(t, text); !got && i < 6 {
			t.Errorf("plain: %v, of %q", got, text)
		}
	}
	demo, err := filepath.Glob("../../../demo/declaration/*.yaml")
	if err != nil || len(demo) == 0 {
		t.Fatal(demo, err)
	}
	for _, name := range demo {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range partsOf(File{Name: name, Text: strings.Repeat("# so that it is cut\n", 4000) + string(b)}, nil) {
			bothWays(t, p.full)
		}
	}
}

func FuzzPlain(f *testing.F) {
	for _, text := range shapes {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) { bothWays(t, text) })
}
