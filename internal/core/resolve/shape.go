package resolve

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// bundle is a set of roles that at least one person holds.
type bundle struct {
	number   int
	roles    []string
	conflict [2]string
	at       map[string]*shape // by target
	targets  []string          // its keys, sorted
}

// shape is what the holders of a bundle get on a target. Targets where the
// same grants reach them share one shape.
type shape struct {
	n      int      // see Account.Shape
	fields *[]field // sorted by name; shapes that ask for the same values share one list
	why    model.Origin
	groups []Joining
	whys   []model.Origin // of the fields
	rivals []rival
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
	at   []*model.Target
}

// shapesOf finds for a bundle what each target gets asked of its holders.
func (r *resolver) shapesOf(b *bundle) {
	reach := map[*model.Target][]*grant{}
	for _, role := range b.roles {
		for _, g := range r.grants[role] {
			for _, t := range g.at {
				reach[t] = append(reach[t], g)
			}
		}
	}
	b.at = make(map[string]*shape, len(reach))
	var key []byte
	for t, grants := range reach {
		key = append(key[:0], t.Kind...)
		for _, g := range grants {
			key = binary.AppendUvarint(append(key, 0), uint64(g.n))
		}
		sh := r.shapes[string(key)]
		if sh == nil {
			sh = r.shape(r.plan.schemas[t.Kind], grants)
			sh.n = len(r.shapes)
			r.shapes[string(key)] = sh
		}
		b.at[t.Name] = sh
	}
	b.targets = slices.Sorted(maps.Keys(b.at))
}

// shape lays grants over one another.
func (r *resolver) shape(schema model.Schema, grants []*grant) *shape {
	first := grants[0]
	sh := &shape{why: model.Origin{Role: first.role, At: first.Pos}}
	l := layers{r: r, schema: schema, sh: sh, why: map[string]model.Origin{}}
	for _, s := range schema.Account {
		if at := slices.Index(ownFields, s.From); at >= 0 {
			l.put(field{name: s.Name, own: s.From, at: at}, model.Origin{Role: first.role})
		}
	}
	l.put(field{name: model.Disabled, fixed: []string{"no"}}, sh.why)
	for _, g := range grants {
		for _, nt := range g.Account {
			l.lay(nt, g)
		}
		why := model.Origin{Role: g.role, At: g.Pos}
		rights := make([]string, len(g.Rights))
		for i, ref := range g.Rights {
			rights[i] = ref.Name
		}
		l.collect(model.Rights, rights, g.Rights != nil, why)
		l.collect(model.Licences, g.Licences, g.Licences != nil, why)
		l.collect(model.Elevation, g.Elevate, g.Elevate != nil, why)
		for _, ref := range g.Groups {
			r.enter(sh, ref.Name, schema.NestGroups, why)
		}
	}
	slices.SortFunc(l.fields, func(a, b field) int { return strings.Compare(a.name, b.name) })
	slices.SortFunc(sh.groups, func(a, b Joining) int { return strings.Compare(a.Group, b.Group) })
	for _, f := range l.fields {
		sh.whys = append(sh.whys, l.why[f.name])
	}
	sh.fields = r.shared(l.fields)
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
		fmt.Fprintf(&key, "%q %q %q %p %v\n", f.name, f.own, f.fixed, f.text, f.fold)
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

// collect adds to a set that several grants fill together.
func (l *layers) collect(name string, values []string, asked bool, why model.Origin) {
	if !asked {
		return
	}
	f := l.find(name)
	if f == nil {
		f = l.put(field{name: name, fixed: []string{}}, why)
	}
	all := append(slices.Clone(f.fixed), values...)
	slices.Sort(all)
	f.fixed = slices.Compact(all)
	if name == model.Elevation && slices.Contains(all, "all") {
		f.fixed = []string{"all"}
	}
}

// enter puts holders into a group, and into those around it where the target cannot nest.
func (r *resolver) enter(sh *shape, name string, nests bool, why model.Origin) {
	if !slices.ContainsFunc(sh.groups, func(j Joining) bool { return j.Group == name }) {
		sh.groups = append(sh.groups, Joining{name, why})
	}
	if !nests {
		for _, outer := range r.d.Groups[name].In {
			r.enter(sh, outer.Name, nests, why)
		}
	}
}

// Fields is how many attributes the account may have; they are numbered in order of name.
func (a Account) Fields() int { return len(*a.shape.fields) }

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
			want := a.texts[f.at]
			same = want == "" || c.HoldsOne(f.head, want) || f.is(&c, want)
		}
		if !same {
			return false, room
		}
	}
	return true, room
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
	case f.own == "keys":
		v.Values, v.Why.At = a.keys, a.Declared.Pos
		return v, a.keys != nil
	case f.own != "":
		v.Values, v.Why.At = a.texts[f.at:f.at+1:f.at+1], a.Declared.Pos
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

