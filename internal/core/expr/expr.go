// Package expr evaluates the conditions and the ${…} parts of text values in a
// declaration. The language is CEL. In reach are user, target, params and day.
//
// Most expressions are one path, as in ${user.family}, and are looked up
// without CEL. A Set compiles each of the others once. Sets and what they
// compile may be used by several goroutines.
package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"hen-roost/internal/core/model"
)

// Subject is what an expression can ask of a user, a target or the params.
type Subject interface {
	// Text returns the value at a path such as "family" or "details.base";
	// false when there is none or it is no single value.
	Text(path string) (string, bool)
	// Vars returns everything, for expressions that are more than a path.
	Vars() map[string]any
}

// Vars is a Subject made of a map.
type Vars map[string]any

// Text implements Subject.
func (v Vars) Text(path string) (string, bool) {
	m := map[string]any(v)
	for {
		head, rest, deeper := strings.Cut(path, ".")
		if !deeper {
			s, ok := m[head].(string)
			return s, ok
		}
		next, ok := m[head].(map[string]any)
		if !ok {
			return "", false
		}
		m, path = next, rest
	}
}

// Vars implements Subject.
func (v Vars) Vars() map[string]any { return v }

// Scope is what an expression can see. Fields left nil are empty.
type Scope struct {
	User, Target, Params Subject
	Day                  string // 2006-01-02, UTC
}

func (s Scope) subject(root string) Subject {
	switch root {
	case "user":
		return s.User
	case "target":
		return s.Target
	}
	return s.Params
}

func (s Scope) vars() map[string]any {
	of := func(x Subject) map[string]any {
		if x == nil {
			return nil
		}
		return x.Vars()
	}
	return map[string]any{"user": of(s.User), "target": of(s.Target), "params": of(s.Params), "day": s.Day}
}

const (
	maxLength = 4096    // bytes of one expression
	maxCost   = 100_000 // a sane one costs under a hundred
	maxMemo   = 10_000  // remembered answers of one condition
)

// Set compiles expressions.
type Set struct {
	env  *cel.Env
	by   sync.Map // source → compiled
	memo sync.Map // condition → *memory
}

type compiled struct {
	program cel.Program
	err     error
	endless *atomic.Bool // it was stopped once: it is asked no more, for nobody
}

// NewSet returns an empty set.
func NewSet() *Set {
	object := cel.MapType(cel.StringType, cel.DynType)
	env, err := cel.NewEnv(cel.Variable("user", object), cel.Variable("target", object),
		cel.Variable("params", object), cel.Variable("day", cel.StringType))
	if err != nil {
		panic(fmt.Sprintf("expr: %v", err)) // wrong wiring, not input
	}
	return &Set{env: env}
}

func (s *Set) program(source string) (compiled, error) {
	if c, ok := s.by.Load(source); ok {
		return c.(compiled), c.(compiled).err
	}
	c := s.compile(source)
	s.by.Store(source, c)
	return c, c.err
}

func (s *Set) compile(source string) compiled {
	if len(source) > maxLength {
		return compiled{err: fmt.Errorf("the expression has %d bytes; the most is %d", len(source), maxLength)}
	}
	ast, issues := s.env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return compiled{err: errors.New(strings.TrimSpace(issues.Errors()[0].Message))}
	}
	p, err := s.env.Program(ast, cel.CostLimit(maxCost), cel.EvalOptions(cel.OptOptimize))
	return compiled{p, err, new(atomic.Bool)}
}

var errEndless = fmt.Errorf("the expression goes on for too long and was stopped; the most is a cost of %d", maxCost)

// eval evaluates; an expression that would run away is stopped.
func (s *Set) eval(source string, scope Scope) (ref.Val, error) {
	p, err := s.program(source)
	if err != nil {
		return nil, err
	}
	if p.endless.Load() {
		return nil, errEndless
	}
	v, _, err := p.program.Eval(scope.vars())
	if err != nil && strings.Contains(err.Error(), "cost limit") {
		p.endless.Store(true)
		return nil, errEndless
	}
	return v, err
}

