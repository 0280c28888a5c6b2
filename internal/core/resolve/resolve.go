// Package resolve works out who should have what, where, on a given day. It
// keeps the lineage of every value: the role and the line that ask for it.
package resolve

import (
	"fmt"
	"maps"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

type resolver struct {
	*kit
	d    *model.Declaration
	plan *Plan

	fixed expr.Vars // params as they are on any day

	mu     sync.Mutex
	faults declare.Faults
}

// kit is what has been worked out of the roles. Plans that follow one another share it.
type kit struct {
	following sync.Mutex // held while a plan is made
	version   int32      // counts up with each plan that follows
	set       *expr.Set
	grants    map[string][]*grant // by role
	held      []*model.Role       // by condition
	bundles   map[string]*bundle  // by the roles held by name and by condition
	listed    []*bundle           // by number
	classes   []*class            // by number
	shapes    map[string]*shape   // by kind and grants
	fields    map[string]*[]field // see shared
	texts     map[string]*expr.Template
	names     map[string]*regexp.Regexp // what an account can be called, by kind
	patterns  map[string]*regexp.Regexp // by themselves
}

// Resolve computes the plan for a day. params override those of the
// declaration for this plan alone; nil overrides none. Values that cannot be
// worked out are returned as declare.Faults, all of them.
func Resolve(d *model.Declaration, schemas map[string]model.Schema, day time.Time, params map[string]string) (*Plan, error) {
	k := &kit{set: expr.NewSet(), grants: map[string][]*grant{}, bundles: map[string]*bundle{},
		shapes: map[string]*shape{}, fields: map[string]*[]field{},
		texts: map[string]*expr.Template{}, names: map[string]*regexp.Regexp{}, patterns: map[string]*regexp.Regexp{}}
	r := &resolver{kit: k, d: d, plan: &Plan{Day: day.UTC().Format(time.DateOnly), Targets: map[string]*Desired{}, d: d, schemas: schemas,
		kit: k, params: expr.Vars{}}}
	r.readParams(params)
	r.readTargets()
	r.readRoles()
	r.classify()
	r.people()
	r.bundle()
	for _, c := range r.classes {
		r.finish(c)
	}
	r.each(r.check)
	r.naming()
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	r.plan.ready()
	return r.plan, nil
}

const maxFaults = 1000

func (r *resolver) fault(at model.Pos, format string, args ...any) {
	r.faultOf(nil, at, format, args...)
}

// faultOf is fault of what concerns users.
func (r *resolver) faultOf(users []string, at model.Pos, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch n := len(r.faults); {
	case n < maxFaults:
		r.faults = append(r.faults, declare.Fault{At: r.d.Locate(at), Users: users, Message: fmt.Sprintf(format, args...)})
	case n == maxFaults:
		r.faults = append(r.faults, declare.Fault{At: r.d.Locate(at),
			Message: fmt.Sprintf("there is more to mend; only the first %d faults are told", maxFaults)})
	}
}

func (r *resolver) fill(t model.Text, s expr.Scope, what string) string {
	return r.fillOf("", t, s, what)
}

func (r *resolver) fillOf(user string, t model.Text, s expr.Scope, what string) string {
	out, err := r.set.Fill(t.Raw, s)
	if err != nil {
		var users []string
		if user != "" {
			users = []string{user}
		}
		r.faultOf(users, t.Pos, "%s: %v", what, err)
	}
	return out
}

// template takes a text apart once, however many users share it.
func (r *resolver) template(raw string) *expr.Template {
	t := r.texts[raw]
	if t == nil {
		t = r.set.Template(raw)
		r.texts[raw] = t
	}
	return t
}

func (r *resolver) readParams(override map[string]string) {
	for name := range override {
		if _, ok := r.d.Params[name]; !ok {
			r.fault(model.Pos{}, "%s", declare.Meant(fmt.Sprintf("no param is called %q", name), name,
				slices.Collect(maps.Keys(r.d.Params))))
		}
	}
	for name, t := range r.d.Params {
		if v, ok := override[name]; ok {
			r.plan.params[name] = v
			continue
		}
		r.plan.params[name] = r.fill(t, expr.Scope{Day: r.plan.Day}, "param "+name)
	}
	r.fixed = fixedParams(r.set, r.d, override)
}

func (r *resolver) readTargets() {
	for name, t := range r.d.Targets {
		d := &Desired{Target: t, Schema: r.plan.schemas[t.Kind], Plan: r.plan, vars: varsOf(t)}
		d.parted = len(d.Schema.Account().Name) > 1
		reach := r.where(t, d.vars)
		d.Address, d.Login, d.Settings = reach.Address, reach.As, reach.Settings
		r.plan.Targets[name] = d
		r.things(d)
	}
}

func varsOf(t *model.Target) expr.Vars {
	tags := map[string]any{}
	for k, v := range t.Tags {
		tags[k] = v
	}
	return expr.Vars{"name": t.Name, "kind": t.Kind, "tags": tags}
}

// where fills in where a target is and how it is signed in to.
func (r *resolver) where(t *model.Target, vars expr.Vars) model.Reach {
	if t.InForce != nil {
		return *t.InForce
	}
	scope := expr.Scope{Target: vars, Params: r.fixed}
	out := model.Reach{Address: r.fill(t.Address, scope, "address of "+t.Name), As: r.fill(t.Login.As, scope, "login of "+t.Name),
		Settings: make(map[string]string, len(t.Settings))}
	for key, s := range t.Settings {
		out.Settings[key] = r.fill(s, scope, key+" of "+t.Name)
	}
	return out
}

// Reached fills in where all targets of a declaration are and how they are
// signed in to. The day is in no expression's reach: what says where a secret
// goes is the same today and tomorrow. Values that cannot be worked out are
// returned as declare.Faults, all of them.
func Reached(d *model.Declaration) (map[string]model.Reach, error) {
	r := &resolver{kit: &kit{set: expr.NewSet()}, d: d, plan: &Plan{}}
	r.fixed = fixedParams(r.set, d, nil)
	out := make(map[string]model.Reach, len(d.Targets))
	for name, t := range d.Targets {
		out[name] = r.where(t, varsOf(t))
	}
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return out, nil
}

// fixedParams are the params without a day: one that cannot do without is empty.
func fixedParams(set *expr.Set, d *model.Declaration, override map[string]string) expr.Vars {
	out := expr.Vars{}
	for name, t := range d.Params {
		if v, ok := override[name]; ok {
			out[name] = v
			continue
		}
		v, err := set.Fill(t.Raw, expr.Scope{})
		if err != nil {
			v = "" // a use of it with a day is told there
		}
		out[name] = v
	}
	return out
}

func (r *resolver) readRoles() {
	n := 0
	for _, name := range slices.Sorted(maps.Keys(r.d.Roles)) {
		role := r.d.Roles[name]
		if role.HeldWhen.Raw != "" {
			r.held = append(r.held, role)
		}
		for i := range role.Gives {
			g := &grant{Grant: &role.Gives[i], n: n, role: name}
			n++
			r.grants[name] = append(r.grants[name], g)
		}
	}
	for kind, s := range r.plan.schemas {
		if parts := s.Account().Name; len(parts) > 0 {
			r.names[kind] = regexp.MustCompile(parts[0].Pattern)
		}
	}
}

// each calls do for every person, on all processors.
func (r *resolver) each(do func(*Person)) {
	people := r.plan.People
	const portion = 2000
	if len(people) <= portion {
		for _, p := range people {
			do(p)
		}
		return
	}
	var wg sync.WaitGroup
	parts := make(chan []*Person)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for part := range parts {
				for _, p := range part {
					do(p)
				}
			}
		})
	}
	for part := range slices.Chunk(people, portion) {
		parts <- part
	}
	close(parts)
	wg.Wait()
}