func (d *Desired) scope(p *Person) expr.Scope {
	return expr.Scope{User: p, Target: d.vars, Params: d.Plan.params, Day: d.Plan.Day}
}

// check fills in what may fail, for every holder and, where the target is asked
// for, on every target, so that faults show before anything is stored.
func (r *resolver) check(p *Person) {
	for _, target := range p.bundle.targets {
		if p.Declared.Accounts[target].None {
			continue
		}
		d := r.plan.Targets[target]
		sh := p.bundle.at[target]
		for i, f := range *sh.fields {
			if f.text != nil && !f.text.Plain() {
				if _, err := f.text.Append(nil, d.scope(p)); err != nil {
					r.fault(sh.whys[i].At, "%s of %s: %v", f.name, p.ID, err)
				}
			}
		}
		for _, x := range sh.rivals {
			r.contradiction(p, d, sh, x)
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
		r.fault(x.at, "%s of %s: %v", x.name, p.ID, err)
	} else if string(b) != value {
		r.fault(x.at, "user %s is asked to have %s %q here and %q at %s (role %s)", p.ID, x.name, b, value, r.d.Locate(sh.whys[i].At), sh.whys[i].Role)
	}
}

// groups lists the groups a target needs: those its accounts are in and, where
// it nests, those around them.
func (r *resolver) groups(d *Desired) {
	by := map[string]*Group{}
	var put func(name string, why model.Origin) *Group
	put = func(name string, why model.Origin) *Group {
		if g := by[name]; g != nil {
			return g
		}
		m := r.d.Groups[name]
		g := &Group{Name: name, Number: m.Number, Owner: m.Owner.Name, AtLeast: m.AtLeast, Groups: map[string]model.Origin{}, Why: model.Origin{Role: why.Role, At: m.Pos}}
		by[name] = g
		d.Groups = append(d.Groups, g)
		if d.Schema.NestGroups {
			for _, outer := range m.In {
				put(outer.Name, why).Groups[name] = model.Origin{At: outer.Pos}
			}
		}
		return g
	}
	for _, sh := range d.shapes {
		if sh != nil {
			for _, j := range sh.groups {
				put(j.Group, j.Why)
			}
		}
	}
	slices.SortFunc(d.Groups, func(a, b *Group) int { return strings.Compare(a.Name, b.Name) })
}

// things lists the rights, containers and policies declared at a target.
func (r *resolver) things(d *Desired) {
	at := func(where []model.Selector) bool {
		return slices.ContainsFunc(where, func(s model.Selector) bool { return s.Matches(d.Target) })
	}
	for _, x := range r.d.Rights {
		if at(x.At) {
			why := model.Origin{At: x.Pos}
			d.Things = append(d.Things, Thing{Kind: model.RightKind, Name: x.Name, Why: why, Want: []Value{{model.Allows, x.Allows, why}}})
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
		if at(x.At) {
			t := Thing{Kind: model.PolicyKind, Name: x.Name, Why: model.Origin{At: x.Pos}}
			if len(x.Groups) > 0 {
				var names []string
				for _, g := range x.Groups {
					names = append(names, g.Name)
				}
				t.Want = append(t.Want, Value{"for-groups", names, t.Why})
			}
			for _, v := range x.Values {
				t.Want = append(t.Want, Value{v.Name, v.Values, model.Origin{At: v.Pos}})
			}
			d.Things = append(d.Things, t)
		}
	}
	slices.SortFunc(d.Things, func(a, b Thing) int {
		return cmp.Or(strings.Compare(a.Kind.String(), b.Kind.String()), strings.Compare(a.Name, b.Name))
	})
}
