package access

import (
	"cmp"
	"slices"

	"hen-roost/internal/core/model"
)

// Ending is an access that ends by itself on a day: a role that a user holds until
// then, or all of theirs on their own last day.
type Ending struct {
	User       string
	Role       string // "": everything, or a credential
	Credential string // "key", "certificate" or "password"; the room above adds the last two
	Target     string // of a password
	Account    string
	Until      string // the last day on which it holds
	Because    string // why the role was given
	Pos        model.Pos
}

// Endings returns what ends from one day to another, both included, the earliest
// first. A role that outlasts its holder's own last day ends with them and is not told.
func Endings(d *model.Declaration, from, to string) (out []Ending) {
	within := func(day string) bool { return day != "" && from <= day && day <= to }
	for id, u := range d.Users {
		if within(u.Span.Until) {
			out = append(out, Ending{User: id, Until: u.Span.Until, Pos: u.Pos})
		}
		for _, h := range u.Roles {
			if within(h.Span.Until) && (u.Span.Until == "" || h.Span.Until < u.Span.Until) {
				out = append(out, Ending{User: id, Role: h.Name, Until: h.Span.Until, Because: h.Because, Pos: h.Pos})
			}
		}
		for _, k := range u.Keys {
			if until := model.KeyUntil(k.Raw); within(until) {
				out = append(out, Ending{User: id, Credential: "key", Until: until, Pos: k.Pos})
			}
		}
	}
	slices.SortFunc(out, func(a, b Ending) int {
		return cmp.Or(cmp.Compare(a.Until, b.Until), cmp.Compare(a.User, b.User), cmp.Compare(a.Role, b.Role))
	})
	return out
}
