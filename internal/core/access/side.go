package access

import (
	"maps"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Side is what a change means for one person on one target.
type Side struct {
	Target string   `json:"target"`
	Keeps  []string `json:"keeps"`
	Gains  []string `json:"gains"`
	Loses  []string `json:"loses"`
}

// SideBySide says, target by target, what a person keeps, gains and loses from one plan to another.
func SideBySide(before, after *resolve.Plan, user string) []Side {
	at := map[string]*Side{}
	side := func(target string) *Side {
		if at[target] == nil {
			at[target] = &Side{Target: target, Keeps: []string{}, Gains: []string{}, Loses: []string{}}
		}
		return at[target]
	}
	had, has := itemsOn(before, user), itemsOn(after, user)
	for _, i := range has {
		s := side(i.target)
		if slices.Contains(had, i) {
			s.Keeps = append(s.Keeps, i.String())
		} else {
			s.Gains = append(s.Gains, i.String())
		}
	}
	for _, i := range had {
		if !slices.Contains(has, i) {
			s := side(i.target)
			s.Loses = append(s.Loses, i.String())
		}
	}
	out := make([]Side, 0, len(at))
	for _, name := range slices.Sorted(maps.Keys(at)) {
		out = append(out, *at[name])
	}
	return out
}

// there is an item on a target.
type there struct {
	Item
	target string
}

func itemsOn(plan *resolve.Plan, user string) (out []there) {
	for _, a := range plan.AccountsOf(user) {
		for _, i := range Of(a) {
			if x := (there{i, a.On().Target.Name}); i.Kind == model.Account || !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
	}
	return out
}
