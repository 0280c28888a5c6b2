package drift

import (
	"hash/fnv"
	"iter"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Reach is what of one target can stand otherwise than before when nothing but
// some people of the declaration changed: their accounts, and those accounts in
// the sets that they come into or leave. All else is as it was found.
//
// That is so as long as no account that is not settled could be theirs, and
// nothing stands in their way; which such accounts there are is told by Loose.
type Reach struct {
	People []*resolve.Person // as they are now
	Users  []string          // the same, and those who are gone
	Names  []string          // of their accounts, sorted
	Sets   []model.Named     // sorted by kind and name
}

// ReachOf returns what a change can concern on a target, nil when nothing.
// links are those of the people who changed, on this target.
func ReachOf(change *resolve.Change, to *resolve.Plan, target string, links []model.Link) *Reach {
	r := &Reach{}
	linked := map[string][]string{}
	for _, l := range links {
		linked[l.User] = append(linked[l.User], l.Name)
	}
	for _, pair := range change.People {
		id := pair.ID()
		before, after := change.From.Accounts(id, target), to.Accounts(id, target)
		if len(before)+len(after)+len(linked[id]) == 0 {
			continue
		}
		if pair.After != nil {
			r.People = append(r.People, pair.After)
		}
		r.Users = append(r.Users, id)
		var a, b []model.Named
		r.Names, a = named(r.Names, before)
		r.Names, b = named(r.Names, after)
		r.Names = append(r.Names, linked[id]...)
		settled := len(before) == 1 && len(after) == 1 && slices.Equal(linked[id], []string{before[0].Name}) &&
			before[0].Name == after[0].Name && before[0].Suspended() == after[0].Suspended()
		for _, g := range append(a, b...) {
			if !settled || slices.Contains(a, g) != slices.Contains(b, g) {
				r.Sets = append(r.Sets, g)
			}
		}
	}
	if len(r.Users) == 0 {
		return nil
	}
	for _, list := range []*[]string{&r.Users, &r.Names} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	slices.SortFunc(r.Sets, model.Named.Compare)
	r.Sets = slices.Compact(r.Sets)
	return r
}

// named adds the names of accounts, and returns the sets that they are to be in.
func named(names []string, accounts []resolve.Account) ([]string, []model.Named) {
	var sets []model.Named
	for _, a := range accounts {
		names = append(names, a.Name)
		for _, j := range a.Sets() {
			sets = append(sets, j.Set)
		}
	}
	return names, sets
}

// Holds says whether a finding of before is in reach, so that it counts no more
// unless it is found again.
func (r *Reach) Holds(a model.Act) bool {
	if a.Moves() {
		return a.MemberKind == model.Account && r.set(a.Of()) && slices.Contains(r.Names, a.Member)
	}
	return a.Object == model.Account && (slices.Contains(r.Users, a.User) || slices.Contains(r.Names, a.Name))
}

func (r *Reach) set(name model.Named) bool {
	if r == nil {
		return true
	}
	_, ok := slices.BinarySearchFunc(r.Sets, name, model.Named.Compare)
	return ok
}

func (r *Reach) user(id string) bool { return r == nil || slices.Contains(r.Users, id) }

// accounts yields those asked for, in order of name.
func (r *Reach) accounts(d *resolve.Desired) iter.Seq[resolve.Account] {
	if r == nil {
		return d.Accounts()
	}
	var list []resolve.Account
	for _, p := range r.People {
		list = append(list, d.AccountsFor(p)...)
	}
	slices.SortFunc(list, func(a, b resolve.Account) int { return strings.Compare(a.Name, b.Name) })
	return slices.Values(list)
}

// Loose returns the findings, and the keys of all by which an account there
// could be somebody else's or stand in their way: those of accounts that are
// not settled, and of numbers that are not what their user, or their group, should have.
func Loose(in Input) ([]model.Finding, []uint64) {
	c := compare(in)
	keys := []uint64{}
	for i := range c.observed {
		o := &c.observed[i]
		number := o.Attributes.One(model.Number)
		if at := c.owner[i]; at != 0 {
			if p := c.Desired.Plan.Numbered(int(at - 1)); number != "" && number != p.Number() {
				keys = append(keys, looseKey('#', number), looseKey('u', p.ID)) // without its user it could be that of who has the number
			}
			continue
		}
		login, _ := c.Desired.Schema.Account().Login(o.Name)
		keys = append(keys, looseKey('n', login))
		for kind, value := range map[byte]string{'#': number, 'm': o.Attributes.One(model.Mail), 'f': o.Attributes.One(model.FullName)} {
			if value != "" {
				keys = append(keys, looseKey(kind, value))
			}
		}
	}
	for _, d := range in.Decisions {
		keys = append(keys, looseKey('u', d.User))
		if at, there := c.find(d.Name); there && c.owner[at] != 0 { // without its user it is that of who was decided
			keys = append(keys, looseKey('u', c.Desired.Plan.Numbered(int(c.owner[at]-1)).ID))
		}
	}
	for _, f := range c.out { // whose account has which name says something of another's
		if f.Kind == model.Unmatched && len(f.Changes) == 1 && f.Changes[0].Attribute == "name" {
			keys = append(keys, looseKey('u', f.User))
			if at, there := c.find(f.Name); there && c.owner[at] != 0 {
				keys = append(keys, looseKey('u', c.Desired.Plan.Numbered(int(c.owner[at]-1)).ID))
			}
		}
	}
	declared := map[string]string{}
	for _, s := range in.Desired.Sets {
		if s.Kind == model.GroupKind && s.Number != 0 {
			declared[s.Name] = strconv.Itoa(s.Number)
		}
	}
	for i := range in.Others {
		o := &in.Others[i]
		if n := o.Attributes.One(model.Number); o.Kind == model.GroupKind && !o.System && n != "" && declared[o.Name] != n {
			keys = append(keys, NumberKey(o.Kind, n))
		}
	}
	slices.Sort(keys)
	return c.out, slices.Compact(keys)
}

// Keys returns the keys by which the people of a change could be told on any target.
func Keys(change *resolve.Change) []uint64 {
	var keys []uint64
	for _, pair := range change.People {
		for _, p := range []*resolve.Person{pair.Before, pair.After} {
			if p == nil {
				continue
			}
			keys = append(keys, looseKey('n', p.ID), looseKey('u', p.ID), looseKey('m', p.Mail), looseKey('f', p.Name))
			if p.Number() != "" {
				keys = append(keys, looseKey('#', p.Number()))
			}
			for _, h := range p.Declared.Accounts {
				if h.Name != "" {
					keys = append(keys, looseKey('n', h.Name))
				}
			}
		}
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

// NumberKey is the key of a number that an account, or a group, has though no declaration says so.
func NumberKey(kind model.ObjectKind, number string) uint64 {
	if kind == model.GroupKind {
		return looseKey('g', number)
	}
	return looseKey('#', number)
}

// looseKey hashes a value without regard to case: one key too many costs time, and nothing else.
func looseKey(kind byte, value string) uint64 {
	h := fnv.New64a()
	h.Write([]byte{kind})
	h.Write([]byte(strings.ToLower(value)))
	return h.Sum64()
}

// places are small numbers by a person's number: for everybody, or for few.
type places struct {
	all []int32
	few map[int]int32
}

func newPlaces(size int, few bool) places {
	if few {
		return places{few: map[int]int32{}}
	}
	return places{all: make([]int32, size)}
}

func (p *places) of(at int) int32 {
	if p.all != nil {
		return p.all[at]
	}
	return p.few[at]
}

func (p *places) set(at int, place int32) {
	if p.all != nil {
		p.all[at] = place
		return
	}
	p.few[at] = place
}
