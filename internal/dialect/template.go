package dialect

import (
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	"github.com/goccy/go-yaml/ast"
)

// Template is what is typed: words as they stand, and ${…} for values, each of which becomes one word of its own, or one for
// each of several.
type Template struct {
	Text
	parts []part
}

type part struct {
	words string
	of    cel.Program // nil: just words
}

// Set says whether there is one.
func (t Template) Set() bool { return t.Raw != "" }

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (t *Template) UnmarshalYAML(n ast.Node) error {
	if err := t.Text.UnmarshalYAML(n); err != nil {
		return err
	}
	rest := t.Raw
	for rest != "" {
		before, after, found := strings.Cut(rest, "${")
		if before != "" {
			t.parts = append(t.parts, part{words: before})
		}
		if !found {
			break
		}
		text, behind, closed := strings.Cut(after, "}")
		if !closed {
			return &located{t.Line, "${ is not closed with }"}
		}
		p, err := compile(text)
		if err != nil {
			return &located{t.Line, err.Error()}
		}
		t.parts, rest = append(t.parts, part{of: p}), behind
	}
	return nil
}

// Typed is what is typed, with every value made a word as a system with such quotes reads it. Its error says which value cannot
// be said.
func (t Template) Typed(v Vars, q Quote) (string, error) {
	return t.fill(v, func(before string, values []string) (string, error) {
		words := make([]string, len(values))
		for i, x := range values {
			var err error
			if words[i], err = q.Word(x); err != nil {
				return "", err
			}
			if q.options && strings.HasPrefix(x, "-") && !strings.Contains(before, " -- ") && (i > 0 || strings.HasSuffix(before, " ")) {
				return "", fmt.Errorf("%q would be taken for an option", x)
			}
		}
		if len(values) == 0 {
			return q.Word("")
		}
		return strings.Join(words, " "), nil
	})
}

// Plain is the text with the values as they are, lines between several: for what is handed over on standard input.
func (t Template) Plain(v Vars) (string, error) {
	return t.fill(v, func(_ string, values []string) (string, error) { return strings.Join(values, "\n"), nil })
}

func (t Template) fill(v Vars, word func(before string, values []string) (string, error)) (string, error) {
	var b strings.Builder
	for _, p := range t.parts {
		if p.of == nil {
			b.WriteString(p.words)
			continue
		}
		values, err := eval(p.of, v)
		if err == nil {
			var w string
			if w, err = word(b.String(), values); err == nil {
				b.WriteString(w)
				continue
			}
		}
		return "", &Unsaid{t.Line, t.Raw, err}
	}
	return b.String(), nil
}

// Unsaid says that something cannot be typed, and why.
type Unsaid struct {
	Line int // of the file
	Text string
	Err  error
}

func (u *Unsaid) Error() string { return fmt.Sprintf("line %d, %s: %v", u.Line, u.Text, u.Err) }
func (u *Unsaid) Unwrap() error { return u.Err }
