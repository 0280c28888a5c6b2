// Package drift compares what a target should hold with what it holds, and
// says for every difference what would put it right, or that a person must decide.
package drift

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/match"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Input is all that the comparison of one target needs.
type Input struct {
	Desired  *resolve.Desired
	People   []resolve.Person
	Schema   model.Schema
	Accounts []model.Object
	Groups   []model.Object
	Links    []model.Link
}

type comparer struct {
	Input
	match    *match.Result
	accounts map[string]*model.Object
	groups   map[string]*model.Object
	numbers  map[string]string // numeric id → account that has it
	people   map[string]resolve.Person
	desired  map[string]*resolve.Account // by user
	doubted  map[string]bool             // accounts that could be somebody's
	unsure   map[string]bool             // users without an account until a person decides
	out      []model.Finding
}

// Compare returns the findings of one target: groups first, then accounts, then memberships, each by name.
// It does not change its input.
func Compare(in Input) []model.Finding {
	c := &comparer{Input: in, accounts: index(in.Accounts), groups: index(in.Groups), numbers: map[string]string{},
		people: map[string]resolve.Person{}, desired: map[string]*resolve.Account{}, doubted: map[string]bool{}, unsure: map[string]bool{}}
	for _, a := range in.Accounts {
		if n := a.Attributes.One(model.Number); n != "" {
			c.numbers[n] = a.Name
		}
	}
	for _, p := range in.People {
		c.people[p.User] = p
	}
	for _, a := range in.Desired.Accounts {
		c.desired[a.User] = a
	}
	c.match = match.Accounts(in.Accounts, in.People, in.Links, in.Desired.Target.Match, in.Schema, func(o model.Object) bool {
		_, protected := c.protected(o.Name)
		return protected
	})
	c.compareGroups()
	c.doubts()
	for _, a := range in.Desired.Accounts {
		c.account(a)
	}
	c.strangers()
	c.memberships()
	return c.out
}

func index(list []model.Object) map[string]*model.Object {
	m := make(map[string]*model.Object, len(list))
	for i := range list {
		m[list[i].Name] = &list[i]
	}
	return m
}

func (c *comparer) protected(name string) (string, bool) {
	return c.Desired.Target.Protected(name, c.Desired.Login)
}

func (c *comparer) add(f model.Finding) {
	f.Target = c.Desired.Target.Name
	c.out = append(c.out, f)
}

func (c *comparer) compareGroups() {
	for _, g := range c.Desired.Groups {
		act := model.Act{Object: model.GroupKind, Name: g.Name}
		var want []string
		if g.Number != 0 {
			want = []string{strconv.Itoa(g.Number)}
		}
		have, there := c.groups[g.Name]
		if why, shut := c.protected(g.Name); shut {
			c.add(model.Finding{Kind: model.Unmatched, Act: act, Note: fmt.Sprintf("group %s is declared but %s", g.Name, why)})
			continue
		}
		if !there {
			act.Verb = model.Create
			if want != nil {
				act.Changes = []model.Change{{Attribute: model.Number, After: want, Why: g.Why}}
			}
			c.add(model.Finding{Kind: model.Missing, Act: act})
			continue
		}
		if found := have.Attributes.Get(model.Number); want != nil && !slices.Equal(found, want) {
			act.Verb = model.Modify
			act.Changes = []model.Change{{Attribute: model.Number, Before: found, After: want, Why: g.Why}}
			c.add(model.Finding{Kind: model.Different, Act: act})
		}
	}
}

// doubts reports the people whom we cannot tell apart, and keeps anything from being made beside what could be theirs.
func (c *comparer) doubts() {
	for _, d := range c.match.Doubts {
		for _, a := range d.Accounts {
			c.doubted[a] = true
		}
		if c.desired[d.User] == nil {
			continue
		}
		c.unsure[d.User] = true
		note := fmt.Sprintf("%d accounts could be theirs: %s", len(d.Accounts), strings.Join(d.Accounts, ", "))
		if len(d.Rivals) > 0 {
			note = fmt.Sprintf("account %s fits %s as well as %s", strings.Join(d.Accounts, ", "), strings.Join(d.Rivals, ", "), d.User)
		}
		c.add(model.Finding{
			Kind:       model.Unmatched,
			Act:        model.Act{Object: model.Account, Name: c.desired[d.User].Name, User: d.User},
			Candidates: d.Accounts,
			Note:       note + fmt.Sprintf("; decide with accounts: {%s: {name: …}} at the user", c.Desired.Target.Name),
		})
	}
}

