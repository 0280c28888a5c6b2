package declare

import (
	"maps"

	"hen-roost/internal/core/model"
)

// some checks only the users touched since a declaration that had no faults. It
// may find fault where there is none, and then everything is checked; what it
// lets pass is right.
func (c *checker) some(touched []string, before *model.Declaration) {
	alone := true // nobody else is concerned by what changed
	for _, id := range touched {
		u, was := c.d.Users[id], before.Users[id]
		if u != nil {
			c.user(u)
		}
		alone = alone && u != nil && was != nil && u.Number == was.Number &&
			maps.EqualFunc(u.Accounts, was.Accounts, model.AccountHint.Same)
	}
	if alone || len(c.faults) > 0 {
		return
	}
	clash := func(u *model.User) { c.fault(u.Pos, "something of user %q is another's", u.ID) }
	numbers, names := map[int]*model.User{}, map[string]*model.User{} // of those touched
	for _, id := range touched {
		u := c.d.Users[id]
		if u == nil {
			continue
		}
		if u.Number != 0 && numbers[u.Number] != nil {
			clash(u)
		}
		numbers[u.Number] = u
		for _, name := range namesOf(u) {
			if other := names[name]; other != nil && other != u {
				clash(u)
			}
			if other := c.d.Users[name]; other != nil && other != u {
				clash(u)
			}
			names[name] = u
		}
	}
	for _, u := range c.d.Users {
		if other := numbers[u.Number]; u.Number != 0 && other != nil && other != u {
			clash(u)
		}
		if m := u.Manager.Name; m != "" && c.d.Users[m] == nil {
			clash(u)
		}
		for _, h := range u.Accounts {
			if other := names[h.Name]; h.Name != "" && other != nil && other != u {
				clash(u)
			}
		}
	}
	for _, g := range c.d.Groups {
		if g.Owner.Name != "" && c.d.Users[g.Owner.Name] == nil {
			c.fault(g.Pos, "nobody is %s", g.Owner.Name)
		}
	}
}

// namesOf are the names that a user's accounts may have.
func namesOf(u *model.User) []string {
	names := []string{u.ID}
	for _, h := range u.Accounts {
		if h.Name != "" {
			names = append(names, h.Name)
		}
	}
	return names
}
