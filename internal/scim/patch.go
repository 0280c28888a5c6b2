package scim

import (
	"encoding/json"
	"reflect"
	"strings"
)

// Apply carries out changes on a resource (RFC 7644 §3.5.2), all of them or, with an *Error, none that is to be kept: r may
// have been changed in part and is to be thrown away. changed says whether anything is different.
func (p Patch) Apply(r Resource) (changed bool, err error) {
	if len(p.Operations) == 0 {
		return false, NewError(400, "invalidSyntax", "there are no operations")
	}
	before := copied(map[string]any(r))
	if err := p.Make(r); err != nil {
		return false, err
	}
	return !reflect.DeepEqual(before, map[string]any(r)), nil
}

// Make carries out changes on a resource that is being made.
func (p Patch) Make(r Resource) error {
	for _, c := range p.Operations {
		if err := c.apply(r); err != nil {
			return err
		}
	}
	return nil
}

func (c Change) apply(r Resource) error {
	op := strings.ToLower(c.Op)
	if op != "add" && op != "replace" && op != "remove" {
		return NewError(400, "invalidSyntax", "an operation is add, replace or remove, not "+c.Op)
	}
	var value any
	if len(c.Value) > 0 {
		if err := json.Unmarshal(c.Value, &value); err != nil {
			return NewError(400, "invalidValue", "a value cannot be read: "+err.Error())
		}
	}
	if c.Path == "" {
		m, ok := value.(map[string]any)
		if op == "remove" {
			return NewError(400, "noTarget", "nothing says what is to be removed")
		}
		if !ok {
			return NewError(400, "invalidValue", "without a path the value is a set of attributes")
		}
		for k, v := range m {
			if in := r.part(k); strings.HasPrefix(strings.ToLower(k), "urn:") {
				more, ok := v.(map[string]any)
				if !ok {
					return NewError(400, "invalidValue", k+" is a set of attributes")
				}
				if in == nil {
					in = Resource{}
					r[k] = map[string]any(in)
				}
				for n, x := range more {
					in.set(op, n, x)
				}
				continue
			}
			r.set(op, k, v)
		}
		return nil
	}
	path, err := parsePath(c.Path)
	if err != nil {
		return err
	}
	return r.change(op, path, value)
}

// place is where a change is made: an attribute, those of several values that are so, and their part.
type place struct {
	path
	chosen expression
}

// parsePath reads where a change is made (RFC 7644 §3.5.2, figure 7).
func parsePath(s string) (place, error) {
	p := parser{rest: s}
	at := place{path: p.path()}
	if p.fault == "" && p.takes("[") {
		at.chosen = p.either()
		if !p.takes("]") {
			p.wrong(`"]"`)
		}
		if part, more := strings.CutPrefix(p.rest, "."); more {
			at.part = part
			if p.rest = ""; !nameful(part) {
				p.wrong("the name of a part")
			}
		}
	}
	if p.fault == "" && p.rest != "" {
		p.wrong("nothing more")
	}
	if p.fault != "" {
		return at, NewError(400, "invalidPath", "in the path "+s+" "+p.fault)
	}
	return at, nil
}

// change carries out one operation where a path leads.
func (r Resource) change(op string, p place, value any) error {
	in := r
	if p.schema != "" {
		if in = r.part(p.schema); in == nil {
			if op == "remove" {
				return nil
			}
			in = Resource{}
			r[p.schema] = map[string]any(in)
		}
	}
	if p.chosen != nil {
		return in.changeSome(op, p, value)
	}
	if p.part == "" {
		if op == "remove" {
			in.without(p.name, value)
			return nil
		}
		in.set(op, p.name, value)
		return nil
	}
	switch v := in.Get(p.name).(type) {
	case nil:
		if op != "remove" {
			in[in.key(p.name)] = map[string]any{p.part: value}
		}
	case map[string]any:
		if op == "remove" {
			delete(v, Resource(v).key(p.part))
		} else {
			Resource(v).set(op, p.part, value)
		}
	case []any:
		for _, x := range v {
			if m, ok := x.(map[string]any); ok && op == "remove" {
				delete(m, Resource(m).key(p.part))
			} else if ok {
				Resource(m).set(op, p.part, value)
			}
		}
	default:
		return NewError(400, "invalidPath", p.name+" has no parts")
	}
	return nil
}

