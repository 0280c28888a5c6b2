package resolve

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// bundle is a set of roles that at least one person holds.
type bundle struct {
	number   int
	roles    []string
	conflict [2]string
	classes  []int32 // where its holders get something
}

// shape is what the holders of a bundle get on a target. Targets where the
// same grants reach them share one shape.
type shape struct {
	fields *[]field // sorted by name; shapes that ask for the same values share one list
	why    model.Origin
	sets   []Joining          // sorted by kind and name
	whys   []model.Origin     // of the fields
	parts  [][]*expr.Template // what the further parts of names are to be, by part; nil: as usual
	rivals []rival
	easy   bool // nothing of it can fail for a holder
}

// field is where one desired attribute comes from.
type field struct {
	name   string
	head   string           // the name as it stands packed
	packed model.Attributes // of a single fixed value: the whole attribute
	fold   bool
	own    string   // the user's own field; used where text and fixed are empty
	at     int      // its place among Person.texts
	fixed  []string // values that are the same for all holders
	text   *expr.Template
	texts  []*expr.Template // of an attribute of many values that are not the same for all holders
}

// rival is another grant's word on an attribute.
type rival struct {
	name string
	text *expr.Template
	at   model.Pos
	role string
}

// grant is one grant with the targets it chooses and the role it stands in.
type grant struct {
	*model.Grant
	n    int
	role string
	at   []*class
}

// shape lays grants over one another.
func (r *resolver) shape(schema model.Schema, grants []*grant) *shape {
	first := grants[0]
	sh := &shape{why: model.Origin{Role: first.role, At: first.Pos}}
	l := layers{r: r, schema: schema, sh: sh, why: map[string]model.Origin{}}
	for _, s := range schema.Account().Attributes {
		if at := slices.Index(ownFields, s.From); at >= 0 {
			l.put(field{name: s.Name, own: s.From, at: at}, model.Origin{Role: first.role})
		}
	}
	l.put(field{name: model.Disabled, fixed: []string{"no"}}, sh.why)
	for _, g := range grants {
		for _, nt := range g.Account {
			if a, _ := schema.Find(model.Account, nt.Name); a.Many {
				l.fill(nt.Name, g.role, nt.Text)
			} else if !r.part(sh, schema, nt.Name, nt.Text) {
				l.lay(nt, g)
			}
		}
		for _, p := range g.Parts {
			if !r.part(sh, schema, p.Name, p.Values...) {
				l.fill(p.Name, g.role, p.Values...)
			}
		}
		why := model.Origin{Role: g.role, At: g.Pos}
		for _, set := range r.sets(schema, g) {
			r.enter(sh, set, schema.Nests(), why)
		}
	}
	slices.SortFunc(l.fields, func(a, b field) int { return strings.Compare(a.name, b.name) })
	sh.sets = least(schema, whole(sh.sets))
	slices.SortFunc(sh.sets, func(a, b Joining) int { return a.Set.Compare(b.Set) })
	for _, f := range l.fields {
		sh.whys = append(sh.whys, l.why[f.name])
	}
	sh.fields = r.shared(l.fields)
	sh.easy = len(sh.rivals)+len(sh.parts) == 0 &&
		!slices.ContainsFunc(l.fields, func(f field) bool {
			return slices.ContainsFunc(f.templates(), func(t *expr.Template) bool { return !t.Plain() })
		})
	return sh
}

// shared returns the one list of these fields. Comparing goes through it for
// every account, so it should stay near the processor.
func (r *resolver) shared(fields []field) *[]field {
	var key strings.Builder
	for i := range fields {
		f := &fields[i]
		f.head = model.Head(f.name)
		if f.own == "" && f.text == nil && len(f.fixed) == 1 {
			f.packed = model.Pack(model.Attribute{Name: f.name, Values: f.fixed})
		}
		fmt.Fprintf(&key, "%q %q %q %p %v %v\n", f.name, f.own, f.fixed, f.text, f.texts, f.fold)
	}
	list := r.fields[key.String()]
	if list == nil {
		list = &fields
		r.fields[key.String()] = list
	}
	return list
}

