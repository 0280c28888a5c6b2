package access

import (
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Answer says how one thing stands for a person on a target.
type Answer struct {
	What     string   `json:"what"`               // "an account", "group deck", "shell"
	Declared []string `json:"declared,omitempty"` // the values asked for; for an item: yes
	Found    []string `json:"found,omitempty"`    // the values seen; for an item: yes
	State    string   `json:"state"`              // one of those below
	Why      []Reason `json:"why"`                // what asks for it, or what would
}

// States of an answer.
const (
	AsDeclared  = "as declared"
	Missing     = "missing"      // declared, and not there
	NotDeclared = "not declared" // there, but not through the declaration
	Different   = "different"
	Neither     = "neither declared nor there"
	NotSeen     = "not surveyed"
	Found       = "found"         // declared and there, and not adopted yet
	LeftAlone   = "left as found" // of an attribute: nothing declares it, so nobody changes it
)

// Reason is one line of an explanation, and the place it speaks of.
type Reason struct {
	Words string         `json:"words"`
	At    model.Location `json:"at,omitzero"`
}

// Seen is what a survey knows of a person on one target.
type Seen struct {
	Surveyed bool
	Adopted  bool          // the account is settled to be the person's
	Account  *model.Object // nil: none there
	Sets     []model.Named // that the account was seen in
	Note     string        // what a finding says of it
}

// Explain says of everything a person has or should have on a target why, or of
// one thing: an attribute, a group, a right, a licence or "account".
func Explain(d *resolve.Desired, p *resolve.Person, seen Seen, what string) ([]Answer, error) {
	e := explainer{d: d, p: p, seen: seen}
	e.find(seen)
	held := Held(seen.Account, seen.Sets)
	if what != "" {
		items := Find(d, held, what)
		_, attribute := d.Schema.Find(model.Account, what)
		attribute = attribute || seen.Account != nil && seen.Account.Attributes.Has(what)
		if len(items) == 0 && !attribute {
			return nil, fmt.Errorf("on %s nothing is called %q: no group, right, licence or attribute of an account", d.Target.Name, what)
		}
		for _, i := range items {
			e.item(i)
		}
		if attribute && len(items) == 0 {
			e.attribute(what)
		}
		return e.out, nil
	}
	all := held
	if e.asked {
		all = append(all, Of(e.account)...)
	}
	if len(all) == 0 {
		all = []Item{anAccount}
	}
	slices.SortFunc(all, compare)
	for _, i := range slices.Compact(all) {
		e.item(i)
	}
	for _, s := range d.Schema.Account().Attributes {
		if e.asked || seen.Account != nil {
			e.attribute(s.Name)
		}
	}
	return e.out, nil
}

type explainer struct {
	d       *resolve.Desired
	p       *resolve.Person
	seen    Seen
	account resolve.Account
	asked   bool
	out     []Answer
}

// find chooses among the accounts of the person the one that was seen, or the first.
func (e *explainer) find(seen Seen) {
	list := e.d.AccountsFor(e.p)
	if len(list) == 0 {
		return
	}
	e.account, e.asked = list[0], true
	if seen.Account == nil {
		return
	}
	if a, ok := e.d.AccountNamed(e.p, seen.Account.Name); ok {
		e.account = a
	}
}

func (e *explainer) state(declared, found bool) string {
	switch {
	case !e.seen.Surveyed:
		return NotSeen
	case declared && found:
		return AsDeclared
	case declared:
		return Missing
	case found:
		return NotDeclared
	default:
		return Neither
	}
}

func (e *explainer) item(i Item) {
	declared := e.asked && slices.Contains(Of(e.account), i)
	found := slices.Contains(Held(e.seen.Account, e.seen.Sets), i)
	a := Answer{What: i.String(), State: e.state(declared, found), Why: []Reason{}}
	if declared {
		a.Declared = []string{"yes"}
		for _, g := range e.d.Plan.GivenTo(e.p, e.d, func(g *model.Grant) bool { return gives(e.d, g, i) }) {
			a.Why = append(a.Why, Reason{"role " + g.Role + " gives it", e.at(g.Pos)})
			a.Why = append(a.Why, e.holds(g.Role)...)
		}
	} else {
		a.Why = append(a.Why, e.lacks(i)...)
	}
	if found {
		a.Found = []string{"yes"}
	}
	if a.State == AsDeclared && i.Kind == model.Account && !e.seen.Adopted {
		a.State = Found
		a.Why = append(a.Why, Reason{Words: "it is there, and nobody has adopted it yet: a round does, see roost draft"})
	}
	if o := e.seen.Account; a.State == AsDeclared && i.Kind == model.Account && o != nil && o.Attributes.One(model.Disabled) == "yes" &&
		e.p.State != resolve.Suspended {
		a.State = Different
		a.Why = append(a.Why, Reason{Words: "it is there, and shut"})
	}
	if a.State == NotDeclared {
		a.Why = slices.Insert(a.Why, 0, Reason{Words: "it is there, but not through the declaration"})
	}
	if e.seen.Note != "" && i.Kind == model.Account && a.State != AsDeclared {
		a.Why = append(a.Why, Reason{Words: e.seen.Note})
	}
	e.out = append(e.out, a)
}

func (e *explainer) at(p model.Pos) model.Location { return e.d.Plan.Declaration().Locate(p) }

// gives says whether a grant, on this target, gives an item.
func gives(d *resolve.Desired, g *model.Grant, i Item) bool {
	switch i.Kind {
	case model.Account:
		return true
	case model.GroupKind:
		return slices.ContainsFunc(g.Groups, func(r model.Ref) bool {
			return r.Name == i.Name || !d.Schema.Nests() && d.Plan.Inside(r.Name, i.Name)
		})
	case model.RightKind:
		return slices.ContainsFunc(g.Rights, func(r model.Ref) bool {
			return slices.Contains(resolve.Permissions(d.Schema, d.Plan.Declaration().Rights[r.Name]), i.Name)
		})
	case model.LicenceKind:
		return slices.Contains(g.Licences, i.Name)
	default:
		return slices.Contains(g.Elevate, i.Name)
	}
}

// holds says how the person comes to hold a role.
func (e *explainer) holds(role string) []Reason {
	chain, at, condition := e.d.Plan.HeldThrough(e.p, role)
	switch {
	case len(chain) == 0:
		return nil
	case condition != "":
		return []Reason{{fmt.Sprintf("%s holds role %s because %s", e.p.ID, through(chain), condition), e.at(at)}}
	default:
		return []Reason{{fmt.Sprintf("%s is given role %s", e.p.ID, through(chain)), e.at(at)}}
	}
}

// through words a chain of roles that include each other, the held one first.
func through(chain []string) string {
	if len(chain) == 1 {
		return chain[0]
	}
	return chain[0] + ", which includes " + strings.Join(chain[1:], ", which includes ")
}

// lacks says what would give an item, and what keeps it away.
func (e *explainer) lacks(i Item) []Reason {
	var out []Reason
	switch e.p.State {
	case resolve.Expected:
		out = append(out, Reason{e.p.ID + " starts on " + e.p.Declared.Span.From, e.at(e.p.Declared.Pos)})
	case resolve.Left:
		out = append(out, Reason{"the last day of " + e.p.ID + " was " + e.p.Declared.Span.Until, e.at(e.p.Declared.Pos)})
	}
	if h := e.p.Declared.Accounts[e.d.Target.Name]; h.None {
		out = append(out, Reason{e.p.ID + " is never to have an account on " + e.d.Target.Name, e.at(h.Pos)})
	}
	giving := e.d.Plan.Giving(e.d, func(g *model.Grant) bool { return gives(e.d, g, i) })
	if len(giving) == 0 {
		return append(out, Reason{Words: fmt.Sprintf("no role gives %s on %s", i, e.d.Target.Name)})
	}
	var told []string
	for _, g := range giving {
		if slices.Contains(told, g.Role) {
			continue
		}
		told = append(told, g.Role)
		out = append(out, Reason{"role " + g.Role + " would give it", e.at(g.Pos)})
		for _, h := range e.p.Declared.Roles {
			switch {
			case h.Name != g.Role || h.Span.Holds(e.d.Plan.Day):
			case h.Span.From > e.d.Plan.Day:
				out = append(out, Reason{e.p.ID + " is given it from " + h.Span.From, e.at(h.Pos)})
			default:
				out = append(out, Reason{e.p.ID + " was given it until " + h.Span.Until, e.at(h.Pos)})
			}
		}
	}
	return append(out, Reason{Words: fmt.Sprintf("%s holds %s", e.p.ID, none(e.p.Roles()))})
}

func none(names []string) string {
	if len(names) == 0 {
		return "no role"
	}
	return strings.Join(names, ", ")
}

func (e *explainer) attribute(name string) {
	a := Answer{What: name, Why: []Reason{}}
	var want resolve.Value
	owned := false
	if e.asked {
		for _, w := range e.account.Want() {
			if w.Name == name {
				want, owned = w, true
			}
		}
	}
	if e.seen.Account != nil {
		a.Found = e.seen.Account.Attributes.Get(name)
	}
	s, _ := e.d.Schema.Find(model.Account, name)
	suspended := e.asked && e.account.Suspended()
	if suspended {
		if want.Values = []string{"yes"}; name != model.Disabled {
			owned = false
		}
	}
	switch {
	case !owned && a.Found == nil:
		return
	case !e.seen.Surveyed:
		a.State = NotSeen
	case !owned:
		a.State = LeftAlone
	case e.seen.Account == nil:
		a.State = Missing
	case s.Same(a.Found, want.Values):
		a.State = AsDeclared
	default:
		a.State = Different
	}
	switch {
	case suspended && owned:
		s := e.p.Declared.Suspended
		a.Declared = want.Values
		a.Why = append(a.Why, Reason{fmt.Sprintf("%s is suspended since %s: %s", e.p.ID, s.Since, s.Because), e.at(s.Pos)})
	case suspended:
		a.Why = append(a.Why, Reason{Words: "it is left as it is while " + e.p.ID + " is suspended"})
	case owned:
		a.Declared = want.Values
		who := "role " + want.Why.Role + " asks for it"
		if want.Why.At == e.p.Declared.Pos {
			who = "it stands with " + e.p.ID
		}
		a.Why = append(a.Why, Reason{who, e.at(want.Why.At)})
	default:
		a.Why = append(a.Why, Reason{Words: "nothing declares it, so it is left as found"})
	}
	if by := e.changedBy(); by != "" && a.State == Different {
		a.Why = append(a.Why, Reason{Words: "changed last by " + by})
	}
	e.out = append(e.out, a)
}

func (e *explainer) changedBy() string {
	if e.seen.Account == nil {
		return ""
	}
	return e.seen.Account.Attributes.One(model.ChangedBy)
}

// Giving returns the grants through which a person has an item on a target.
func Giving(plan *resolve.Plan, p *resolve.Person, d *resolve.Desired, i Item) []resolve.Given {
	return plan.GivenTo(p, d, func(g *model.Grant) bool { return gives(d, g, i) })
}
