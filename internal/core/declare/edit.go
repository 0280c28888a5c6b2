package declare

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// Edit is one change to a declaration, made in the text itself, so that
// comments and order stay.
type Edit struct {
	Section string `json:"section" example:"users" doc:"params, users, groups, roles, targets, rights, containers, policies or pools"`
	Name    string `json:"name" example:"marit.fell"`
	Key     string `json:"key,omitempty" example:"until" doc:"key of the entry, deeper ones with dots as in details.base; empty: the entry itself"`
	Do      string `json:"do" enum:"set,add,take" doc:"set a value; add to a list; take from a list, or the key or entry away"`
	Value   any    `json:"value,omitempty" doc:"text, number, list or keys with values"`
	File    string `json:"file,omitempty" doc:"where a new entry goes; empty: where others of its section stand"`
}

// What an Edit does.
const (
	Set  = "set"
	Add  = "add"
	Take = "take"
)

var sections = []string{"params", "users", "groups", "roles", "targets", "rights", "containers", "policies", "pools"}

// Apply makes edits one after the other and returns the files as they are then.
// The given ones are left as they are. What the edits amount to is not checked; see Read.
func Apply(files []File, edits []Edit) ([]File, error) {
	files = slices.Clone(files)
	var errs []error
	for i, e := range edits {
		if err := apply(files, e); err != nil {
			errs = append(errs, fmt.Errorf("edit %d: %w", i+1, err))
		}
	}
	return files, errors.Join(errs...)
}

func apply(files []File, e Edit) error {
	if !slices.Contains(sections, e.Section) {
		return errors.New(Meant(fmt.Sprintf("no section is called %q", e.Section), e.Section, sections))
	}
	if e.Do != Set && e.Do != Add && e.Do != Take {
		return fmt.Errorf("%q is not one of set, add, take", e.Do)
	}
	if why := badName(e.Name); why != "" {
		return fmt.Errorf("%s %q %s", e.Section, e.Name, why)
	}
	path := []string{e.Name}
	if e.Key != "" {
		path = append(path, strings.Split(e.Key, ".")...)
	}
	value, err := flow(e.Value)
	if err != nil {
		return err
	}
	like := -1 // a file where others of the section stand
	for i := range files {
		t := text{s: files[i].Text}
		body, ok := t.child(t.top(), e.Section)
		if !ok {
			continue
		}
		if like < 0 {
			like = i
		}
		if _, ok := t.child(body, e.Name); ok {
			files[i].Text, err = t.change(body, path, e, value)
			return err
		}
	}
	if e.Do == Take || e.Key != "" && e.Section != "params" && e.Do == Add {
		return errors.New(Meant(fmt.Sprintf("nothing is called %q under %s", e.Name, e.Section), e.Name, namesIn(files, e.Section)))
	}
	if e.Do == Set && e.Key != "" && e.File == "" && e.Section != "params" {
		return unknown(e, namesIn(files, e.Section))
	}
	if e.File != "" {
		like = slices.IndexFunc(files, func(f File) bool { return f.Name == e.File })
		if like < 0 {
			return fmt.Errorf("no file of the declaration is called %q", e.File)
		}
	}
	if like < 0 {
		return fmt.Errorf("no file has a section %s yet; say in which file it should be (--file)", e.Section)
	}
	t := text{s: files[like].Text}
	body, ok := t.child(t.top(), e.Section)
	if !ok {
		files[like].Text = strings.TrimRight(t.s, "\n") + "\n\n" + e.Section + ":\n  " + scalar(e.Name) + ": " + nested(path[1:], value) +
			"\n"
		return nil
	}
	files[like].Text, err = t.change(body, path, e, value)
	return err
}

// unknown says of an edit of a key that there is no such entry: most often its name is mistyped.
func unknown(e Edit, known []string) error {
	return errors.New(Meant(fmt.Sprintf("nothing is called %q under %s, so %s cannot be set of it; a new entry says in which file it goes "+
		"(--file)", e.Name, e.Section, e.Key), e.Name, known))
}

// namesIn are the names in a section of all files.
func namesIn(files []File, section string) (out []string) {
	for i := range files {
		t := text{s: files[i].Text}
		if body, ok := t.child(t.top(), section); ok {
			for _, x := range t.entries(body) {
				out = append(out, x.key)
			}
		}
	}
	return out
}