// layers are the fields of a shape while grants are laid over one another.
type layers struct {
	r      *resolver
	schema model.Schema
	sh     *shape
	fields []field
	why    map[string]model.Origin
}

func (l *layers) put(f field, why model.Origin) *field {
	if s, ok := l.schema.Find(model.Account, f.name); ok {
		f.fold = s.Fold
	}
	l.why[f.name] = why
	for i := range l.fields {
		if l.fields[i].name == f.name {
			l.fields[i] = f
			return &l.fields[i]
		}
	}
	l.fields = append(l.fields, f)
	return &l.fields[len(l.fields)-1]
}

func (l *layers) find(name string) *field {
	for i := range l.fields {
		if l.fields[i].name == name {
			return &l.fields[i]
		}
	}
	return nil
}

// lay puts a grant's attribute over the user's own field; beside another grant's it becomes a rival.
func (l *layers) lay(nt model.NamedText, g *grant) {
	f := field{name: nt.Name}
	t := l.r.template(nt.Text.Raw)
	if fixed, ok := t.Fixed(); ok {
		f.fixed = []string{fixed}
	} else {
		f.text = t
	}
	there := l.find(nt.Name)
	switch {
	case there == nil, there.own != "": // a grant is more particular than the user's own field
		l.put(f, model.Origin{Role: g.role, At: nt.Text.Pos})
	case there.text == nil && f.text == nil && there.fixed[0] == f.fixed[0], there.text != nil && there.text == f.text:
	default:
		l.sh.rivals = append(l.sh.rivals, rival{nt.Name, t, nt.Text.Pos, g.role})
	}
}

// fill adds a grant's values to an attribute of many: several grants fill it together.
func (l *layers) fill(name, role string, values ...model.Text) {
	var texts []*expr.Template
	there := l.find(name)
	if there != nil && there.own == "" {
		texts = there.texts
	}
	for _, v := range values {
		if t := l.r.template(v.Raw); !slices.Contains(texts, t) {
			texts = append(slices.Clip(texts), t)
		}
	}
	f := field{name: name, texts: texts}
	why := model.Origin{Role: role}
	if len(values) > 0 {
		why.At = values[0].Pos
	}
	if there != nil && there.own == "" {
		why = l.why[name]
	}
	l.put(f, why)
}

// templates are what the field's values are made of for each holder.
func (f *field) templates() []*expr.Template {
	if f.text != nil {
		return []*expr.Template{f.text}
	}
	return f.texts
}

// values are what an attribute of many values comes to; their faults showed when it was resolved.
func (f *field) values(scope expr.Scope) []string {
	out := make([]string, len(f.texts))
	for i, t := range f.texts {
		b, _ := t.Append(nil, scope)
		out[i] = string(b)
	}
	return out
}

// part adds to what a further part of names is to be; false when it is none.
func (r *resolver) part(sh *shape, schema model.Schema, name string, values ...model.Text) bool {
	parts := schema.Account().Name
	at := slices.IndexFunc(parts, func(p model.NamePart) bool { return p.Name == name })
	if at < 1 {
		return false
	}
	if sh.parts == nil {
		sh.parts = make([][]*expr.Template, len(parts)-1)
	}
	for _, v := range values {
		sh.parts[at-1] = append(sh.parts[at-1], r.template(v.Raw))
	}
	return true
}

// partsOf are the values of a further part of names; nil when none is asked for.
func (sh *shape) partsOf(i int, scope expr.Scope) (out []string) {
	if i >= len(sh.parts) {
		return nil
	}
	for _, t := range sh.parts[i] {
		b, _ := t.Append(nil, scope) // its faults showed when it was resolved
		out = append(out, string(b))
	}
	return out
}

