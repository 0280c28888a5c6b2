package drift

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// doubts reports the people whom we cannot tell apart, and keeps anything from being made beside what could be theirs.
func (c *comparer) doubts() {
	for _, d := range c.match.Doubts {
		for _, a := range d.Accounts {
			c.doubt[a] = true
		}
		list := c.Desired.Plan.Accounts(d.User, c.Desired.Target.Name)
		at := slices.IndexFunc(list, func(a resolve.Account) bool { return c.slot(a.ID, a.Rest) == d.Slot })
		if at < 0 {
			continue
		}
		asked := list[at]
		c.unsure[d.Slot] = true
		note := fmt.Sprintf("%d accounts could be theirs: %s", len(d.Accounts), strings.Join(d.Accounts, ", "))
		if len(d.Rivals) > 0 {
			note = fmt.Sprintf("account %s fits %s as well as %s", strings.Join(d.Accounts, ", "), strings.Join(d.Rivals, ", "), d.User)
		}
		c.add(model.Finding{
			Kind:       model.Unmatched,
			Act:        model.Act{Object: model.Account, Name: asked.Name, User: d.User},
			Candidates: d.Accounts,
			Note:       note + fmt.Sprintf("; decide with: roost adopt %s ACCOUNT %s", c.Desired.Target.Name, d.User),
		})
	}
}

// numbers finds who has the numbers that somebody is to get, in one more walk
// over the observed accounts, and only when somebody is to get any.
func (c *comparer) numbers() {
	for _, a := range c.left {
		have := ""
		if place, ok := c.accountOf(a); ok {
			have = c.observed[place].Attributes.One(model.Number)
		}
		for i := range a.Fields() {
			if a.FieldName(i) != model.Number {
				continue
			}
			if v, ok := a.Value(i); ok && v.First() != have {
				c.taken[v.First()] = -1
			}
			break
		}
	}
	if len(c.taken) == 0 {
		return
	}
	for i := range c.observed {
		if n := c.observed[i].Attributes.One(model.Number); n != "" {
			if _, wanted := c.taken[n]; wanted {
				c.taken[n] = int32(i)
			}
		}
	}
}

// holder is the account that has a number, nil when none has.
func (c *comparer) holder(number string) *model.Object {
	if at, ok := c.taken[number]; ok && at >= 0 {
		return &c.observed[at]
	}
	return nil
}

// account reports how one account that was not settled, or differs, stands.
func (c *comparer) account(a resolve.Account) {
	if c.unsure[c.slot(a.ID, a.Rest)] {
		return
	}
	place, there := c.accountOf(a)
	if a.Suspended() {
		if there {
			c.suspend(a, place)
		}
		return
	}
	if !there {
		c.missing(a)
		return
	}
	have := &c.observed[place]
	if fit, ok := c.match.Fits[have.Name]; ok && c.owner[place] == 0 {
		was, note := "nobody", "recognised by "+strings.Join(fit.By, " and ")
		if former := c.match.Former[have.Name]; former != "" {
			was, note = former, note+"; it was "+former+"’s, who is no longer declared"
		}
		c.add(model.Finding{
			Kind: model.Different,
			Act: model.Act{Verb: model.AdoptIt, Object: model.Account, Name: have.Name, User: a.ID,
				Changes: []model.Change{{Attribute: model.Owner, Before: []string{was}, After: []string{a.ID}}}},
			Note: note,
		})
	}
	if was := c.match.Renamed[have.Name]; was != "" && c.owner[place] == 0 {
		c.add(model.Finding{
			Kind: model.Different,
			Act: model.Act{Verb: model.AdoptIt, Object: model.Account, Name: have.Name, User: a.ID,
				Changes: []model.Change{{Attribute: "name", Before: []string{was}, After: []string{have.Name}}}},
			Note: fmt.Sprintf("renamed there from %s to %s: the target's own id for it is the same", was, have.Name),
		})
	}
	c.values(a, place)
	if c.owner[place] == 0 {
		for _, m := range c.joins(a) {
			m.more[have.Name] = a.ID
		}
	}
}

