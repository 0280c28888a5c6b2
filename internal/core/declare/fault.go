package declare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Fault is one thing wrong with a declaration, and where.
type Fault struct {
	At      model.Location `json:"at"`
	Users   []string       `json:"users,omitempty"` // whom it concerns, where these are known
	Message string         `json:"message"`
	Line    string         `json:"line,omitempty"` // the line itself, as it stands in the file
}

func (f Fault) String() string {
	s := f.At.String() + ": " + f.Message
	if f.Line != "" {
		s += fmt.Sprintf("\n  %5d | %s", f.At.Line, f.Line)
	}
	return s
}

// Faults are all the faults of all files, in order of place.
type Faults []Fault

func (f Faults) Error() string {
	var b strings.Builder
	for i, one := range f {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(one.String())
	}
	return b.String()
}

func (f Faults) sorted() Faults {
	slices.SortStableFunc(f, func(a, b Fault) int {
		return cmp.Or(cmp.Compare(a.At.File, b.At.File), cmp.Compare(a.At.Line, b.At.Line), cmp.Compare(a.At.Column, b.At.Column))
	})
	return slices.CompactFunc(f, func(a, b Fault) bool { return a.At == b.At && a.Message == b.Message })
}

// Nearest returns the known name closest to a mistyped one, "" when none is close.
// Closeness is the number of single-letter edits, at most a third of the name's length.
func Nearest(name string, known []string) string {
	best, least := "", max(1, len([]rune(name))/3)+1
	for _, k := range known {
		if d := distance(strings.ToLower(name), strings.ToLower(k), least+1); d < least || d == least && best != "" && k < best {
			best, least = k, d
		}
	}
	return best
}

// Meant appends the nearest known name to a message, or the list when it is short.
func Meant(message, name string, known []string) string {
	if n := Nearest(name, known); n != "" {
		return fmt.Sprintf("%s; did you mean %q?", message, n)
	}
	if len(known) > 0 && len(known) <= 12 {
		return message + "; known are " + strings.Join(slices.Sorted(slices.Values(known)), ", ")
	}
	return message
}

// distance counts the edits (insert, delete, replace, swap neighbours) from a
// to b, giving up at limit.
func distance(a, b string, limit int) int {
	x, y := []rune(a), []rune(b)
	if d := len(x) - len(y); d >= limit || -d >= limit {
		return limit
	}
	before, row := make([]int, len(y)+1), make([]int, len(y)+1)
	older := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(x); i++ {
		older, before, row = before, row, older
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(before[j]+1, row[j-1]+1, before[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], older[j-2]+1)
			}
		}
	}
	return min(row[len(y)], limit)
}

// WithLines returns faults with the lines they speak of, in order of place.
func WithLines(faults Faults, files []File) Faults {
	for i, f := range faults {
		for _, file := range files {
			if file.Name == f.At.File {
				if lines := strings.Split(file.Text, "\n"); f.At.Line >= 1 && f.At.Line <= len(lines) {
					faults[i].Line = around(lines[f.At.Line-1], f.At.Column)
				}
			}
		}
	}
	return faults.sorted()
}
