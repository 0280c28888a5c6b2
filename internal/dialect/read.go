package dialect

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
)

// Reading says how an answer is taken apart, into rows. A line that is neither a row, nor blank, nor one to skip, ends the
// reading with a *NotUnderstood: nobody is overlooked because a system has learnt another way to say something.
type Reading struct {
	JSON    *AsJSON    `yaml:"json"`
	CSV     *AsCSV     `yaml:"csv"`
	Columns *AsColumns `yaml:"columns"`
	Lines   Pattern    `yaml:"lines"` // a row a line, its named parts
	Pairs   *AsPairs   `yaml:"pairs"`
	Blocks  *AsBlocks  `yaml:"blocks"`
	Skip    []Pattern  `yaml:"skip"`
	GoesOn  Pattern    `yaml:"goes-on"` // what stands before the rest of a line that was broken, at the beginning of the next
	line    int
}

// AsJSON is rows that stand in a list, or are the values of an object.
type AsJSON struct {
	At []string `yaml:"at"` // the keys that lead there
}

// AsCSV is a row a line (RFC 4180).
type AsCSV struct {
	Columns []string `yaml:"columns"` // none: the first line names them
	Comma   string   `yaml:"comma"`
}

// AsColumns is a row a line, in columns of fixed width that begin where a head line has the names of the columns. A value that
// runs into the next column makes both unreliable.
type AsColumns struct {
	Head Pattern `yaml:"head"` // the line; its words are the names, in lower case, more blanks than one between them
}

// AsPairs is keys with values, a line each; a row ends with a blank line, or where its first key comes again.
type AsPairs struct {
	Between string `yaml:"between"` // key and value
}

// AsBlocks is a row that begins with a line, and goes on in others.
type AsBlocks struct {
	Begin Pattern   `yaml:"begin"`
	Lines []Pattern `yaml:"lines"` // one that matches several times makes a list of its named parts
}

// Row is one row of an answer.
type Row struct {
	Line    int // of the answer, counted from 1
	Has     map[string]any
	blurred []string       // parts that cannot be told apart from others
	odd     *NotUnderstood // why
}

// NotUnderstood says which line of an answer was not understood.
type NotUnderstood struct {
	Line int
	Text string
	By   int // line of the file that should have
	Why  string
}

func (n *NotUnderstood) Error() string {
	words := fmt.Sprintf("line %d of the answer, %q, is not understood by line %d of the dialect", n.Line, clip(n.Text), n.By)
	if n.Why != "" {
		words += ": " + n.Why
	}
	return words
}

func clip(s string) string {
	if r := []rune(s); len(r) > 120 {
		return string(r[:120]) + "…"
	}
	return s
}

func (r Reading) ways() (n int) {
	for _, is := range []bool{r.JSON != nil, r.CSV != nil, r.Columns != nil, r.Lines.Set(), r.Pairs != nil, r.Blocks != nil} {
		if is {
			n++
		}
	}
	return n
}

// Rows takes an answer apart.
func (r Reading) Rows(answer string, by int) ([]Row, error) {
	r.line = by
	switch {
	case r.JSON != nil:
		return r.json(answer)
	case r.CSV != nil:
		return r.csv(answer)
	case r.Columns != nil:
		return r.columns(answer)
	case r.Pairs != nil:
		return r.pairs(answer)
	case r.Blocks != nil:
		return r.blocks(answer)
	}
	return r.lines(answer)
}

// each hands on the lines that are to be read.
func (r Reading) each(answer string, blank bool, do func(n int, line string) error) error {
	for n, line := range r.unbroken(answer) {
		if !blank && strings.TrimSpace(line) == "" || slices.ContainsFunc(r.Skip, func(p Pattern) bool { return p.MatchString(line) }) {
			continue
		}
		if err := do(n, line); err != nil {
			return err
		}
	}
	return nil
}

// unbroken are the lines of an answer, each with the number of its first; those that were broken are put together again.
func (r Reading) unbroken(answer string) iter.Seq2[int, string] {
	return func(yield func(int, string) bool) {
		n, first, whole := 0, 0, ""
		for line := range strings.Lines(answer) {
			n++
			line = strings.TrimRight(line, "\r\n")
			if rest, goes := r.goesOn(line); goes && first > 0 {
				whole += rest
				continue
			}
			if first > 0 && !yield(first, whole) {
				return
			}
			first, whole = n, line
		}
		if first > 0 {
			yield(first, whole)
		}
	}
}

func (r Reading) goesOn(line string) (rest string, yes bool) {
	if !r.GoesOn.Set() {
		return "", false
	}
	at := r.GoesOn.FindStringIndex(line)
	if at == nil || at[0] != 0 || at[1] == 0 {
		return "", false
	}
	return line[at[1]:], true
}

// named are the named parts of a line; nil when the pattern does not fit.
func named(p Pattern, line string) map[string]any {
	m := p.FindStringSubmatch(line)
	if m == nil {
		return nil
	}
	out := map[string]any{}
	for i, name := range p.SubexpNames() {
		if name != "" {
			out[name] = m[i]
		}
	}
	return out
}

func (r Reading) lines(answer string) (out []Row, err error) {
	err = r.each(answer, false, func(n int, line string) error {
		has := named(r.Lines, line)
		if has == nil {
			return &NotUnderstood{n, line, r.Lines.Line, ""}
		}
		out = append(out, Row{Line: n, Has: has})
		return nil
	})
	return out, err
}

