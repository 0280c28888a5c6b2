package dialect

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// seen is what has been listed. It is a connect.View of the kinds that were.
type seen struct {
	objects map[model.Named]*model.Object
	in      map[[2]model.Named]bool // set and member
	members map[model.Named][]model.Named
	fold    bool
}

func (v *seen) key(n model.Named) model.Named {
	if v.fold {
		n.Name = strings.ToLower(n.Name)
	}
	return n
}

// Object implements connect.View.
func (v *seen) Object(n model.Named) *model.Object { return v.objects[v.key(n)] }

// Member implements connect.View.
func (v *seen) Member(set, member model.Named) bool {
	return v.in[[2]model.Named{v.key(set), v.key(member)}]
}

// list lists objects of some kinds, nil for all, and puts together who is in what.
func (s *session) list(ctx context.Context, kinds map[model.ObjectKind]bool) (*seen, error) {
	v := &seen{map[model.Named]*model.Object{}, map[[2]model.Named]bool{}, map[model.Named][]model.Named{}, s.file.Fold}
	for _, name := range slices.Sorted(maps.Keys(s.file.Holds)) {
		kind := model.KindNamed(name)
		if kinds != nil && !kinds[kind] {
			continue
		}
		for _, l := range s.file.Holds[name].List {
			found, err := s.found(ctx, l)
			if err != nil {
				return nil, fmt.Errorf("list %s: %w", name, err)
			}
			here := map[string]bool{}
			for _, f := range found {
				v.take(kind, f, s, here[f.Name])
				here[f.Name] = true
			}
		}
	}
	v.always(s.file, kinds)
	for set, list := range v.members {
		o := v.objects[set]
		if o == nil && s.file.Holds[set.Kind.String()] != nil { // somebody is in it, so that it is there
			o = &model.Object{Kind: set.Kind, Name: set.Name}
			v.objects[set] = o
		}
		if o == nil {
			continue
		}
		var accounts, groups []string
		for _, m := range list {
			name := m.Name
			if x := v.objects[m]; x != nil {
				name = x.Name
			}
			if m.Kind == model.Account {
				accounts = append(accounts, name)
			} else {
				groups = append(groups, name)
			}
		}
		slices.Sort(accounts)
		slices.Sort(groups)
		o.Attributes = o.Attributes.With(model.Members, slices.Compact(accounts)...).With(model.MemberGroups, slices.Compact(groups)...)
	}
	v.elevate(s.file)
	return v, nil
}

// always adds the sets that the file names; they are there also when they have no members.
func (v *seen) always(f *language.File, kinds map[model.ObjectKind]bool) {
	for kind, h := range f.Holds {
		for _, name := range h.Names {
			set := model.Named{Kind: model.KindNamed(kind), Name: name}
			if k := v.key(set); (kinds == nil || kinds[set.Kind]) && v.objects[k] == nil {
				v.objects[k] = &model.Object{Kind: set.Kind, Name: name}
			}
		}
	}
}

// elevate tells of accounts by which rights and values they administer the system, beside what the file works out of them.
func (v *seen) elevate(f *language.File) {
	by := func(o *model.Object, way string) {
		how := append(o.Attributes.Get(model.Elevation), way)
		slices.Sort(how)
		o.Attributes = o.Attributes.With(model.Elevation, slices.Compact(how)...)
	}
	for _, right := range f.Powers() {
		set := model.Named{Kind: model.RightKind, Name: right}
		for _, m := range v.members[v.key(set)] {
			if o := v.objects[m]; o != nil && m.Kind == model.Account {
				by(o, "right "+right)
			}
		}
	}
	for _, a := range f.Schema().Account().Attributes {
		if len(a.Mighty) == 0 {
			continue
		}
		for n, o := range v.objects {
			if value := o.Attributes.One(a.Name); n.Kind == model.Account && slices.Contains(a.Mighty, value) {
				by(o, a.Name+" "+value)
			}
		}
	}
}

// found are the objects that a listing tells of.
func (s *session) found(ctx context.Context, l *language.Listing) ([]language.Found, error) {
	line, err := l.Say.Typed(s.vars(), s.file.Quote)
	if err != nil {
		return nil, err
	}
	answer, err := s.say(ctx, line, nil, s.vars(), "")
	if err != nil {
		return nil, err
	}
	if why := s.file.Failure(answer); why != "" {
		return nil, fmt.Errorf("to %q it answers: %s", line, connect.Printable(why))
	}
	return l.Objects(answer, s.vars())
}