// people fills in every user's own fields.
func (r *resolver) people() {
	ids := slices.Sorted(maps.Keys(r.d.Users))
	r.plan.People = make([]*Person, len(ids))
	all := make([]Person, len(ids))
	for i, id := range ids {
		all[i] = Person{ID: id, Declared: r.d.Users[id], At: i}
		r.plan.People[i] = &all[i]
	}
	r.plan.numbered = slices.Clone(r.plan.People)
	r.each(r.own)
}

// own fills a user's own fields in the order in which they may build on each other.
func (r *resolver) own(p *Person) {
	u := p.Declared
	switch {
	case u.Span.From != "" && r.plan.Day < u.Span.From:
		p.State = Expected
	case u.Span.Until != "" && r.plan.Day > u.Span.Until:
		p.State = Left
	case u.Suspended.Holds(r.plan.Day):
		p.State = Suspended
	default:
		p.State = Active
	}
	if u.Number != 0 {
		p.number = strconv.Itoa(u.Number)
	}
	for _, h := range u.Roles {
		if p.here() && h.Span.Holds(r.plan.Day) {
			p.named = append(p.named, h.Name)
		}
	}
	s := expr.Scope{User: p, Params: r.plan.params, Day: r.plan.Day}
	for _, x := range u.Details {
		if strings.Contains(x.Text.Raw, "${") { // the others are as they are declared
			if p.details == nil {
				p.details = map[string]string{}
			}
			p.details[x.Name] = r.fillOf(u.ID, x.Text, s, "detail "+x.Name+" of "+u.ID)
		}
	}
	p.Given = r.fillOf(u.ID, u.Given, s, "given name of "+u.ID)
	p.Family = r.fillOf(u.ID, u.Family, s, "family name of "+u.ID)
	p.Name = r.fillOf(u.ID, u.Name, s, "name of "+u.ID)
	p.Mail = r.fillOf(u.ID, u.Mail, s, "mail of "+u.ID)
	p.together()
	if u.Keys != nil {
		p.keys = []string{}
		for _, k := range u.Keys {
			p.keys = append(p.keys, strings.TrimSpace(r.fillOf(u.ID, k, s, "key of "+u.ID)))
		}
	}
}

