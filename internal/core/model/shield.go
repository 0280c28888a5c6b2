package model

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Shield says what of one target no step may touch: what the declaration
// protects, what the target has for itself, and the login that Hen Roost uses,
// since we never saw off our own branch.
type Shield struct {
	Target *Target
	Login  string   // Hen Roost's own, as it is declared
	Fold   bool     // names on the target do not tell upper from lower case
	System []string // patterns of names that targets of its kind have for themselves
}

// Protects says whether nothing that has this name may be touched, and why, as
// far as the name alone tells. No name is protected.
func (s Shield) Protects(name string) (why string, shut bool) {
	if name == "" {
		return "", false
	}
	if s.Login != "" && s.same(name, s.Login) {
		return "Hen Roost signs in with it", true
	}
	for _, pattern := range s.Target.Protect {
		if s.Matches(pattern, name) {
			return fmt.Sprintf("protected by %q", pattern), true
		}
	}
	for _, pattern := range s.System {
		if s.Matches(pattern, name) && !s.Lends(name) {
			return "the system's own", true
		}
	}
	return "", false
}

// Covers says of an object that was seen whether it may not be touched, and
// why; nil is nothing that was seen.
func (s Shield) Covers(o *Object) (why string, shut bool) {
	switch {
	case o == nil:
		return "", false
	case o.Ours:
		return "Hen Roost signs in with it", true
	case o.Kind == Account && o.System && o.Attributes.Has(KeptBy):
		return "kept by " + o.Attributes.One(KeptBy), true
	case o.Kind == Account && o.System && !s.Lends(o.Name):
		return "the system's own", true
	case o.Marked && o.Attributes.Has(Odd):
		return "odd: " + o.Attributes.One(Odd), true
	}
	return s.Protects(o.Name)
}

// Lends says whether a service identity may have an account that the target has for itself.
func (s Shield) Lends(name string) bool {
	return slices.ContainsFunc(s.Target.Lent, func(l string) bool { return s.same(l, name) })
}

func (s Shield) same(a, b string) bool { return a == b || s.Fold && strings.EqualFold(a, b) }

// Matches says whether a name fits a pattern as path.Match reads it, but that *
// and ? stand for a slash too: a DN may hold one.
func (s Shield) Matches(pattern, name string) bool {
	const slash = "\x00" // stands in neither
	if s.Fold {
		pattern, name = strings.ToLower(pattern), strings.ToLower(name)
	}
	ok, err := path.Match(strings.ReplaceAll(pattern, "/", slash), strings.ReplaceAll(name, "/", slash))
	return ok && err == nil
}