// suspend shuts an account of who is suspended, and leaves all else of it alone.
func (c *comparer) suspend(a resolve.Account, place int) {
	have := &c.observed[place]
	c.still[have.Name] = true
	state := have.Attributes.Get(model.Disabled)
	if _, shut := c.covered(place); shut || len(state) == 1 && state[0] == "yes" {
		return
	}
	s := a.Declared.Suspended
	c.add(model.Finding{
		Kind: model.Different,
		Act: model.Act{Verb: model.Disable, Object: model.Account, Name: have.Name, User: a.ID,
			Changes: []model.Change{{Attribute: model.Disabled, Before: state, After: []string{"yes"}}}},
		Note: fmt.Sprintf("%s is suspended since %s: %s", a.ID, s.Since, s.Because),
	})
}

// missing proposes to make an account, unless what it needs is taken by one that is not theirs.
func (c *comparer) missing(a resolve.Account) {
	act := model.Act{Object: model.Account, Name: a.Name, User: a.ID}
	number := ""
	for _, w := range a.Want() {
		switch w.Name {
		case model.Disabled:
			continue
		case model.Number:
			number = w.First()
		}
		act.Changes = append(act.Changes, model.Change{Attribute: w.Name, After: w.Values})
	}
	decide := func(by *model.Object, note string, args ...any) {
		f := model.Finding{Kind: model.Unmatched, Act: act, Note: fmt.Sprintf(note, args...)}
		if by != nil {
			f.Candidates = []string{by.Name}
		}
		c.add(f)
	}
	if why, shut := c.shield.Protects(a.Name); shut {
		decide(nil, "the account %s cannot be made: %s", a.Name, why)
		return
	}
	if at, taken := c.find(a.Name); taken {
		decide(&c.observed[at], "the name %s is taken by an account that %s", a.Name, c.whose(at))
		return
	}
	if other := c.holder(number); other != nil && number != "" {
		at, _ := c.find(other.Name)
		decide(other, "number %s is taken by %s, an account that %s; give that one another (roost target renumber), or write "+
			"for %s: "+
			"accounts: {%s: {number: …}}", number, other.Name, c.whose(at), a.ID, c.Desired.Target.Name)
		return
	}
	act.Verb = model.Create
	c.add(model.Finding{Kind: model.Missing, Act: act})
	for _, m := range c.joins(a) {
		m.more[a.Name] = a.ID
	}
}

func (c *comparer) whose(place int) string {
	o := &c.observed[place]
	if c.owner[place] != 0 || c.match.Linked[o.Name] != "" {
		return "belongs to " + c.userOf(place)
	}
	if why, shut := c.covered(place); shut {
		return "is " + why
	}
	return "could be somebody else's"
}

// values compares what the declaration owns of an account, and nothing else.
func (c *comparer) values(a resolve.Account, place int) {
	have := &c.observed[place]
	change := model.Act{Verb: model.Modify, Object: model.Account, Name: have.Name, User: a.ID}
	guard, shut := c.covered(place)
	cursor := have.Attributes.Cursor()
	for i := range a.Fields() {
		w, owned := a.Value(i)
		if !owned {
			continue
		}
		seen, there := cursor.Seek(w.Name)
		if one, ok := seen.One(); ok && len(w.Values) == 1 && one == w.Values[0] {
			continue
		}
		var found []string
		if there {
			found = seen.List()
		}
		s, _ := c.Desired.Schema.Find(model.Account, w.Name)
		if s.Same(found, w.Values) || slices.Contains(c.Desired.Target.Leaves, w.Name) {
			continue
		}
		d := model.Change{Attribute: w.Name, Before: found, After: w.Values}
		if w.Name == model.Disabled && !shut {
			c.add(model.Finding{Kind: model.Different, Act: model.Act{Verb: model.Enable, Object: model.Account, Name: have.Name,
				User: a.ID, Changes: []model.Change{d}}, Note: c.changedBy(have.Name)})
			continue
		}
		if other := c.holder(w.First()); w.Name == model.Number && other != nil && other.Name != have.Name {
			c.add(model.Finding{Kind: model.Unmatched, Act: model.Act{Object: model.Account, Name: have.Name, User: a.ID,
				Changes: []model.Change{d}}, Candidates: []string{other.Name}, Note: c.numberTaken(place, other, w.First())})
			continue
		}
		change.Changes = append(change.Changes, d)
	}
	if len(change.Changes) == 0 {
		return
	}
	f := model.Finding{Kind: model.Different, Act: change}
	if shut {
		f.Kind, f.Verb, f.Note = model.Unmatched, model.NoRemedy, "differs, but is "+guard
	}
	f.Note = joined(f.Note, c.changedBy(have.Name))
	c.add(f)
}