// enter puts holders into a set, and into the groups around it where the target cannot nest.
func (r *resolver) enter(sh *shape, set model.Named, nests bool, why model.Origin) {
	if !slices.ContainsFunc(sh.sets, func(j Joining) bool { return j.Set == set }) {
		sh.sets = append(sh.sets, Joining{set, why})
	}
	if set.Kind == model.GroupKind && !nests {
		for _, outer := range r.d.Groups[set.Name].In {
			r.enter(sh, model.Named{Kind: model.GroupKind, Name: outer.Name}, nests, why)
		}
	}
}

// sets are what a grant puts its holders into on targets of a kind.
func (r *resolver) sets(schema model.Schema, g *grant) []model.Named {
	var out []model.Named
	for _, ref := range g.Groups {
		out = append(out, model.Named{Kind: model.GroupKind, Name: ref.Name})
	}
	for _, ref := range g.Rights {
		for _, name := range Permissions(schema, r.d.Rights[ref.Name]) {
			out = append(out, model.Named{Kind: model.RightKind, Name: name})
		}
	}
	for _, name := range g.Licences {
		out = append(out, model.Named{Kind: model.LicenceKind, Name: name})
	}
	for _, name := range g.Elevate {
		out = append(out, model.Named{Kind: model.ElevationKind, Name: name})
	}
	return out
}

