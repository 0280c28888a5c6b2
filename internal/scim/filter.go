package scim

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
)

// Filter chooses resources (RFC 7644 §3.4.2.2).
type Filter struct{ expr expression }

// expression is a part of a filter: one of test, some, both, neither.
type expression interface{ match(r Resource) bool }

// test compares an attribute, or asks whether it is there (pr).
type test struct {
	at    path
	op    string // in lower case
	value any
}

// some asks whether one of several values is so.
type some struct {
	at path
	of expression
}

// both is two expressions with and, or with or, between them.
type both struct {
	a, b expression
	or   bool
}

// neither is an expression with not before it.
type neither struct{ of expression }

// filterMost bounds a filter, and deepest how far its parts may stand in each other: it is worked out for every resource.
const (
	filterMost = 64 << 10
	deepest    = 50
)

// ParseFilter reads one. Its error is an *Error.
func ParseFilter(s string) (Filter, error) {
	if len(s) > filterMost {
		return Filter{}, NewError(400, "tooMany", "the filter is longer than 64 KB")
	}
	p := parser{rest: s}
	e := p.either()
	if p.space(); p.fault == "" && p.rest != "" {
		p.wrong("nothing more")
	}
	if p.fault != "" {
		return Filter{}, NewError(400, "invalidFilter", p.fault)
	}
	return Filter{e}, nil
}

// parser reads a filter from its beginning. What it meets after a fault means nothing.
type parser struct {
	rest  string
	deep  int
	fault string
}

func (p *parser) wrong(want string) {
	if p.fault != "" {
		return
	}
	here := p.rest
	if len(here) > 40 {
		here = here[:40] + "…"
	}
	p.fault = fmt.Sprintf("%s was expected where %q stands", want, here)
}

func (p *parser) space() { p.rest = strings.TrimLeft(p.rest, " ") }

// takes takes a word, in any case, that something else than a letter follows.
func (p *parser) takes(word string) bool {
	p.space()
	n := len(word)
	if len(p.rest) < n || !strings.EqualFold(p.rest[:n], word) || len(p.rest) > n && letter(p.rest[n]) && letter(word[0]) {
		return false
	}
	p.rest = p.rest[n:]
	return true
}

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// either reads expressions with or between them; and binds closer, not closest.
func (p *parser) either() expression {
	e := p.all()
	for p.fault == "" && p.takes("or") {
		e = both{e, p.all(), true}
	}
	return e
}

func (p *parser) all() expression {
	e := p.one()
	for p.fault == "" && p.takes("and") {
		e = both{e, p.one(), false}
	}
	return e
}

func (p *parser) one() expression {
	if p.deep++; p.deep > deepest {
		p.wrong("fewer parts in parts")
		return nil
	}
	defer func() { p.deep-- }()
	not := p.takes("not")
	if p.takes("(") {
		e := p.either()
		if !p.takes(")") {
			p.wrong(`")"`)
		}
		if not {
			return neither{e}
		}
		return e
	}
	if not {
		p.wrong(`"("`)
		return nil
	}
	at := p.path()
	if p.fault != "" {
		return nil
	}
	if p.takes("[") {
		e := p.either()
		if !p.takes("]") {
			p.wrong(`"]"`)
		}
		return some{at, e}
	}
	for _, op := range []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr"} {
		if p.takes(op) {
			if op == "pr" {
				return test{at, op, nil}
			}
			return test{at, op, p.value()}
		}
	}
	p.wrong("eq, ne, co, sw, ew, gt, ge, lt, le or pr")
	return nil
}

// value reads a string, a number, true, false or null, as JSON has them.
func (p *parser) value() (v any) {
	p.space()
	d := json.NewDecoder(strings.NewReader(p.rest))
	if err := d.Decode(&v); err != nil {
		p.wrong("a string in quotes, a number, true, false or null")
		return nil
	}
	switch v.(type) {
	case map[string]any, []any:
		p.wrong("one value")
		return nil
	}
	p.rest = p.rest[d.InputOffset():]
	return v
}

// path is where an attribute stands: in which schema ("" for any), its name and that of its part.
type path struct{ schema, name, part string }

