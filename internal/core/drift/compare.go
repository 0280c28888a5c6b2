// Package drift compares what a target should hold with what it holds, and
// says for every difference what would put it right, or that a person must decide.
//
// Both sides come in order of name. Accounts that are linked to the user who
// should have them, under the name they should have, are compared in one walk
// along both sides; that is nearly all of them, nearly always. The others are
// matched with the people still without an account.
package drift

import (
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/match"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Input is all that the comparison of one target needs.
type Input struct {
	Desired   *resolve.Desired
	Accounts  []model.Object // observed; those that are linked to the user who has their name say so
	InOrder   bool           // the accounts come in order of name, and none has another's
	Others    []model.Object // observed groups, rights, containers and policies
	Links     []model.Link   // all others
	Decisions []model.Decision
	Reach     *Reach               // nil: the whole target
	Known     *Known               // what was found right before; nil: nothing
	Shut      map[string]time.Time // since when accounts are as they are; asked where shut ones are kept for a time
}

type comparer struct {
	Input
	observed []model.Object // accounts, by name
	most     int            // accounts that one person may have
	held     places         // by account asked for (see nth): place in observed of the one that is theirs, counted from 1
	owner    []int32        // by observed account: place of its person, counted from 1; 0: not settled in the walk
	known    *Known
	shield   model.Shield
	others   map[model.Named]*model.Object
	members  map[model.Named]*membership
	sets     []*resolve.Set // asked for, and those through which Hen Roost gave something that nobody asks for any more
	ways     []way          // by bundle

	match   *match.Result
	left    []resolve.Account    // asked for, and not settled in the walk
	renamed map[model.Named]bool // sets that are to be made out of others: who is in them is compared when they are
	doubt   map[string]bool      // accounts that could be somebody's
	unsure  map[match.Slot]bool  // accounts that are not made until a person decides
	still   map[string]bool      // accounts of who is suspended: nobody takes them out of anything
	gids    map[string]string    // numbers of groups → who has them; nil: not asked yet
	taken   map[string]int32     // numbers that somebody is to get → place of the account that has it
	told    []int                // places of marked accounts
	seated  map[string]*seating  // by licence
	room    []byte
	out     []model.Finding
}

// membership is who should be in one set.
type membership struct {
	set     *resolve.Set
	in      []int32           // places of observed accounts, ascending, from the walk
	more    map[string]string // account name → user, from the rest
	seen    model.Values      // members seen
	have    model.Values      // the same, less those that the walk has met
	differs bool              // the walk has met one who is not next
	people  uint64            // who should be in it, by the walk: the sum of their marks
	late    bool              // it was not, after all
	quick   bool              // who was seen is known to be right if the same people should be in it
}

// meet notes that the walk has come to somebody who should be in the set.
func (m *membership) meet(place int32, name string) {
	m.in = append(m.in, place)
	if next, rest, ok := m.have.Next(); ok && next == name {
		m.have = rest
	} else {
		m.differs = true
	}
}

// Compare returns the findings of one target, or of what of it is in reach:
// groups and the like first, then accounts, then memberships. It changes
// nothing of its input but what is known.
func Compare(in Input) []model.Finding {
	c := compare(in)
	return c.out
}

func compare(in Input) *comparer {
	c := &comparer{Input: in, observed: in.Accounts, shield: in.Desired.Shield(), others: map[model.Named]*model.Object{},
		members: map[model.Named]*membership{}, ways: make([]way, in.Desired.Plan.Bundles()),
		renamed: map[model.Named]bool{},
		doubt:   map[string]bool{}, unsure: map[match.Slot]bool{}, still: map[string]bool{}, taken: map[string]int32{}}
	if !in.InOrder {
		c.observed = ordered(in.Accounts, func(o *model.Object) string { return o.Name })
	}
	c.owner = make([]int32, len(c.observed))
	c.most = in.Desired.Most()
	c.held = newPlaces(in.Desired.Plan.Size()*c.most, in.Reach != nil)
	if in.Known != nil && in.Reach == nil {
		c.known = in.Known
		c.known.begin(in.Desired.Plan, c.most)
	}
	for i := range in.Others {
		o := &in.Others[i]
		c.others[model.Named{Kind: o.Kind, Name: o.Name}] = o
	}
	c.sets = c.allSets()
	c.see()
	if in.Reach == nil {
		c.compareThings()
		c.compareGroups()
		c.undeclared()
	}
	rest := c.walked()
	c.match = match.Accounts(match.Input{Desired: in.Desired, Accounts: c.unsettled(), Links: rest, Decisions: in.Decisions,
		Settled: c.settled,
		Skip: func(o *model.Object) bool {
			_, covered := c.shield.Covers(o)
			return covered
		}})
	c.doubts()
	c.numbers()
	for _, a := range c.left {
		c.account(a)
	}
	c.names()
	c.strangers()
	c.marked()
	c.unused()
	c.ending()
	c.memberships()
	c.seats()
	return c
}

// see notes who was seen in each set that is in reach.
func (c *comparer) see() {
	for _, s := range c.sets {
		if !c.Reach.set(s.Named) {
			continue
		}
		m := &membership{set: s, more: map[string]string{}}
		if o := c.others[s.Named]; o != nil {
			cursor := o.Attributes.Cursor()
			m.seen, _ = cursor.Seek(model.Members)
			m.have = m.seen
		}
		if c.known != nil {
			before, ok := c.known.sets[s.Named]
			m.quick = ok && before.members == c.known.of(m.seen)
		}
		c.members[s.Named] = m
	}
}

// allSets are the sets that are asked for and those that are there all the same, of kinds that Hen Roost alone gives, and
// of permissions where any are declared: whoever is in them may do more than declared.
func (c *comparer) allSets() []*resolve.Set {
	out := slices.Clip(c.Desired.Sets)
	asked := make(map[model.Named]bool, len(out))
	for _, s := range out {
		asked[s.Named] = true
	}
	rights := len(c.Desired.Rights()) > 0
	for i := range c.Others {
		o := &c.Others[i]
		name := model.Named{Kind: o.Kind, Name: o.Name}
		k := c.Desired.Schema.Of(o.Kind)
		if k != nil && (k.Given || k.Spelled != nil && rights && !o.System && o.Name != model.Superuser) && !asked[name] {
			out = append(out, &resolve.Set{Named: name})
		}
	}
	return out
}

// ordered returns a list in order of name, itself when it is so already.
func ordered[T any](list []T, name func(*T) string) []T {
	sorted := true
	for i := 1; i < len(list) && sorted; i++ {
		sorted = name(&list[i-1]) <= name(&list[i])
	}
	if !sorted {
		list = slices.Clone(list)
		slices.SortFunc(list, func(a, b T) int { return strings.Compare(name(&a), name(&b)) })
	}
	return list
}

// nth is a number of its own of an account asked for.
func (c *comparer) nth(a resolve.Account) int { return a.At*c.most + a.Nth }

// settled says whether the walk has met the account of a person with a rest.
func (c *comparer) settled(p *resolve.Person, rest string) bool {
	if c.most == 1 {
		return c.held.of(p.At) != 0
	}
	for _, a := range c.Desired.AccountsFor(p) {
		if a.Rest == rest && c.held.of(c.nth(a)) != 0 {
			return true
		}
	}
	return false
}

func (c *comparer) unsettled() []model.Object {
	var out []model.Object
	for i, o := range c.observed {
		if c.owner[i] == 0 {
			out = append(out, o)
		}
	}
	return out
}

// find returns the place of an observed account.
func (c *comparer) find(name string) (int, bool) {
	return slices.BinarySearchFunc(c.observed, name, func(o model.Object, name string) int { return strings.Compare(o.Name, name) })
}

// accountOf is the account that is, or could only be, the one asked for.
func (c *comparer) accountOf(a resolve.Account) (place int, ok bool) {
	if at := c.held.of(c.nth(a)); at != 0 {
		return int(at - 1), true
	}
	name, ok := c.match.AccountOf(c.slot(a.ID, a.Rest))
	if !ok {
		return 0, false
	}
	return c.find(name)
}

// slot is what an account of a user fills.
func (c *comparer) slot(user, rest string) match.Slot {
	if c.Desired.Schema.FoldNames {
		rest = strings.ToLower(rest)
	}
	return match.Slot{User: user, Rest: rest}
}

// asked says whether the account that a user has under a name is asked for.
func (c *comparer) asked(user, name string) bool {
	_, rest := c.Desired.Schema.Account().Login(name)
	return slices.ContainsFunc(c.Desired.Plan.Accounts(user, c.Desired.Target.Name), func(a resolve.Account) bool {
		return c.most == 1 && rest == a.Rest || c.slot(user, rest) == c.slot(user, a.Rest)
	})
}

// userOf is whose an observed account is, or could only be.
func (c *comparer) userOf(place int) string {
	if at := c.owner[place]; at != 0 {
		return c.Desired.Plan.Numbered(int(at - 1)).ID
	}
	name := c.observed[place].Name
	if fit, ok := c.match.Fits[name]; ok {
		return fit.User
	}
	return c.match.Linked[name]
}

// covered says of an observed account whether no step may touch it. One that is
// somebody's is theirs, whatever its number.
func (c *comparer) covered(place int) (string, bool) {
	o := &c.observed[place]
	if o.System && (c.owner[place] != 0 || c.match.Linked[o.Name] != "") {
		own := *o
		own.System, o = false, &own
	}
	return c.shield.Covers(o)
}

// shut says whether no step may touch what is no account, there or not.
func (c *comparer) shut(name model.Named) (string, bool) {
	if o := c.others[name]; o != nil {
		return c.shield.Covers(o)
	}
	return c.shield.Protects(name.Name)
}

func (c *comparer) add(f model.Finding) {
	f.Target = c.Desired.Target.Name
	c.out = append(c.out, f)
}