func (c *comparer) account(a *resolve.Account) {
	if c.unsure[a.User] {
		return
	}
	name, there := c.match.AccountOf(a.User)
	if !there {
		c.missing(a)
		return
	}
	have := c.accounts[name]
	if fit, ok := c.match.Fits[name]; ok {
		c.add(model.Finding{
			Kind: model.Different,
			Act: model.Act{Verb: model.AdoptIt, Object: model.Account, Name: name, User: a.User,
				Changes: []model.Change{{Attribute: model.Owner, Before: []string{"nobody"}, After: []string{a.User}, Why: a.Why}}},
			Note: "recognised by " + strings.Join(fit.By, " and "),
		})
	}
	c.values(a, have)
}

// missing proposes to make an account, unless what it needs is taken by one that is not theirs.
func (c *comparer) missing(a *resolve.Account) {
	act := model.Act{Object: model.Account, Name: a.Name, User: a.User}
	for _, w := range a.Want {
		if w.Name == model.Disabled {
			continue
		}
		act.Changes = append(act.Changes, model.Change{Attribute: w.Name, After: w.Values, Why: w.Why})
	}
	c.unsure[a.User] = true // unless nothing stands in the way: nobody joins a group by an account that cannot be made
	if why, shut := c.protected(a.Name); shut {
		c.add(model.Finding{Kind: model.Unmatched, Act: act, Note: fmt.Sprintf("the account %s cannot be made: %s", a.Name, why)})
		return
	}
	if owner, taken := c.accounts[a.Name]; taken {
		c.add(model.Finding{Kind: model.Unmatched, Act: act, Candidates: []string{owner.Name},
			Note: fmt.Sprintf("the name %s is taken by an account that %s", a.Name, c.whose(owner))})
		return
	}
	for _, w := range a.Want {
		if other := c.numbers[w.First()]; w.Name == model.Number && other != "" {
			c.add(model.Finding{Kind: model.Unmatched, Act: act, Candidates: []string{other},
				Note: fmt.Sprintf("number %s is taken by %s, an account that %s", w.First(), other, c.whose(c.accounts[other]))})
			return
		}
	}
	c.unsure[a.User] = false
	act.Verb = model.Create
	c.add(model.Finding{Kind: model.Missing, Act: act})
}

func (c *comparer) whose(o *model.Object) string {
	if user := c.match.Linked[o.Name]; user != "" {
		return "belongs to " + user
	}
	if why, shut := c.protected(o.Name); shut {
		return "is " + why
	}
	if o.System {
		return "belongs to the system"
	}
	return "could be somebody else's"
}

// values compares what the declaration owns of an account, and nothing else.
func (c *comparer) values(a *resolve.Account, have *model.Object) {
	change := model.Act{Verb: model.Modify, Object: model.Account, Name: have.Name, User: a.User}
	for _, w := range a.Want {
		found := have.Attributes.Get(w.Name)
		s, _ := c.Schema.Find(model.Account, w.Name)
		if model.SameSet(found, w.Values, folding(s)) {
			continue
		}
		d := model.Change{Attribute: w.Name, Before: found, After: w.Values, Why: w.Why}
		if w.Name == model.Disabled {
			c.add(model.Finding{Kind: model.Different, Act: model.Act{Verb: model.Enable, Object: model.Account, Name: have.Name, User: a.User, Changes: []model.Change{d}}})
			continue
		}
		if other := c.numbers[w.First()]; w.Name == model.Number && other != "" && other != have.Name {
			c.add(model.Finding{Kind: model.Unmatched, Act: model.Act{Object: model.Account, Name: have.Name, User: a.User, Changes: []model.Change{d}}, Candidates: []string{other},
				Note: fmt.Sprintf("should have number %s, which %s has, an account that %s", w.First(), other, c.whose(c.accounts[other]))})
			continue
		}
		change.Changes = append(change.Changes, d)
	}
	if len(change.Changes) > 0 {
		c.add(model.Finding{Kind: model.Different, Act: change})
	}
}

