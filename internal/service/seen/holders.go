package seen

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

// Holder is somebody who has something on a target, or should.
type Holder struct {
	User     string `json:"user,omitempty" doc:"empty: nobody we know"`
	UserName string `json:"user-name,omitempty"`
	Account  string `json:"account,omitempty"`
	State    string `json:"state" enum:"as declared,found,missing,not declared,not surveyed"`
	Because  string `json:"because,omitempty" doc:"role and line"`
}

// Holders is who has something on a target: one page of them.
type Holders struct {
	What    string   `json:"what"`
	Target  string   `json:"target"`
	Day     string   `json:"day"`
	Holders []Holder `json:"holders"`
	Total   int      `json:"total" doc:"on all pages"`
	From    int      `json:"from"`
}

// having is what a survey knows of who has something on a target.
type having struct {
	surveyed bool
	items    []access.Item   // what was seen that is called so
	found    map[string]bool // accounts that have it
	beside   []model.Link    // links whose account is not called as its user
	linked   func(names []string) (map[string]string, error)
}

// WhoHas lists who has a group, a right, a licence, superuser rights or an
// account on a target, or should have it, on a day; those by the declaration
// first, by name. Only the page is looked at closely.
func (s *Seen) WhoHas(ctx context.Context, who door.Operator, what, target, day string, p door.Page) (Holders, error) {
	if err := who.May(door.Look); err != nil {
		return Holders{}, err
	}
	m, err := s.on(ctx, day)
	if err != nil {
		return Holders{}, err
	}
	if err := m.Check(declared.Choice{Targets: []string{target}}); err != nil {
		return Holders{}, err
	}
	d := m.Plan.Targets[target]
	h, err := s.having(ctx, m, d, what)
	if err != nil {
		return Holders{}, err
	}
	items := access.Find(d, h.items, what)
	if len(items) == 0 && len(h.found) == 0 && what != elevation {
		return Holders{}, &door.Problem{Kind: door.Unknown,
			Words: fmt.Sprintf("on %s nobody has or could have anything called %q: no group, right or licence; account and elevation "+
				"can be asked for too", target, what)}
	}
	asked, err := s.askedFor(d, h, func(i access.Item) bool {
		return slices.Contains(items, i) || what == elevation && i.Kind == model.ElevationKind
	})
	if err != nil {
		return Holders{}, err
	}
	page := p.Bounded()
	out := Holders{What: what, Target: target, Day: m.Plan.Day, Holders: []Holder{}, From: page.From}
	left := maps.Clone(h.found)
	for _, a := range asked {
		delete(left, a.account)
	}
	others := door.KeysOf(left)
	out.Total = len(asked) + len(others)
	from, to := min(page.From, out.Total), min(page.From+page.Size, out.Total)
	var names []string
	for i := from; i < to; i++ {
		if i < len(asked) {
			names = append(names, asked[i].account)
		} else {
			names = append(names, others[i-len(asked)])
		}
	}
	owner, err := h.linked(names)
	if err != nil {
		return Holders{}, err
	}
	for i, name := range names {
		one := Holder{User: owner[name], UserName: m.FullName(owner[name]), Account: name, State: access.NotDeclared}
		if from+i < len(asked) {
			a := asked[from+i]
			one = Holder{User: a.ID, UserName: a.Person.Name, Account: name, State: access.Missing,
				Because: because(m.Plan, a.Account, d, a.item)}
			switch {
			case !h.surveyed:
				one.State = access.NotSeen
			case h.found[name] && owner[name] == a.ID:
				one.State = access.AsDeclared
			case h.found[name]:
				one.State = access.Found
			}
		}
		out.Holders = append(out.Holders, one)
	}
	return out, nil
}

// elevation asks for superuser rights, whichever way they are given.
const elevation = "elevation"

