package drift

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// compareThings compares rights, containers and policies, which are there or not and have values.
func (c *comparer) compareThings() {
	for _, t := range c.Desired.Things {
		name := model.Named{Kind: t.Kind, Name: t.Name}
		o := c.others[name]
		act := c.thing(t, o)
		if act.Verb == model.NoRemedy {
			continue
		}
		f := model.Finding{Kind: model.Missing, Act: act}
		if o != nil {
			f.Kind = model.Different
		}
		if why, shut := c.shut(name); shut && (o == nil || len(act.Changes) > 0) {
			f.Kind, f.Verb, f.Note = model.Unmatched, model.NoRemedy, fmt.Sprintf("%s %s is declared, but is %s", t.Kind, t.Name, why)
		}
		c.add(f)
	}
}

// thing is what makes or changes something into what is declared of it; an act
// without a verb when it is so.
func (c *comparer) thing(t resolve.Thing, o *model.Object) model.Act {
	act := model.Act{Object: t.Kind, Name: t.Name}
	var have model.Attributes
	if o != nil {
		have = o.Attributes
	}
	for _, w := range t.Want {
		s, _ := c.Desired.Schema.Find(t.Kind, w.Name)
		if found := have.Get(w.Name); o == nil || !s.Same(found, w.Values) {
			act.Changes = append(act.Changes, model.Change{Attribute: w.Name, Before: found, After: w.Values})
		}
	}
	switch {
	case o != nil && len(act.Changes) == 0:
	case t.Kind == model.PolicyKind:
		act.Verb = model.SetRule
	case o == nil:
		act.Verb = model.Create
	default:
		act.Verb = model.Modify
	}
	return act
}

// compareGroups compares the groups that should be there, and tells of other
// sets that somebody is given and that the target lacks.
func (c *comparer) compareGroups() {
	for _, s := range c.Desired.Sets {
		switch have := c.others[s.Named]; {
		case s.Kind == model.GroupKind:
			c.group(s, have)
		case have == nil && c.lacking(s.Named):
			c.add(model.Finding{Kind: model.Unmatched, Act: model.Act{Object: s.Kind, Name: s.Name},
				Note: fmt.Sprintf("somebody is given the %s %s, and the target has none of that name", s.Kind, s.Name)})
		}
	}
}

// lacking says of a set that is not there whether no step could bring it about.
func (c *comparer) lacking(name model.Named) bool {
	k := c.Desired.Schema.Of(name.Kind)
	return name.Kind != model.GroupKind && !k.Does(model.Create) && (k == nil || !k.ByJoining)
}

func (c *comparer) group(s *resolve.Set, have *model.Object) {
	act := model.Act{Object: model.GroupKind, Name: s.Name}
	var want []string
	if _, numbered := c.Desired.Schema.Find(model.GroupKind, model.Number); numbered && s.Number != 0 {
		want = []string{strconv.Itoa(s.Number)}
	}
	if why, shut := c.shut(s.Named); shut {
		c.add(model.Finding{Kind: model.Unmatched, Act: act, Note: fmt.Sprintf("group %s is declared but %s", s.Name, why)})
		return
	}
	fits := have != nil && slices.Equal(have.Attributes.Get(model.Number), want)
	if other := c.groupNumbered(want); !fits && other != "" && other != s.Name {
		if names := circle(s.Name, c.hasWantedGroup); names != nil {
			c.add(model.Finding{Kind: model.Unmatched, Act: act, Note: "the groups " + inCircle(names)})
			return
		}
		if c.renaming(s, other, want) {
			return
		}
		note := fmt.Sprintf("group %s should have number %s, which the group %s has; give that one another (roost target renumber %s %s "+
			"NUMBER --group)", s.Name, want[0], other, c.Desired.Target.Name, other)
		c.add(model.Finding{Kind: model.Unmatched, Act: act, Note: note + ", or this one (roost allot)"})
		return
	}
	if have == nil {
		act.Verb = model.Create
		if want != nil {
			act.Changes = []model.Change{{Attribute: model.Number, After: want}}
		}
		if keepers := c.keepers(s); len(keepers) > 0 {
			act.Changes = append(act.Changes, model.Change{Attribute: model.Administrators, After: keepers})
		}
		c.add(model.Finding{Kind: model.Missing, Act: act})
		return
	}
	if found := have.Attributes.Get(model.Number); want != nil && !slices.Equal(found, want) {
		act.Changes = []model.Change{{Attribute: model.Number, Before: found, After: want}}
	}
	same := model.AttributeSchema{}
	if keepers, found := c.keepers(s), have.Attributes.Get(model.Administrators); keepers != nil && !same.Same(found, keepers) {
		act.Changes = append(act.Changes, model.Change{Attribute: model.Administrators, Before: found, After: keepers})
	}
	if len(act.Changes) > 0 {
		act.Verb = model.Modify
		c.add(model.Finding{Kind: model.Different, Act: act})
	}
}

