// Package resolve works out who should have what, where, on a given day. It
// keeps the lineage of every value: the role and the line that ask for it.
package resolve

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// Account is an account that one user should have on one target.
type Account struct {
	User  string
	Name  string // by the declaration; an adopted account may keep another
	Given bool   // the name stands under the user's accounts
	Want  []Value
	Why   model.Why // the first grant that asks for the account
}

// Value is one desired attribute and its lineage.
type Value struct {
	Name   string
	Values []string
	Why    model.Why
}

// Group is a group that should be on one target.
type Group struct {
	Name    string
	Number  int
	AtLeast bool
	Members map[string]model.Why // by user
	Groups  map[string]model.Why // groups inside it, where the target nests them
	Why     model.Why
}

// Person is what a found account can be recognised by.
type Person struct {
	User   string
	Name   string // full name
	Local  string // account name on the target
	Given  bool   // Local is declared for this target
	Never  bool   // accounts: none
	Number int
	Mail   string
}

// Desired is what the declaration asks of one target, sorted by name.
type Desired struct {
	Target   *model.Target
	Address  string
	Login    string
	Settings map[string]string
	Accounts []*Account
	Groups   []*Group
	byName   map[string]*Group
}

// Plan is the declaration resolved for one day.
type Plan struct {
	Day     string
	Targets map[string]*Desired
	People  []Person                       // sorted by user; Local and Given are those of no target in particular
	Roles   map[string][]string            // roles held, by user, sorted
	Asked   map[string]map[string]*Account // by user and target
	d       *model.Declaration
}

type resolver struct {
	d       *model.Declaration
	schemas map[string]model.Schema
	set     *expr.Set
	plan    *Plan
	params  map[string]any
	targets map[string]map[string]any
	grants  map[string][]placed // by role: its grants with the targets they choose
	names   map[string]*regexp.Regexp
	faults  declare.Faults
}

type placed struct {
	grant *model.Grant
	role  string
	at    []*model.Target
}

// Resolve computes the plan for a day. Values that cannot be worked out are
// returned as declare.Faults, all of them.
func Resolve(d *model.Declaration, schemas map[string]model.Schema, day time.Time) (*Plan, error) {
	r := &resolver{
		d: d, schemas: schemas, set: expr.NewSet(), params: map[string]any{}, targets: map[string]map[string]any{},
		grants: map[string][]placed{}, names: map[string]*regexp.Regexp{},
		plan: &Plan{Day: day.UTC().Format(time.DateOnly), Targets: map[string]*Desired{}, Roles: map[string][]string{}, Asked: map[string]map[string]*Account{}, d: d},
	}
	r.readParams()
	r.readTargets()
	r.placeGrants()
	for _, id := range slices.Sorted(maps.Keys(d.Users)) {
		r.user(d.Users[id])
	}
	for _, t := range r.plan.Targets {
		r.finish(t)
	}
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return r.plan, nil
}

func (r *resolver) fault(at model.Pos, format string, args ...any) {
	r.faults = append(r.faults, declare.Fault{At: at, Message: fmt.Sprintf(format, args...)})
}

func (r *resolver) fill(t model.Text, s expr.Scope, what string) string {
	out, err := r.set.Fill(t.Raw, s)
	if err != nil {
		r.fault(t.Pos, "%s: %v", what, err)
	}
	return out
}

func (r *resolver) readParams() {
	for name, t := range r.d.Params {
		r.params[name] = r.fill(t, expr.Scope{Day: r.plan.Day}, "param "+name)
	}
}

func (r *resolver) readTargets() {
	for name, t := range r.d.Targets {
		tags := map[string]any{}
		for k, v := range t.Tags {
			tags[k] = v
		}
		r.targets[name] = map[string]any{"name": name, "kind": t.Kind, "tags": tags}
		scope := expr.Scope{Target: r.targets[name], Params: r.params, Day: r.plan.Day}
		d := &Desired{Target: t, Settings: map[string]string{}, byName: map[string]*Group{}}
		d.Address = r.fill(t.Address, scope, "address of "+name)
		d.Login = r.fill(t.Login.As, scope, "login of "+name)
		for key, s := range t.Settings {
			d.Settings[key] = r.fill(s, scope, key+" of "+name)
		}
		r.plan.Targets[name] = d
	}
}

