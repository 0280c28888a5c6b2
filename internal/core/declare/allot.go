package declare

import (
	"maps"
	"slices"

	"hen-roost/internal/core/model"
)

// NumbersOf is the role out of whose range somebody with some roles gets their number: the first of those that names one,
// or one within it. Nil when none does.
func NumbersOf(d *model.Declaration, roles []string) *model.Role {
	return ranged(d, roles, map[string]bool{}, func(r *model.Role) bool { return r.Numbers != model.Range{} })
}

func ranged(d *model.Declaration, roles []string, seen map[string]bool, names func(*model.Role) bool) *model.Role {
	for _, name := range roles {
		r := d.Roles[name]
		if r == nil || seen[name] {
			continue
		}
		if seen[name] = true; names(r) {
			return r
		}
		if found := ranged(d, called(r.Includes), seen, names); found != nil {
			return found
		}
	}
	return nil
}

// GroupNumbersOf tells for each group that is given by a role which names a range for groups, or by one within it, which
// role that is; of several the first by name. Groups that a given one is in are given with it.
func GroupNumbersOf(d *model.Declaration) map[string]*model.Role {
	out := map[string]*model.Role{}
	for _, name := range slices.Sorted(maps.Keys(d.Roles)) {
		r := d.Roles[name]
		if (r.GroupNumbers == model.Range{}) {
			continue
		}
		var give func(groups []model.Ref)
		give = func(groups []model.Ref) {
			for _, ref := range groups {
				if g := d.Groups[ref.Name]; g != nil && out[ref.Name] == nil {
					out[ref.Name] = r
					give(g.In)
				}
			}
		}
		ranged(d, []string{name}, map[string]bool{}, func(within *model.Role) bool {
			for _, g := range within.Gives {
				give(g.Groups)
			}
			return false
		})
	}
	return out
}

func called(refs []model.Ref) []string {
	out := make([]string, len(refs))
	for i, r := range refs {
		out[i] = r.Name
	}
	return out
}