// changedBy says who changed an account last, where the target tells and it was not us; "" where not.
func (c *comparer) changedBy(account string) string {
	if at, there := c.find(account); there {
		if by := c.observed[at].Attributes.One(model.ChangedBy); by != "" {
			return "changed last by " + by
		}
	}
	return ""
}

// joined puts notes behind one another, those that say something.
func joined(notes ...string) string {
	return strings.Join(slices.DeleteFunc(notes, func(s string) bool { return s == "" }), "; ")
}

// numberTaken says of an account that should have a number who has it, and what a person can do.
func (c *comparer) numberTaken(place int, other *model.Object, number string) string {
	if names := circle(c.observed[place].Name, func(name string) string { return c.hasWanted(name) }); names != nil {
		return inCircle(names)
	}
	at, _ := c.find(other.Name)
	return fmt.Sprintf("should have number %s, which %s has, an account that %s; give that one another (roost bulk, change number=…), "+
		"or write here: accounts: {%s: {number: …}}", number, other.Name, c.whose(at), c.Desired.Target.Name)
}

// hasWanted is the account that has the number which another should have; "" when none has, or that is right.
func (c *comparer) hasWanted(name string) string {
	at, _ := c.find(name)
	for _, a := range c.Desired.Plan.Accounts(c.userOf(at), c.Desired.Target.Name) {
		if place, there := c.accountOf(a); !there || place != at {
			continue
		}
		for _, w := range a.Want() {
			if o := c.holder(w.First()); w.Name == model.Number && o != nil {
				return o.Name
			}
		}
	}
	return ""
}

// names reports accounts that are called otherwise than stands under their users: an account that exists keeps its name.
func (c *comparer) names() {
	for _, a := range c.Desired.Called() {
		place, there := c.accountOf(a)
		if !there || !c.Reach.user(a.ID) || c.sameName(c.observed[place].Name, a.Name) {
			continue
		}
		name := c.observed[place].Name
		f := model.Finding{Kind: model.Unmatched, Act: model.Act{Object: model.Account, Name: a.Name, User: a.ID,
			Changes: []model.Change{{Attribute: "name", Before: []string{name}, After: []string{a.Name}}}}}
		f.Note = fmt.Sprintf("the account of %s is called %s, and the declaration says %s; an account keeps its name: either "+
			"rename it on %s, or declare the name that it has", a.ID, name, a.Name, c.Desired.Target.Name)
		if circle := circle(name, c.calledAs); circle != nil {
			f.Note = fmt.Sprintf("%s; an account keeps its name: rename them on %s, first %s to a free name",
				exchange(circle, "names"), c.Desired.Target.Name, slices.Min(circle))
		} else if at, taken := c.find(a.Name); taken {
			f.Note = fmt.Sprintf("the account of %s is called %s, and %s, which the declaration says, %s; an account "+
				"keeps its name: declare the one that it has", a.ID, name, a.Name, c.whose(at))
		}
		c.add(f)
	}
}

// calledAs is the account that has the name which another should have; "" when none has, or that is right.
func (c *comparer) calledAs(name string) string {
	at, _ := c.find(name)
	for _, a := range c.Desired.Plan.Accounts(c.userOf(at), c.Desired.Target.Name) {
		if place, there := c.accountOf(a); there && place == at && a.Given && !c.sameName(name, a.Name) {
			if other, there := c.find(a.Name); there {
				return c.observed[other].Name
			}
		}
	}
	return ""
}

