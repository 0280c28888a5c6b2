package access

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Move is what a new declaration changes for one person.
type Move struct {
	User   string  `json:"user"`
	Name   string  `json:"name"`
	Words  string  `json:"words"` // "is new" or "is gone", where the person is
	Gains  []Gain  `json:"gains"`
	Loses  []Gain  `json:"loses"`
	Values []Value `json:"values,omitempty"` // of accounts that they keep: what becomes another
}

// Value is an attribute of accounts that gets another value on some targets; "" is none.
type Value struct {
	Attribute string   `json:"attribute"`
	Before    string   `json:"before"`
	After     string   `json:"after"`
	Targets   []string `json:"targets"`
}

func (v Value) String() string {
	side := func(s string) string {
		if s == "" {
			return "nothing"
		}
		return s
	}
	return fmt.Sprintf("%s %s → %s on %s", v.Attribute, side(v.Before), side(v.After), places(v.Targets))
}

// Gain is an item on some targets.
type Gain struct {
	Item
	Targets []string `json:"targets"`
}

// Say is the move in one sentence: "gains group deck on arctic-tern; loses an account on northquay".
func (m Move) Say() string {
	var parts []string
	if m.Words != "" {
		parts = append(parts, m.Words)
	}
	for _, side := range []struct {
		verb string
		list []Gain
	}{{"gains", m.Gains}, {"loses", m.Loses}} {
		if len(side.list) == 0 {
			continue
		}
		parts = append(parts, side.verb+" "+strings.Join(together(side.list), ", and "))
	}
	for _, v := range m.Values {
		parts = append(parts, v.String())
	}
	return strings.Join(parts, "; ")
}

// together says items that come on the same targets in one breath.
func together(list []Gain) []string {
	var out []string
	for i, g := range list {
		if slices.ContainsFunc(list[:i], func(x Gain) bool { return slices.Equal(x.Targets, g.Targets) }) {
			continue // said before
		}
		var items, groups []string
		for _, x := range list[i:] {
			switch {
			case !slices.Equal(x.Targets, g.Targets):
			case x.Kind == model.GroupKind:
				groups = append(groups, x.Name)
			default:
				items = append(items, x.Item.String())
			}
		}
		switch len(groups) {
		case 0:
		case 1:
			items = append(items, "group "+groups[0])
		default:
			items = append(items, "groups "+strings.Join(groups, ", "))
		}
		out = append(out, strings.Join(items, ", ")+" on "+places(g.Targets))
	}
	return out
}

func places(targets []string) string {
	const most = 3
	if len(targets) <= most {
		return strings.Join(targets, ", ")
	}
	return fmt.Sprintf("%d targets", len(targets))
}

// Meaning compares two plans and says what the second changes for people, by
// user. People for whom nothing changes are left out. before may be nil: then
// all are new.
func Meaning(before, after *resolve.Plan) []Move {
	var out []Move
	a, b := []*resolve.Person(nil), after.People
	if before != nil {
		a = before.People
	}
	same := newSameness(before, after)
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].ID < b[0].ID:
			out = append(out, move(a[0], nil, before, after))
			a = a[1:]
		case len(a) == 0 || b[0].ID < a[0].ID:
			out = append(out, move(nil, b[0], before, after))
			b = b[1:]
		default:
			if a[0] != b[0] && !same.people(a[0], b[0]) {
				if m := move(a[0], b[0], before, after); len(m.Gains)+len(m.Loses)+len(m.Values) > 0 {
					out = append(out, m)
				}
			}
			a, b = a[1:], b[1:]
		}
	}
	return out
}

// sameness knows which sets of roles give the same by both plans, so that a
// hundred thousand people need not be looked at one by one.
type sameness struct {
	before, after *resolve.Plan
	known         map[[2]int]bool
	around        bool // what values are made of beside people and roles is the same
}

func newSameness(before, after *resolve.Plan) *sameness {
	s := &sameness{before, after, map[[2]int]bool{}, before != nil}
	if before != nil {
		s.around = maps.EqualFunc(before.Targets, after.Targets, func(x, y *resolve.Desired) bool {
			return x.Target.Kind == y.Target.Kind && x.Address == y.Address && maps.Equal(x.Target.Tags, y.Target.Tags)
		}) && reflect.DeepEqual(before.Declaration().Params, after.Declaration().Params)
	}
	return s
}

