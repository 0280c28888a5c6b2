package ldap

import (
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const placeFilter = "(objectClass=organizationalUnit)" // RFC 4519 §3.11

// places are the units of the tree that people and groups stand in, by name.
// They are only looked at: where an entry is put is said by the target's settings.
func (s *session) places() ([]model.Object, error) {
	units := map[string]string{} // DN by its normal form
	for _, base := range slices.Compact([]string{s.access.Settings["people"], s.access.Settings["groups"]}) {
		err := s.find(base, placeFilter, []string{"1.1"}, func(e *entry) error {
			units[normal(e.dn)] = e.dn
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	out := make([]model.Object, 0, len(units))
	for dn, name := range units {
		o := model.Object{Kind: model.PlaceKind, Name: connect.Printable(name)}
		if within, ok := units[above(dn)]; ok {
			o.Attributes = model.Attributes("").With(model.Within, connect.Printable(within))
		}
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b model.Object) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// above is the DN of the entry that one stands in (RFC 4514 §2.4: a comma that
// belongs to a value is escaped).
func above(dn string) string {
	escaped := false
	for i, r := range dn {
		switch {
		case escaped:
			escaped = false
		case r == '\\':
			escaped = true
		case r == ',':
			return dn[i+1:]
		}
	}
	return ""
}