// renaming proposes to make a group out of one that has its number and that nobody declares: it is the same under a new name, and
// keeps who is in it and its files. One whose name gives power stays: with its name the power would go, or come.
func (c *comparer) renaming(s *resolve.Set, other string, number []string) bool {
	was := model.Named{Kind: model.GroupKind, Name: other}
	o := c.others[was]
	if k := c.Desired.Schema.Of(model.GroupKind); k == nil || !k.Renames || o == nil || o.System || c.others[s.Named] != nil {
		return false
	}
	if _, shut := c.shut(was); shut || slices.ContainsFunc(c.Desired.Sets, func(x *resolve.Set) bool { return x.Named == was }) {
		return false
	}
	if power := c.others[model.Named{Kind: model.RightKind, Name: model.Superuser}]; power != nil {
		mighty := power.Attributes.Get(model.MemberGroups)
		if slices.Contains(mighty, other) || slices.Contains(mighty, s.Name) {
			return false
		}
	}
	c.renamed[s.Named] = true
	c.add(model.Finding{Kind: model.Different, Act: model.Act{Verb: model.Create, Object: model.GroupKind, Name: s.Name,
		Changes: []model.Change{{Attribute: model.Formerly, Before: []string{other}}, {Attribute: model.Number, Before: number,
			After: number}}},
		Note: fmt.Sprintf("the group %s has its number, and nobody declares it: it is renamed, and keeps its members and files", other)})
	return true
}

// hasWantedGroup is the group that has the number which another should have; "" when none has.
func (c *comparer) hasWantedGroup(name string) string {
	for _, s := range c.Desired.Sets {
		if s.Kind == model.GroupKind && s.Name == name && s.Number != 0 {
			return c.groupNumbered([]string{strconv.Itoa(s.Number)})
		}
	}
	return ""
}

// groupNumbered is the group that has a number there; "" when none has.
func (c *comparer) groupNumbered(number []string) string {
	if len(number) == 0 {
		return ""
	}
	if c.gids == nil {
		c.gids = map[string]string{}
		for i := range c.Others {
			if o := &c.Others[i]; o.Kind == model.GroupKind {
				c.gids[o.Attributes.One(model.Number)] = o.Name
			}
		}
	}
	return c.gids[number[0]]
}

// keepers are the accounts of those who may change who is in a group; nil when that is not declared, or not known here.
func (c *comparer) keepers(s *resolve.Set) []string {
	if _, known := c.Desired.Schema.Find(model.GroupKind, model.Administrators); !known || s.Keepers == nil {
		return nil
	}
	out := []string{}
	for _, user := range s.Keepers {
		for _, a := range c.Desired.Plan.Accounts(user, c.Desired.Target.Name) {
			if a.State == resolve.Active {
				out = append(out, a.Name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// undeclared reports objects that nobody declared, of kinds whose schema says
// that such a one should be known of.
func (c *comparer) undeclared() {
	declared := map[model.Named]bool{}
	for _, t := range c.Desired.Things {
		declared[model.Named{Kind: t.Kind, Name: t.Name}] = true
	}
	for _, s := range c.Desired.Sets {
		declared[s.Named] = true
	}
	for i := range c.Others {
		o := &c.Others[i]
		k := c.Desired.Schema.Of(o.Kind)
		if k == nil || !k.Watched || o.System || declared[model.Named{Kind: o.Kind, Name: o.Name}] {
			continue
		}
		if _, shut := c.shield.Covers(o); shut {
			continue
		}
		f := model.Finding{Kind: model.Unexpected, Act: model.Act{Object: o.Kind, Name: o.Name}, Note: "nobody declared it"}
		if n := len(o.Attributes.Get(model.Members)); n > 0 {
			f.Note += fmt.Sprintf("; it has %d %s", n, strings.TrimSuffix("members", map[bool]string{true: "s"}[n == 1]))
		}
		if c.Desired.Target.Unexpected == model.RemoveUnexpected && k.Does(model.Remove) {
			f.Verb = model.Remove
		}
		c.add(f)
	}
}