func folding(s model.AttributeSchema) func(string) string {
	if s.Fold {
		return strings.ToLower
	}
	return func(s string) string { return s }
}

// strangers reports accounts that nobody declared. Those of people we know are
// shut whatever the target's rule says: they were ours, or plainly are the
// person's, and nothing asks for them any more.
func (c *comparer) strangers() {
	for i := range c.Accounts {
		o := &c.Accounts[i]
		user := c.match.Linked[o.Name]
		if fit, ok := c.match.Fits[o.Name]; ok {
			user = fit.User
		}
		_, shut := c.protected(o.Name)
		if shut || o.System || c.doubted[o.Name] || user != "" && c.desired[user] != nil {
			continue
		}
		state := o.Attributes.Get(model.Disabled)
		closed := len(state) == 1 && state[0] == "yes"
		disables := user != "" || c.Desired.Target.Unexpected == model.DisableUnexpected
		if closed && disables {
			continue
		}
		f := model.Finding{Kind: model.Unexpected, Act: model.Act{Object: model.Account, Name: o.Name, User: user}}
		if disables {
			f.Verb = model.Disable
			f.Changes = []model.Change{{Attribute: model.Disabled, Before: state, After: []string{"yes"}}}
		}
		f.Note = c.about(o, user)
		c.add(f)
	}
}

// about says what a person should know of an account nobody declared.
func (c *comparer) about(o *model.Object, user string) string {
	var parts []string
	if user == "" {
		parts = append(parts, "nobody declared has this name, number or mail")
	} else {
		parts = append(parts, "nothing in the declaration gives "+user+" an account here")
	}
	if full := o.Attributes.One(model.FullName); full != "" {
		parts = append(parts, "it calls itself "+strconv.Quote(full))
	}
	if how := o.Attributes.One(model.Elevation); how != "" {
		parts = append(parts, "can become superuser through "+how)
	}
	return strings.Join(parts, "; ")
}

func (c *comparer) memberships() {
	for _, g := range c.Desired.Groups {
		if _, shut := c.protected(g.Name); shut {
			continue
		}
		want := map[string]string{} // account name → user
		for user := range g.Members {
			if name, ok := c.nameOf(user); ok {
				want[name] = user
			}
		}
		var have, inside []string
		if o := c.groups[g.Name]; o != nil {
			have, inside = o.Attributes.Get(model.Members), o.Attributes.Get(model.MemberGroups)
		}
		c.members(g, model.Account, want, have)
		nested := map[string]string{}
		for name := range g.Groups {
			nested[name] = ""
		}
		if c.Schema.NestGroups {
			c.members(g, model.GroupKind, nested, inside)
		}
	}
}

// nameOf is the account a user has, or will have once it is made; none while it is in doubt.
func (c *comparer) nameOf(user string) (string, bool) {
	if name, ok := c.match.AccountOf(user); ok {
		return name, true
	}
	a := c.desired[user]
	if a == nil || c.unsure[user] {
		return "", false
	}
	_, taken := c.accounts[a.Name]
	return a.Name, !taken
}

func (c *comparer) members(g *resolve.Group, kind model.ObjectKind, want map[string]string, have []string) {
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if slices.Contains(have, name) {
			continue
		}
		user := want[name]
		why := g.Members[user]
		if kind == model.GroupKind {
			why = g.Groups[name]
		}
		c.add(model.Finding{Kind: model.Missing, Act: model.Act{Verb: model.JoinIt, Object: model.Membership, Name: g.Name, Member: name, MemberKind: kind, User: user,
			Changes: []model.Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"}, Why: why}}}})
	}
	if g.AtLeast {
		return
	}
	for _, name := range slices.Sorted(slices.Values(have)) {
		if _, ok := want[name]; ok || c.doubted[name] {
			continue
		}
		if _, shut := c.protected(name); shut {
			continue
		}
		user := c.match.Linked[name]
		if fit, ok := c.match.Fits[name]; ok {
			user = fit.User
		}
		c.add(model.Finding{Kind: model.Unexpected, Act: model.Act{Verb: model.LeaveIt, Object: model.Membership, Name: g.Name, Member: name, MemberKind: kind, User: user,
			Changes: []model.Change{{Attribute: "member", Before: []string{"yes"}, After: []string{"no"}, Why: g.Why}}}})
	}
}
