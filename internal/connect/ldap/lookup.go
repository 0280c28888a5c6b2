package ldap

import (
	"fmt"
	"slices"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const namesAtOne = 200 // names looked up in one search

// lookup reads just the entries that acts speak of; of groups not their members.
func (s *session) lookup(acts []connect.Act) (*tree, error) {
	t := s.newTree()
	accounts, groups := map[string]bool{}, map[string]bool{}
	for _, a := range acts {
		for _, n := range []model.Named{a.Of(), {Kind: a.MemberKind, Name: a.Member}} {
			switch {
			case n.Name == "":
			case n.Kind == model.GroupKind:
				groups[n.Name] = true
			default:
				accounts[n.Name] = true
			}
		}
		if was := a.Formerly(); was != "" {
			groups[was] = true
		}
		if name := a.After().One(model.PrimaryGroup); name != "" {
			groups[name] = true
		}
	}
	if err := s.named(t, s.groupName, groups); err != nil {
		return nil, err
	}
	var people []*entry
	numbers := map[string]bool{} // of primary groups whose names are not known yet
	for filter := range orFilters(s.login, accounts) {
		err := s.find(s.access.Settings["people"], "(&"+s.personFilter+filter+")", s.ofPeople(), func(e *entry) error {
			people = append(people, e)
			if n := e.one(s.number); n != "" && t.groupByNumber[n] == "" {
				numbers[n] = true
			}
			return nil
		})
		if err != nil {
			return nil, s.fail("read people", err)
		}
	}
	if err := s.named(t, s.number, numbers); err != nil {
		return nil, err
	}
	for _, e := range people {
		t.known(t.personOf(e))
	}
	return t, nil
}

// named reads the groups that have one of some values.
func (s *session) named(t *tree, attribute string, values map[string]bool) error {
	for filter := range orFilters(attribute, values) {
		err := s.find(s.access.Settings["groups"], "(&"+s.groupFilter+filter+")", s.ofGroups(), func(e *entry) error {
			t.groupOf(e)
			return nil
		})
		if err != nil {
			return s.fail("read groups", err)
		}
	}
	return nil
}

// known keeps a person's entry, and every DN of a login that several have.
func (t *tree) known(v *entryView) {
	login := strings.ToLower(v.object.Name)
	if other := t.accounts[login]; other != nil {
		if t.twins[login] == nil {
			t.twins[login] = []string{other.dn}
		}
		t.twins[login] = append(t.twins[login], v.dn)
	}
	t.accounts[login] = v
}

// orFilters yields filters that together choose all names.
func orFilters(attribute string, names map[string]bool) func(func(string) bool) {
	return func(yield func(string) bool) {
		var b strings.Builder
		n := 0
		for name := range names {
			fmt.Fprintf(&b, "(%s=%s)", attribute, goldap.EscapeFilter(name))
			if n++; n%namesAtOne == 0 {
				if !yield("(|" + b.String() + ")") {
					return
				}
				b.Reset()
			}
		}
		if b.Len() > 0 {
			yield("(|" + b.String() + ")")
		}
	}
}

// doubt says that an act speaks of a login that several entries have: which of
// them is meant nobody can know.
func (t *tree) doubt(a model.Act) string {
	for _, name := range []string{a.Account(), a.Member} {
		if dns := t.twins[strings.ToLower(name)]; name != "" && dns != nil && a.MemberKind != model.GroupKind {
			dns = slices.Sorted(slices.Values(dns))
			return fmt.Sprintf("%d entries have the login %s: %s; nothing was changed", len(dns), name,
				connect.Printable(strings.Join(dns, " and ")))
		}
	}
	return ""
}

// entry is what was read of an object, nil when it is not there.
func (t *tree) entry(n model.Named) *entryView {
	if n.Kind == model.GroupKind {
		return t.found[strings.ToLower(n.Name)]
	}
	return t.accounts[strings.ToLower(n.Name)]
}

// Object implements connect.View.
func (t *tree) Object(n model.Named) *model.Object {
	if v := t.entry(n); v != nil {
		return &v.object
	}
	return nil
}

// Member implements connect.View for those that were compared.
func (t *tree) Member(set, member model.Named) bool { return t.members[[2]model.Named{set, member}] }
