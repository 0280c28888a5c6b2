// Package power works out who can become superuser on a target, and through what: from the sets and accounts that give it, as the
// target tells of them, and from who is in what. Everything is compared by kind and name in canonical form, never by words.
package power

import (
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Power is what is known of a target. The nil Power is one of a target that has no superuser.
type Power struct {
	roots    map[model.Named]bool    // sets, there or not, that give it by themselves
	mighty   func(right string) bool // whether a right gives it, of which the target does not tell
	named    map[string]bool         // accounts, there or not, that have it by their name
	numbers  map[string]bool         // of accounts
	everyone bool
	fold     bool
	single   map[model.ObjectKind]bool // kinds of sets of which somebody is in one at most
	values   map[string][]string       // of accounts, by attribute: those that give it

	up, down map[model.Named][]model.Named // who is in what, of the sets through which it runs
	accounts map[string]account
	called   map[model.Named]string // what the target calls them, where that is not the name by which they are compared
}

// account is what an account has of it by its own attributes.
type account struct {
	primary, number string
	told            []string          // all the ways that the target tells
	values          map[string]string // of attributes of which some give it
}

// Load returns sets of a target by their names, with their members; those that are not there are left out.
type Load func(sets []model.Named) ([]model.Object, error)

// Of gathers the power of a target. right is the object by which the target tells of it (model.Superuser), nil if it does not. ways
// are sets that give it beside those. more are sets that steps are about to bring into others. mighty says of further rights whether
// they give it; nil: none does. fold: names do not tell upper from lower case.
func Of(right *model.Object, ways, more []model.Named, mighty func(string) bool, fold bool, load Load) (*Power, error) {
	p := &Power{roots: map[model.Named]bool{}, named: map[string]bool{}, numbers: map[string]bool{}, mighty: mighty, fold: fold,
		up: map[model.Named][]model.Named{}, down: map[model.Named][]model.Named{}, accounts: map[string]account{},
		called: map[model.Named]string{}, single: map[model.ObjectKind]bool{},
		values: map[string][]string{}}
	if right != nil {
		for kind, attribute := range map[model.ObjectKind]string{model.GroupKind: model.MemberGroups, model.RightKind: model.Allows} {
			for _, name := range right.Attributes.Get(attribute) {
				ways = append(ways, model.Named{Kind: kind, Name: name})
			}
		}
		for _, name := range right.Attributes.Get(model.Members) {
			p.named[p.key(model.Named{Kind: model.Account, Name: name}).Name] = true
		}
		for _, n := range right.Attributes.Get(model.Number) {
			p.numbers[n] = true
		}
		p.everyone = p.named[model.Everyone]
	}
	known := map[model.Named]bool{}
	var next []model.Named
	for _, set := range ways {
		p.roots[p.key(set)] = true
	}
	for _, set := range slices.Concat(ways, more) {
		if !known[p.key(set)] {
			known[p.key(set)] = true
			next = append(next, set)
		}
	}
	for len(next) > 0 {
		sets, err := load(next)
		if err != nil {
			return nil, err
		}
		next = nil
		for _, o := range sets {
			set := p.key(model.Named{Kind: o.Kind, Name: o.Name})
			for _, kind := range []model.ObjectKind{model.Account, model.GroupKind} {
				for _, name := range o.Attributes.Get(model.MembersOf(kind)) {
					member := model.Named{Kind: kind, Name: name}
					p.up[p.key(member)] = append(p.up[p.key(member)], set)
					p.down[set] = append(p.down[set], member)
					if kind == model.GroupKind && !known[p.key(member)] {
						known[p.key(member)] = true
						next = append(next, member)
					}
				}
			}
		}
	}
	return p, nil
}

// Sets are those of a kind that give power, there or not, by themselves or by the sets around them.
func (p *Power) Sets(kind model.ObjectKind) (out []string) {
	if p == nil {
		return nil
	}
	c := p.Course()
	for set := range p.roots {
		if set.Kind == kind {
			out = append(out, p.calls(set))
		}
	}
	for set := range p.up {
		if set.Kind == kind && !p.roots[set] && c.Gives(set) {
			out = append(out, p.calls(set))
		}
	}
	slices.Sort(out)
	return out
}

// Accounts are those, there or not, that have power by their name or by a set that names them.
func (p *Power) Accounts() (out []string) {
	if p == nil {
		return nil
	}
	c := p.Course()
	for name := range p.named {
		out = append(out, p.calls(model.Named{Kind: model.Account, Name: name}))
	}
	for m := range p.up {
		if m.Kind == model.Account && !p.named[m.Name] && len(c.ways(m.Name)) > 0 {
			out = append(out, p.calls(m))
		}
	}
	slices.Sort(out)
	return out
}

// Single says of a kind of sets that somebody is in one of them at most, and leaves it by joining another.
func (p *Power) Single(kind model.ObjectKind) { p.single[kind] = true }

// Values says of an attribute of accounts which of its values give power.
func (p *Power) Values(attribute string, values []string) { p.values[attribute] = values }

// Account adds what an account has by its own attributes.
func (p *Power) Account(o *model.Object) {
	if p == nil {
		return
	}
	a := account{o.Attributes.One(model.PrimaryGroup), o.Attributes.One(model.Number), o.Attributes.Get(model.Elevation),
		map[string]string{}}
	for name := range p.values {
		a.values[name] = o.Attributes.One(name)
	}
	p.accounts[p.folded(o.Name)] = a
}

func (p *Power) folded(name string) string {
	if p.fold {
		return strings.ToLower(name)
	}
	return name
}

func (p *Power) key(n model.Named) model.Named {
	k := model.Named{Kind: n.Kind, Name: p.folded(n.Name)}
	if k != n && p.called[k] == "" {
		p.called[k] = n.Name
	}
	return k
}

// calls is what the target calls something.
func (p *Power) calls(n model.Named) string {
	if name := p.called[n]; name != "" {
		return name
	}
	return n.Name
}

// Course follows power through steps. It never changes what it begins with.
type Course struct {
	*Power
	moved    map[[2]model.Named]bool       // set and member: whether they are in it now
	entered  map[model.Named][]model.Named // member: sets, of those moved
	gone     map[model.Named]bool          // sets that were removed
	accounts map[string]account            // that are otherwise now
}

// Course begins one; of the nil Power nobody ever has any.
func (p *Power) Course() *Course {
	return &Course{Power: p, moved: map[[2]model.Named]bool{}, entered: map[model.Named][]model.Named{}, gone: map[model.Named]bool{},
		accounts: map[string]account{}}
}

// WaysAfter are the ways that an account would have after one more act on it.
func (c *Course) WaysAfter(a model.Act) []string {
	if c.Power == nil {
		return nil
	}
	name := c.folded(a.Name)
	was, otherwise := c.accounts[name]
	c.takeAccount(a, false)
	ways := c.Ways(name)
	if delete(c.accounts, name); otherwise {
		c.accounts[name] = was
	}
	return ways
}

// Clone is a course that goes on by itself from here.
func (c *Course) Clone() *Course {
	return &Course{c.Power, maps.Clone(c.moved), maps.Clone(c.entered), maps.Clone(c.gone), maps.Clone(c.accounts)}
}

// sets are those that a member is in now, of those that matter.
func (c *Course) sets(member model.Named) (out []model.Named) {
	for _, set := range c.up[member] {
		if in, moved := c.moved[[2]model.Named{set, member}]; !c.gone[set] && (in || !moved) {
			out = append(out, set)
		}
	}
	for _, set := range c.entered[member] {
		if c.moved[[2]model.Named{set, member}] && !c.gone[set] && !slices.Contains(out, set) {
			out = append(out, set)
		}
	}
	return out
}

// Gives says whether the members of a set can become superuser by being in it: the set gives that itself, or a set around it does.
func (c *Course) Gives(set model.Named) bool {
	return c.Power != nil && c.gives(c.key(set), map[model.Named]bool{})
}

func (c *Course) gives(set model.Named, seen map[model.Named]bool) bool {
	if seen[set] {
		return false
	}
	seen[set] = true
	if c.roots[set] || set.Kind == model.ElevationKind || set.Kind == model.RightKind && c.mighty != nil && c.mighty(set.Name) {
		return true
	}
	return slices.ContainsFunc(c.sets(set), func(outer model.Named) bool { return c.gives(outer, seen) })
}

// Ways are through what an account can become superuser now, in words for people.
func (c *Course) Ways(name string) []string {
	if c.Power == nil {
		return nil
	}
	name = c.folded(name)
	if out := c.ways(name); len(out) > 0 || !c.byItself(name) {
		return out
	}
	return c.account(name).told
}

// ways are those that are known as sets and attributes.
func (c *Course) ways(name string) (out []string) {
	for _, set := range c.sets(model.Named{Kind: model.Account, Name: name}) {
		if c.Gives(set) {
			out = append(out, set.Kind.String()+" "+c.calls(set))
		}
	}
	a := c.account(name)
	if a.primary != "" && c.Gives(model.Named{Kind: model.GroupKind, Name: a.primary}) && !slices.Contains(out, "group "+a.primary) {
		out = append(out, "primary group "+a.primary)
	}
	if a.number != "" && c.numbers[a.number] {
		out = append(out, "number "+a.number)
	}
	if c.named[name] || c.everyone {
		out = append(out, "named where superusers are")
	}
	for attribute, value := range a.values {
		if slices.Contains(c.values[attribute], value) {
			out = append(out, attribute+" "+value)
		}
	}
	slices.Sort(out)
	return out
}

func (c *Course) account(name string) account {
	if a, otherwise := c.accounts[name]; otherwise {
		return a
	}
	return c.Power.accounts[name]
}

// byItself says whether a target tells of more ways than are known as sets and attributes: those are kept through all steps but
// one that takes them.
func (c *Course) byItself(name string) bool {
	told := c.account(name).told
	return len(told) > 0 && len(told) > len(c.Power.Course().ways(name))
}

// Below are the accounts in a set, however far within; at most a few are told by name.
func (c *Course) Below(set model.Named, most int) (out []string) {
	if c.Power == nil {
		return nil
	}
	seen := map[model.Named]bool{}
	queue := []model.Named{c.key(set)}
	for len(queue) > 0 && len(out) < most {
		set, queue = queue[0], queue[1:]
		if seen[set] {
			continue
		}
		seen[set] = true
		for _, m := range slices.Concat(c.down[set], c.came(set)) {
			if in, moved := c.moved[[2]model.Named{set, c.key(m)}]; moved && !in {
				continue
			}
			if m.Kind == model.GroupKind {
				queue = append(queue, c.key(m))
			} else if !slices.Contains(out, m.Name) && len(out) < most {
				out = append(out, m.Name)
			}
		}
	}
	return out
}

// came are those who came into a set by steps.
func (c *Course) came(set model.Named) (out []model.Named) {
	for m, in := range c.moved {
		if m[0] == set && in {
			out = append(out, m[1])
		}
	}
	slices.SortFunc(out, model.Named.Compare)
	return out
}

// Concerns says whether an act may change who can become superuser, or through what.
func (c *Course) Concerns(a model.Act) bool {
	switch {
	case c.Power == nil:
		return false
	case a.Moves():
		return c.Gives(a.Of()) || a.Verb == model.JoinIt && c.displaced(a) != nil
	case a.Object != model.Account:
		return a.Object != model.HomeKind && (c.Gives(a.Of()) || a.Verb == model.Remove && len(c.down[c.key(a.Of())]) > 0)
	case a.Verb == model.AdoptIt, a.Verb == model.Disable, a.Verb == model.Enable && len(a.Changes) < 2:
		return false
	case a.Verb == model.Create, a.Verb == model.Remove:
		return len(c.Ways(a.Name)) > 0 || c.changed(a)
	}
	return c.changed(a)
}

// changed says whether an act changes an attribute by which an account can have power.
func (c *Course) changed(a model.Act) bool {
	return slices.ContainsFunc(a.Changes, func(x model.Change) bool {
		if c.values[x.Attribute] != nil {
			return true
		}
		switch x.Attribute {
		case model.Elevation, model.PrimaryGroup:
			return true
		case model.Number:
			return len(c.numbers) > 0 && (slices.ContainsFunc(x.Before, c.isNumber) || slices.ContainsFunc(x.After, c.isNumber))
		}
		return len(c.account(c.folded(a.Name)).told) > 0 && x.Sealed == "" && c.byItself(c.folded(a.Name))
	})
}

// displaced are the sets that somebody leaves by joining another of which they can be in one alone.
func (c *Course) displaced(a model.Act) (out []model.Named) {
	if !c.single[a.Object] {
		return nil
	}
	for _, set := range c.sets(c.key(model.Named{Kind: a.MemberKind, Name: a.Member})) {
		if set.Kind == a.Object && set != c.key(a.Of()) {
			out = append(out, set)
		}
	}
	return out
}

func (c *Course) isNumber(n string) bool { return c.numbers[n] }

// Take has an act happen. Of acts that give, loss alone (lossOnly) counts nothing: what is given counts once it is read back.
func (c *Course) Take(a model.Act, lossOnly bool) {
	if c.Power == nil {
		return
	}
	if a.Verb == model.JoinIt {
		member := c.key(model.Named{Kind: a.MemberKind, Name: a.Member})
		for _, set := range c.displaced(a) {
			c.moved[[2]model.Named{set, member}] = false
		}
	}
	switch {
	case a.Verb == model.JoinIt && lossOnly:
	case a.Moves():
		set, member := c.key(a.Of()), c.key(model.Named{Kind: a.MemberKind, Name: a.Member})
		if a.Verb == model.JoinIt {
			c.entered[member] = append(c.entered[member], set)
		}
		c.moved[[2]model.Named{set, member}] = a.Verb == model.JoinIt
	case a.Object != model.Account && a.Verb == model.Remove:
		c.gone[c.key(a.Of())] = true
		for _, m := range c.down[c.key(a.Of())] {
			c.moved[[2]model.Named{c.key(a.Of()), c.key(m)}] = false
		}
	case a.Object != model.Account:
		if a.Verb == model.Create {
			delete(c.gone, c.key(a.Of()))
		}
	default:
		c.takeAccount(a, lossOnly)
	}
}

func (c *Course) takeAccount(a model.Act, lossOnly bool) {
	name := c.folded(a.Name)
	now := c.account(name)
	was := now
	now.values = maps.Clone(now.values)
	for _, x := range a.Changes {
		after := ""
		if len(x.After) > 0 {
			after = x.After[0]
		}
		if c.Power.values[x.Attribute] != nil {
			if now.values == nil {
				now.values = map[string]string{}
			}
			if now.values[x.Attribute] = after; lossOnly && slices.Contains(c.Power.values[x.Attribute], after) &&
				was.values[x.Attribute] != after {
				delete(now.values, x.Attribute)
			}
		}
		switch x.Attribute {
		case model.PrimaryGroup:
			now.primary = after
		case model.Number:
			now.number = after
		case model.Elevation:
			now.told = x.After
		}
	}
	if lossOnly {
		if now.primary != was.primary && c.Gives(model.Named{Kind: model.GroupKind, Name: now.primary}) {
			now.primary = ""
		}
		if now.number != was.number && c.numbers[now.number] {
			now.number = ""
		}
	}
	c.accounts[name] = now
}

// Spreads says whether some acts could change more on a target than what they name: who can become superuser, what accounts of
// one login have to do with each other, what others may do where a first permission makes the usual ones plain, what the target
// keeps as its history and, where they are looked at, homes. That is known after a survey alone.
func (p *Power) Spreads(acts []model.Act, schema model.Schema, homes bool) bool {
	namesakes := len(schema.Account().Name) > 1
	homes = homes && schema.Of(model.HomeKind) != nil
	_, history := schema.Find(model.SystemKind, model.Commits)
	right := schema.Of(model.RightKind)
	spelled := right != nil && right.Spelled != nil
	c := p.Course()
	for _, a := range acts {
		ofAccount := a.Object == model.Account || a.Moves() && a.MemberKind == model.Account
		switch {
		case a.Verb == model.AdoptIt:
		case history, namesakes && ofAccount, spelled && a.Moves() && a.Object == model.RightKind, c.Concerns(a),
			homes && a.Object == model.Account && (a.Verb == model.Create || a.Verb == model.Remove || a.After().Has(model.Home)):
			return true
		}
		c.Take(a, false)
	}
	return false
}
