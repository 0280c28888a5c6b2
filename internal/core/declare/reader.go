package declare

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/token"

	"hen-roost/internal/core/model"
)

// File is one declaration file: its name, for messages, and its text.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// reader turns the syntax tree of one part into values and collects every fault.
type reader struct {
	part   *part
	start  int // lines of the file before the part's own first
	budget int // entries and items that may still be looked at; aliases could make more of them than there are
	faults Faults
	of     []string // the user who is read now
}

// keys says what to do with each key that a mapping may hold.
type keys map[string]func(*node)

func (r *reader) pos(n *node) model.Pos {
	if n == nil || n.line == 0 {
		return model.Pos{Part: r.part.id, Line: 1, Column: 1}
	}
	return model.Pos{Part: r.part.id, Line: n.line, Column: n.column}
}

// maxFaults bounds what is told of one revision; nobody mends more at a time.
const maxFaults = 1000

func (r *reader) fault(at model.Pos, format string, args ...any) {
	r.faults = r.faults.and(r.one(at, format, args...))
}

// lately is fault for what earlier versions let pass; see Source.Late.
func (r *reader) lately(at model.Pos, format string, args ...any) {
	r.part.late = r.part.late.and(r.one(at, format, args...))
}

func (r *reader) one(at model.Pos, format string, args ...any) Fault {
	return Fault{
		At:    model.Location{File: at.Part.File, Line: r.start + int(at.Line), Column: int(at.Column)},
		Users: r.of, Message: fmt.Sprintf(format, args...), Line: model.Clean(r.part.line(at), false),
	}
}

// fit faults a text that could deceive or do harm where it is shown or used.
func (r *reader) fit(at model.Pos, s string, lines bool) {
	if why := model.Unfit(s, lines); why != "" {
		r.lately(at, "a text here holds %s", why)
	}
}

// and adds faults, as long as anybody would read them.
func (f Faults) and(more ...Fault) Faults {
	for _, x := range more {
		switch {
		case len(f) == maxFaults:
			x = Fault{At: x.At, Message: fmt.Sprintf("there is more to mend; only the first %d faults are told", maxFaults)}
		case len(f) > maxFaults:
			return f
		}
		f = append(f, x)
	}
	return f
}

// line is the line of a fault, as it stands in the file.
func (p *part) line(at model.Pos) string {
	n := int32(1)
	for line := range strings.Lines(p.full) {
		if n == at.Line {
			return around(strings.TrimRight(line, "\r\n"), int(at.Column))
		}
		n++
	}
	return ""
}

// around shows a long line near the column the fault is in.
func around(line string, column int) string {
	const most = 160
	r := []rune(line)
	if len(r) <= most {
		return line
	}
	from := min(max(0, column-1-most/2), len(r)-most)
	s := string(r[from : from+most])
	if from > 0 {
		s = "…" + s
	}
	if from+most < len(r) {
		s += "…"
	}
	return s
}

// root is the one document of a file; nil when it is not YAML or is empty.
func (r *reader) root(n *node, err error) *node {
	at := model.Pos{Part: r.part.id, Line: 1, Column: 1}
	switch {
	case err != nil:
		message := err.Error()
		if e, ok := err.(interface {
			GetMessage() string
			GetToken() *token.Token
		}); ok {
			message = e.GetMessage()
			if tk := e.GetToken(); tk != nil && tk.Position != nil {
				at.Line, at.Column = int32(tk.Position.Line), int32(tk.Position.Column)
			}
		}
		r.fault(at, "not YAML: %s", message)
	case n == nil:
		r.fault(at, "the file is empty; it must begin with roost: 1")
	case n.line == 0:
		r.fault(r.pos(&n.inside[1]), "a second document in one file; put it into a file of its own")
		return &n.inside[0]
	default:
		return n
	}
	return nil
}

// plain follows tags, anchors and aliases to the value itself.
func (r *reader) plain(n *node) *node {
	for n.form == wrapped {
		n = &n.inside[0]
	}
	if n.form == lost {
		r.fault(r.pos(n), "nothing above is anchored as %q", n.text)
		return &node{line: n.line, column: n.column, form: lost}
	}
	return n
}

