package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/rivo/uniseg"

	"hen-roost/internal/core/model"
)

// table is a result as people read it.
type table struct {
	head   []string
	rows   [][]string
	right  []int  // columns of figures
	bare   string // printed in place of the table, for people
	about  string // a sentence that answers first, for people
	list   any    // what CSV has a line for each of; nil: the value itself
	sparse bool   // columns in which nothing stands are left out
	empty  string // what to say when there are no rows
}

// thin leaves out columns in which nothing stands.
func (t *table) thin() {
	for c := len(t.head) - 1; c >= 0; c-- {
		if slices.ContainsFunc(t.rows, func(row []string) bool { return row[c] != "" }) || len(t.rows) == 0 {
			continue
		}
		t.head = slices.Delete(slices.Clone(t.head), c, c+1)
		for i := range t.rows {
			t.rows[i] = slices.Delete(t.rows[i], c, c+1)
		}
		t.right = slices.DeleteFunc(slices.Clone(t.right), func(x int) bool { return x == c })
		for i := range t.right {
			if t.right[i] > c {
				t.right[i]--
			}
		}
	}
}

func (a *app) checkOutput() error {
	if !slices.Contains([]string{"table", "json", "yaml", "csv"}, a.output) {
		return wrong{fmt.Errorf("--output is table, json, yaml or csv, not %q", a.output)}
	}
	return nil
}

// forPeople says whether the output is read by a person.
func (a *app) forPeople() bool { return a.output == "table" }

// show prints a result: the value for programs, the table for people and for csv.
func (a *app) show(value any, t table) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.Out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(value)
	case "yaml":
		b, err := json.Marshal(value)
		if err != nil {
			return err
		}
		if b, err = yaml.JSONToYAML(b); err != nil {
			return err
		}
		_, err = a.Out.Write(b)
		return err
	case "csv":
		if t.list != nil {
			value = t.list
		}
		return writeCSV(a.Out, value)
	}
	if t.about != "" {
		fmt.Fprintf(a.Out, "%s\n", t.about)
	}
	if t.bare != "" {
		_, err := fmt.Fprintln(a.Out, t.bare)
		return err
	}
	if t.sparse {
		t.thin()
	}
	if len(t.rows) == 0 {
		if t.empty != "" {
			fmt.Fprintln(a.Out, t.empty)
		}
		return nil
	}
	if t.about != "" {
		fmt.Fprintln(a.Out)
	}
	t.print(a.Out, a.Width)
	return nil
}

