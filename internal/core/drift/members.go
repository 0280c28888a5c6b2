package drift

import (
	"cmp"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

func (c *comparer) memberships() {
	c.meetAfterAll()
	for _, s := range c.sets {
		o := c.others[s.Named]
		if _, shut := c.shut(s.Named); shut || c.members[s.Named] == nil || o == nil && c.lacking(s.Named) || c.renamed[s.Named] {
			continue
		}
		var have, inside model.Values
		if o != nil {
			cursor := o.Attributes.Cursor()
			inside, _ = cursor.Seek(model.MemberGroups)
			have, _ = cursor.Seek(model.Members)
		}
		c.compareMembers(s, have)
		if k := c.Desired.Schema.Of(s.Kind); k.Holds(model.GroupKind) && k.Spelled == nil && c.Reach == nil {
			c.compareInside(s, inside.List())
		}
	}
}

// compareMembers walks along who should be in a set and who is.
func (c *comparer) compareMembers(s *resolve.Set, members model.Values) {
	m := c.members[s.Named]
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
			c.joining(s, model.Account, want[0])
			want = want[1:]
		case len(want) == 0 || have[0] < want[0].name:
			c.leaving(s, model.Account, have[0])
			have = have[1:]
		default:
			want, have = want[1:], have[1:]
		}
	}
	if exact {
		c.right(m)
	}
}

// right remembers that who was seen in a set is who should be.
func (c *comparer) right(m *membership) {
	if c.known != nil {
		c.known.sets[m.set.Named] = print{m.people, c.known.of(m.seen)}
	}
}

// meetAfterAll lets sets that were thought to be known, and are not after
// all, meet who should be in them.
func (c *comparer) meetAfterAll() {
	late := false
	for _, m := range c.members {
		if m.quick && (len(m.more) > 0 || c.known.sets[m.set.Named].people != m.people) {
			m.quick, m.late, late = false, true, true
			delete(c.known.sets, m.set.Named)
		}
	}
	if !late {
		return
	}
	for o, own := range c.owner {
		if own == 0 {
			continue
		}
		a, ok := c.Desired.AccountNamed(c.Desired.Plan.Numbered(int(own-1)), c.observed[o].Name)
		if !ok || a.Suspended() {
			continue
		}
		for _, m := range c.joins(a) {
			if m.late {
				m.meet(int32(o), a.Name)
			}
		}
	}
}

// wanted is one account that should be in a set.
type wanted struct{ name, user string }

func (c *comparer) joining(s *resolve.Set, kind model.ObjectKind, w wanted) {
	if s.Kind == model.LicenceKind {
		c.seat(s.Name, w.name, false)
	}
	c.add(model.Finding{Kind: model.Missing, Act: model.Act{Verb: model.JoinIt, Object: s.Kind, Name: s.Name,
		Member: w.name, MemberKind: kind, User: w.user, Changes: model.Entering(true)}, Note: c.movedBy(kind, w.name)})
}

func (c *comparer) leaving(s *resolve.Set, kind model.ObjectKind, name string) {
	if _, shut := c.shield.Protects(name); shut || s.AtLeast || c.doubt[name] || c.still[name] {
		return
	}
	if model.WasCut(name) {
		c.add(model.Finding{Kind: model.Unmatched, Act: model.Act{Object: s.Kind, Name: s.Name}, Candidates: []string{name},
			Note: "has a member whose name is too long to be looked after; take it out on the target: " + name})
		return
	}
	user, what := "", model.Unexpected
	at, there := c.find(name)
	if there && kind == model.Account {
		if _, shut := c.covered(at); shut {
			return
		}
		user = c.userOf(at)
	}
	if spelled := c.Desired.Schema.Of(s.Kind).Spelled; spelled != nil {
		if what = model.Beyond; !there || !c.exceeds(spelled, at, s.Name) {
			return // of accounts that are nobody's it is told that they are
		}
	}
	if s.Kind == model.LicenceKind {
		c.seat(s.Name, name, true)
	}
	c.add(model.Finding{Kind: what, Act: model.Act{Verb: model.LeaveIt, Object: s.Kind, Name: s.Name,
		Member: name, MemberKind: kind, User: user, Changes: model.Entering(false)}, Note: c.movedBy(kind, name)})
}

// movedBy says who changed last what an account is in, where the target tells; of groups nobody does.
func (c *comparer) movedBy(kind model.ObjectKind, member string) string {
	if kind != model.Account {
		return ""
	}
	return c.changedBy(member)
}

// exceeds says whether a permission of somebody's account does not come with any that it should have.
func (c *comparer) exceeds(spelled *model.Spelling, at int, permission string) bool {
	user, name := c.userOf(at), c.observed[at].Name
	if user == "" {
		return false
	}
	if c.owner[at] == 0 && !c.asked(user, name) {
		return c.match.Linked[name] == user // the account of somebody who left: nothing is declared for it
	}
	_, rest := c.Desired.Schema.Account().Login(name)
	for _, a := range c.Desired.Plan.Accounts(user, c.Desired.Target.Name) {
		if c.most > 1 && c.slot(user, rest) != c.slot(user, a.Rest) {
			continue
		}
		return !slices.ContainsFunc(a.Sets(), func(j resolve.Joining) bool {
			return j.Set.Kind == model.RightKind && spelled.Covers(j.Set.Name, permission)
		})
	}
	return false
}

// compareInside does the same for the groups inside a group.
func (c *comparer) compareInside(s *resolve.Set, inside []string) {
	for _, name := range keys(s.Groups) {
		if !slices.Contains(inside, name) {
			c.joining(s, model.GroupKind, wanted{name: name})
		}
	}
	for _, name := range inside {
		if _, ok := s.Groups[name]; !ok {
			c.leaving(s, model.GroupKind, name)
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
