package resolve

import (
	"encoding/binary"
	"maps"
	"slices"

	"hen-roost/internal/core/model"
)

// class is a number of targets that the same grants reach. What holders of a
// bundle get there, and which sets there are, is the same on all of them, and
// kept once: of ten thousand targets there are seldom more than some dozens.
type class struct {
	n       int
	kind    string
	targets []string // sorted
	reached []*grant // in order of their numbers
	shapes  []*shape // by bundle; nil: nothing here. Later bundles may be missing.
}

// shape is what the holders of a bundle get here; nil: nothing.
func (c *class) shape(b *bundle) *shape {
	if b.number < len(c.shapes) {
		return c.shapes[b.number]
	}
	return nil
}

// classify puts targets together that the same grants and declared rights reach.
func (r *resolver) classify() {
	reached, targets := map[string][]*grant{}, model.NewChooser(r.d.Targets)
	for _, name := range slices.Sorted(maps.Keys(r.grants)) {
		for _, g := range r.grants[name] {
			for _, t := range targets.Chosen(g.At) {
				reached[t.Name] = append(reached[t.Name], g)
			}
		}
	}
	by := map[string]*class{}
	var key []byte
	for _, name := range slices.Sorted(maps.Keys(r.plan.Targets)) {
		d := r.plan.Targets[name]
		grants := reached[name]
		key = append(append(key[:0], d.Target.Kind...), 0)
		for _, g := range grants {
			key = binary.AppendUvarint(key, uint64(g.n))
		}
		for _, x := range d.rights {
			key = append(append(key, 0), x.Name...)
		}
		c := by[string(key)]
		if c == nil {
			c = &class{n: len(r.classes), kind: d.Target.Kind, reached: grants}
			by[string(key)] = c
			r.classes = append(r.classes, c)
			for _, g := range grants {
				g.at = append(g.at, c)
			}
		}
		c.targets = append(c.targets, name)
	}
}

// reach finds for a bundle what each class of targets gets asked of its holders.
func (r *resolver) reach(b *bundle) {
	reached := make([][]*grant, len(r.classes))
	for _, role := range b.roles {
		for _, g := range r.grants[role] {
			for _, c := range g.at {
				reached[c.n] = append(reached[c.n], g)
			}
		}
	}
	var key []byte
	for n, grants := range reached {
		if grants == nil {
			continue
		}
		c := r.classes[n]
		key = append(key[:0], c.kind...)
		for _, g := range grants {
			key = binary.AppendUvarint(append(key, 0), uint64(g.n))
		}
		sh := r.shapes[string(key)]
		if sh == nil {
			sh = r.shape(r.plan.schemas[c.kind], grants)
			r.shapes[string(key)] = sh
		}
		if more := b.number + 1 - len(c.shapes); more > 0 {
			c.shapes = append(c.shapes, make([]*shape, more)...)
		}
		c.shapes[b.number] = sh
		b.classes = append(b.classes, int32(n))
	}
	b.classes = slices.Clip(b.classes)
}

// classesOf are the classes where holders of a bundle get something.
func (k *kit) classesOf(b *bundle) []*class {
	out := make([]*class, len(b.classes))
	for i, n := range b.classes {
		out[i] = k.classes[n]
	}
	return out
}

// targetsOf are the targets where holders of a bundle get something, sorted.
func (k *kit) targetsOf(b *bundle) []string {
	var out []string
	for _, n := range b.classes {
		out = append(out, k.classes[n].targets...)
	}
	slices.Sort(out)
	return out
}

// finish gathers what concerns the targets of a class, and gives it to them.
func (r *resolver) finish(c *class) {
	sets := r.setsOf(c)
	for _, name := range c.targets {
		d := r.plan.Targets[name]
		d.shapes, d.Sets = c.shapes, sets
	}
}

// setsOf lists the sets that targets of a class need: those their accounts are in,
// where they nest the groups around them, and all that somebody could be given there.
func (r *resolver) setsOf(c *class) []*Set {
	l := lister{r: r, nests: r.plan.schemas[c.kind].Nests(), by: map[model.Named]*Set{}}
	for i, sh := range c.shapes {
		if sh != nil && r.plan.holders[i] > 0 {
			for _, j := range sh.sets {
				l.put(j.Set, j.Why)
			}
		}
	}
	schema := r.plan.schemas[c.kind]
	for _, x := range r.plan.Targets[c.targets[0]].rights {
		for _, name := range Permissions(schema, x) {
			l.put(model.Named{Kind: model.RightKind, Name: name}, model.Origin{At: x.Pos})
		}
	}
	for _, g := range c.reached {
		for _, set := range r.sets(schema, g) {
			if set.Kind != model.GroupKind {
				l.put(set, model.Origin{Role: g.role, At: g.Pos})
			}
		}
	}
	slices.SortFunc(l.out, func(a, b *Set) int { return a.Named.Compare(b.Named) })
	return l.out
}

// lister lists sets, each once.
type lister struct {
	r     *resolver
	nests bool
	by    map[model.Named]*Set
	out   []*Set
}

func (l *lister) put(name model.Named, why model.Origin) *Set {
	if s := l.by[name]; s != nil {
		return s
	}
	s := &Set{Named: name, Why: why}
	l.by[name] = s
	l.out = append(l.out, s)
	if name.Kind != model.GroupKind {
		return s
	}
	m := l.r.d.Groups[name.Name]
	for _, k := range m.Keepers {
		s.Keepers = append(s.Keepers, k.Name)
	}
	if m.Keepers != nil && s.Keepers == nil {
		s.Keepers = []string{}
	}
	s.Number, s.Owner, s.AtLeast, s.Groups, s.Why.At = m.Number, m.Owner.Name, m.AtLeast, map[string]model.Origin{}, m.Pos
	if l.nests {
		for _, outer := range m.In {
			l.put(model.Named{Kind: model.GroupKind, Name: outer.Name}, why).Groups[name.Name] = model.Origin{At: outer.Pos}
		}
	}
	return s
}
