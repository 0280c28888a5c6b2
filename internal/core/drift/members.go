package drift

import (
	"cmp"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

func (c *comparer) memberships() {
	c.meetAfterAll()
	for _, g := range c.Desired.Groups {
		if _, shut := c.shutGroup(g.Name); shut || c.members[g.Name] == nil {
			continue
		}
		var have, inside model.Values
		if o := c.groups[g.Name]; o != nil {
			cursor := o.Attributes.Cursor()
			inside, _ = cursor.Seek(model.MemberGroups)
			have, _ = cursor.Seek(model.Members)
		}
		c.compareMembers(g, have)
		if c.Desired.Schema.NestGroups && c.Reach == nil {
			c.compareInside(g, inside.List())
		}
	}
}

// compareMembers walks along who should be in a group and who is.
func (c *comparer) compareMembers(g *resolve.Group, members model.Values) {
	m := c.members[g.Name]
	if m.quick {
		return // the same people as when the same members were right
	}
	if len(m.more) == 0 && !m.differs && m.have == "" {
		c.right(m)
		return // the walk has met them all, one after the other
	}
	have := members.List()
	slices.Sort(have)
	have = slices.Compact(have)
	want := make([]wanted, 0, len(m.in)+len(m.more))
	for _, at := range m.in {
		want = append(want, wanted{c.observed[at].Name, c.Desired.Plan.Numbered(int(c.owner[at] - 1)).ID})
	}
	for name, user := range m.more {
		want = append(want, wanted{name, user})
	}
	slices.SortFunc(want, func(a, b wanted) int { return cmp.Compare(a.name, b.name) })
	exact := len(m.more) == 0
	for len(want) > 0 || len(have) > 0 {
		exact = exact && len(want) > 0 && len(have) > 0 && want[0].name == have[0]
		switch {
		case len(have) == 0 || len(want) > 0 && want[0].name < have[0]:
			c.joining(g, want[0])
			want = want[1:]
		case len(want) == 0 || have[0] < want[0].name:
			c.leaving(g, model.Account, have[0])
			have = have[1:]
		default:
			want, have = want[1:], have[1:]
		}
	}
	if exact {
		c.right(m)
	}
}

// right remembers that who was seen in a group is who should be.
func (c *comparer) right(m *membership) {
	if c.known != nil {
		c.known.groups[m.group.Name] = print{m.people, c.known.of(m.seen)}
	}
}

// meetAfterAll lets groups that were thought to be known, and are not after
// all, meet who should be in them.
func (c *comparer) meetAfterAll() {
	late := false
	for _, m := range c.members {
		if m.quick && (len(m.more) > 0 || c.known.groups[m.group.Name].people != m.people) {
			m.quick, m.late, late = false, true, true
			delete(c.known.groups, m.group.Name)
		}
	}
	if !late {
		return
	}
	for o, own := range c.owner {
		if own == 0 {
			continue
		}
		if a, ok := c.Desired.AccountFor(c.Desired.Plan.Numbered(int(own - 1))); ok {
			for _, m := range c.joins(a) {
				if m.late {
					m.meet(int32(o), a.Name)
				}
			}
		}
	}
}

// wanted is one account that should be in a group.
type wanted struct{ name, user string }

func (c *comparer) joining(g *resolve.Group, w wanted) {
	c.add(model.Finding{Kind: model.Missing, Act: model.Act{Verb: model.JoinIt, Object: model.Membership, Name: g.Name, Member: w.name, MemberKind: model.Account, User: w.user,
		Changes: []model.Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"}}}}})
}

func (c *comparer) leaving(g *resolve.Group, kind model.ObjectKind, name string) {
	if _, shut := c.shield.Protects(name); shut || g.AtLeast || c.doubt[name] {
		return
	}
	user := ""
	if at, ok := c.find(name); ok && kind == model.Account {
		if _, shut := c.covered(at); shut {
			return
		}
		user = c.userOf(at)
	}
	c.add(model.Finding{Kind: model.Unexpected, Act: model.Act{Verb: model.LeaveIt, Object: model.Membership, Name: g.Name, Member: name, MemberKind: kind, User: user,
		Changes: []model.Change{{Attribute: "member", Before: []string{"yes"}, After: []string{"no"}}}}})
}

// compareInside does the same for the groups inside a group.
func (c *comparer) compareInside(g *resolve.Group, inside []string) {
	for _, name := range keys(g.Groups) {
		if !slices.Contains(inside, name) {
			c.add(model.Finding{Kind: model.Missing, Act: model.Act{Verb: model.JoinIt, Object: model.Membership, Name: g.Name, Member: name, MemberKind: model.GroupKind,
				Changes: []model.Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"}}}}})
		}
	}
	for _, name := range inside {
		if _, ok := g.Groups[name]; !ok {
			c.leaving(g, model.GroupKind, name)
		}
	}
}

func keys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
