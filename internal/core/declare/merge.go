package declare

import (
	"slices"
	"strings"
)

// Clash is a place that two people changed in different ways.
type Clash struct {
	File   string   `json:"file"`
	Line   int      `json:"line"` // in the version that both began from, counted from 1
	Before []string `json:"before"`
	Theirs []string `json:"theirs"`
	Mine   []string `json:"mine"`
}

// Merge puts together what two people made of one version of the files. Changes
// that do not touch are both taken; where they do, and are not the same, it
// returns the clashes and no files. Two changes touch when not one line that
// both have left as it was lies between them.
func Merge(base, theirs, mine []File) (merged []File, clashes []Clash) {
	text := func(files []File) map[string]*string {
		m := map[string]*string{}
		for i := range files {
			m[files[i].Name] = &files[i].Text
		}
		return m
	}
	was, a, b := text(base), text(theirs), text(mine)
	names := map[string]bool{}
	for _, m := range []map[string]*string{was, a, b} {
		for name := range m {
			names[name] = true
		}
	}
	for _, name := range sorted(names) {
		switch old, their, my := was[name], a[name], b[name]; {
		case same(their, my), same(my, old):
			merged = keep(merged, name, their)
		case same(their, old):
			merged = keep(merged, name, my)
		case their == nil || my == nil: // one took the file away, the other changed it
			clashes = append(clashes, Clash{File: name, Line: 1, Before: whole(old), Theirs: whole(their), Mine: whole(my)})
		default:
			out, wrong := merge(name, whole(old), whole(their), whole(my))
			clashes = append(clashes, wrong...)
			merged = append(merged, File{name, out})
		}
	}
	if len(clashes) > 0 {
		return nil, clashes
	}
	return merged, nil
}

func same(a, b *string) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

func keep(files []File, name string, text *string) []File {
	if text == nil {
		return files
	}
	return append(files, File{name, *text})
}

func whole(text *string) []string {
	if text == nil {
		return []string{}
	}
	return linesOf(*text)
}

// merge walks along both lists of changes of one file.
func merge(name string, base, theirs, mine []string) (string, []Clash) {
	a, b := compareLines(base, theirs), compareLines(base, mine)
	var out []string
	var clashes []Clash
	at := 0 // lines of base that are written
	for len(a)+len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && a[0].end() < b[0].was {
			out, at = a[0].write(out, base, at), a[0].end()
			a = a[1:]
			continue
		}
		if len(a) == 0 || b[0].end() < a[0].was {
			out, at = b[0].write(out, base, at), b[0].end()
			b = b[1:]
			continue
		}
		// They touch: everything that hangs together here is one place.
		from, to := min(a[0].was, b[0].was), max(a[0].end(), b[0].end())
		n, m := 0, 0
		for grown := true; grown; {
			grown = false
			for n < len(a) && a[n].was <= to {
				to, n, grown = max(to, a[n].end()), n+1, true
			}
			for m < len(b) && b[m].was <= to {
				to, m, grown = max(to, b[m].end()), m+1, true
			}
		}
		their, my := side(base, a[:n], from, to), side(base, b[:m], from, to)
		out = append(append(out, base[at:from]...), their...)
		if !slices.Equal(their, my) {
			clashes = append(clashes, Clash{File: name, Line: from + 1, Before: slices.Clone(base[from:to]), Theirs: their, Mine: my})
		}
		a, b, at = a[n:], b[m:], to
	}
	return strings.Join(append(out, base[at:]...), "\n") + "\n", clashes
}

// end is the line of base behind the change.
func (c LineChange) end() int { return c.was + len(c.Before) }

// write writes what of base comes before the change, and the change.
func (c LineChange) write(out, base []string, at int) []string {
	return append(append(out, base[at:c.was]...), c.After...)
}

// side is a stretch of base as some changes leave it.
func side(base []string, changes []LineChange, from, to int) []string {
	out := []string{}
	for _, c := range changes {
		out, from = c.write(out, base, from), c.end()
	}
	return append(out, base[from:to]...)
}
