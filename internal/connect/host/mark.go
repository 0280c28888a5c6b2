package host

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// mark notes what a person should know of accounts, seen beside all the others of a whole survey: several names for one
// number, keys that open several accounts, accounts that the system was delivered with.
func (r *reading) mark() {
	numbers, opened := map[string][]string{}, map[string][]string{} // names of accounts
	for i := range r.accounts {
		a := &r.accounts[i]
		if a.Attributes.Has(model.KeptBy) || a.Attributes.One(model.Disabled) == "yes" {
			continue // nobody comes in by one that is shut
		}
		if n := a.Attributes.One(model.Number); n != "" {
			numbers[n] = append(numbers[n], a.Name)
		}
		for _, attribute := range []string{keys, otherKeys} {
			for _, line := range a.Attributes.Get(attribute) {
				if k := blob(line); k != "" && !slices.Contains(opened[k], a.Name) {
					opened[k] = append(opened[k], a.Name)
				}
			}
		}
	}
	for i := range r.accounts {
		a := &r.accounts[i]
		if a.Attributes.Has(model.KeptBy) || a.Attributes.One(model.Disabled) == "yes" || a.Ours && !r.passwords[a.Name] {
			continue
		}
		var shared []string
		if with := others(numbers[a.Attributes.One(model.Number)], a.Name); with != "" && a.Attributes.One(model.Number) != "0" {
			shared = append(shared, fmt.Sprintf("has number %s, as has %s: to the host they are one", a.Attributes.One(model.Number), with))
		}
		for _, line := range append(a.Attributes.Get(keys), a.Attributes.Get(otherKeys)...) {
			if with := others(opened[blob(line)], a.Name); with != "" {
				shared = append(shared, fmt.Sprintf("the key %s opens %s too", shortly(line), with))
			}
		}
		if shared != nil {
			a.Marked, a.Attributes = true, a.Attributes.With(model.SharedLogin, shared...)
		}
		if why := r.factory(a); why != "" {
			a.Marked, a.Attributes = true, a.Attributes.With(model.FactoryMade, why)
		}
	}
}

// factory says why an account is one that hosts are delivered with; "" that it is not.
func (r *reading) factory(a *model.Object) string {
	if r.passwords[a.Name] {
		return "the superuser can be signed in to with a password; make a named administrator, and close it: roost commission"
	}
	if a.System {
		return ""
	}
	for _, pattern := range schema.Factory {
		if ok, _ := path.Match(pattern, a.Name); ok {
			return "hosts are delivered with an account of this name, and everybody knows it; close it, or give it to somebody"
		}
	}
	return ""
}

// others are a few of some names less one.
func others(names []string, name string) string {
	if len(names) < 2 {
		return ""
	}
	names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == name })
	if len(names) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	return strings.Join(names, ", ")
}

// blob is the key itself of a line of authorized keys (sshd(8)), whatever options and comment stand around it.
func blob(line string) string {
	for _, w := range strings.Fields(line) {
		if strings.HasPrefix(w, "AAAA") {
			return w
		}
	}
	return ""
}

// shortly tells which key a line holds: by its comment, or by how it ends.
func shortly(line string) string {
	k := blob(line)
	if _, comment, ok := strings.Cut(line, k+" "); ok && comment != "" {
		return comment
	}
	return "that ends in " + k[max(0, len(k)-8):]
}
