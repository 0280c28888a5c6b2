package declare

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// checker finds what only shows when all files are seen together.
type checker struct {
	d       *model.Declaration
	schemas map[string]model.Schema
	parts   map[*model.Part]*part
	set     *expr.Set
	bundle  map[string]map[string]bool // by role: all it includes, and itself
	fitting map[string]*regexp.Regexp
	chooser *model.Chooser // nil before the first selector
	of      []string       // the user who is checked now
	faults  Faults
	late    Faults          // see Source.Late
	fine    map[string]bool // expressions in which nothing was wrong
}

func (c *checker) fault(at model.Pos, format string, args ...any) {
	c.faults = c.faults.and(c.one(at, format, args...))
}

// faultOf is fault of what concerns users.
func (c *checker) faultOf(users []string, at model.Pos, format string, args ...any) {
	c.of = users
	c.fault(at, format, args...)
	c.of = nil
}

func (c *checker) lately(at model.Pos, format string, args ...any) {
	c.late = c.late.and(c.one(at, format, args...))
}

func (c *checker) one(at model.Pos, format string, args ...any) Fault {
	f := Fault{At: c.d.Locate(at), Users: c.of, Message: fmt.Sprintf(format, args...)}
	if p := c.parts[at.Part]; p != nil {
		f.Line = p.line(at)
	}
	return f
}

// describe names a declared thing for messages, with its place.
func (c *checker) describe(what string, x thing) string {
	name, at := x.Called()
	return fmt.Sprintf("%s %q (%s)", what, name, c.d.Locate(at))
}