// here says whether the person's days hold, shut or not.
func (p *Person) here() bool { return p.State == Active || p.State == Suspended }

// together lays a person's texts side by side in memory: comparing reads them
// one after the other, person by person, and is bound by how fast memory is.
func (p *Person) together() {
	all := p.ID + p.number + p.Name + p.Given + p.Family + p.Mail
	at := 0
	cut := func(s *string) {
		*s = all[at : at+len(*s)]
		at += len(*s)
	}
	for i, s := range []*string{&p.ID, &p.number, &p.Name, &p.Given, &p.Family, &p.Mail} {
		cut(s)
		p.texts[i] = *s
	}
}

// bundle finds who holds which roles, and puts people who hold the same ones together.
func (r *resolver) bundle() {
	var mu sync.Mutex
	people := map[*bundle]int{}
	r.each(func(p *Person) {
		names := r.rolesOf(p)
		key := strings.Join(names, "\x00")
		mu.Lock()
		defer mu.Unlock()
		b := r.bundles[key]
		if b == nil {
			b = &bundle{}
			r.bundles[key] = b
		}
		people[b]++
		p.bundle = b
	})
	for _, key := range slices.Sorted(maps.Keys(r.bundles)) {
		b := r.bundles[key]
		r.list(b, key)
		r.plan.holders = append(r.plan.holders, people[b])
	}
}