// Check reports the first fault of a text with ${…} parts, or of a whole
// condition when bare is set, without evaluating it.
func (s *Set) Check(source string, bare bool) error {
	if bare {
		_, err := s.program(source)
		return err
	}
	return each(source, func(string) {}, func(e string) error { _, err := s.program(e); return err })
}

var (
	// ofUser finds what a condition asks of the user.
	ofUser = regexp.MustCompile(`\buser\b(\.[A-Za-z_][A-Za-z0-9_]*)*`)
	// telling fields differ from user to user, so that nothing is gained by remembering.
	telling = regexp.MustCompile(`^(id|name|given|family|number|mail|roles)?$`)
)

// memory holds the answers of one condition by the values that it depends on.
type memory struct {
	paths []string // of the user; nil: do not remember
	mu    sync.RWMutex
	by    map[string]bool
}

func (s *Set) memory(source string) *memory {
	if m, ok := s.memo.Load(source); ok {
		return m.(*memory)
	}
	m := &memory{by: map[string]bool{}, paths: []string{}}
	if strings.Contains(source, "target") || strings.Contains(source, "//") {
		m.paths = nil
	}
	for _, at := range ofUser.FindAllStringIndex(source, -1) {
		path := strings.TrimPrefix(strings.TrimPrefix(source[at[0]:at[1]], "user"), ".")
		first, rest, _ := strings.Cut(path, ".")
		// What has more parts than a field, or one of details, may be a function of it, and what is asked then is not known.
		deep := strings.Contains(rest, ".") || rest != "" && first != "details" || strings.HasPrefix(strings.TrimLeft(source[at[1]:],
			" \t\n"), "(")
		if telling.MatchString(path) || path == "details" || deep {
			m.paths = nil
			break
		}
		if m.paths != nil {
			m.paths = append(m.paths, path)
		}
	}
	s.memo.Store(source, m)
	return m
}

// Holds evaluates a condition. It does not hold for somebody who lacks what it
// asks for. Users who are alike in what it asks for share
// one evaluation; params and day must be the same in every call.
func (s *Set) Holds(source string, scope Scope) (bool, error) {
	if source == "true" {
		return true, nil
	}
	m := s.memory(source)
	if m.paths == nil || scope.User == nil {
		return s.holds(source, scope)
	}
	var room [128]byte
	key := room[:0]
	for _, p := range m.paths {
		text, ok := scope.User.Text(p)
		key = append(key, text...)
		if ok {
			key = append(key, 1)
		}
		key = append(key, 0)
	}
	m.mu.RLock()
	yes, known := m.by[string(key)]
	m.mu.RUnlock()
	if known {
		return yes, nil
	}
	yes, err := s.holds(source, scope)
	if err == nil {
		m.mu.Lock()
		if len(m.by) < maxMemo {
			m.by[string(key)] = yes
		}
		m.mu.Unlock()
	}
	return yes, err
}

func (s *Set) holds(source string, scope Scope) (bool, error) {
	v, err := s.eval(source, scope)
	if err != nil && strings.Contains(err.Error(), "no such key") {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	b, ok := v.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%s is %s, and a condition must be true or false", source, v.Type().TypeName())
	}
	return b, nil
}

// Template is a text with ${…} parts, taken apart.
type Template struct {
	set   *Set
	parts []part
	fixed bool  // no expression in it
	err   error // it cannot be taken apart
}

type part struct {
	text       string // plain, or the expression
	root, path string // of a simple path: "user", "details.base"
	bare       bool   // an expression
}

// simple is an expression that is nothing but a path.
var simple = regexp.MustCompile(`^(user|target|params)\.([A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*)$`)

// Template takes a text apart. Its faults show when it is filled.
func (s *Set) Template(text string) *Template {
	t := &Template{set: s, fixed: true}
	err := each(text, func(plain string) { t.parts = append(t.parts, part{text: plain}) }, func(e string) error {
		p := part{text: e, bare: true}
		if m := simple.FindStringSubmatch(e); m != nil {
			p.root, p.path = m[1], m[2]
		}
		t.parts, t.fixed = append(t.parts, p), false
		return nil
	})
	if t.err = err; err != nil {
		t.fixed = false
	}
	return t
}

