package resolve

import (
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Pair is a person before and after; nil when they were not there, or are not.
type Pair struct{ Before, After *Person }

// ID is the user's.
func (p Pair) ID() string {
	if p.After != nil {
		return p.After.ID
	}
	return p.Before.ID
}

// Change is how a plan differs from the one that it follows.
type Change struct {
	From   *Plan
	People []Pair          // those of whom anything is otherwise, by ID
	Anew   map[string]bool // targets of which other sets are asked for than before
}

// Follow makes the plan of a declaration that differs from this plan's in the
// named users alone. It works out those, and shares all else. It returns
// declare.Faults that need not be all there are; Resolve tells all.
func (p *Plan) Follow(d *model.Declaration, users []string) (*Plan, *Change, error) {
	p.kit.following.Lock()
	defer p.kit.following.Unlock()
	p.kit.version++
	next := *p
	next.d, next.Targets = d, make(map[string]*Desired, len(p.Targets))
	for name, t := range p.Targets {
		one := *t
		one.Plan, one.Target = &next, d.Targets[name]
		next.Targets[name] = &one
	}
	f := follower{resolver: resolver{kit: p.kit, d: d, plan: &next}, change: &Change{From: p, Anew: map[string]bool{}}}
	next.numbered, next.holders = slices.Clone(p.numbered), slices.Clone(p.holders)
	for _, id := range users {
		f.person(id)
	}
	if len(f.faults) > 0 {
		return nil, nil, f.faults
	}
	f.replace()
	f.retarget()
	next.ready()
	return &next, f.change, nil
}

type follower struct {
	resolver
	change *Change
	pairs  []Pair // all that were worked out anew, those too who are as they were
}

// person works out one user.
func (f *follower) person(id string) {
	var pair Pair
	pair.Before, _ = f.change.From.Person(id)
	if u := f.d.Users[id]; u != nil {
		x := &Person{ID: id, Declared: u, Version: f.version}
		if pair.Before != nil {
			x.At = pair.Before.At
		} else {
			x.At = len(f.plan.numbered)
			f.plan.numbered = append(f.plan.numbered, nil)
		}
		f.own(x)
		key := strings.Join(f.rolesOf(x), "\x00")
		x.bundle = f.bundles[key]
		if x.bundle == nil {
			x.bundle = &bundle{}
			f.bundles[key] = x.bundle
			f.list(x.bundle, key)
		}
		f.check(x)
		f.called(x)
		f.plan.numbered[x.At] = x
		pair.After = x
	} else if pair.Before != nil {
		f.plan.numbered[pair.Before.At] = nil
	}
	if pair.Before == nil && pair.After == nil {
		return
	}
	f.pairs = append(f.pairs, pair)
	if pair.Before == nil || pair.After == nil || !pair.Before.same(pair.After) {
		f.change.People = append(f.change.People, pair)
	}
}

// same says whether all that a plan makes of two people is the same.
func (p *Person) same(q *Person) bool {
	a, b := p.Declared, q.Declared
	return p.bundle == q.bundle && p.State == q.State && p.texts == q.texts && slices.Equal(p.named, q.named) &&
		(p.keys == nil) == (q.keys == nil) && slices.Equal(p.keys, q.keys) && maps.Equal(p.details, q.details) &&
		slices.EqualFunc(a.Details, b.Details, sameText) && a.Manager.Name == b.Manager.Name &&
		a.Service == b.Service && a.Span == b.Span &&
		maps.EqualFunc(a.Accounts, b.Accounts, model.AccountHint.Same)
}

// SameSelf says whether all that values are made of is the same of two people, but for what their roles give.
func (p *Person) SameSelf(q *Person) bool {
	a, b := p.Declared, q.Declared
	return p.State == q.State && p.texts == q.texts && (p.keys == nil) == (q.keys == nil) && slices.Equal(p.keys, q.keys) &&
		maps.Equal(p.details, q.details) && slices.EqualFunc(a.Details, b.Details, sameText) && a.Manager.Name == b.Manager.Name &&
		a.Service == b.Service && maps.EqualFunc(a.Accounts, b.Accounts, model.AccountHint.Same)
}

// replace puts the people worked out anew in their places.
func (f *follower) replace() {
	before := f.change.From.People
	people := make([]*Person, 0, len(before)+len(f.pairs))
	for _, pair := range f.pairs {
		at, found := slices.BinarySearchFunc(before, pair.ID(), func(x *Person, id string) int { return strings.Compare(x.ID, id) })
		people = append(people, before[:at]...)
		before = before[at:]
		if found {
			before = before[1:]
		}
		if pair.After != nil {
			people = append(people, pair.After)
		}
	}
	f.plan.People = append(people, before...)
}

// retarget brings to the targets who holds what now, and what is said by hand.
func (f *follower) retarget() {
	for len(f.plan.holders) < len(f.listed) {
		f.plan.holders = append(f.plan.holders, 0)
	}
	count := func(p *Person, n int) {
		if p != nil {
			f.plan.holders[p.bundle.number] += n
		}
	}
	hints := map[*Desired]bool{}
	for _, pair := range f.pairs {
		count(pair.Before, -1)
		count(pair.After, 1)
		for _, p := range []*Person{pair.Before, pair.After} {
			if p != nil {
				for target := range p.Declared.Accounts {
					if d := f.plan.Targets[target]; d != nil {
						hints[d] = true
					}
				}
			}
		}
	}
	for d := range hints {
		f.hints(d)
	}
	had := func(i int) bool { return i < len(f.change.From.holders) && f.change.From.holders[i] > 0 }
	concerned := map[int32]bool{} // classes
	for i, b := range f.listed {
		if had(i) != (f.plan.holders[i] > 0) {
			for _, c := range b.classes {
				concerned[c] = true
			}
		}
	}
	for n := range concerned {
		c := f.classes[n]
		before := f.plan.Targets[c.targets[0]].Sets
		f.finish(c)
		if !slices.EqualFunc(before, f.plan.Targets[c.targets[0]].Sets, sameSet) {
			for _, target := range c.targets {
				f.change.Anew[target] = true
			}
		}
	}
}

func (f *follower) hints(d *Desired) {
	touched := map[string]bool{}
	var list []hint
	for _, pair := range f.pairs {
		touched[pair.ID()] = true
		if pair.After != nil {
			if h, ok := pair.After.Declared.Accounts[d.Target.Name]; ok {
				list = append(list, hint{pair.After, h})
			}
		}
	}
	for _, h := range d.hinted {
		if !touched[h.person.ID] {
			list = append(list, h)
		}
	}
	slices.SortFunc(list, func(a, b hint) int { return strings.Compare(a.person.ID, b.person.ID) })
	d.hinted = list
}

func sameSet(a, b *Set) bool {
	return a.Named == b.Named && a.Number == b.Number && a.Owner == b.Owner && a.AtLeast == b.AtLeast &&
		maps.EqualFunc(a.Groups, b.Groups, func(x, y model.Origin) bool { return true })
}

func sameText(a, b model.NamedText) bool { return a.Name == b.Name && a.Text.Raw == b.Text.Raw }
