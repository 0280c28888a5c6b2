package declare

import (
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// loops faults roles that include themselves and groups inside themselves.
func (c *checker) loops() {
	roles := func(name string) []model.Ref { return c.d.Roles[name].Includes }
	groups := func(name string) []model.Ref { return c.d.Groups[name].In }
	for _, chain := range cycles(c.d.Roles, roles) {
		c.fault(c.d.Roles[chain[0]].Pos, "role %q includes itself: %s", chain[0], strings.Join(chain, " → "))
	}
	targets := func(name string) []model.Ref { return c.d.Targets[name].After }
	for _, chain := range cycles(c.d.Targets, targets) {
		c.fault(c.d.Targets[chain[0]].Pos, "target %q comes after itself: %s", chain[0], strings.Join(chain, " → "))
	}
	via := func(name string) []model.Ref {
		if v := c.d.Targets[name].Via; v.Name != "" {
			return []model.Ref{v}
		}
		return nil
	}
	for _, chain := range cycles(c.d.Targets, via) {
		c.fault(c.d.Targets[chain[0]].Pos, "target %q is reached via itself: %s", chain[0], strings.Join(chain, " → "))
	}
	for _, role := range sorted(c.d.Roles) { // a bundle that nobody could hold
		for _, a := range sorted(c.includes(role)) {
			for _, ref := range c.d.Roles[a].NeverWith {
				if ref.Name != a && c.includes(role)[ref.Name] {
					c.fault(c.d.Roles[role].Pos, "role %q includes both %q and %q, which nobody may hold together (never-with)", role, a,
						ref.Name)
				}
			}
		}
	}
	for _, chain := range cycles(c.d.Groups, groups) {
		c.fault(c.d.Groups[chain[0]].Pos, "group %q is inside itself: %s", chain[0], strings.Join(chain, " → "))
	}
}

// cycles returns each loop once, from its first name back to it.
func cycles[V any](all map[string]V, next func(string) []model.Ref) [][]string {
	const walking, over = 1, 2
	state, stack := map[string]int{}, []string{}
	var out [][]string
	var visit func(string)
	visit = func(name string) {
		state[name] = walking
		stack = append(stack, name)
		for _, ref := range next(name) {
			if _, ok := all[ref.Name]; !ok {
				continue
			}
			switch state[ref.Name] {
			case 0:
				visit(ref.Name)
			case walking:
				out = append(out, append(slices.Clone(stack[slices.Index(stack, ref.Name):]), ref.Name))
			}
		}
		stack = stack[:len(stack)-1]
		state[name] = over
	}
	for _, name := range sorted(all) {
		if state[name] == 0 {
			visit(name)
		}
	}
	return out
}

// clash finds a pair of roles in two bundles that nobody may hold together.
func (c *checker) clash(x, y string) (a, b string, found bool) {
	inX, inY := c.includes(x), c.includes(y)
	for _, r := range sorted(inX) {
		for _, ref := range c.d.Roles[r].NeverWith {
			if inY[ref.Name] {
				return r, ref.Name, true
			}
		}
	}
	for _, r := range sorted(inY) {
		for _, ref := range c.d.Roles[r].NeverWith {
			if inX[ref.Name] {
				return ref.Name, r, true
			}
		}
	}
	return "", "", false
}

func (c *checker) includes(role string) map[string]bool {
	if all, ok := c.bundle[role]; ok {
		return all
	}
	all := map[string]bool{}
	var enter func(string)
	enter = func(name string) {
		if r := c.d.Roles[name]; r != nil && !all[name] {
			all[name] = true
			for _, in := range r.Includes {
				enter(in.Name)
			}
		}
	}
	enter(role)
	c.bundle[role] = all
	return all
}