func (s *sameness) people(a, b *resolve.Person) bool {
	if !s.around || len(a.Declared.Accounts) > 0 || len(b.Declared.Accounts) > 0 || !a.SameSelf(b) {
		return false // they have a word of their own about targets, or are otherwise themselves
	}
	key := [2]int{a.Bundle(), b.Bundle()}
	same, known := s.known[key]
	if !known {
		same = slices.EqualFunc(itemsOf(s.before, a), itemsOf(s.after, b),
			func(x, y Gain) bool { return x.Item == y.Item && slices.Equal(x.Targets, y.Targets) }) &&
			slices.EqualFunc(s.before.AccountsOf(a.ID), s.after.AccountsOf(b.ID), resolve.Account.AsWritten)
		s.known[key] = same
	}
	return same
}

// itemsOf lists what a person gets, each item with its targets, sorted.
func itemsOf(plan *resolve.Plan, p *resolve.Person) []Gain {
	var out []Gain
	if plan == nil || p == nil {
		return nil
	}
	at := map[Item]int{}
	for _, a := range plan.AccountsOf(p.ID) {
		for _, i := range Of(a) {
			n, known := at[i]
			if !known {
				n = len(out)
				at[i] = n
				out = append(out, Gain{Item: i})
			}
			if on := a.On().Target.Name; !slices.Contains(out[n].Targets, on) { // of several accounts there once
				out[n].Targets = append(out[n].Targets, on)
			}
		}
	}
	slices.SortFunc(out, func(x, y Gain) int { return compare(x.Item, y.Item) })
	return out
}

func move(a, b *resolve.Person, before, after *resolve.Plan) Move {
	m := Move{Gains: []Gain{}, Loses: []Gain{}}
	switch {
	case a == nil:
		m.User, m.Name, m.Words = b.ID, b.Name, "is new"
		if b.State == resolve.Expected {
			m.Words += ", and starts on " + b.Declared.Span.From
		}
	case b == nil:
		m.User, m.Name, m.Words = a.ID, a.Name, "is gone"
	default:
		m.User, m.Name = b.ID, b.Name
	}
	had, has := itemsOf(before, a), itemsOf(after, b)
	m.Gains, m.Loses = less(has, had), less(had, has)
	if a != nil && b != nil {
		m.Values = values(before.AccountsOf(a.ID), after.AccountsOf(b.ID))
	}
	return m
}

// values are what becomes another of accounts that are on both sides, by target: those of a target one by one.
func values(was, is []resolve.Account) (out []Value) {
	by := map[string][]resolve.Account{}
	for _, a := range was {
		by[a.On().Target.Name] = append(by[a.On().Target.Name], a)
	}
	told := func(attribute string, before, after []string, target string) {
		v := Value{Attribute: attribute, Before: strings.Join(before, " "), After: strings.Join(after, " "), Targets: []string{target}}
		if v.Before == v.After {
			return
		}
		for i, x := range out {
			if x.Attribute == v.Attribute && x.Before == v.Before && x.After == v.After {
				out[i].Targets = append(out[i].Targets, target)
				return
			}
		}
		out = append(out, v)
	}
	for _, a := range is {
		target := a.On().Target.Name
		if len(by[target]) == 0 {
			continue
		}
		old := by[target][0]
		by[target] = by[target][1:]
		told("name", []string{old.Name}, []string{a.Name}, target)
		before, after := wanted(old), wanted(a)
		names := maps.Clone(before)
		maps.Copy(names, after)
		for _, attribute := range slices.Sorted(maps.Keys(names)) {
			told(attribute, before[attribute], after[attribute], target)
		}
	}
	return out
}

func wanted(a resolve.Account) map[string][]string {
	out := map[string][]string{}
	for _, v := range a.Want() {
		out[v.Name] = slices.Sorted(slices.Values(v.Values))
	}
	return out
}

// less takes away from the first what the second has too.
func less(list, other []Gain) []Gain {
	out := []Gain{}
	for _, g := range list {
		var left []string
		for _, t := range g.Targets {
			if !slices.ContainsFunc(other, func(o Gain) bool { return o.Item == g.Item && slices.Contains(o.Targets, t) }) {
				left = append(left, t)
			}
		}
		if len(left) > 0 {
			out = append(out, Gain{g.Item, left})
		}
	}
	return out
}