// Permissions are the rights on targets of a kind that a declared one stands for: itself or, where rights are called what
// they allow, all that it allows, in canonical form.
func Permissions(schema model.Schema, x *model.Right) (out []string) {
	k := schema.Of(model.RightKind)
	switch {
	case x == nil:
		return nil
	case k == nil || k.Spelled == nil:
		return []string{x.Name}
	}
	for _, t := range x.Allows {
		list, _ := k.Spelled.Read(t.Raw) // its faults showed when it was checked
		out = append(out, list...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// least leaves out permissions that come with wider ones.
func least(schema model.Schema, sets []Joining) []Joining {
	k := schema.Of(model.RightKind)
	if k == nil || k.Spelled == nil {
		return sets
	}
	var names []string
	for _, j := range sets {
		if j.Set.Kind == model.RightKind {
			names = append(names, j.Set.Name)
		}
	}
	keep := k.Spelled.Least(names)
	return slices.DeleteFunc(sets, func(j Joining) bool {
		return j.Set.Kind == model.RightKind && !slices.Contains(keep, j.Set.Name)
	})
}

// whole leaves out commands that somebody who may do all as superuser need not be given.
func whole(sets []Joining) []Joining {
	all := func(j Joining) bool { return j.Set == model.Named{Kind: model.ElevationKind, Name: "all"} }
	if !slices.ContainsFunc(sets, all) {
		return sets
	}
	return slices.DeleteFunc(sets, func(j Joining) bool { return j.Set.Kind == model.ElevationKind && !all(j) })
}

// Fields is how many attributes the account may have; they are numbered in order of name.
func (a Account) Fields() int { return len(*a.shape.fields) }

// AsWritten says whether the attributes of two accounts are asked for in the same words: then they are the same for people, on a
// target, of whom all else is.
func (a Account) AsWritten(b Account) bool {
	return a.shape == b.shape || slices.EqualFunc(*a.shape.fields, *b.shape.fields, func(x, y field) bool {
		return x.name == y.name && x.own == y.own && slices.Equal(x.fixed, y.fixed) && x.text.Same(y.text) &&
			slices.EqualFunc(x.texts, y.texts, (*expr.Template).Same)
	})
}

// FieldName is the name of the i-th attribute.
func (a Account) FieldName(i int) string { return (*a.shape.fields)[i].name }

// Same says whether an object's attributes hold all that is desired of the
// account. What is not declared is not owned, and so is the same. It walks the
// fields and the packed attributes along; nothing is allocated but room, which
// is returned to be used again.
func (a Account) Same(attributes model.Attributes, room []byte) (bool, []byte) {
	c := attributes.Cursor()
	fields := *a.shape.fields
	for i := range fields {
		f := &fields[i]
		same := false
		switch {
		case f.packed != "":
			same = c.Holds(f.packed) || f.is(&c, f.fixed[0])
		case f.text != nil:
			same, room = f.filled(&c, a.on.scope(a.Person), room)
		case f.texts != nil:
			v, _ := c.Take(f.head, f.name)
			same = model.SameSet(v.List(), f.values(a.on.scope(a.Person)), folding(f.fold))
		case f.own == "":
			v, _ := c.Take(f.head, f.name)
			same = model.SameSet(v.List(), f.fixed, folding(f.fold))
		case f.own == "keys":
			same = true
			if a.keys != nil {
				v, _ := c.Take(f.head, f.name)
				same = model.SameSet(v.List(), a.keys, folding(f.fold))
			}
		default:
			want := a.own(f)
			same = want == "" || c.HoldsOne(f.head, want) || f.is(&c, want)
		}
		if !same {
			return false, room
		}
	}
	return true, room
}

// own is a value of the user's own fields. The number may differ where the user's own cannot be had.
func (a Account) own(f *field) string {
	if f.at == numberAt && len(a.Declared.Accounts) > 0 {
		if n := a.Declared.Accounts[a.on.Target.Name].Number; n != 0 {
			return strconv.Itoa(n)
		}
	}
	return a.texts[f.at]
}

// is says whether the attribute holds one value alone, this one.
func (f *field) is(c *model.Cursor, want string) bool {
	v, _ := c.Take(f.head, f.name)
	have, single := v.One()
	return single && (have == want || f.fold && strings.ToLower(have) == strings.ToLower(want))
}

// filled says whether the attribute holds what the field's template comes to.
func (f *field) filled(c *model.Cursor, scope expr.Scope, room []byte) (bool, []byte) {
	v, _ := c.Take(f.head, f.name)
	have, single := v.One()
	if !single {
		return false, room
	}
	if same, known := f.text.Is(have, scope); known && (same || !f.fold) {
		return same, room
	}
	room, _ = f.text.Append(room[:0], scope) // its faults showed when it was resolved
	return have == string(room) || f.fold && strings.ToLower(have) == strings.ToLower(string(room)), room
}

func folding(fold bool) func(string) string {
	if fold {
		return strings.ToLower
	}
	return func(s string) string { return s }
}

// Value returns the i-th attribute; ok is false when it is not declared, so that it is not owned.
func (a Account) Value(i int) (v Value, ok bool) {
	f := &(*a.shape.fields)[i]
	v = Value{Name: f.name, Values: f.fixed, Why: a.shape.whys[i]}
	switch {
	case f.text != nil:
		b, _ := f.text.Append(nil, a.on.scope(a.Person))
		v.Values = []string{string(b)}
	case f.texts != nil:
		v.Values = f.values(a.on.scope(a.Person))
	case f.own == "keys":
		v.Values, v.Why.At = a.keys, a.Declared.Pos
		return v, a.keys != nil
	case f.own != "":
		v.Values, v.Why.At = []string{a.own(f)}, a.Declared.Pos
		return v, v.Values[0] != ""
	}
	return v, true
}

// Want lists the desired attributes in order of name.
func (a Account) Want() []Value {
	var out []Value
	for i := range *a.shape.fields {
		if v, ok := a.Value(i); ok {
			out = append(out, v)
		}
	}
	return out
}

// ownFields are a user's own fields, in the order of Person.texts. Keys are a set of values of their own.
var ownFields = []string{"id", "number", "name", "given", "family", "mail", "keys"}

const numberAt = 1 // among ownFields

func (d *Desired) scope(p *Person) expr.Scope {
	return expr.Scope{User: p, Target: d.vars, Params: d.Plan.params, Day: d.Plan.Day}
}

// check fills in what may fail, for every holder and, where the target is asked
// for, on every target, so that faults show before anything is stored.
func (r *resolver) check(p *Person) {
	for _, c := range r.classesOf(p.bundle) {
		if sh := c.shape(p.bundle); !sh.easy {
			for _, target := range c.targets {
				if !p.Declared.Accounts[target].None {
					r.checkOn(r.plan.Targets[target], sh, p)
				}
			}
		}
	}
}

func (r *resolver) checkOn(d *Desired, sh *shape, p *Person) {
	for i, f := range *sh.fields {
		for _, t := range f.templates() {
			if t.Plain() {
				continue
			}
			if _, err := t.Append(nil, d.scope(p)); err != nil {
				r.faultOf([]string{p.ID}, sh.whys[i].At, "%s of %s: %v", f.name, p.ID, err)
			}
		}
	}
	for _, x := range sh.rivals {
		r.contradiction(p, d, sh, x)
	}
	for _, part := range sh.parts {
		for _, t := range part {
			if _, err := t.Append(nil, d.scope(p)); err != nil {
				r.faultOf([]string{p.ID}, sh.why.At, "a part of the name of %s: %v", p.ID, err)
			}
		}
	}
}

func (r *resolver) contradiction(p *Person, d *Desired, sh *shape, x rival) {
	i := slices.IndexFunc(*sh.fields, func(f field) bool { return f.name == x.name })
	f, value := (*sh.fields)[i], ""
	if f.text == nil {
		value = f.fixed[0]
	} else if b, err := f.text.Append(nil, d.scope(p)); err == nil {
		value = string(b)
	}
	b, err := x.text.Append(nil, d.scope(p))
	if err != nil {
		r.faultOf([]string{p.ID}, x.at, "%s of %s: %v", x.name, p.ID, err)
	} else if string(b) != value {
		r.faultOf([]string{p.ID}, x.at,
			"user %s is asked to have %s %q here and %q at %s (role %s)", p.ID, x.name, b, value, r.d.Locate(sh.whys[i].At),
			sh.whys[i].Role)
	}
}

// things lists the rights, containers and policies declared at a target.
func (r *resolver) things(d *Desired) {
	at := func(where []model.Selector) bool {
		return slices.ContainsFunc(where, func(s model.Selector) bool { return s.Matches(d.Target) })
	}
	for _, x := range r.d.Rights {
		if at(x.At) {
			d.rights = append(d.rights, x)
			if k := d.Schema.Of(model.RightKind); k != nil && k.Spelled != nil {
				continue
			}
			why := model.Origin{At: x.Pos}
			allows := make([]string, len(x.Allows))
			for i, a := range x.Allows {
				allows[i] = a.Raw
			}
			d.Things = append(d.Things, Thing{Kind: model.RightKind, Name: x.Name, Why: why, Want: []Value{{model.Allows, allows, why}}})
		}
	}
	for _, x := range r.d.Containers {
		if at(x.At) {
			why := model.Origin{At: x.Pos}
			path := r.fill(x.Path, expr.Scope{Target: d.vars, Params: r.plan.params, Day: r.plan.Day}, "path of container "+x.Name)
			guarded := "no"
			if x.Protected {
				guarded = "yes"
			}
			d.Things = append(d.Things, Thing{Kind: model.PlaceKind, Name: x.Name, Why: why, Protected: x.Protected,
				Want: []Value{{model.Path, []string{path}, model.Origin{At: x.Path.Pos}}, {model.Guarded, []string{guarded}, why}}})
		}
	}
	for _, x := range r.d.Policies {
		if at(x.At) && x.Asks() {
			t := Thing{Kind: model.PolicyKind, Name: x.Name, Why: model.Origin{At: x.Pos}}
			if len(x.Groups) > 0 {
				var names []string
				for _, g := range x.Groups {
					names = append(names, g.Name)
				}
				t.Want = append(t.Want, Value{"for-groups", names, t.Why})
			}
			for _, v := range x.Values {
				if v.Name == model.PolicyScreening {
					continue
				}
				t.Want = append(t.Want, Value{v.Name, v.Values, model.Origin{At: v.Pos}})
			}
			d.Things = append(d.Things, t)
		}
	}
	slices.SortFunc(d.rights, func(a, b *model.Right) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(d.Things, func(a, b Thing) int {
		return cmp.Or(strings.Compare(a.Kind.String(), b.Kind.String()), strings.Compare(a.Name, b.Name))
	})
}
