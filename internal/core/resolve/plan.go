package resolve

import (
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// States of a user.
const (
	Expected  = "expected" // starts later
	Active    = "active"
	Suspended = "suspended" // active, and everything is shut
	Left      = "left"      // the last day is over
)

// Plan is the declaration resolved for one day. It holds who has which roles,
// and for each set of roles what its holders get on each target; the single
// accounts are worked out as they are asked for, so that a plan for two million
// accounts is no larger than one for the people who have them.
type Plan struct {
	Day     string
	People  []*Person // sorted by ID
	Targets map[string]*Desired

	d        *model.Declaration
	schemas  map[string]model.Schema
	params   expr.Vars
	kit      *kit
	numbered []*Person // by Person.At
	holders  []int     // how many people hold each bundle, by its number
	index    index
	ending   *keysEnding
}

// Declaration is what the plan was made of.
func (p *Plan) Declaration() *model.Declaration { return p.d }

// Line is what plans that follow one another have in common.
type Line = kit

// Line tells plans that follow one another from others.
func (p *Plan) Line() *Line { return p.kit }

// Size is how many numbers people have been given: one more than the largest Person.At.
func (p *Plan) Size() int { return len(p.numbered) }

// Numbered is the person with a number.
func (p *Plan) Numbered(at int) *Person { return p.numbered[at] }

// ready is called when all is worked out.
func (p *Plan) ready() {
	p.makeIndex()
	p.ending = &keysEnding{}
}

// Person is a user with all expressions filled in.
type Person struct {
	ID      string
	At      int   // a number of their own in the plan and in those that follow it
	Version int32 // another after each change
	bundle  *bundle

	Name, Given, Family, Mail string

	Declared *model.User
	State    string

	number  string
	texts   [6]string         // the single ones of ownFields
	details map[string]string // those that hold expressions
	named   []string          // roles given by name that hold on the day
	keys    []string
}

// Roles are the roles held on the plan's day, with all they include, sorted.
func (p *Person) Roles() []string { return p.bundle.roles }

// Conflict names two roles the person holds though nobody may hold both.
func (p *Person) Conflict() (a, b string, ok bool) {
	return p.bundle.conflict[0], p.bundle.conflict[1], p.bundle.conflict[0] != ""
}

// Number is the declared number as a text, "" when there is none.
func (p *Person) Number() string { return p.number }

// Text implements expr.Subject.
func (p *Person) Text(path string) (string, bool) {
	switch path {
	case "id":
		return p.ID, true
	case "name":
		return p.Name, true
	case "given":
		return p.Given, true
	case "family":
		return p.Family, true
	case "mail":
		return p.Mail, true
	case "manager":
		return p.Declared.Manager.Name, true
	case "number":
		if p.number == "" {
			return "0", true
		}
		return p.number, true
	case "service":
		return strconv.FormatBool(p.Declared.Service), true
	}
	if detail, ok := strings.CutPrefix(path, "details."); ok {
		return p.detail(detail)
	}
	return "", false
}

// detail is one detail, filled in.
func (p *Person) detail(name string) (string, bool) {
	if s, ok := p.details[name]; ok {
		return s, true
	}
	t, ok := p.Declared.Details.Get(name)
	return t.Raw, ok && !strings.Contains(t.Raw, "${")
}

// Vars implements expr.Subject.
func (p *Person) Vars() map[string]any {
	details := make(map[string]any, len(p.Declared.Details))
	for _, x := range p.Declared.Details {
		if v, ok := p.detail(x.Name); ok {
			details[x.Name] = v
		}
	}
	roles := make([]any, len(p.named))
	for i, r := range p.named {
		roles[i] = r
	}
	return map[string]any{"id": p.ID, "name": p.Name, "given": p.Given, "family": p.Family, "mail": p.Mail, "number": p.Declared.Number,
		"manager": p.Declared.Manager.Name, "service": p.Declared.Service, "details": details, "roles": roles}
}

// Person finds a user by id.
func (p *Plan) Person(id string) (*Person, bool) {
	i, ok := slices.BinarySearchFunc(p.People, id, func(x *Person, id string) int { return strings.Compare(x.ID, id) })
	if !ok {
		return nil, false
	}
	return p.People[i], true
}

// Accounts are what one user should have on the named target: one account, or
// where names have further parts perhaps several.
func (p *Plan) Accounts(user, target string) []Account {
	person, ok := p.Person(user)
	d := p.Targets[target]
	if !ok || d == nil {
		return nil
	}
	return d.AccountsFor(person)
}

// AccountsOf lists the accounts that a user should have, by target.
func (p *Plan) AccountsOf(user string) []Account {
	person, ok := p.Person(user)
	if !ok {
		return nil
	}
	var out []Account
	for _, t := range p.kit.targetsOf(person.bundle) {
		out = append(out, p.Targets[t].AccountsFor(person)...)
	}
	return out
}

// Desired is what the declaration asks of one target.
type Desired struct {
	Target   *model.Target
	Schema   model.Schema
	Address  string
	Login    string
	Settings map[string]string
	Sets     []*Set  // sorted by kind and name
	Things   []Thing // rights, containers and policies, sorted by kind and name
	Plan     *Plan

	vars   expr.Vars
	rights []*model.Right // declared here, sorted by name
	parted bool           // names of accounts have more parts than the login
	hinted []hint         // users with a word of their own about this target, sorted by user
	shapes []*shape       // by bundle; nil: nothing here. Targets of one class share it
}

// Rights are those declared at the target, sorted by name.
func (d *Desired) Rights() []*model.Right { return d.rights }

// Shield says what of the target no step may touch.
func (d *Desired) Shield() model.Shield {
	return model.Shield{Target: d.Target, Login: d.Login, Fold: d.Schema.FoldNames, System: d.Schema.SystemNames}
}

type hint struct {
	person *Person
	model.AccountHint
}

// Set is a group, right, licence or elevation of one target whose members are
// owned. A group is one that should be there.
type Set struct {
	model.Named
	Number  int
	Owner   string
	AtLeast bool
	Keepers []string                // users; nil: not declared
	Groups  map[string]model.Origin // groups inside it, where the target nests them
	Why     model.Origin
}

// Thing is a right, a container or a policy that should be on one target.
type Thing struct {
	Kind      model.ObjectKind
	Name      string
	Protected bool
	Want      []Value
	Why       model.Origin
}

// Value is one desired attribute and its lineage.
type Value struct {
	Name   string
	Values []string
	Why    model.Origin
}

// First is the first value, or "".
func (v Value) First() string {
	if len(v.Values) == 0 {
		return ""
	}
	return v.Values[0]
}

// Account is an account that one user should have on one target.
type Account struct {
	*Person
	Name  string // by the declaration; an adopted account may keep another
	Rest  string // of the name, what is behind the login; of two accounts of one person it differs
	Nth   int    // of the person's accounts on the target, from 0
	Given bool   // the name stands under the user's accounts
	shape *shape
	on    *Desired
}

// Suspended says whether the account is to be shut, and all else of it left alone.
func (a Account) Suspended() bool { return a.State == Suspended }

// On is the target the account is on.
func (a Account) On() *Desired { return a.on }

// Why is the first grant that asks for the account.
func (a Account) Why() model.Origin { return a.shape.why }

// Joining is a set an account should be in, and why.
type Joining struct {
	Set model.Named
	Why model.Origin
}

// Sets are those the account itself should be in, sorted by kind and name.
func (a Account) Sets() []Joining { return a.shape.sets }

// Len is how many accounts are asked for.
func (d *Desired) Len() int {
	n := 0
	if d.parted {
		for range d.Accounts() {
			n++
		}
		return n
	}
	for i, sh := range d.shapes {
		if sh != nil {
			n += d.Plan.holders[i]
		}
	}
	for _, h := range d.hinted {
		if h.None && d.shape(h.person) != nil {
			n--
		}
	}
	return n
}

// shape is what a person gets here; nil: nothing. The target may not have heard of bundles that came later.
func (d *Desired) shape(p *Person) *shape {
	if n := p.bundle.number; n < len(d.shapes) {
		return d.shapes[n]
	}
	return nil
}

// Accounts yields the accounts asked for, in order of name.
func (d *Desired) Accounts() iter.Seq[Account] {
	return func(yield func(Account) bool) { d.Walk(nil, yield) }
}

// AccountsFor are the accounts a person should have here.
func (d *Desired) AccountsFor(p *Person) []Account {
	a, hint, ok := d.first(p)
	switch {
	case !ok:
		return nil
	case !d.parted:
		return []Account{a}
	}
	return d.each(a, hint.Parts)
}

// AccountNamed is the one of them that has a name.
func (d *Desired) AccountNamed(p *Person, name string) (Account, bool) {
	if a, _, ok := d.first(p); !d.parted || !ok {
		return a, ok && a.Name == name
	}
	for _, a := range d.AccountsFor(p) {
		if a.Name == name {
			return a, true
		}
	}
	return Account{}, false
}

// first is an account of a person with the login for its name, and what is said of it by hand.
func (d *Desired) first(p *Person) (a Account, h model.AccountHint, ok bool) {
	sh := d.shape(p)
	if sh == nil {
		return a, h, false
	}
	a = Account{Person: p, Name: p.ID, shape: sh, on: d}
	if h = p.Declared.Accounts[d.Target.Name]; h.Name != "" {
		a.Name, a.Given = h.Name, true
	}
	return a, h, !h.None
}

// each makes an account for every combination of what the further parts of the
// name are to be; what is given by hand counts instead of what grants ask for.
func (d *Desired) each(a Account, byHand []model.Parts) []Account {
	k := d.Schema.Account()
	names := [][]string{{a.Name}}
	for i, part := range k.Name[1:] {
		values := d.texts(a.Person, byHand, part.Name)
		if values == nil {
			values = a.shape.partsOf(i, d.scope(a.Person))
		}
		if values == nil {
			values = []string{part.Usual}
		}
		var longer [][]string
		for _, name := range names {
			for _, v := range values {
				longer = append(longer, append(slices.Clone(name), v))
			}
		}
		names = longer
	}
	out := make([]Account, 0, len(names))
	for _, name := range names {
		one := a
		one.Name = k.Compose(name...)
		_, one.Rest = k.Login(one.Name)
		if !slices.ContainsFunc(out, func(b Account) bool { return b.Rest == one.Rest }) {
			one.Nth = len(out)
			out = append(out, one)
		}
	}
	return out
}

// texts are the values given by hand for a part of a name; nil when there are none.
func (d *Desired) texts(p *Person, byHand []model.Parts, part string) (out []string) {
	for _, h := range byHand {
		if h.Name == part {
			for _, v := range h.Values {
				text, _ := d.Plan.kit.set.Fill(v.Raw, d.scope(p)) // its faults showed when it was resolved
				out = append(out, text)
			}
		}
	}
	return out
}

// Most is the largest number of accounts that somebody should have here.
func (d *Desired) Most() int {
	most := 1
	if d.parted {
		for _, p := range d.Plan.People {
			most = max(most, len(d.AccountsFor(p)))
		}
	}
	return most
}

// index finds people by what an account may show of them. Each part is made
// when it is first asked for.
type index struct {
	briefs                        func() []Brief
	numbers, mails, names, folded func() map[string][]*Person
}

func (p *Plan) makeIndex() {
	by := func(key func(*Person) string) func() map[string][]*Person {
		return sync.OnceValue(func() map[string][]*Person {
			m := make(map[string][]*Person, len(p.People))
			for _, x := range p.People {
				if k := key(x); k != "" {
					m[k] = append(m[k], x)
				}
			}
			return m
		})
	}
	p.index = index{
		briefs:  sync.OnceValue(p.makeBriefs),
		numbers: by(func(x *Person) string { return x.number }),
		mails:   by(func(x *Person) string { return strings.ToLower(x.Mail) }),
		names:   by(func(x *Person) string { return strings.ToLower(x.Name) }),
		folded:  by(func(x *Person) string { return strings.ToLower(x.ID) }),
	}
}

// Called are the accounts whose names stand under their users.
func (d *Desired) Called() (out []Account) {
	for _, h := range d.hinted {
		if h.Name != "" {
			out = append(out, d.AccountsFor(h.person)...)
		}
	}
	return out
}

// Named returns the people whom an account of this name would be, by the name
// they go by on this target. given says that it was given by hand.
func (d *Desired) Named(name string) (people []*Person, given bool) {
	name, _ = d.Schema.Account().Login(name)
	for _, h := range d.hinted {
		if h.Name == name || d.Schema.FoldNames && strings.EqualFold(h.Name, name) {
			return []*Person{h.person}, true
		}
	}
	if d.Schema.FoldNames {
		people = d.Plan.index.folded()[strings.ToLower(name)]
	} else if p, ok := d.Plan.Person(name); ok {
		people = []*Person{p}
	}
	return d.open(people), false
}

// Known returns the people whom a value of an account tells, by a rule of the target.
func (d *Desired) Known(rule, value string) []*Person {
	switch {
	case value == "":
		return nil
	case rule == "number":
		return d.open(d.Plan.index.numbers()[value])
	case rule == "mail":
		return d.open(d.Plan.index.mails()[strings.ToLower(value)])
	case rule == "full-name":
		return d.open(d.Plan.index.names()[strings.ToLower(value)])
	}
	return nil
}

// open leaves out those of whom a word by hand says that they go by another name here, or never have an account.
func (d *Desired) open(people []*Person) []*Person {
	var out []*Person
	for _, p := range people {
		if h, ok := p.Declared.Accounts[d.Target.Name]; !ok || h.Name == "" && !h.None {
			out = append(out, p)
		}
	}
	return out
}

// Bundle numbers the set of roles a person holds: people with one number hold the same.
func (p *Person) Bundle() int { return p.bundle.number }

// Given is a grant and the role it stands in.
type Given struct {
	*model.Grant
	Role string
}

// Giving returns the grants that reach a target and are as asked, by role.
func (p *Plan) Giving(d *Desired, asked func(*model.Grant) bool) []Given {
	var out []Given
	for _, name := range slices.Sorted(maps.Keys(p.d.Roles)) {
		role := p.d.Roles[name]
		for i := range role.Gives {
			if g := &role.Gives[i]; g.At.Matches(d.Target) && asked(g) {
				out = append(out, Given{g, name})
			}
		}
	}
	return out
}

// GivenTo returns those of the grants that reach a person, through the roles they hold.
func (p *Plan) GivenTo(x *Person, d *Desired, asked func(*model.Grant) bool) []Given {
	return slices.DeleteFunc(p.Giving(d, asked), func(g Given) bool { return !slices.Contains(x.Roles(), g.Role) })
}

// HeldThrough says how a person comes to hold a role: the chain from the role
// that they hold themselves to this one, where that stands, and the condition
// where it is held by one.
func (p *Plan) HeldThrough(x *Person, role string) (chain []string, at model.Pos, condition string) {
	for _, h := range x.Declared.Roles {
		if h.Span.Holds(p.Day) {
			if c := p.chain(h.Name, role); c != nil {
				return c, h.Pos, ""
			}
		}
	}
	for _, name := range x.Roles() {
		if r := p.d.Roles[name]; r.HeldWhen.Raw != "" {
			if c := p.chain(name, role); c != nil {
				return c, r.HeldWhen.Pos, r.HeldWhen.Raw
			}
		}
	}
	return nil, model.Pos{}, ""
}

// chain is the shortest way from a role to one that it includes.
func (p *Plan) chain(from, to string) []string {
	if from == to {
		return []string{to}
	}
	var best []string
	if r := p.d.Roles[from]; r != nil {
		for _, in := range r.Includes {
			if c := p.chain(in.Name, to); c != nil && (best == nil || len(c)+1 < len(best)) {
				best = append([]string{from}, c...)
			}
		}
	}
	return best
}

// Inside says whether a group is inside another, at any depth.
func (p *Plan) Inside(group, outer string) bool {
	g := p.d.Groups[group]
	return g != nil && slices.ContainsFunc(g.In, func(r model.Ref) bool { return r.Name == outer || p.Inside(r.Name, outer) })
}

// Scope is what a condition on a person can see.
func (p *Plan) Scope(x *Person) expr.Scope {
	return expr.Scope{User: x, Params: p.params, Day: p.Day}
}