// take takes in one object that was told of.
func (v *seen) take(kind model.ObjectKind, f language.Found, s *session, again bool) {
	name, odd := connect.Fit(f.Name)
	own := model.Named{Kind: kind, Name: name}
	o := v.objects[v.key(own)]
	if o == nil {
		o = &model.Object{Kind: kind, Name: name}
		v.objects[v.key(own)] = o
	}
	if again {
		odd = "it is listed twice"
	}
	schema := s.file.Schema()
	for _, a := range slices.Sorted(maps.Keys(f.Has)) {
		values := f.Has[a]
		for i := range values {
			values[i] = connect.Printable(values[i])
		}
		switch a {
		case "members":
			for _, m := range values {
				v.join(own, model.Named{Kind: model.Account, Name: m})
			}
			continue
		case "ours":
			o.Ours = values[0] == "yes"
			continue
		case "system":
			o.System = values[0] == "yes"
			continue
		}
		if x, _ := schema.Find(kind, a); x.Many {
			slices.Sort(values)
			values = slices.Compact(values)
		}
		o.Attributes = o.Attributes.With(a, values...)
	}
	if kind == model.Account && s.access.As != "" && (f.Name == s.access.As || v.fold && strings.EqualFold(f.Name, s.access.As)) {
		o.Ours = true
	}
	for of, sets := range f.In {
		for _, set := range sets {
			v.join(model.Named{Kind: model.KindNamed(of), Name: connect.Printable(set)}, own)
		}
	}
	if kind == model.Account && o.Attributes.One(model.Disabled) != "yes" && slices.ContainsFunc(s.file.Factory, func(p string) bool {
		fits, _ := path.Match(p, f.Name)
		return fits
	}) {
		o.Attributes, o.Marked = o.Attributes.With(model.FactoryMade, "such systems are delivered with it, and it is open"), true
	}
	if odd == "" && f.Odd != "" {
		odd = connect.Printable(f.Odd)
	}
	if odd != "" {
		o.Attributes, o.Marked = o.Attributes.With(model.Odd, odd), true
	}
}

func (v *seen) join(set, member model.Named) {
	set, member = v.key(set), v.key(member)
	if key := [2]model.Named{set, member}; !v.in[key] {
		v.in[key] = true
		v.members[set] = append(v.members[set], member)
	}
}

// Survey implements connect.Session.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	v, err := s.list(ctx, nil)
	if err != nil {
		return s.fail("survey", err)
	}
	past, err := s.past(ctx)
	if err != nil {
		return s.fail("survey", err)
	}
	for _, c := range past {
		for _, name := range c.accounts {
			if o := v.Object(model.Named{Kind: model.Account, Name: name}); o != nil && c.by == s.access.As {
				o.Attributes = o.Attributes.Without(model.ChangedBy)
			} else if o != nil {
				o.Attributes = o.Attributes.With(model.ChangedBy, c.String())
			}
		}
	}
	for _, n := range slices.SortedFunc(maps.Keys(v.objects), model.Named.Compare) {
		if err := found(*v.objects[n]); err != nil {
			return err
		}
	}
	if powers := s.file.Powers(); len(powers) > 0 {
		right := model.Object{Kind: model.RightKind, Name: model.Superuser, System: true}
		right.Attributes = right.Attributes.With(model.Allows, powers...)
		if err := found(right); err != nil {
			return err
		}
	}
	if s.file.Target == nil && s.file.History == nil {
		return nil
	}
	return s.itself(ctx, past, found)
}

// commit is a change that was made, as the system remembers it.
type commit struct {
	at, by, words string
	accounts      []string // whose it was, where the system tells
}

func (c commit) String() string {
	return connect.Printable(strings.TrimSuffix(fmt.Sprintf("%s, %s: %s", c.by, c.at, c.words), ": "))
}

// past are the changes that the system remembers, the oldest first.
func (s *session) past(ctx context.Context) ([]commit, error) {
	if s.file.History == nil {
		return nil, nil
	}
	list, err := s.found(ctx, s.file.History)
	out := make([]commit, len(list))
	for i, c := range list {
		one := func(a string) string { return strings.Join(c.Has[a], " ") }
		out[i] = commit{one("at"), one("by"), one("words"), c.Has["account"]}
	}
	return out, err
}

// now is what a dialect calls what the system's clock says.
const now = "now"

// commitsTold is how many of the last changes are told.
const commitsTold = 10

// itself hands on what the system tells of itself: by how much its clock is off, and who changed what last.
func (s *session) itself(ctx context.Context, past []commit, found func(model.Object) error) error {
	o := model.Object{Kind: model.SystemKind, Name: model.Itself}
	var told []language.Found
	if s.file.Target != nil {
		var err error
		if told, err = s.found(ctx, s.file.Target); err != nil {
			return s.fail("survey", err)
		}
	}
	for _, f := range told {
		for _, a := range slices.Sorted(maps.Keys(f.Has)) {
			for i, x := range f.Has[a] {
				f.Has[a][i] = connect.Printable(x)
			}
			if at, err := time.Parse(time.RFC3339, f.Has[a][0]); a == now && err == nil {
				o.Attributes = o.Attributes.With(model.ClockOff, connect.ClockOff(at))
			} else {
				o.Attributes = o.Attributes.With(a, f.Has[a]...)
			}
		}
	}
	var last []string
	for _, c := range slices.Backward(past[max(0, len(past)-commitsTold):]) {
		last = append(last, c.String())
	}
	if last != nil {
		o.Attributes = o.Attributes.With(model.Commits, last...)
	}
	return found(o)
}