// pairs returns the keys and values of a mapping in turn, or faults.
func (r *reader) pairs(n *node, what string) []node {
	switch v := r.plain(n); v.form {
	case mapping:
		if r.spend(n, len(v.inside)/2) {
			return v.inside
		}
	case nothing, lost:
	default:
		r.fault(r.pos(n), "%s must be keys with values, not %s", what, kindOf(v))
	}
	return nil
}

// spend keeps aliases from unfolding a small file into an endless one.
func (r *reader) spend(n *node, items int) bool {
	if r.budget < 0 {
		return false
	}
	if r.budget -= items; r.budget < 0 {
		r.fault(r.pos(n), "aliases unfold this file to more than it can hold; write out what you mean")
		return false
	}
	return true
}

// mapping hands each entry to its key's function; unknown keys are faults with the nearest known one.
func (r *reader) mapping(n *node, what string, known keys) {
	pairs := r.pairs(n, what)
	for i := 0; i < len(pairs); i += 2 {
		key, at := pairs[i].text, r.pos(&pairs[i])
		if line, twice := before(pairs[:i], key); twice {
			r.fault(at, "%q stands twice in %s, first on line %d", key, what, r.start+int(line))
			continue
		}
		switch {
		case known[key] != nil:
			known[key](&pairs[i+1])
		default:
			names := slices.Collect(maps.Keys(known))
			r.fault(at, "%s", Meant(fmt.Sprintf("unknown key %q in %s", key, what), key, names))
		}
	}
}

// before finds a key among others; they are few where keys are known.
func before(pairs []node, key string) (line int32, found bool) {
	for i := 0; i < min(len(pairs), 200); i += 2 {
		if pairs[i].text == key {
			return pairs[i].line, true
		}
	}
	return 0, false
}

// named walks a mapping of names chosen by people.
func (r *reader) named(n *node, what string, each func(name string, at model.Pos, value *node)) {
	pairs := r.pairs(n, what)
	for i := 0; i < len(pairs); i += 2 {
		at := r.pos(&pairs[i])
		name := pairs[i].text
		if err := badName(name); err != "" {
			r.fault(at, "%s %q %s", what, name, err)
			continue
		}
		r.fit(at, name, false)
		each(name, at, &pairs[i+1])
	}
}

// badName keeps out names that no person could mean; targets are stricter on their own account.
func badName(s string) string {
	switch {
	case s == "":
		return "is empty"
	case len(s) > 200:
		return "is longer than 200 bytes"
	case strings.TrimSpace(s) != s:
		return "begins or ends with a space"
	}
	for _, c := range s {
		if c < ' ' || c == 0x7f || c == 0xfffd {
			return "holds a control character"
		}
	}
	return ""
}

// text reads a single value of one line, prose one of several.
func (r *reader) text(into *model.Text) func(*node)  { return r.value(into, false) }
func (r *reader) prose(into *model.Text) func(*node) { return r.value(into, true) }

func (r *reader) value(into *model.Text, lines bool) func(*node) {
	return func(n *node) {
		defer func() { r.fit(into.Pos, into.Raw, lines) }()
		switch v := r.plain(n); v.form {
		case lost:
		case mapping, sequence, nothing:
			r.fault(r.pos(n), "a text is wanted here, not %s", kindOf(v))
		case block:
			*into = model.Text{Raw: v.text, Pos: r.pos(v)}
			if !lines { // a block ends with a line break of its own
				into.Raw = strings.TrimSuffix(into.Raw, "\n")
			}
		default:
			*into = model.Text{Raw: v.text, Pos: r.pos(v)}
		}
	}
}

func (r *reader) str(into *string) func(*node) {
	return func(n *node) {
		var t model.Text
		r.text(&t)(n)
		*into = t.Raw
	}
}

func (r *reader) about(into *string) func(*node) {
	return func(n *node) {
		var t model.Text
		r.prose(&t)(n)
		*into = t.Raw
	}
}