func (r Reading) columns(answer string) (out []Row, err error) {
	type column struct {
		name string
		at   int // in characters
	}
	var cols []column
	err = r.each(answer, false, func(n int, line string) error {
		if cols == nil {
			if !r.Columns.Head.MatchString(line) {
				return &NotUnderstood{n, line, r.Columns.Head.Line, "it is not the head"}
			}
			gap := 2
			for at, c := range []rune(line) {
				if c == ' ' {
					gap++
					continue
				}
				if gap >= 2 {
					cols = append(cols, column{"", at})
				}
				last := &cols[len(cols)-1]
				if gap == 1 {
					last.name += "_"
				}
				last.name += strings.ToLower(string(c))
				gap = 0
			}
			return nil
		}
		row, runes := Row{Line: n, Has: map[string]any{}}, []rune(line)
		for i, c := range cols {
			to := len(runes)
			if i+1 < len(cols) {
				to = min(to, cols[i+1].at)
				if to == cols[i+1].at && to > 0 && runes[to-1] != ' ' { // a value that runs into the next column cannot be told apart
					row.odd = &NotUnderstood{n, line, r.Columns.Head.Line, "the column " + c.name + " runs into the next"}
					row.blurred = append(row.blurred, c.name, cols[i+1].name)
				}
			}
			row.Has[c.name] = ""
			if c.at < to {
				row.Has[c.name] = strings.TrimSpace(string(runes[c.at:to]))
			}
		}
		out = append(out, row)
		return nil
	})
	return out, err
}

func (r Reading) csv(answer string) (out []Row, err error) {
	var kept strings.Builder
	_ = r.each(answer, false, func(_ int, line string) error {
		kept.WriteString(line + "\n")
		return nil
	})
	c := csv.NewReader(strings.NewReader(kept.String()))
	if r.CSV.Comma != "" {
		c.Comma = []rune(r.CSV.Comma)[0]
	}
	names := r.CSV.Columns
	for {
		row, err := c.Read()
		var bad *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case errors.As(err, &bad):
			return nil, &NotUnderstood{bad.Line, strings.Join(row, ","), r.line, bad.Err.Error()}
		case err != nil:
			return nil, err
		}
		line, _ := c.FieldPos(0)
		if names == nil {
			names = row
			continue
		}
		if len(row) != len(names) {
			return nil, &NotUnderstood{line, strings.Join(row, ","), r.line, fmt.Sprintf("it has %d cells, and there are %d columns",
				len(row),
				len(names))}
		}
		has := map[string]any{}
		for i, cell := range row {
			has[names[i]] = cell
		}
		out = append(out, Row{Line: line, Has: has})
	}
}

func (r Reading) json(answer string) (out []Row, err error) {
	d := json.NewDecoder(strings.NewReader(answer))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		line := 1 + bytes.Count([]byte(answer)[:min(int(d.InputOffset()), len(answer))], []byte("\n"))
		return nil, &NotUnderstood{line, answer, r.line, "it is no JSON: " + err.Error()}
	}
	for _, key := range r.JSON.At {
		m, _ := v.(map[string]any)
		next, ok := m[key]
		if !ok {
			return nil, &NotUnderstood{1, answer, r.line, fmt.Sprintf("nothing is called %q", key)}
		}
		v = next
	}
	add := func(n int, x any) error {
		has, ok := x.(map[string]any)
		if !ok {
			return &NotUnderstood{n, fmt.Sprint(x), r.line, "it is no object"}
		}
		out = append(out, Row{Line: n, Has: plainNumbers(has).(map[string]any)})
		return nil
	}
	switch x := v.(type) {
	case []any:
		for i, y := range x {
			if err := add(i+1, y); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		err = add(1, x)
	case nil:
	default:
		err = &NotUnderstood{1, answer, r.line, "it is neither a list nor an object"}
	}
	return out, err
}

// plainNumbers makes texts of numbers, so that no digit is lost.
func plainNumbers(v any) any {
	switch x := v.(type) {
	case json.Number:
		return x.String()
	case map[string]any:
		for k, y := range x {
			x[k] = plainNumbers(y)
		}
	case []any:
		for i, y := range x {
			x[i] = plainNumbers(y)
		}
	}
	return v
}

func (r Reading) pairs(answer string) (out []Row, err error) {
	first := ""
	var row *Row
	err = r.each(answer, true, func(n int, line string) error {
		if strings.TrimSpace(line) == "" {
			row = nil
			return nil
		}
		key, value, ok := strings.Cut(line, r.Pairs.Between)
		key, value = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(value)
		if !ok || key == "" {
			return &NotUnderstood{n, line, r.line, fmt.Sprintf("there is no %q in it", r.Pairs.Between)}
		}
		key = strings.NewReplacer(" ", "_", "-", "_").Replace(key)
		if first == "" {
			first = key
		}
		if row == nil || key == first {
			out = append(out, Row{Line: n, Has: map[string]any{}})
			row = &out[len(out)-1]
		}
		if _, twice := row.Has[key]; twice {
			return &NotUnderstood{n, line, r.line, key + " stands there twice"}
		}
		row.Has[key] = value
		return nil
	})
	return out, err
}

func (r Reading) blocks(answer string) (out []Row, err error) {
	err = r.each(answer, false, func(n int, line string) error {
		if has := named(r.Blocks.Begin, line); has != nil {
			for _, p := range r.Blocks.Lines {
				for _, name := range p.SubexpNames() {
					if name != "" {
						has[name] = []any{}
					}
				}
			}
			out = append(out, Row{Line: n, Has: has})
			return nil
		}
		for _, p := range r.Blocks.Lines {
			if has := named(p, line); has != nil && len(out) > 0 {
				row := out[len(out)-1].Has
				for name, v := range has {
					list, _ := row[name].([]any)
					row[name] = append(list, v)
				}
				return nil
			}
		}
		return &NotUnderstood{n, line, r.Blocks.Begin.Line, ""}
	})
	return out, err
}