// print lays the table out in columns, no wider than width unless that is 0.
func (t table) print(w io.Writer, width int) {
	all := append([][]string{t.head}, t.rows...)
	for _, row := range all {
		for i := range row {
			row[i] = model.Clean(row[i], false) // a line break in a cell would make a false row
		}
	}
	widths := make([]int, len(t.head))
	for _, row := range all {
		for i, cell := range row {
			widths[i] = max(widths[i], wide(cell))
		}
	}
	narrow(widths, width)
	for _, row := range all {
		var b strings.Builder
		for i, cell := range row {
			cell = cut(cell, widths[i])
			pad := strings.Repeat(" ", widths[i]-wide(cell))
			if slices.Contains(t.right, i) {
				b.WriteString(pad + cell)
			} else {
				b.WriteString(cell + pad)
			}
			b.WriteString("  ")
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// narrow takes letters from the widest columns until all fit.
func narrow(widths []int, width int) {
	const gap, least = 2, 10
	for width > 0 {
		sum, widest := -gap, 0
		for i, w := range widths {
			sum += w + gap
			if w > widths[widest] {
				widest = i
			}
		}
		if sum <= width || widths[widest] <= least {
			return
		}
		widths[widest]--
	}
}

// marks are the shapes beside the words for states; the word says it all by itself.
var marks = map[string]string{
	"as declared": "●", "surveyed": "●", "done": "●", "complete": "●", "already-so": "●",
	"held": "■", "stopped": "■", "not declared": "■", "refused": "■", "failed": "■", "incomplete": "■",
	"key changed":   "■",
	"login refused": "■", "secret not set": "■", "moved": "■", "still open": "■", "shut, not proved": "▲", "not touched": "■",
	"open to question": "■", "not asked for": "■",
	"proved": "●", "set": "▲", "unsure": "▲", "not set": "■", "not proved": "▲", "old one still let in": "■", "made": "▲",
	"collected": "○", "expired": "■", "withdrawn": "○", "joins": "●",
	"comes back": "●",
	"in force":   "▲", "draft": "▲", "drafted": "▲",
	"to-draft": "▲", "approved": "▲", "running": "▲", "waiting": "▲", "key not accepted": "▲", "found": "▲",
	"not approved": "▲",
	"out of reach": "○", "out-of-reach": "○", "not surveyed": "○", "not-tried": "○", "shut": "○", "undone": "○",
	"neither declared nor there": "○", "left as found": "○", "busy": "○", "ended": "○", "not there": "○",
	"active": "●", "suspended": "■", "left": "○", "expected": "○",
}

func mark(state string) string {
	if k := model.FindingKind(state); slices.Contains(model.FindingKinds, k) {
		return map[bool]string{true: "▲ ", false: "■ "}[k.CanWait()] + state
	}
	if m := marks[state]; m != "" {
		return m + " " + state
	}
	return state
}

// article is what stands before a word.
func article(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}

// figure leaves zeros out, so that what counts is seen.
func figure(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func clock(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}

// kinds of findings, as people read them.
var kindsOfFindings = func() (names []string) {
	for _, k := range model.FindingKinds {
		names = append(names, string(k))
	}
	return names
}()

// flat is a text on one line, for lines that are put together by hand.
func flat(s string) string { return model.Clean(s, false) }

// forTerminal is the one place where text goes out to people: whoever wrote it,
// nothing in it moves a cursor, hides or turns the writing around. Line breaks
// are ours; what comes from elsewhere stands in cells and lines without any.
type forTerminal struct {
	to   io.Writer
	rest []byte // of a letter whose other bytes are still to come
}

func (t *forTerminal) Write(p []byte) (int, error) {
	text := append(t.rest, p...)
	cut := len(text)
	for cut > 0 && len(text)-cut < utf8.UTFMax && !utf8.RuneStart(text[cut-1]) {
		cut--
	}
	if cut > 0 && !utf8.FullRune(text[cut-1:]) {
		cut--
	} else {
		cut = len(text)
	}
	t.rest = append([]byte(nil), text[cut:]...)
	_, err := io.WriteString(t.to, model.Clean(string(text[:cut]), true))
	return len(p), err
}

// wide is how many columns of a terminal a text takes: letters of some scripts take two, and marks over a letter none (UAX #11, #29).
func wide(s string) int {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return uniseg.StringWidth(s)
		}
	}
	return len(s)
}

// cut shortens a text to n columns.
func cut(s string, n int) string {
	if wide(s) <= n {
		return s
	}
	var b strings.Builder
	for rest, state, used := s, -1, 0; ; {
		letter, w := "", 0
		letter, rest, w, state = uniseg.FirstGraphemeClusterInString(rest, state)
		if used += w; used >= n {
			return b.String() + "…"
		}
		b.WriteString(letter)
	}
}

// wrapped breaks a text into lines of at most n columns, each after an indent.
func wrapped(s, indent string, n int) string {
	var b strings.Builder
	line := 0
	for i, word := range strings.Fields(s) {
		w := wide(word)
		if i > 0 && line+1+w > n {
			b.WriteString("\n" + indent)
			line = 0
		} else if i > 0 {
			b.WriteByte(' ')
			line++
		}
		b.WriteString(word)
		line += w
	}
	return b.String()
}

// progress draws a bar on a terminal, and nothing elsewhere.
type progress struct {
	a     *app
	what  string
	total int
}

func (p progress) at(n int, words string) {
	if !p.a.Terminal || p.total == 0 {
		return
	}
	const width = 32
	full := min(width, n*width/p.total)
	fmt.Fprintf(p.a.raw, "\r\033[K%s %s%s %d of %d %s", p.what, strings.Repeat("━", full), strings.Repeat("·", width-full), n, p.total,
		words)
}

func (p progress) end() {
	if p.a.Terminal {
		fmt.Fprint(p.a.raw, "\r\033[K")
	}
}