// path reads one: name, name.part, or either behind a schema and a colon.
func (p *parser) path() path {
	p.space()
	end := strings.IndexAny(p.rest, " ()[]")
	if end < 0 {
		end = len(p.rest)
	}
	word := p.rest[:end]
	at := path{name: word}
	if i := strings.LastIndexByte(word, ':'); i >= 0 {
		at.schema, at.name = word[:i], word[i+1:]
	}
	at.name, at.part, _ = strings.Cut(at.name, ".")
	if !nameful(at.name) || at.part != "" && !nameful(at.part) || strings.HasSuffix(word, ".") {
		p.wrong("the name of an attribute")
	}
	p.rest = p.rest[end:]
	return at
}

// nameful says whether a word can be the name of an attribute (RFC 7643 §2.1; $ref among them).
func nameful(s string) bool {
	for i := range len(s) {
		if c := s[i]; !letter(c) && (i == 0 && c != '$' || i > 0 && c != '-' && c != '_' && (c < '0' || c > '9')) {
			return false
		}
	}
	return s != ""
}

// AnyOf returns the values of which an attribute must be equal to one, where that is all that the filter asks.
func (f Filter) AnyOf(attribute string) (values []string, ok bool) {
	var walk func(e expression) bool
	walk = func(e expression) bool {
		switch e := e.(type) {
		case both:
			return e.or && walk(e.a) && walk(e.b)
		case test:
			s, text := e.value.(string)
			values = append(values, s)
			return text && e.op == "eq" && strings.EqualFold(e.at.name, attribute) && e.at.part == ""
		}
		return false
	}
	return values, f.expr != nil && walk(f.expr)
}

// Match says whether it chooses a resource. Of strings upper and lower case are the same, but of ids.
func (f Filter) Match(r Resource) bool { return f.expr.match(r) }

func (e both) match(r Resource) bool {
	if e.or {
		return e.a.match(r) || e.b.match(r)
	}
	return e.a.match(r) && e.b.match(r)
}

func (e neither) match(r Resource) bool { return !e.of.match(r) }

func (e some) match(r Resource) bool {
	list, _ := r.at(e.at).([]any)
	for _, x := range list {
		if m, ok := x.(map[string]any); ok && e.of.match(m) {
			return true
		}
	}
	return false
}

func (e test) match(r Resource) bool {
	return compares(r.at(e.at), e.op, e.value, strings.EqualFold(e.at.name, "id") || strings.EqualFold(e.at.name, "externalId"))
}

// compares compares a value, or any of several, the main part of a complex one. exact is of those in which upper and lower
// case differ (RFC 7643 §3.1).
func compares(v any, op string, with any, exact bool) bool {
	switch v := v.(type) {
	case []any:
		if op == "ne" {
			return !compares(v, "eq", with, exact)
		}
		for _, x := range v {
			if compares(x, op, with, exact) {
				return true
			}
		}
		return false
	case map[string]any:
		if op == "pr" {
			return len(v) > 0
		}
		return compares(Resource(v).Get("value"), op, with, exact)
	}
	if op == "pr" {
		return v != nil && v != ""
	}
	if a, ok := v.(string); ok {
		b, ok := with.(string)
		if !exact {
			a, b = strings.ToLower(a), strings.ToLower(b)
		}
		return ok && texts(a, op, b) || !ok && op == "ne"
	}
	if a, ok := number(v); ok {
		b, ok := number(with)
		return ok && orders(cmp.Compare(a, b), op)
	}
	return op == "eq" && v == with || op == "ne" && v != with
}

func texts(a, op, b string) bool {
	switch op {
	case "co":
		return strings.Contains(a, b)
	case "sw":
		return strings.HasPrefix(a, b)
	case "ew":
		return strings.HasSuffix(a, b)
	}
	return orders(strings.Compare(a, b), op)
}

func orders(c int, op string) bool {
	switch op {
	case "eq":
		return c == 0
	case "ne":
		return c != 0
	case "gt":
		return c > 0
	case "ge":
		return c >= 0
	case "lt":
		return c < 0
	case "le":
		return c <= 0
	}
	return false
}

func number(v any) (float64, bool) {
	switch v := v.(type) {
	case float64:
		return v, true
	case int:
		return float64(v), true
	}
	return 0, false
}

// Quote writes a string as a filter has it (RFC 7644 §3.4.2.2: as JSON does).
func Quote(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // of a string there is none
	}
	return string(b)
}