// flow writes a value on one line.
func flow(v any) (string, error) {
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		return scalar(v), nil
	case []any:
		items := make([]string, len(v))
		for i, x := range v {
			s, err := flow(x)
			if err != nil {
				return "", err
			}
			items[i] = s
		}
		return "[" + strings.Join(items, ", ") + "]", nil
	case map[string]any:
		var items []string
		for _, k := range sorted(v) {
			s, err := flow(v[k])
			if err != nil {
				return "", err
			}
			items = append(items, scalar(k)+": "+s)
		}
		return "{" + strings.Join(items, ", ") + "}", nil
	case float64:
		return strings.TrimSuffix(fmt.Sprintf("%.0f", v), ".0"), nil
	case int, bool:
		return fmt.Sprint(v), nil
	default:
		return "", fmt.Errorf("a value of type %T cannot stand in a declaration", v)
	}
}

// scalar writes a text so that YAML reads it back as it is, in flow style too.
func scalar(s string) string {
	if plainNumber.MatchString(s) {
		return s
	}
	b, err := yaml.Marshal(s) // knows the words that mean something else without quotes
	if err == nil && plainText.MatchString(s) && strings.TrimRight(string(b), "\n") == s {
		return s
	}
	return quoted(s)
}

// plainText is what needs no quotes anywhere, unless it is a word such as null.
var plainText = regexp.MustCompile(`^[\p{L}_/][\p{L}\p{N}_./@+-]*( [\p{L}\p{N}_./@+-]*[\p{L}\p{N}])*$`)

// plainNumber needs no quotes: days and whole numbers are read as texts in any case.
var plainNumber = regexp.MustCompile(`^(\d{4}-\d{2}-\d{2}|[1-9]\d{0,9})$`)

// quoted is a double-quoted scalar (YAML 1.2.2, 7.3.1).
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f || r == 0x85 || r == 0xa0 || r == 0x2028 || r == 0x2029 || r == 0xfeff:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// nested writes keys around a value, innermost last.
func nested(path []string, value string) string {
	for _, key := range slices.Backward(path) {
		value = "{" + scalar(key) + ": " + value + "}"
	}
	return value
}

// text finds its way through YAML by its lines and brackets alone: enough to
// put a value in the place of another.
type text struct{ s string }

// span is a value in the text: a flow value or scalar from its first byte to
// behind its last; or a block, from the start of its first line to behind its last.
type span struct {
	from, to int
	block    bool
	indent   int // of the entries of a block
}

// entry is a key with its value, or an item of a list.
type entry struct {
	key      string
	from, to int // all of it; of a block, whole lines
	value    span
}

func (t text) top() span { return span{0, len(t.s), true, 0} }

