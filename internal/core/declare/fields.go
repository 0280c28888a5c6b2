package declare

import (
	"errors"
	"fmt"
	"regexp"
	"slices"

	"hen-roost/internal/core/model"
)

// What expressions ask of users and targets is known, but for details and tags:
// of those somebody has to have one of that name.

var (
	literal    = regexp.MustCompile(`"(\\.|[^"\\])*"|'(\\.|[^'\\])*'`)
	fieldUse   = regexp.MustCompile(`\b(user|target)\.([A-Za-z_][A-Za-z0-9_]*)(\.([A-Za-z_][A-Za-z0-9_]*))?(\(?)`)
	userFields = []string{"id", "name", "given", "family", "mail", "number", "manager", "service", "details", "roles"}
	itsFields  = []string{"name", "kind", "tags"}
)

// Fields says what an expression asks for that no user or target has; nil when all is well.
func Fields(d *model.Declaration, source string) error {
	for _, m := range fieldUse.FindAllStringSubmatch(literal.ReplaceAllString(source, `""`), -1) {
		of, field, deeper, method := m[1], m[2], m[4], m[5] != ""
		fields, what := userFields, "a user has no field"
		if of == "target" {
			fields, what = itsFields, "a target has no field"
		}
		switch {
		case !slices.Contains(fields, field):
			return errors.New(Meant(fmt.Sprintf("%s %q", what, field), field, fields))
		case deeper == "" || method:
		case field == "details" && !hasDetail(d, deeper):
			return errors.New(Meant(fmt.Sprintf("no user has a detail %q", deeper), deeper,
				allOf(d.Users, func(u *model.User) map[string]bool {
					names := map[string]bool{}
					for _, x := range u.Details {
						names[x.Name] = true
					}
					return names
				})))
		case field == "tags" && !hasTag(d, deeper):
			return errors.New(Meant(fmt.Sprintf("no target has a tag %q", deeper), deeper,
				allOf(d.Targets, func(t *model.Target) map[string]string { return t.Tags })))
		}
	}
	return nil
}

func hasDetail(d *model.Declaration, name string) bool {
	for _, u := range d.Users {
		if _, ok := u.Details.Get(name); ok {
			return true
		}
	}
	return false
}

func hasTag(d *model.Declaration, name string) bool {
	for _, t := range d.Targets {
		if _, ok := t.Tags[name]; ok {
			return true
		}
	}
	return false
}

func allOf[T, V any](things map[string]T, has func(T) map[string]V) []string {
	names := map[string]bool{}
	for _, x := range things {
		for name := range has(x) {
			names[name] = true
		}
	}
	return sorted(names)
}
