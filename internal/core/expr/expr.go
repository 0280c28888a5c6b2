// Package expr evaluates the conditions and the ${…} parts of text values in a
// declaration. The language is CEL. In reach are user, target, params and day.
//
// A Set compiles each expression once and may be used by several goroutines.
package expr

import (
	"fmt"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// Scope is what an expression can see. Fields left nil are empty.
type Scope struct {
	User   map[string]any
	Target map[string]any
	Params map[string]any
	Day    string // 2006-01-02, UTC
}

func (s Scope) vars() map[string]any {
	return map[string]any{"user": s.User, "target": s.Target, "params": s.Params, "day": s.Day}
}

// Set compiles and evaluates expressions.
type Set struct {
	env *cel.Env
	mu  sync.Mutex
	by  map[string]cel.Program
}

// NewSet returns an empty set.
func NewSet() *Set {
	object := cel.MapType(cel.StringType, cel.DynType)
	env, err := cel.NewEnv(cel.Variable("user", object), cel.Variable("target", object),
		cel.Variable("params", object), cel.Variable("day", cel.StringType))
	if err != nil {
		panic(fmt.Sprintf("expr: %v", err)) // wrong wiring, not input
	}
	return &Set{env: env, by: map[string]cel.Program{}}
}

func (s *Set) program(source string) (cel.Program, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p, ok := s.by[source]; ok {
		return p, nil
	}
	ast, issues := s.env.Compile(source)
	if issues != nil && issues.Err() != nil {
		e := issues.Errors()[0]
		return nil, fmt.Errorf("%s", strings.TrimSpace(e.Message))
	}
	// The cost limit keeps an expression from running away; a sane one costs under a hundred.
	p, err := s.env.Program(ast, cel.CostLimit(100_000), cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, err
	}
	s.by[source] = p
	return p, nil
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

// Holds evaluates a condition.
func (s *Set) Holds(source string, scope Scope) (bool, error) {
	if source == "true" {
		return true, nil
	}
	p, err := s.program(source)
	if err != nil {
		return false, err
	}
	v, _, err := p.Eval(scope.vars())
	if err != nil {
		return false, err
	}
	b, ok := v.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%s is %s, and a condition must be true or false", source, v.Type().TypeName())
	}
	return b, nil
}

// Fill replaces each ${…} in a text by its value.
func (s *Set) Fill(text string, scope Scope) (string, error) {
	if !strings.Contains(text, "${") {
		return text, nil
	}
	var b strings.Builder
	err := each(text, func(plain string) { b.WriteString(plain) }, func(e string) error {
		p, err := s.program(e)
		if err != nil {
			return err
		}
		v, _, err := p.Eval(scope.vars())
		if err != nil {
			return fmt.Errorf("${%s}: %w", e, err)
		}
		str := v.ConvertToType(types.StringType)
		if types.IsError(str) {
			return fmt.Errorf("${%s} is %s and cannot stand in a text", e, v.Type().TypeName())
		}
		b.WriteString(str.Value().(string))
		return nil
	})
	return b.String(), err
}

// each walks a text and hands its plain parts and its expressions on, in order.
// Braces inside an expression nest; those inside its string literals do not count.
func each(text string, plain func(string), expression func(string) error) error {
	for {
		i := strings.Index(text, "${")
		if i < 0 {
			plain(text)
			return nil
		}
		plain(text[:i])
		end := closing(text[i+2:])
		if end < 0 {
			return fmt.Errorf("${ without its }")
		}
		if err := expression(strings.TrimSpace(text[i+2 : i+2+end])); err != nil {
			return err
		}
		text = text[i+2+end+1:]
	}
}

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