func (r *resolver) placeGrants() {
	for _, role := range r.d.Roles {
		for i := range role.Gives {
			g := &role.Gives[i]
			p := placed{grant: g, role: role.Name}
			for _, name := range slices.Sorted(maps.Keys(r.d.Targets)) {
				if g.At.Matches(r.d.Targets[name]) {
					p.at = append(p.at, r.d.Targets[name])
				}
			}
			r.grants[role.Name] = append(r.grants[role.Name], p)
		}
	}
}

// user resolves one user on every target where a grant reaches them.
func (r *resolver) user(u *model.User) {
	scope := r.scope(u)
	person := Person{User: u.ID, Name: scope.User["name"].(string), Local: u.ID, Number: u.Number, Mail: scope.User["mail"].(string)}
	r.plan.People = append(r.plan.People, person)
	accounts := map[string]*Account{}
	r.plan.Asked[u.ID] = accounts
	for _, role := range r.held(u, scope) {
		for _, p := range r.grants[role] {
			for _, t := range p.at {
				if u.Accounts[t.Name].None {
					continue
				}
				scope.Target = r.targets[t.Name]
				a := accounts[t.Name]
				if a == nil {
					a = r.account(u, t, p, scope)
					accounts[t.Name] = a
					r.plan.Targets[t.Name].Accounts = append(r.plan.Targets[t.Name].Accounts, a)
				}
				r.attributes(a, p, scope)
				r.join(u, r.plan.Targets[t.Name], p)
			}
		}
	}
}

// scope fills a user's own fields in the order in which they may build on each other.
func (r *resolver) scope(u *model.User) expr.Scope {
	m := map[string]any{"id": u.ID, "number": u.Number, "manager": u.Manager.Name, "service": u.Service,
		"given": "", "family": "", "name": "", "mail": ""}
	s := expr.Scope{User: m, Params: r.params, Day: r.plan.Day}
	details := map[string]any{}
	m["details"] = details
	for k, v := range u.Details {
		details[k] = r.fill(v, s, "detail "+k+" of "+u.ID)
	}
	m["given"] = r.fill(u.Given, s, "given name of "+u.ID)
	m["family"] = r.fill(u.Family, s, "family name of "+u.ID)
	m["name"] = r.fill(u.Name, s, "name of "+u.ID)
	m["mail"] = r.fill(u.Mail, s, "mail of "+u.ID)
	return s
}

// held lists a user's roles: those given by name, those whose condition holds, and all they include.
func (r *resolver) held(u *model.User, scope expr.Scope) []string {
	held := map[string]bool{}
	var hold func(string)
	hold = func(name string) {
		if role, ok := r.d.Roles[name]; ok && !held[name] {
			held[name] = true
			for _, in := range role.Includes {
				hold(in.Name)
			}
		}
	}
	byName := []any{}
	for _, ref := range u.Roles {
		byName = append(byName, ref.Name)
		hold(ref.Name)
	}
	scope.User["roles"] = byName
	for _, role := range r.d.Roles {
		if role.HeldWhen.Raw == "" {
			continue
		}
		yes, err := r.set.Holds(role.HeldWhen.Raw, scope)
		if err != nil {
			r.fault(role.HeldWhen.Pos, "held-when of role %s, for user %s: %v", role.Name, u.ID, err)
		} else if yes {
			hold(role.Name)
		}
	}
	roles := slices.Sorted(maps.Keys(held))
	r.plan.Roles[u.ID] = roles
	return roles
}

// account starts a user's account with what the user's own fields say.
func (r *resolver) account(u *model.User, t *model.Target, p placed, scope expr.Scope) *Account {
	why := model.Why{Role: p.role, At: p.grant.Pos}
	a := &Account{User: u.ID, Name: u.ID, Why: why}
	if h := u.Accounts[t.Name]; h.Name != "" {
		a.Name, a.Given = h.Name, true
	}
	schema := r.schemas[t.Kind]
	if !r.nameFits(schema, a.Name) {
		r.fault(u.Pos, "%q cannot be the name of an account on %s (%s); give a name there under accounts: {%s: {name: …}}", a.Name, t.Name, t.Kind, t.Name)
	}
	for _, s := range schema.Account {
		if values := r.own(u, scope, s.From); values != nil {
			a.Want = append(a.Want, Value{s.Name, values, model.Why{Role: p.role, At: u.Pos}})
		}
	}
	a.Want = append(a.Want, Value{model.Disabled, []string{"no"}, why})
	return a
}