// changeSome changes those of several values that a filter chooses.
func (r Resource) changeSome(op string, p place, value any) error {
	name, sub := p.name, p.part
	list, _ := r.Get(name).([]any)
	var out []any
	met := false
	for _, x := range list {
		m, ok := x.(map[string]any)
		if !ok || !p.chosen.match(m) {
			out = append(out, x)
			continue
		}
		met = true
		switch {
		case op == "remove" && sub == "":
			continue
		case op == "remove":
			delete(m, Resource(m).key(sub))
		case sub != "":
			Resource(m).set(op, sub, value)
		default:
			with, ok := value.(map[string]any)
			if !ok {
				return NewError(400, "invalidValue", "the value of "+name+" is a set of attributes")
			}
			if op == "replace" {
				clear(m)
			}
			for k, v := range with {
				m[k] = v
			}
		}
		out = append(out, m)
	}
	if !met && op == "remove" {
		return nil
	}
	if !met { // one that is to be told apart so does not exist: with add, and with an equality, it is made
		eq, ok := p.chosen.(test)
		if op == "replace" || !ok || eq.op != "eq" {
			return NewError(400, "noTarget", "no value of "+name+" is chosen by the path")
		}
		m := map[string]any{eq.at.name: eq.value}
		if with, ok := value.(map[string]any); ok && sub == "" {
			for k, v := range with {
				m[k] = v
			}
		} else {
			m[sub] = value
		}
		out = append(out, m)
	}
	r.put(name, out)
	return nil
}

// set adds or replaces an attribute: adding to several joins what is not there yet, adding to a complex one keeps its other parts.
func (r Resource) set(op, name string, value any) {
	k := r.key(name)
	if op == "add" {
		switch have := r[k].(type) {
		case []any:
			more, ok := value.([]any)
			if !ok {
				more = []any{value}
			}
			r[k] = merged(have, more)
			return
		case map[string]any:
			if with, ok := value.(map[string]any); ok {
				for n, v := range with {
					have[Resource(have).key(n)] = v
				}
				return
			}
		}
	}
	if op == "replace" {
		if have, ok := r[k].(map[string]any); ok {
			if with, ok := value.(map[string]any); ok { // RFC 7644 §3.5.2.3: the sub-attributes that are named
				for n, v := range with {
					have[Resource(have).key(n)] = v
				}
				return
			}
		}
	}
	r.put(k, value)
}

// put keeps a value; nothing, and a list of nothing, are the same as none (RFC 7643 §2.5).
func (r Resource) put(name string, value any) {
	k := r.key(name)
	if list, ok := value.([]any); value == nil || ok && len(list) == 0 {
		delete(r, k)
		return
	}
	r[k] = value
}

// without removes an attribute or, where values are named beside the path, those of it.
func (r Resource) without(name string, value any) {
	k := r.key(name)
	less, some := value.([]any)
	have, many := r[k].([]any)
	if !some || !many {
		delete(r, k)
		return
	}
	gone := map[string]bool{}
	for _, x := range less {
		gone[identity(x)] = true
	}
	var out []any
	for _, x := range have {
		if !gone[identity(x)] {
			out = append(out, x)
		}
	}
	r.put(k, out)
}

// merged are values, and more that are not among them.
func merged(have, more []any) []any {
	at := map[string]int{}
	for i, x := range have {
		at[identity(x)] = i
	}
	main := false
	for _, x := range more {
		if m, ok := x.(map[string]any); ok && Resource(m).Get("primary") == true {
			main = true
		}
		if i, there := at[identity(x)]; there {
			have[i] = x
			continue
		}
		at[identity(x)] = len(have)
		have = append(have, x)
	}
	if main { // one at most is primary (RFC 7643 §2.4): the newest
		seen := false
		for i := len(have) - 1; i >= 0; i-- {
			if m, ok := have[i].(map[string]any); ok && Resource(m).Get("primary") == true {
				if seen {
					m[Resource(m).key("primary")] = false
				}
				seen = true
			}
		}
	}
	return have
}

// identity tells values of an attribute apart: by type and value.
func identity(x any) string {
	if m, ok := x.(map[string]any); ok {
		r := Resource(m)
		if v := r.Text("value"); v != "" {
			return v + "\x00" + r.Text("type")
		}
	}
	b, _ := json.Marshal(x)
	return string(b)
}

// copied is a value of JSON, deep.
func copied(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[k] = copied(x)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = copied(x)
		}
		return out
	}
	return v
}

// Copy is a resource of its own.
func (r Resource) Copy() Resource { return copied(map[string]any(r)).(map[string]any) }