// Fixed returns the text when there is no expression in it.
func (t *Template) Fixed() (string, bool) {
	if !t.fixed {
		return "", false
	}
	if len(t.parts) == 0 {
		return "", true
	}
	return t.parts[0].text, true
}

// Same says whether two templates are written alike.
func (t *Template) Same(u *Template) bool {
	if t == nil || u == nil {
		return t == u
	}
	return slices.Equal(t.parts, u.parts)
}

// Plain says whether every expression is a path that any user has, so that
// filling it cannot fail once params are known.
func (t *Template) Plain() bool {
	for _, p := range t.parts {
		if p.bare && (p.root == "" || p.root == "target" || strings.Contains(p.path, ".")) {
			return false
		}
	}
	return true
}

// Is says whether the template, filled in, is this text. Paths are compared in place; where
// there is more to it than paths, known is false and it must be filled in.
func (t *Template) Is(text string, scope Scope) (same, known bool) {
	for i := range t.parts {
		p := &t.parts[i]
		want := p.text
		if p.bare {
			if p.root == "" {
				return false, false
			}
			x := scope.subject(p.root)
			if x == nil {
				return false, false
			}
			var ok bool
			if want, ok = x.Text(p.path); !ok {
				return false, false
			}
		}
		if !strings.HasPrefix(text, want) {
			return false, true
		}
		text = text[len(want):]
	}
	return text == "", t.err == nil
}

// Append fills the template in and appends the outcome.
func (t *Template) Append(b []byte, scope Scope) ([]byte, error) {
	if t.err != nil {
		return b, t.err
	}
	for _, p := range t.parts {
		if !p.bare {
			b = append(b, p.text...)
			continue
		}
		if p.root != "" {
			if x := scope.subject(p.root); x != nil {
				if text, ok := x.Text(p.path); ok {
					b = append(b, text...)
					continue
				}
			}
		}
		text, err := t.set.text(p.text, scope)
		if err != nil {
			return b, err
		}
		b = append(b, text...)
	}
	return b, nil
}

func (s *Set) text(e string, scope Scope) (string, error) {
	if _, err := s.program(e); err != nil {
		return "", err
	}
	v, err := s.eval(e, scope)
	if err != nil {
		return "", fmt.Errorf("${%s}: %w", e, err)
	}
	str := v.ConvertToType(types.StringType)
	if types.IsError(str) {
		return "", fmt.Errorf("${%s} is %s and cannot stand in a text", e, v.Type().TypeName())
	}
	out := str.Value().(string)
	if why := model.Unfit(out, false); why != "" {
		return "", fmt.Errorf("${%s} makes a text that holds %s", e, why)
	}
	return out, nil
}

// Fill replaces each ${…} in a text by its value.
func (s *Set) Fill(text string, scope Scope) (string, error) {
	if !strings.Contains(text, "${") {
		return text, nil
	}
	b, err := s.Template(text).Append(nil, scope)
	return string(b), err
}

// each walks a text and hands its plain parts and its expressions on, in order.
// Braces inside an expression nest; those inside its string literals do not count.
func each(text string, plain func(string), expression func(string) error) error {
	for {
		i := strings.Index(text, "${")
		if i < 0 {
			if text != "" {
				plain(text)
			}
			return nil
		}
		if i > 0 {
			plain(text[:i])
		}
		end := closing(text[i+2:])
		if end < 0 {
			return errOpen
		}
		if err := expression(strings.TrimSpace(text[i+2 : i+2+end])); err != nil {
			return err
		}
		text = text[i+2+end+1:]
	}
}

var errOpen = errors.New("${ without its }")

func closing(s string) int {
	depth := 0
	var quote byte
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case quote != 0:
			if c == '\\' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			depth++
		case c == '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}