// sameName says whether two accounts have the same login, as the target tells logins apart.
func (c *comparer) sameName(a, b string) bool {
	a, _ = c.Desired.Schema.Account().Login(a)
	b, _ = c.Desired.Schema.Account().Login(b)
	return a == b || c.Desired.Schema.FoldNames && strings.EqualFold(a, b)
}

// circle follows who has what another should have, and returns the names when that leads back to the first; nil otherwise.
func circle(first string, next func(string) string) []string {
	names := []string{first}
	for len(names) < circleMost {
		switch name := next(names[len(names)-1]); {
		case name == first:
			return names
		case name == "" || slices.Contains(names, name):
			return nil
		default:
			names = append(names, name)
		}
	}
	return nil
}

// circleMost bounds how far a circle is followed.
const circleMost = 20

// inCircle says what a person can do about a circle of numbers.
func inCircle(names []string) string {
	return fmt.Sprintf("%s: declare a free number for %s first, run a round, and then declare the one meant", exchange(names, "numbers"),
		slices.Min(names))
}

func exchange(names []string, what string) string {
	names = slices.Sorted(slices.Values(names))
	return fmt.Sprintf("%s and %s are to exchange %s, and each is in the way of the next", strings.Join(names[:len(names)-1], ", "),
		names[len(names)-1], what)
}

// ending reports accounts of people with a key whose last day is near, or has gone by.
func (c *comparer) ending() {
	if _, has := c.Desired.Schema.Find(model.Account, model.Keys); !has {
		return
	}
	tell := func(a resolve.Account) {
		until := c.Desired.Plan.KeyEnds(a.Person)
		place, there := c.accountOf(a)
		if !there || until == "" {
			return
		}
		c.add(model.Finding{Kind: model.Expiring, Act: model.Act{Object: model.Account, Name: c.observed[place].Name, User: a.ID},
			Note: fmt.Sprintf("the last day of a key of %s is %s; roost rotate %s --key makes another", a.ID, until, a.ID)})
	}
	if c.Reach != nil {
		for a := range c.Reach.accounts(c.Desired) {
			tell(a)
		}
		return
	}
	for _, p := range c.Desired.Plan.KeysEnding() {
		for _, a := range c.Desired.AccountsFor(p) {
			tell(a)
		}
	}
}

// watched are attributes that are findings, in the words of the target.
var watched = []struct {
	attribute string
	kind      model.FindingKind
}{{model.SharedLogin, model.Shared}, {model.FactoryMade, model.Factory}, {model.OpenWide, model.WideOpen},
	{model.WeakSignIn, model.Weak}, {model.ShadowedBy, model.Shadowed}, {model.UnevenWith, model.Uneven}, {model.Odd, model.OddObject}}

// marked reports what a person should know of an object whatever is declared:
// accounts that ask nobody for a password, and all that is odd.
func (c *comparer) marked() {
	tell := func(kind model.FindingKind, o *model.Object, user, note string) {
		c.add(model.Finding{Kind: kind, Act: model.Act{Object: o.Kind, Name: o.Name, User: user}, Note: note})
	}
	slices.Sort(c.told)
	for _, i := range c.told {
		o := &c.observed[i]
		if o.Attributes.Has(model.Passwordless) {
			tell(model.NoPassword, o, c.userOf(i), "whoever knows its name can sign in: nobody is asked for a password; set one, or lock "+
				"it, on the target")
		}
		for _, x := range watched {
			if x.kind == model.Factory && c.userOf(i) != "" || x.kind == model.WideOpen && c.owner[i] != 0 {
				continue // it was given to somebody
			}
			if words := o.Attributes.Get(x.attribute); len(words) > 0 {
				tell(x.kind, o, c.userOf(i), strings.Join(words, "; "))
			}
		}
	}
	if c.Reach != nil {
		return
	}
	for i := range c.Others {
		if o := &c.Others[i]; o.Marked && o.Attributes.Has(model.Odd) {
			tell(model.OddObject, o, "", o.Attributes.One(model.Odd))
		}
	}
}

