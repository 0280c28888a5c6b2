// Package powertest lays out sets for tests of who can become superuser.
package powertest

import (
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
)

// Sets loads sets that are written as "group sudo: odd eva +inner": the kind, the name, and its members, groups with a plus.
func Sets(sets ...string) power.Load {
	return func(names []model.Named) (out []model.Object, err error) {
		for _, n := range names {
			for _, s := range sets {
				set, members, _ := strings.Cut(s, ": ")
				if set != n.Kind.String()+" "+n.Name {
					continue
				}
				o := model.Object{Kind: n.Kind, Name: n.Name}
				for m := range strings.FieldsSeq(members) {
					attribute := model.Members
					if strings.HasPrefix(m, "+") {
						attribute = model.MemberGroups
					}
					o.Attributes = o.Attributes.With(attribute, append(o.Attributes.Get(attribute), strings.TrimPrefix(m, "+"))...)
				}
				out = append(out, o)
			}
		}
		return out, nil
	}
}