func (c *checker) run() {
	for _, name := range sorted(c.d.Params) {
		c.template(c.d.Params[name])
	}
	for _, name := range sorted(c.d.Targets) {
		c.target(c.d.Targets[name])
	}
	for _, name := range sorted(c.d.Groups) {
		c.group(c.d.Groups[name])
	}
	for _, name := range sorted(c.d.Rights) {
		r := c.d.Rights[name]
		c.held("right "+name, model.RightKind, r.At)
		c.spelled(r)
	}
	for _, name := range sorted(c.d.Containers) {
		o := c.d.Containers[name]
		c.template(o.Path)
		c.held("container "+name, model.PlaceKind, o.At)
	}
	for _, name := range sorted(c.d.Policies) {
		o := c.d.Policies[name]
		if o.Asks() {
			c.held("policy "+name, model.PolicyKind, o.At)
		} else {
			c.placed(o.At)
		}
		for _, g := range o.Groups {
			known(c, "group", g, c.d.Groups)
		}
	}
	c.pools()
	for _, name := range sorted(c.d.Roles) {
		c.role(c.d.Roles[name])
	}
	users := sorted(c.d.Users)
	for _, name := range users {
		c.of = []string{name}
		c.user(c.d.Users[name])
	}
	c.of = nil
	c.loops()
	c.numbers(users)
	c.localNames(users)
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// known faults when a reference leads nowhere.
func known[V any](c *checker, what string, ref model.Ref, in map[string]V) bool {
	if _, ok := in[ref.Name]; ok {
		return true
	}
	c.fault(ref.Pos, "%s", Meant(fmt.Sprintf("no %s is called %q", what, ref.Name), ref.Name, sorted(in)))
	return false
}

// paramUse finds the params an expression names, so that a wrong one is found without evaluating.
var paramUse = regexp.MustCompile(`\bparams\.([A-Za-z_][A-Za-z0-9_]*)`)

func (c *checker) template(t model.Text) { c.expression(t, false) }

func (c *checker) expression(t model.Text, bare bool) {
	if t.Raw == "" || !bare && !strings.Contains(t.Raw, "${") || c.fine[t.Raw] {
		return
	}
	if err := c.set.Check(t.Raw, bare); err != nil {
		c.fault(t.Pos, "%v", err)
		return
	}
	before := len(c.faults) + len(c.late)
	defer func() { c.fine[t.Raw] = len(c.faults)+len(c.late) == before }()
	if err := Fields(c.d, t.Raw); err != nil {
		c.lately(t.Pos, "%v", err)
	}
	for _, m := range paramUse.FindAllStringSubmatch(t.Raw, -1) {
		known(c, "param", model.Ref{Name: m[1], Pos: t.Pos}, c.d.Params)
	}
}

// reached faults how a target is said to be reached.
func (c *checker) reached(t *model.Target, schema model.Schema) {
	switch {
	case schema.Runs == "" && t.Address.Raw == "":
		c.fault(t.Pos, "target %q has no address", t.Name)
	case schema.Runs == model.OnHost && t.Via.Name == "":
		c.fault(t.Pos, "target %q of kind %s is run on a host; say on which: via: HOST", t.Name, t.Kind)
	case schema.Runs == model.Here && t.Via.Name != "":
		c.fault(t.Via.Pos, "target %q of kind %s is run where the service is, and not via %s", t.Name, t.Kind, t.Via.Name)
	}
	if t.Via.Name != "" && known(c, "target", t.Via, c.d.Targets) {
		if via := c.d.Targets[t.Via.Name]; !c.schemas[via.Kind].Leads {
			c.fault(t.Via.Pos, "target %q is reached via %s, and one of kind %s leads nowhere", t.Name, via.Name, via.Kind)
		}
	}
}

func (c *checker) target(t *model.Target) {
	schema, ok := c.schemas[t.Kind]
	if !ok && t.Kind != "" {
		c.fault(t.Pos, "%s", Meant(fmt.Sprintf("target %q is of unknown kind %q", t.Name, t.Kind), t.Kind, sorted(c.schemas)))
	}
	c.reached(t, schema)
	c.template(t.Address)
	c.template(t.Login.As)
	for _, name := range sorted(t.Settings) {
		c.template(t.Settings[name])
		if ok && !slices.Contains(schema.Settings, name) {
			c.fault(t.Settings[name].Pos, "%s", Meant(fmt.Sprintf("a target of kind %s has no setting %q", t.Kind, name), name,
				schema.Settings))
		}
	}
	for _, need := range schema.Needs {
		if t.Settings[need].Raw == "" {
			c.fault(t.Pos, "target %q of kind %s needs the setting %q", t.Name, t.Kind, need)
		}
	}
	for _, ref := range t.After {
		known(c, "target", ref, c.d.Targets)
	}
	if t.Homes.Stale > 0 && ok && schema.Of(model.HomeKind) == nil {
		c.fault(t.Pos, "target %q is of kind %s, where nobody has a home", t.Name, t.Kind)
	}
	for _, p := range t.Homes.Leave {
		if _, err := path.Match(p, ""); err != nil {
			c.fault(t.Pos, "homes of target %q leave %q: %v", t.Name, p, err)
		}
	}
	if ok && !schema.Of(model.Account).Does(model.Remove) {
		if t.Unexpected == model.RemoveUnexpected {
			c.fault(t.Pos, "unexpected: remove at target %q: accounts of kind %s cannot be removed yet; use disable or report", t.Name,
				t.Kind)
		}
		if t.Removal.Keep > 0 {
			c.fault(t.Pos, "removal of target %q says when accounts go, but those of kind %s cannot be removed yet", t.Name, t.Kind)
		}
	}
	c.left(t)
	for _, p := range t.Protect {
		if _, err := path.Match(p, ""); err != nil {
			c.fault(t.Pos, "protect pattern %q of target %q: %v", p, t.Name, err)
		}
	}
	for _, name := range t.Lent {
		if why, shut := (model.Shield{Target: t, Fold: schema.FoldNames}).Protects(name); shut {
			c.fault(t.Pos, "target %q lends the account %q, which is %s", t.Name, name, why)
		}
	}
}

// left faults attributes that a target leaves to others and that cannot be.
func (c *checker) left(t *model.Target) {
	for _, name := range t.Leaves {
		if slices.Contains(model.Unleft, name) {
			c.fault(t.Pos, "target %q leaves %s to others, by which it is decided who may do what there", t.Name, name)
			continue
		}
		c.attribute(name, t.Pos, []*model.Target{t})
	}
}

func (c *checker) group(g *model.Group) {
	for _, in := range g.In {
		known(c, "group", in, c.d.Groups)
	}
	if g.Owner.Name != "" {
		known(c, "user", g.Owner, c.d.Users)
	}
	for _, keeper := range g.Keepers {
		known(c, "user", keeper, c.d.Users)
	}
}

func (c *checker) role(r *model.Role) {
	c.expression(r.HeldWhen, true)
	for _, ref := range r.Includes {
		known(c, "role", ref, c.d.Roles)
	}
	for _, g := range r.Gives {
		chosen := c.chosen(g.At)
		for _, ref := range g.Groups {
			if known(c, "group", ref, c.d.Groups) {
				c.fits(ref.Pos, model.GroupKind, ref.Name, chosen)
			}
		}
		for _, a := range g.Account {
			c.template(a.Text)
			c.edged(a.Text, a.Name)
			c.attribute(a.Name, a.Text.Pos, chosen)
		}
		for _, p := range g.Parts {
			if c.lists(p.Name, chosen) {
				c.attribute(p.Name, p.Pos, chosen)
				for _, v := range p.Values {
					c.template(v)
					c.edged(v, p.Name)
				}
				continue
			}
			c.nameParts(p, chosen)
		}
		c.powers(g, chosen)
	}
	for _, ref := range r.NeverWith {
		if known(c, "role", ref, c.d.Roles) && ref.Name == r.Name {
			c.fault(ref.Pos, "role %q stands in its own never-with", r.Name)
		}
	}
}

// lists says whether an attribute of accounts has many values, on some of the targets.
func (c *checker) lists(name string, at []*model.Target) bool {
	return slices.ContainsFunc(at, func(t *model.Target) bool {
		a, known := c.schemas[t.Kind].Find(model.Account, name)
		return known && a.Many
	})
}

// nameParts checks what a part of the names of accounts is to be.
func (c *checker) nameParts(p model.Parts, at []*model.Target) {
	for _, v := range p.Values {
		c.template(v)
	}
	for _, t := range at {
		schema, ok := c.schemas[t.Kind]
		if !ok {
			continue
		}
		k, names := schema.Account(), []string{}
		for _, part := range k.Name[min(1, len(k.Name)):] {
			names = append(names, part.Name)
			for _, v := range p.Values {
				if part.Name == p.Name && !strings.Contains(v.Raw, "${") && !c.pattern(part.Pattern).MatchString(v.Raw) {
					c.fault(p.Pos, "%q cannot be the %s of an account on %s (%s); it must match %s", v.Raw, p.Name, t.Name, t.Kind,
						part.Pattern)
				}
			}
		}
		if _, known := schema.Find(model.Account, p.Name); known && !slices.Contains(names, p.Name) {
			c.fault(p.Pos, "%s of an account on %s (%s) is one value, not a list", p.Name, t.Name, t.Kind)
			return
		}
		if !slices.Contains(names, p.Name) {
			c.fault(p.Pos, "%s", Meant(fmt.Sprintf("names of accounts on %s (%s) have no part %q", t.Name, t.Kind, p.Name), p.Name, names))
			return
		}
	}
}

// powers checks what a grant gives beside the account: rights, licences, elevation.
func (c *checker) powers(g model.Grant, chosen []*model.Target) {
	for _, ref := range g.Rights {
		if !known(c, "right", ref, c.d.Rights) {
			continue
		}
		for _, t := range chosen {
			if !slices.ContainsFunc(c.d.Rights[ref.Name].At, func(s model.Selector) bool { return s.Matches(t) }) {
				c.fault(ref.Pos, "right %q is not declared at %s; it is declared at %s", ref.Name, t.Name,
					c.d.Locate(c.d.Rights[ref.Name].Pos))
				break
			}
		}
	}
	for _, p := range []struct {
		kind model.ObjectKind
		used bool
	}{{model.RightKind, g.Rights != nil}, {model.LicenceKind, g.Licences != nil}, {model.ElevationKind, g.Elevate != nil}} {
		if p.used {
			c.joined(p.kind, g.Pos, chosen)
		}
	}
}

// joined faults a grant of something that nobody can be given on a target.
func (c *checker) joined(kind model.ObjectKind, pos model.Pos, at []*model.Target) {
	for _, t := range at {
		if schema, ok := c.schemas[t.Kind]; ok && !schema.Of(kind).Does(model.JoinIt) {
			c.fault(pos, "nobody can be given %s on %s: Hen Roost cannot set that on targets of kind %s", article(kind), t.Name, t.Kind)
			return
		}
	}
}

// held faults when something is declared at targets that cannot hold it.
func (c *checker) held(what string, kind model.ObjectKind, at []model.Selector) {
	for _, s := range at {
		for _, t := range c.chosen(s) {
			if schema, ok := c.schemas[t.Kind]; ok && !schema.Of(kind).Does(model.Create) && !schema.Of(kind).Does(model.SetRule) &&
				(schema.Of(kind) == nil || schema.Of(kind).Spelled == nil) {
				c.fault(s.Pos, "%s is declared at %s, but a target of kind %s cannot be asked for a %s", what, t.Name, t.Kind, kind)
				break
			}
		}
	}
}

// placed faults choices of targets that choose none.
func (c *checker) placed(at []model.Selector) {
	for _, s := range at {
		c.chosen(s)
	}
}

// chosen returns the targets a selector names, faulting when there are none.
func (c *checker) chosen(s model.Selector) []*model.Target {
	if s.Name != "" {
		if !known(c, "target", model.Ref{Name: s.Name, Pos: s.Pos}, c.d.Targets) {
			return nil
		}
		return []*model.Target{c.d.Targets[s.Name]}
	}
	if c.chooser == nil {
		c.chooser = model.NewChooser(c.d.Targets)
	}
	out := c.chooser.Chosen(s)
	if len(out) == 0 && s.Pos.Line > 0 {
		if _, ok := c.schemas[s.Kind]; s.Kind != "" && !ok {
			c.fault(s.Pos, "%s", Meant(fmt.Sprintf("no kind of target is called %q", s.Kind), s.Kind, sorted(c.schemas)))
			return nil
		}
		for key, value := range s.Tags {
			if near := c.nearestTag(key, value); near != "" {
				c.fault(s.Pos, "no target is chosen by tag %s: %s; did you mean %s?", key, value, near)
				return nil
			}
		}
		c.fault(s.Pos, "no target is chosen by this")
	}
	return out
}

func (c *checker) nearestTag(key, value string) string {
	var pairs []string
	for _, t := range c.d.Targets {
		for k, v := range t.Tags {
			pairs = append(pairs, k+": "+v)
		}
	}
	if slices.Contains(pairs, key+": "+value) {
		return ""
	}
	return Nearest(key+": "+value, pairs)
}

func (c *checker) attribute(attribute string, pos model.Pos, at []*model.Target) {
	for _, t := range at {
		schema, ok := c.schemas[t.Kind]
		if !ok {
			continue
		}
		k := schema.Account()
		if slices.ContainsFunc(k.Name[min(1, len(k.Name)):], func(p model.NamePart) bool { return p.Name == attribute }) {
			continue // a part of the name
		}
		if s, ok := schema.Find(model.Account, attribute); !ok || !s.Settable {
			var names []string
			for _, s := range schema.Account().Attributes {
				if s.Settable {
					names = append(names, s.Name)
				}
			}
			c.fault(pos, "%s", Meant(fmt.Sprintf("an account on %s (%s) has no attribute %q that can be set", t.Name, t.Kind, attribute),
				attribute, names))
			return
		}
	}
}

// fits faults when a name cannot be one of an object of a kind on a target: for
// accounts what they sign in by.
func (c *checker) fits(at model.Pos, what model.ObjectKind, name string, targets []*model.Target) bool {
	for _, t := range targets {
		schema, ok := c.schemas[t.Kind]
		if !ok {
			continue
		}
		k := schema.Of(what)
		if k == nil || len(k.Name) == 0 {
			continue
		}
		if pattern := k.Name[0].Pattern; !c.pattern(pattern).MatchString(name) {
			c.fault(at, "%q cannot be the name of %s on %s (%s); names there match %s", name, article(what), t.Name, t.Kind, pattern)
			return false
		}
	}
	return true
}

func (c *checker) pattern(p string) *regexp.Regexp {
	if c.fitting[p] == nil {
		if c.fitting == nil {
			c.fitting = map[string]*regexp.Regexp{}
		}
		c.fitting[p] = regexp.MustCompile(p)
	}
	return c.fitting[p]
}

func article(what model.ObjectKind) string {
	switch what {
	case model.Account:
		return "an account"
	case model.ElevationKind:
		return "superuser rights"
	}
	return "a " + what.String()
}

// edged faults a text that begins or ends with a space: a target may well drop it, and then never be as declared.
func (c *checker) edged(t model.Text, what string) {
	if strings.TrimSpace(t.Raw) != t.Raw {
		c.lately(t.Pos, "%s begins or ends with a space", what)
	}
}
