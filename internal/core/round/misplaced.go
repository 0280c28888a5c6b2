package round

import (
	"path"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// homesUnder are the folders below which the homes of people on the target are.
func (f Facts) homesUnder() []string {
	if len(f.Target.Homes.Under) > 0 {
		return f.Target.Homes.Under
	}
	return model.UsualHomes
}

// misplaced holds steps that give a home outside of them.
func (h *holder) misplaced(steps []Step, first int, f Facts) {
	var out some
	for i, s := range steps {
		if home := f.misplaces(s.Act); home != "" {
			out.add(gainer(s.Act, nil)+" at "+home, first+i)
		}
	}
	if len(out.names) > 0 {
		h.hold(Misplaced, f.Target.Name, false, out.steps, "homes on %s outside %s, where the homes of people are: %s", f.Target.Name,
			strings.Join(f.homesUnder(), ", "), few(out.names))
	}
}

// misplaces is the home that an act gives an account outside of where the homes
// of people are: the owner of a system folder controls the system. "" is none.
func (f Facts) misplaces(a model.Act) string {
	if a.Object != model.Account || a.Verb != model.Create && a.Verb != model.Modify {
		return ""
	}
	for _, c := range a.Changes {
		if c.Attribute != model.Home || len(c.After) == 0 || slices.Equal(c.Before, c.After) {
			continue
		}
		home := c.After[0]
		inside := func(under string) bool { return strings.HasPrefix(home, strings.TrimSuffix(under, "/")+"/") }
		if path.Clean(home) != home || !slices.ContainsFunc(f.homesUnder(), inside) {
			return home
		}
	}
	return ""
}