func (r *reader) oneOf(into *string, words ...string) func(*node) {
	return func(n *node) {
		r.str(into)(n)
		if !slices.Contains(words, *into) {
			r.fault(r.pos(n), "%s", Meant(fmt.Sprintf("%q is not one of %s", *into, strings.Join(words, ", ")), *into, words))
			*into = words[0]
		}
	}
}

func (r *reader) number(into *int, low, high int) func(*node) {
	return func(n *node) {
		var s string
		r.str(&s)(n)
		i, err := strconv.Atoi(s)
		if err != nil || i < low || i > high {
			r.fault(r.pos(n), "%q is not a whole number from %d to %d", s, low, high)
			return
		}
		*into = i
	}
}

func (r *reader) yes(into *bool) func(*node) {
	return func(n *node) {
		var s string
		r.oneOf(&s, "false", "true")(n)
		*into = s == "true"
	}
}

// list hands each item of a sequence on; a lone value counts as a list of one.
func (r *reader) list(n *node, each func(*node)) {
	switch v := r.plain(n); v.form {
	case sequence:
		if r.spend(n, len(v.inside)) {
			for i := range v.inside {
				each(&v.inside[i])
			}
		}
	case nothing, lost:
	default:
		each(v)
	}
}

func (r *reader) ref(into *model.Ref) func(*node) {
	return func(n *node) {
		into.Pos = r.pos(n)
		r.str(&into.Name)(n)
	}
}

func (r *reader) refs(into *[]model.Ref) func(*node) {
	return func(n *node) {
		r.list(n, func(item *node) {
			var s string
			r.str(&s)(item)
			if s != "" {
				*into = append(*into, model.Ref{Name: s, Pos: r.pos(item)})
			}
		})
	}
}

// strings reads a list of single values.
func (r *reader) strings(into *[]string) func(*node) {
	return func(n *node) {
		r.list(n, func(item *node) {
			var s string
			r.str(&s)(item)
			*into = append(*into, s)
		})
	}
}

// day reads a day, 2006-01-02.
func (r *reader) day(into *string) func(*node) {
	return func(n *node) {
		var s string
		r.str(&s)(n)
		if _, err := time.Parse(time.DateOnly, s); err != nil {
			r.fault(r.pos(n), "%q is not a day; write it as 2026-04-01", s)
			return
		}
		*into = s
	}
}

// share reads "10%" as 10.
func (r *reader) share(into *int) func(*node) {
	return func(n *node) {
		var s string
		r.str(&s)(n)
		i, err := strconv.Atoi(strings.TrimSuffix(s, "%"))
		if err != nil || !strings.HasSuffix(s, "%") || i < 0 || i > 100 {
			r.fault(r.pos(n), "%q is not a share; write it as 10%%", s)
			return
		}
		*into = i
	}
}

// span reads a length of time such as 90d, 12h, 15m or 30s; never reads as 0.
func (r *reader) span(into *time.Duration) func(*node) {
	return func(n *node) {
		var s string
		r.str(&s)(n)
		if s == "never" {
			*into = 0
			return
		}
		units := map[byte]time.Duration{'d': 24 * time.Hour, 'h': time.Hour, 'm': time.Minute, 's': time.Second}
		if s != "" {
			i, err := strconv.Atoi(s[:len(s)-1])
			if unit := units[s[len(s)-1]]; err == nil && unit > 0 && i > 0 && i <= 36500 {
				*into = time.Duration(i) * unit
				return
			}
		}
		r.fault(r.pos(n), "%q is not a length of time; write it as 90d, 12h, 15m, 30s, or never", s)
	}
}

func (r *reader) texts(into *map[string]model.Text, what string) func(*node) {
	return func(n *node) {
		*into = map[string]model.Text{}
		r.named(n, what, func(name string, _ model.Pos, v *node) {
			var t model.Text
			r.text(&t)(v)
			(*into)[name] = t
		})
	}
}

func kindOf(n *node) string {
	switch n.form {
	case mapping:
		return "keys with values"
	case sequence:
		return "a list"
	case nothing:
		return "nothing"
	default:
		return "a single value"
	}
}