func (r *resolver) nameFits(s model.Schema, name string) bool {
	re := r.names[s.Kind]
	if re == nil {
		re = regexp.MustCompile(s.AccountName)
		r.names[s.Kind] = re
	}
	return re.MatchString(name)
}

// own returns a user's own field as values; nil when it is not declared.
func (r *resolver) own(u *model.User, scope expr.Scope, field string) []string {
	switch field {
	case "":
		return nil
	case "number":
		if u.Number == 0 {
			return nil
		}
		return []string{strconv.Itoa(u.Number)}
	case "keys":
		if u.Keys == nil {
			return nil
		}
		out := []string{}
		for _, k := range u.Keys {
			out = append(out, strings.TrimSpace(r.fill(k, scope, "key of "+u.ID)))
		}
		return out
	}
	if s, _ := scope.User[field].(string); s != "" {
		return []string{s}
	}
	return nil
}

// attributes lays a grant's attributes over the account. Two grants that ask
// for different values contradict each other.
func (r *resolver) attributes(a *Account, p placed, scope expr.Scope) {
	for _, nt := range p.grant.Account {
		v := Value{nt.Name, []string{r.fill(nt.Text, scope, nt.Name+" of "+a.User)}, model.Why{Role: p.role, At: nt.Text.Pos}}
		i := slices.IndexFunc(a.Want, func(w Value) bool { return w.Name == nt.Name })
		switch {
		case i < 0:
			a.Want = append(a.Want, v)
		case a.Want[i].Why.At == r.d.Users[a.User].Pos:
			a.Want[i] = v // a grant is more particular than the user's own field
		case a.Want[i].Values[0] != v.Values[0]:
			r.fault(nt.Text.Pos, "user %s is asked to have %s %q here and %q at %s (role %s)", a.User, nt.Name, v.Values[0], a.Want[i].Values[0], a.Want[i].Why.At, a.Want[i].Why.Role)
		}
	}
}

// join puts the user into a grant's groups, and into those around them where the target cannot nest.
func (r *resolver) join(u *model.User, t *Desired, p placed) {
	why := model.Why{Role: p.role, At: p.grant.Pos}
	nests := r.schemas[t.Target.Kind].NestGroups
	var enter func(name string, member bool)
	enter = func(name string, member bool) {
		g := t.group(r.d.Groups[name], why)
		if _, ok := g.Members[u.ID]; member && !ok {
			g.Members[u.ID] = why
		}
		for _, outer := range r.d.Groups[name].In {
			enter(outer.Name, !nests)
			if nests {
				t.group(r.d.Groups[outer.Name], why).Groups[name] = model.Why{At: outer.Pos}
			}
		}
	}
	for _, ref := range p.grant.Groups {
		enter(ref.Name, true)
	}
}

func (t *Desired) group(g *model.Group, why model.Why) *Group {
	if have := t.byName[g.Name]; have != nil {
		return have
	}
	made := &Group{Name: g.Name, Number: g.Number, AtLeast: g.AtLeast, Members: map[string]model.Why{}, Groups: map[string]model.Why{}, Why: model.Why{Role: why.Role, At: g.Pos}}
	t.Groups = append(t.Groups, made)
	t.byName[g.Name] = made
	return made
}

// finish sorts a target's desires and finds two users under one name.
func (r *resolver) finish(t *Desired) {
	slices.SortFunc(t.Accounts, func(a, b *Account) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(t.Groups, func(a, b *Group) int { return strings.Compare(a.Name, b.Name) })
	for i := 1; i < len(t.Accounts); i++ {
		if a, b := t.Accounts[i-1], t.Accounts[i]; a.Name == b.Name {
			r.fault(r.d.Users[b.User].Pos, "account %q on %s would belong to both %s and %s", b.Name, t.Target.Name, a.User, b.User)
		}
	}
	for _, a := range t.Accounts {
		slices.SortFunc(a.Want, func(x, y Value) int { return strings.Compare(x.Name, y.Name) })
	}
}

// PeopleOn returns all people as they would be known on one target, for matching.
func (p *Plan) PeopleOn(target string) []Person {
	out := slices.Clone(p.People)
	for i := range out {
		if h, ok := p.d.Users[out[i].User].Accounts[target]; ok {
			out[i].Never = h.None
			if h.Name != "" {
				out[i].Local, out[i].Given = h.Name, true
			}
		}
	}
	return out
}

// First is the first value, or "".
func (v Value) First() string {
	if len(v.Values) == 0 {
		return ""
	}
	return v.Values[0]
}
