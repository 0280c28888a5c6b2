package scim

import (
	"strings"
)

// Resource is a JSON object whose attributes are found in any case (RFC 7643 §2.1).
type Resource map[string]any

// Get returns an attribute, or of an extension one by URN:name; nil when there is none.
func (r Resource) Get(path string) any {
	if at := strings.LastIndexByte(path, ':'); at >= 0 && strings.HasPrefix(strings.ToLower(path), "urn:") {
		if in := r.part(path[:at]); in != nil {
			return in.Get(path[at+1:])
		}
		return nil
	}
	name, sub, deep := strings.Cut(path, ".")
	v := r[r.key(name)]
	if !deep {
		return v
	}
	switch v := v.(type) {
	case map[string]any:
		return Resource(v).Get(sub)
	case []any:
		var out []any
		for _, x := range v {
			if m, ok := x.(map[string]any); ok {
				if y := Resource(m).Get(sub); y != nil {
					out = append(out, y)
				}
			}
		}
		return out
	}
	return nil
}

// Text returns an attribute that is a string; "" when it is none.
func (r Resource) Text(path string) string {
	s, _ := r.Get(path).(string)
	return s
}

// key is an attribute's name as the resource spells it.
func (r Resource) key(name string) string {
	if _, ok := r[name]; ok {
		return name
	}
	for k := range r {
		if strings.EqualFold(k, name) {
			return k
		}
	}
	return name
}

// part is where the attributes of a schema stand: a core schema's in the resource itself, an extension's in a part of its own.
func (r Resource) part(schema string) Resource {
	if m, ok := r[r.key(schema)].(map[string]any); ok {
		return m
	}
	if strings.HasPrefix(strings.ToLower(schema), "urn:ietf:params:scim:schemas:core:") {
		return r
	}
	return nil
}

// at is the attribute of a path.
func (r Resource) at(p path) any {
	in := r
	if p.schema != "" {
		if in = r.part(p.schema); in == nil {
			return nil
		}
	}
	if p.part != "" {
		return in.Get(p.name + "." + p.part)
	}
	return in[in.key(p.name)]
}

// Project is a resource with some of its attributes (RFC 7644 §3.9): those of a list, or all but those of another.
func Project(r Resource, only, but string) Resource {
	if only == "" && but == "" {
		return r
	}
	out := Resource{}
	has := func(list, name string) bool {
		for x := range strings.SplitSeq(list, ",") {
			if x = strings.TrimSpace(x); strings.EqualFold(x, name) {
				return true
			}
			if at := strings.LastIndexByte(x, ':'); at >= 0 {
				if strings.EqualFold(x[:at], name) {
					return true // a part of an extension
				}
				x = x[at+1:]
			}
			if x, _, _ = strings.Cut(x, "."); strings.EqualFold(x, name) {
				return true
			}
		}
		return false
	}
	for k, v := range r {
		if k == "id" || k == "schemas" || only != "" && has(only, k) || only == "" && !has(but, k) {
			out[k] = v
		}
	}
	return out
}