// strangers reports accounts that nobody declared. Those of people we know are
// shut whatever the target's rule says: they were ours, or plainly are the
// person's, and nothing asks for them any more.
func (c *comparer) strangers() {
	for i := range c.observed {
		if c.owner[i] != 0 {
			continue
		}
		o := &c.observed[i]
		user := c.userOf(i)
		if user != "" && c.asked(user, o.Name) {
			continue
		}
		if _, shut := c.covered(i); shut || o.System || c.doubt[o.Name] {
			continue
		}
		state := o.Attributes.Get(model.Disabled)
		closed := len(state) == 1 && state[0] == "yes"
		rule := c.Desired.Target.Unexpected
		f := model.Finding{Kind: model.Unexpected, Act: model.Act{Object: model.Account, Name: o.Name, User: user}}
		switch {
		case closed && c.goes(user) && c.kept(o.Name):
			continue
		case closed && c.goes(user): // shut in an earlier round: what is removed was out of use before
			f.Verb, f.Changes = model.Remove, Removal(c.Desired, o)
		case closed && (user != "" || rule != model.ReportUnexpected):
			continue
		case user != "" || rule != model.ReportUnexpected:
			f.Verb = model.Disable
			f.Changes = []model.Change{{Attribute: model.Disabled, Before: state, After: []string{"yes"}}}
		}
		f.Note = c.about(o, user)
		c.add(f)
	}
}

// goes says whether shut accounts that nothing asks for are removed at last:
// those that nobody declared as the target's rule says, those of people we know
// where its removal says how long they are kept.
func (c *comparer) goes(user string) bool {
	t := c.Desired.Target
	return c.Desired.Schema.Account().Does(model.Remove) && (t.Unexpected == model.RemoveUnexpected || user != "" && t.Removal.Keep > 0)
}

// Removal is what goes with an account that is removed, as it is there, and what becomes of its home.
func Removal(d *resolve.Desired, o *model.Object) []model.Change {
	out := []model.Change{{Attribute: model.Disabled, Before: o.Attributes.Get(model.Disabled)}}
	for _, s := range d.Schema.Account().Attributes { // what it is made of, so that it can be made again
		if v := o.Attributes.Get(s.Name); s.Settable && !s.Many && len(v) == 1 && s.Name != model.Home && (remade[s.Name] || s.Remade) {
			out = append(out, model.Change{Attribute: s.Name, Before: v})
		}
	}
	home, how := o.Attributes.Get(model.Home), d.Target.Removal.Home
	if len(home) == 1 && how != model.HomeKept {
		out = append(out, model.Change{Attribute: model.Home, Before: home, After: []string{how}})
	}
	return out
}

// remade are the attributes of an account without which it would not be the same one again; its kind may name more.
var remade = map[string]bool{model.Number: true, model.FullName: true, model.PrimaryGroup: true}

// kept says whether a shut account is to be kept for now: from the day on which
// it was first seen so, as long as the target's removal says.
func (c *comparer) kept(name string) bool {
	keep := c.Desired.Target.Removal.Keep
	since, known := c.Shut[name]
	return keep > 0 && (!known || since.Add(keep).UTC().Format(time.DateOnly) > c.Desired.Plan.Day)
}

// about says what a person should know of an account nobody declared.
func (c *comparer) about(o *model.Object, user string) string {
	var parts []string
	p, known := c.Desired.Plan.Person(user)
	switch {
	case user == "":
		parts = append(parts, "nobody declared has this name, number or mail")
	case known && p.State == resolve.Left:
		parts = append(parts, "the last day of "+user+" was "+p.Declared.Span.Until)
	case known && p.State == resolve.Expected:
		parts = append(parts, user+" starts on "+p.Declared.Span.From)
	default:
		parts = append(parts, "nothing in the declaration gives "+user+" an account here")
	}
	if full := o.Attributes.One(model.FullName); full != "" {
		parts = append(parts, "it calls itself "+strconv.Quote(full))
	}
	if how := o.Attributes.Get(model.Elevation); len(how) > 0 {
		parts = append(parts, "can become superuser through "+strings.Join(how, " and "))
	}
	return joined(append(parts, c.changedBy(o.Name))...)
}
