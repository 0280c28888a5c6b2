package resolve

import (
	"cmp"
	"slices"
	"strings"
)

// Brief is of a person what a comparison looks at first. Those of a plan lie
// side by side: comparing is bound by how fast memory is.
type Brief struct {
	At, Version, Bundle int32 // as the person's
	Suspended           bool
}

// makeBriefs lists those of all people, in their order.
func (p *Plan) makeBriefs() []Brief {
	out := make([]Brief, len(p.People))
	for i, x := range p.People {
		out[i] = Brief{int32(x.At), x.Version, int32(x.bundle.number), x.State == Suspended}
	}
	return out
}

// Bundles is how many numbers bundles have been given: one more than the largest Person.Bundle.
func (p *Plan) Bundles() int { return len(p.holders) }

// SetsOf are the sets that accounts of a bundle's holders should be in here, sorted by kind and name.
func (d *Desired) SetsOf(bundle int) []Joining {
	if bundle < len(d.shapes) && d.shapes[bundle] != nil {
		return d.shapes[bundle].sets
	}
	return nil
}

// Walk goes along the accounts asked for in order of name, until slow says no.
// Of those that are called as their people are, and are all that these have
// here, quick (nil: nobody) is asked first; slow gets what it does not settle.
func (d *Desired) Walk(quick func(*Brief) bool, slow func(Account) bool) {
	if d.parted {
		d.walkParted(slow)
		return
	}
	skip, given := d.byHand()
	briefs := d.Plan.index.briefs()
	for i := range briefs {
		b := &briefs[i]
		if int(b.Bundle) >= len(d.shapes) || d.shapes[b.Bundle] == nil {
			continue
		}
		for len(skip) > 0 && skip[0] < i {
			skip = skip[1:]
		}
		if len(skip) > 0 && skip[0] == i {
			continue
		}
		for len(given) > 0 && given[0].before <= i {
			if !slow(given[0].Account) {
				return
			}
			given = given[1:]
		}
		if quick != nil && quick(b) {
			continue
		}
		p := d.Plan.People[i]
		if !slow(Account{Person: p, Name: p.ID, shape: d.shapes[b.Bundle], on: d}) {
			return
		}
	}
	for _, g := range given {
		if !slow(g.Account) {
			return
		}
	}
}

// walkParted is Walk where people may have several accounts.
func (d *Desired) walkParted(slow func(Account) bool) {
	var all []Account
	for _, p := range d.Plan.People {
		all = append(all, d.AccountsFor(p)...)
	}
	slices.SortFunc(all, byName)
	for _, a := range all {
		if !slow(a) {
			return
		}
	}
}

func byName(a, b Account) int { return strings.Compare(a.Name, b.Name) }

// given is an account whose name is out of the people's order, and the place of
// the first person that it comes before.
type given struct {
	Account
	before int
}

// byHand are the places of those of whose accounts here something is said by
// hand, in order, and these accounts, in order of name.
func (d *Desired) byHand() (skip []int, accounts []given) {
	place := func(id string, after bool) int {
		at, found := slices.BinarySearchFunc(d.Plan.People, id, func(x *Person, id string) int { return strings.Compare(x.ID, id) })
		if found && after {
			at++
		}
		return at
	}
	for _, h := range d.hinted {
		skip = append(skip, place(h.person.ID, false))
		for _, a := range d.AccountsFor(h.person) {
			accounts = append(accounts, given{a, place(a.Name, true)})
		}
	}
	slices.SortFunc(accounts, func(a, b given) int { return cmp.Or(byName(a.Account, b.Account), cmp.Compare(a.before, b.before)) })
	return skip, accounts
}