// having finds who was seen to have something: the sets called so are read, and nothing else.
func (s *Seen) having(ctx context.Context, m moment, d *resolve.Desired, what string) (having, error) {
	target := d.Target.Name
	if m.past {
		return s.hadBefore(ctx, m, d, what)
	}
	row, err := s.Store.Target(ctx, target)
	if err != nil {
		return having{}, err
	}
	h := having{surveyed: row.SurveyedAt != nil, found: map[string]bool{},
		linked: func(names []string) (map[string]string, error) { return s.Store.LinkedNames(ctx, target, names) }}
	if h.beside, err = s.Store.LinksBeside(ctx, target); err != nil {
		return h, err
	}
	add := func(names []string, err error) error {
		for _, n := range names {
			h.found[n] = true
		}
		return err
	}
	switch what {
	case model.Account.String():
		err = add(s.Store.AccountNames(ctx, target))
	case elevation:
		err = add(s.Store.Powerful(ctx, target))
	}
	if err != nil {
		return h, err
	}
	sets, err := s.Store.SetsCalled(ctx, target, what)
	for _, o := range sets {
		h.items = append(h.items, access.Item{Kind: o.Kind, Name: o.Name})
		_ = add(o.Attributes.Get(model.Members), nil)
	}
	return h, err
}

// hadBefore is having for a day that is over: the target as it was is looked through.
func (s *Seen) hadBefore(ctx context.Context, m moment, d *resolve.Desired, what string) (having, error) {
	target := d.Target.Name
	accounts, others, err := s.Store.ObservedAt(ctx, target, m.at)
	if err != nil {
		return having{}, err
	}
	links, err := s.Store.LinksAt(ctx, target, m.at)
	if err != nil {
		return having{}, err
	}
	h := having{surveyed: len(accounts)+len(others) > 0, found: map[string]bool{}}
	owner := map[string]string{}
	for _, l := range links {
		if owner[l.Name] = l.User; l.User != l.Name {
			h.beside = append(h.beside, l)
		}
	}
	h.linked = func([]string) (map[string]string, error) { return owner, nil }
	for i := range accounts {
		o := &accounts[i]
		if what == model.Account.String() && !o.System || what == elevation && o.Attributes.Has(model.Elevation) {
			h.found[o.Name] = true
		}
	}
	for _, o := range others {
		if o.Name == what {
			h.items = append(h.items, access.Item{Kind: o.Kind, Name: o.Name})
			for _, name := range o.Attributes.Get(model.Members) {
				h.found[name] = true
			}
		}
	}
	return h, nil
}

// asking is an account that should have something, under the name that it has.
type asking struct {
	resolve.Account
	account string
	item    access.Item
}

// askedFor lists the accounts that the declaration gives something that fits. What
// holders of the same roles get is looked at once.
func (s *Seen) askedFor(d *resolve.Desired, h having, fits func(access.Item) bool) ([]asking, error) {
	type slot struct{ user, rest string }
	of := map[slot]string{}
	for _, l := range h.beside {
		_, rest := d.Schema.Account().Login(l.Name)
		of[slot{l.User, rest}] = l.Name
	}
	type verdict struct {
		item access.Item
		fits bool
	}
	known := map[int]verdict{}
	var out []asking
	var renamed []string // asked for under another name than their user's; they may have kept that
	for a := range d.Accounts() {
		v, ok := known[a.Bundle()]
		if !ok {
			has := access.Of(a)
			if i := slices.IndexFunc(has, fits); i >= 0 {
				v = verdict{has[i], true}
			}
			known[a.Bundle()] = v
		}
		if !v.fits {
			continue
		}
		one := asking{Account: a, account: of[slot{a.ID, a.Rest}], item: v.item}
		if one.account == "" {
			if one.account = a.Name; a.Name != a.ID {
				renamed = append(renamed, a.ID)
			}
		}
		out = append(out, one)
	}
	if len(renamed) == 0 {
		return out, nil
	}
	owner, err := h.linked(renamed)
	for i := range out {
		if a := &out[i]; a.account == a.Name && owner[a.ID] == a.ID && a.Rest == "" {
			a.account = a.ID
		}
	}
	return out, err
}

// because names the roles, with their lines, that give an item.
func because(plan *resolve.Plan, a resolve.Account, d *resolve.Desired, i access.Item) string {
	var out []string
	for _, g := range access.Giving(plan, a.Person, d, i) {
		if words := fmt.Sprintf("role %s (%s)", g.Role, plan.Declaration().Locate(g.Pos)); !slices.Contains(out, words) {
			out = append(out, words)
		}
	}
	return strings.Join(out, ", ")
}
