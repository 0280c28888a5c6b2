package drift

import (
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// way is what all accounts have in common whose people hold the same roles.
type way struct {
	joins   []*membership // the sets they should be in
	anew    []*membership // those of them that are not known to be right
	people  uint64        // of those who were settled at a glance, the sum of their marks
	settled bool          // joins and anew are worked out
}

// way returns that of a bundle.
func (c *comparer) way(bundle int) *way {
	w := &c.ways[bundle]
	if !w.settled {
		w.settled = true
		for _, j := range c.Desired.SetsOf(bundle) {
			if m := c.members[j.Set]; m != nil {
				if w.joins = append(w.joins, m); !m.quick {
					w.anew = append(w.anew, m)
				}
			}
		}
	}
	return w
}

// joins are the sets an account should be in.
func (c *comparer) joins(a resolve.Account) []*membership { return c.way(a.Bundle()).joins }

// walk goes along the accounts asked for, those observed and the links at once.
type walk struct {
	*comparer
	o     int          // the next observed account
	links []model.Link // the next ones
	rest  []model.Link // those that could not be settled
}

// walked walks, and returns the links that it could not settle.
func (c *comparer) walked() []model.Link {
	w := &walk{comparer: c, links: ordered(c.Links, func(l *model.Link) string { return l.Name })}
	switch {
	case c.Reach != nil:
		for a := range c.Reach.accounts(c.Desired) {
			w.step(a)
		}
	case c.known != nil && c.most == 1:
		c.Desired.Walk(w.glance, w.step)
		for i := range c.ways {
			for _, m := range c.ways[i].joins {
				m.people += c.ways[i].people
			}
		}
	default:
		c.Desired.Walk(nil, w.step)
	}
	for i, own := range c.owner {
		if own != 0 {
			continue // its row was looked at
		}
		o := &c.observed[i]
		if o.Linked {
			w.rest = append(w.rest, model.Link{User: o.Name, Name: o.Name, Unique: o.Unique})
		}
		c.note(i, o)
	}
	return append(w.rest, w.links...)
}

// glance settles the next observed account when it is known to be that of a
// person, under their own name, and to be right: this is nearly always so, and
// then nothing else is looked at.
func (w *walk) glance(b *resolve.Brief) bool {
	if w.o >= len(w.observed) || b.Suspended {
		return false
	}
	o, who := &w.observed[w.o], mark(b.At, b.Version)
	if !o.Linked || !w.known.holds(int(b.At), w.known.account(who, o)) {
		return false
	}
	w.held.set(int(b.At), int32(w.o+1))
	w.owner[w.o] = b.At + 1
	w.note(w.o, o)
	way := w.way(int(b.Bundle))
	way.people += who
	for _, m := range way.anew {
		m.meet(int32(w.o), o.Name)
	}
	w.o++
	return true
}

// step settles an account with the next observed one, or leaves it.
func (w *walk) step(a resolve.Account) bool {
	order := 1
	for w.o < len(w.observed) {
		if order = strings.Compare(w.observed[w.o].Name, a.Name); order >= 0 {
			break
		}
		w.o++
	}
	if order == 0 && w.observed[w.o].Linked && a.ID == a.Name {
		w.settle(w.o, a)
		w.o++
		return true
	}
	for len(w.links) > 0 && w.links[0].Name != a.Name && w.links[0].Name < a.Name || len(w.links) > 1 && w.links[0].Name == a.Name &&
		w.links[0].User != a.ID {
		w.rest, w.links = append(w.rest, w.links[0]), w.links[1:]
	}
	if order != 0 || len(w.links) == 0 || w.links[0].User != a.ID || w.links[0].Name != a.Name || w.links[0].Unique != "" &&
		w.links[0].Unique != w.observed[w.o].Unique {
		w.left = append(w.left, a)
		return true
	}
	w.links = w.links[1:]
	w.settle(w.o, a)
	w.o++
	return true
}

// settle compares an account with the observed one that is its user's.
func (c *comparer) settle(o int, a resolve.Account) {
	c.held.set(c.nth(a), int32(o+1))
	c.owner[o] = int32(a.At + 1)
	c.note(o, &c.observed[o])
	if a.Suspended() {
		c.still[a.Name] = true
		c.left = append(c.left, a)
		return
	}
	who := mark(int32(a.At), a.Version)
	if !c.same(a, who, &c.observed[o]) {
		c.left = append(c.left, a)
	}
	for _, m := range c.joins(a) {
		if m.people += who; !m.quick {
			m.meet(int32(o), a.Name)
		}
	}
}

// note remembers an observed account of which a person should know whatever is declared.
func (c *comparer) note(place int, o *model.Object) {
	if o.Marked {
		c.told = append(c.told, place)
	}
}

func (c *comparer) same(a resolve.Account, who uint64, o *model.Object) (same bool) {
	if c.known == nil {
		same, c.room = a.Same(o.Attributes, c.room)
		return same
	}
	print, at := c.known.account(who, o), c.nth(a)
	if c.known.holds(at, print) {
		return true
	}
	if same, c.room = a.Same(o.Attributes, c.room); !same {
		print = 0
	}
	c.known.put(at, print)
	return same
}