// lineEnd is behind the line break of the line that holds a byte.
func (t text) lineEnd(at int) int {
	if i := strings.IndexByte(t.s[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(t.s)
}

// indentAt is how far a line is indented; -1 when nothing but a comment is on it.
func (t text) indentAt(line int) int {
	i := line
	for i < len(t.s) && t.s[i] == ' ' {
		i++
	}
	if i == len(t.s) || t.s[i] == '\n' || t.s[i] == '\r' || t.s[i] == '#' {
		return -1
	}
	return i - line
}

// entries takes a mapping or a list apart.
func (t text) entries(s span) []entry {
	if s.block {
		return t.blockEntries(s)
	}
	return t.flowEntries(s)
}

func (t text) blockEntries(s span) []entry {
	var out []entry
	end := s.from // behind the last line that is more than a comment
	for line := s.from; line < s.to; line = t.lineEnd(line) {
		switch indent := t.indentAt(line); {
		case indent < 0:
			continue
		case indent == s.indent && (!t.item(line+indent) || t.item(s.from+s.indent)):
			if len(out) > 0 {
				t.close(&out[len(out)-1], end)
			}
			out = append(out, entry{from: line})
		}
		end = t.lineEnd(line)
	}
	if len(out) > 0 {
		t.close(&out[len(out)-1], end)
	}
	return out
}

// item says whether a list's dash stands here.
func (t text) item(at int) bool {
	return at < len(t.s) && t.s[at] == '-' && (at+1 == len(t.s) || t.s[at+1] == ' ' || t.s[at+1] == '\n')
}

// close finds key and value of an entry of a block that ends where to says.
func (t text) close(e *entry, to int) {
	e.to = to
	at := e.from + t.indentAt(e.from)
	if t.item(at) {
		at++
		for at < len(t.s) && t.s[at] == ' ' {
			at++
		}
		e.value = t.scan(at, to, "")
		return
	}
	key := t.scan(at, to, ":")
	e.key = unquoted(t.s[key.from:key.to])
	at = key.to + 1
	for at < len(t.s) && t.s[at] == ' ' {
		at++
	}
	if at < len(t.s) && t.s[at] != '\n' && t.s[at] != '\r' && t.s[at] != '#' {
		e.value = t.scan(at, to, "")
		return
	}
	first := t.lineEnd(at)
	for first < to && t.indentAt(first) < 0 {
		first = t.lineEnd(first)
	}
	e.value = span{from: min(first, to), to: to, block: true, indent: t.indentAt(min(first, to))}
}

// scan finds the end of a flow value or scalar; stop are letters that end it beside brackets and commas in flow.
func (t text) scan(at, to int, stop string) span {
	depth, i := 0, at
	if at < to && (t.s[at] == '|' || t.s[at] == '>') {
		return span{from: at, to: to}
	}
	for i < to {
		switch c := t.s[i]; {
		case c == '"' || c == '\'':
			if i == at || depth > 0 {
				i = t.quoteEnd(i, to)
				continue
			}
		case c == '{' || c == '[':
			depth++
		case (c == '}' || c == ']') && depth > 0:
			if depth--; depth == 0 && (t.s[at] == '{' || t.s[at] == '[') {
				return span{from: at, to: i + 1}
			}
		case depth > 0:
		case strings.IndexByte(stop, c) >= 0 && (c != ':' || i+1 >= to || strings.IndexByte(" \n\r,}]", t.s[i+1]) >= 0),
			c == '\n', c == '#' && i > at && t.s[i-1] == ' ':
			return span{from: at, to: at + len(strings.TrimRight(t.s[at:i], " \r"))}
		}
		i++
	}
	return span{from: at, to: at + len(strings.TrimRight(t.s[at:to], " \r\n"))}
}

func (t text) quoteEnd(at, to int) int {
	quote := t.s[at]
	for i := at + 1; i < to; i++ {
		switch {
		case t.s[i] == '\\' && quote == '"':
			i++
		case t.s[i] == quote && quote == '\'' && i+1 < to && t.s[i+1] == quote:
			i++
		case t.s[i] == quote:
			return i + 1
		}
	}
	return to
}

func (t text) flowEntries(s span) []entry {
	if s.to-s.from < 2 || t.s[s.from] != '{' && t.s[s.from] != '[' {
		return nil
	}
	var out []entry
	end := s.to - 1
	for at := s.from + 1; at < end; {
		for at < end && strings.IndexByte(" \n\r\t,", t.s[at]) >= 0 {
			at++
		}
		if at >= end {
			break
		}
		e := entry{from: at}
		if t.s[s.from] == '{' {
			key := t.scan(at, end, ":,")
			e.key = unquoted(t.s[key.from:key.to])
			at = min(key.to+1, end)
			for at < end && t.s[at] == ' ' {
				at++
			}
		}
		e.value = t.scan(at, end, ",")
		e.to = max(e.value.to, e.from+1)
		at = e.to
		out = append(out, e)
	}
	return out
}

func unquoted(s string) string {
	if len(s) > 1 && (s[0] == '"' || s[0] == '\'') {
		var out string
		if yaml.Unmarshal([]byte(s), &out) == nil {
			return out
		}
	}
	return s
}

// child finds the value of a key.
func (t text) child(s span, key string) (span, bool) {
	for _, e := range t.entries(s) {
		if e.key == key {
			return e.value, true
		}
	}
	return span{}, false
}

// change makes an edit below a mapping.
func (t text) change(in span, path []string, e Edit, value string) (string, error) {
	var found *entry
	for _, x := range t.entries(in) {
		if x.key == path[0] {
			found = &x
		}
	}
	switch {
	case found == nil && e.Do == Take:
		return "", fmt.Errorf("%s %s has no %s", e.Section, e.Name, e.Key)
	case found == nil:
		if e.Do == Add {
			value = "[" + value + "]"
		}
		return t.insert(in, scalar(path[0])+": "+nested(path[1:], value)), nil
	case len(path) > 1:
		if inner := t.entries(found.value); !found.value.block &&
			(found.value.from == found.value.to || len(inner) == 0 && t.s[found.value.from] != '{') {
			return "", fmt.Errorf("%s of %s %s is a single value and has no key %s", path[0], e.Section, e.Name, path[1])
		}
		return t.change(found.value, path[1:], e, value)
	case e.Do == Set && !found.value.block && unquoted(strings.TrimSpace(t.s[found.value.from:found.value.to])) == unquoted(value):
		return t.s, nil // it is so already
	case e.Do == Set:
		return t.replace(in, *found, value), nil
	case e.Do == Add:
		return t.add(*found, value), nil
	case e.Value == nil:
		return t.remove(in, *found), nil
	default:
		return t.takeItem(in, *found, e)
	}
}

// insert puts new entries behind the last of a mapping or list.
func (t text) insert(in span, lines ...string) string {
	if !in.block {
		line := strings.Join(lines, ", ")
		open, end := t.s[in.from+1:in.to-1], in.to-1
		if strings.TrimSpace(open) == "" {
			return t.s[:in.from+1] + line + t.s[end:]
		}
		trimmed := in.from + 1 + len(strings.TrimRight(open, " \n\r,"))
		return t.s[:trimmed] + ", " + line + t.s[trimmed:]
	}
	all := t.entries(in)
	at, indent := in.to, max(in.indent, 2)
	if len(all) > 0 {
		at, indent = all[len(all)-1].to, in.indent
	}
	before := t.s[:at]
	if before != "" && !strings.HasSuffix(before, "\n") {
		before += "\n"
	}
	margin := strings.Repeat(" ", indent)
	return before + margin + strings.Join(lines, "\n"+margin) + "\n" + t.s[at:]
}

// replace puts another value in the place of an entry's.
func (t text) replace(in span, e entry, value string) string {
	if !e.value.block {
		end := e.value.to
		if t.s[e.value.from:end] != "" && strings.IndexByte("|>", t.s[e.value.from]) >= 0 {
			return t.s[:e.value.from] + value + "\n" + t.s[end:]
		}
		space := ""
		if e.value.from > 0 && t.s[e.value.from-1] == ':' {
			space = " "
		}
		return t.s[:e.value.from] + space + value + t.s[end:]
	}
	return t.s[:e.from] + strings.Repeat(" ", in.indent) + scalar(e.key) + ": " + value + "\n" + t.s[e.to:]
}

// add puts an item behind the last of a list; a single value becomes a list of two.
func (t text) add(e entry, value string) string {
	switch {
	case e.value.block:
		return t.insert(e.value, "- "+value)
	case t.s[e.value.from:e.value.to] != "" && t.s[e.value.from] == '[':
		return t.insert(e.value, value)
	case e.value.from == e.value.to:
		return t.s[:e.value.from] + " [" + value + "]" + t.s[e.value.to:]
	default:
		return t.s[:e.value.from] + "[" + t.s[e.value.from:e.value.to] + ", " + value + "]" + t.s[e.value.to:]
	}
}

func (t text) remove(in span, e entry) string {
	if in.block {
		return t.s[:e.from] + t.s[e.to:]
	}
	from, to := e.from, e.to
	rest := t.s[to : in.to-1]
	if trimmed := strings.TrimLeft(rest, " \n\r"); strings.HasPrefix(trimmed, ",") {
		to += len(rest) - len(strings.TrimLeft(trimmed[1:], " "))
	} else {
		from = in.from + 1 + len(strings.TrimRight(t.s[in.from+1:from], " ,\n\r"))
	}
	return t.s[:from] + t.s[to:]
}

// takeItem takes an item from a list: one that is the value, or has it under role.
func (t text) takeItem(in span, e entry, edit Edit) (string, error) {
	want := fmt.Sprint(edit.Value)
	list := t.entries(e.value)
	for _, item := range list {
		body := t.s[item.value.from:item.value.to]
		role, _ := t.child(item.value, "role")
		if unquoted(body) != want && (role.to == 0 || unquoted(t.s[role.from:role.to]) != want) {
			continue
		}
		if len(list) == 1 {
			return t.remove(in, e), nil
		}
		return t.remove(e.value, item), nil
	}
	if len(list) == 0 && unquoted(t.s[e.value.from:e.value.to]) == want {
		return t.remove(in, e), nil
	}
	return "", fmt.Errorf("%s of %s %s does not hold %q", edit.Key, edit.Section, edit.Name, want)
}