// rolesOf are the roles a person holds by name and by condition, sorted.
func (r *resolver) rolesOf(p *Person) []string {
	names := slices.Clone(p.named)
	asked := &remembered{Person: p}
	for _, role := range r.held {
		if !p.here() {
			break
		}
		yes, err := r.set.Holds(role.HeldWhen.Raw, expr.Scope{User: asked, Params: r.plan.params, Day: r.plan.Day})
		if err != nil {
			r.faultOf([]string{p.ID}, role.HeldWhen.Pos, "held-when of role %s, for user %s: %v", role.Name, p.ID, err)
		} else if yes {
			names = append(names, role.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// list works out what holders of a bundle get, and numbers it.
func (r *resolver) list(b *bundle, key string) {
	if key != "" {
		b.roles = r.included(strings.Split(key, "\x00"))
	}
	b.number = len(r.listed)
	b.conflict = r.conflict(b.roles)
	r.reach(b)
	r.listed = append(r.listed, b)
}

// remembered is a person of whom several conditions in a row ask everything.
type remembered struct {
	*Person
	vars map[string]any
}

func (r *remembered) Vars() map[string]any {
	if r.vars == nil {
		r.vars = r.Person.Vars()
	}
	return r.vars
}

// included adds all that roles include.
func (r *resolver) included(names []string) []string {
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
	for _, n := range names {
		hold(n)
	}
	return slices.Sorted(maps.Keys(held))
}

// conflict finds two roles that nobody may hold together, held through conditions.
func (r *resolver) conflict(roles []string) [2]string {
	for _, a := range roles {
		for _, ref := range r.d.Roles[a].NeverWith {
			if ref.Name != a && slices.Contains(roles, ref.Name) {
				return [2]string{a, ref.Name}
			}
		}
	}
	return [2]string{}
}

// naming checks the names that accounts will have, and finds two users under
// one, and gathers the words users say of their accounts by hand.
func (r *resolver) naming() {
	for _, p := range r.plan.People {
		r.called(p)
		for target, h := range p.Declared.Accounts {
			if d := r.plan.Targets[target]; d != nil {
				d.hinted = append(d.hinted, hint{p, h})
			}
		}
	}
	for name, d := range r.plan.Targets {
		by := map[string]*Person{}
		for _, h := range d.hinted {
			for _, a := range d.AccountsFor(h.person) {
				other := by[a.Name]
				by[a.Name] = h.person
				login, _ := d.Schema.Account().Login(a.Name)
				if p, is := r.plan.Person(login); is && p != h.person {
					if slices.ContainsFunc(d.AccountsFor(p), func(b Account) bool { return b.Name == a.Name }) {
						other = p
					}
				}
				if other != nil {
					r.faultOf([]string{h.person.ID, other.ID}, h.person.Declared.Pos,
						"account %q on %s would belong to both %s and %s", a.Name, name,
						min(other.ID, h.person.ID), max(other.ID, h.person.ID))
				}
			}
		}
	}
}

// called checks that the person's own name can be that of their accounts.
// Names given by hand were checked when they were read.
func (r *resolver) called(p *Person) {
	var told []string // kinds
	for _, c := range r.classesOf(p.bundle) {
		parted := len(r.plan.schemas[c.kind].Account().Name) > 1
		if !parted && slices.Contains(told, c.kind) {
			continue
		}
		for _, target := range c.targets {
			if parted {
				r.parts(r.plan.Targets[target], p)
			}
			if _, hinted := p.Declared.Accounts[target]; hinted || slices.Contains(told, c.kind) || r.names[c.kind] == nil {
				continue
			}
			told = append(told, c.kind)
			if !r.names[c.kind].MatchString(p.ID) {
				r.faultOf([]string{p.ID}, p.Declared.Pos,
					"%q cannot be the name of an account on %s (%s); give a name there under accounts: {%s: {name: …}}",
					p.ID, target, c.kind, target)
			}
			if !parted {
				break
			}
		}
	}
}

// parts checks what the further parts of a person's names come to.
func (r *resolver) parts(d *Desired, p *Person) {
	if h := p.Declared.Accounts[d.Target.Name]; len(h.Parts) > 0 {
		for _, part := range h.Parts {
			for _, v := range part.Values {
				r.fillOf(p.ID, v, d.scope(p), part.Name+" of "+p.ID)
			}
		}
	}
	k := d.Schema.Account()
	for _, a := range d.AccountsFor(p) {
		part, fits := k.Fit(a.Name, func(pattern, text string) bool { return r.matches(pattern, text) })
		if !fits && part.Name != k.Name[0].Name {
			r.faultOf([]string{p.ID}, p.Declared.Pos,
				"%q cannot be the name of an account on %s (%s): its %s must match %s", a.Name, d.Target.Name,
				d.Target.Kind, part.Name, part.Pattern)
		}
	}
}

func (r *resolver) matches(pattern, text string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	re := r.patterns[pattern]
	if re == nil {
		re = regexp.MustCompile(pattern)
		r.patterns[pattern] = re
	}
	return re.MatchString(text)
}
