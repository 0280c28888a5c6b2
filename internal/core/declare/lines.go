package declare

import (
	"slices"
	"strings"
)

// LineChange is a stretch of lines that two versions of a file do not share.
type LineChange struct {
	File   string   `json:"file"`
	Line   int      `json:"line"` // of the first, in the newer version; in the older where nothing is left
	Before []string `json:"before"`
	After  []string `json:"after"`

	was int // of the first in the older version, counted from 0
}

// maxEdits bounds the search for the least difference; files that differ more
// are told as one change.
const maxEdits = 500

// Compare returns what differs between two sets of files, by file and line.
func Compare(before, after []File) []LineChange {
	names := map[string]bool{}
	text := func(files []File) map[string]string {
		m := map[string]string{}
		for _, f := range files {
			names[f.Name] = true
			m[f.Name] = f.Text
		}
		return m
	}
	a, b := text(before), text(after)
	var out []LineChange
	for _, name := range sorted(names) {
		skip, x, y := apart(a[name], b[name])
		for _, c := range compareLines(linesOf(x), linesOf(y)) {
			c.File = name
			c.Line, c.was = c.Line+skip, c.was+skip
			out = append(out, c)
		}
	}
	return out
}

func linesOf(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

// apart lays aside the whole lines that two texts begin and end with, and says how many the first of them were.
func apart(a, b string) (skip int, x, y string) {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	n = strings.LastIndexByte(a[:n], '\n') + 1
	skip = strings.Count(a[:n], "\n")
	a, b = a[n:], b[n:]
	n = 0
	for n < len(a) && n < len(b) && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	end := a[len(a)-n:] // up to the first whole line of it
	if i := strings.IndexByte(end, '\n'); i >= 0 {
		end = end[i+1:]
	}
	return skip, a[:len(a)-len(end)], b[:len(b)-len(end)]
}

// compareLines finds the least changes from a to b (Myers, An O(ND) Difference
// Algorithm, 1986), after laying aside what both begin and end with.
func compareLines(a, b []string) []LineChange {
	skip := 0
	for skip < len(a) && skip < len(b) && a[skip] == b[skip] {
		skip++
	}
	a, b = a[skip:], b[skip:]
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a)+len(b) == 0 {
		return nil
	}
	kept, found := common(a, b)
	if !found {
		return []LineChange{{Line: skip + 1, Before: slices.Clone(a), After: slices.Clone(b), was: skip}}
	}
	var out []LineChange
	i, j := 0, 0
	for _, k := range append(kept, [2]int{len(a), len(b)}) {
		if k[0] > i || k[1] > j {
			out = append(out, LineChange{Line: skip + j + 1, Before: slices.Clone(a[i:k[0]]), After: slices.Clone(b[j:k[1]]), was: skip +
				i})
		}
		i, j = k[0]+1, k[1]+1
	}
	return out
}

// common returns the places of the lines that both keep, in order.
func common(a, b []string) (kept [][2]int, found bool) {
	most := min(len(a)+len(b), maxEdits)
	v := map[int]int{1: 0}
	var trace []map[int]int
	for d := 0; d <= most; d++ {
		trace = append(trace, cloned(v))
		for k := -d; k <= d; k += 2 {
			x := v[k-1] + 1
			if k == -d || k != d && v[k-1] < v[k+1] {
				x = v[k+1]
			}
			y := x - k
			for x < len(a) && y < len(b) && a[x] == b[y] {
				x, y = x+1, y+1
			}
			v[k] = x
			if x >= len(a) && y >= len(b) {
				return walkBack(trace, a, b), true
			}
		}
	}
	return nil, false
}

func cloned(m map[int]int) map[int]int {
	out := make(map[int]int, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

func walkBack(trace []map[int]int, a, b []string) [][2]int {
	var kept [][2]int
	x, y := len(a), len(b)
	for d := len(trace) - 1; d >= 0; d-- {
		v, k := trace[d], x-y
		before := k - 1
		if k == -d || k != d && v[k-1] < v[k+1] {
			before = k + 1
		}
		px := v[before]
		py := px - before
		for x > px && y > py && x > 0 && y > 0 {
			x, y = x-1, y-1
			kept = append(kept, [2]int{x, y})
		}
		x, y = px, py
	}
	slices.Reverse(kept)
	return kept
}
