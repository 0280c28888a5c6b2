package connecttest

import (
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
)

// What is stored after a batch is what a survey would say: the objects as they were read back, who is in what, and what surveys
// alone tell. A batch that changes more than that is one after which the target is surveyed (power.Spreads).

// stored are the objects of a survey after a batch, as its answers leave them.
func stored(was map[model.Named]model.Object, acts []model.Act, answers []connect.Answer) map[model.Named]model.Object {
	out := maps.Clone(was)
	for i, x := range answers {
		for _, o := range x.Made {
			out[model.Named{Kind: o.Kind, Name: o.Name}] = o
		}
		for _, n := range x.Gone {
			delete(out, n)
		}
		a := acts[i]
		n := a.Of()
		before, known := out[n]
		switch {
		case x.Object == nil && a.Verb == model.Remove && (x.Outcome == connect.Done || x.Outcome == connect.AlreadySo):
			delete(out, n)
			for set, o := range out { // who is gone is in nothing any more
				members := model.MembersOf(n.Kind)
				list := o.Attributes.Get(members)
				if rest := slices.DeleteFunc(slices.Clone(list), func(m string) bool { return m == n.Name }); len(rest) < len(list) {
					o.Attributes = o.Attributes.With(members, rest...)
					out[set] = o
				}
			}
		case x.Object != nil:
			o := *x.Object
			if known {
				o = model.Carried(before, o)
			}
			o.Attributes = o.Attributes.Without(model.Members, model.MemberGroups)
			for _, members := range []string{model.Members, model.MemberGroups} {
				if list := before.Attributes.Get(members); list != nil {
					o.Attributes = o.Attributes.With(members, list...)
				}
			}
			out[n] = o
		}
		if o, there := out[n]; there && x.In != nil {
			members := model.MembersOf(a.MemberKind)
			list := slices.DeleteFunc(slices.Clone(o.Attributes.Get(members)), func(m string) bool { return m == a.Member })
			if *x.In {
				list = append(list, a.Member)
			}
			slices.Sort(list)
			o.Attributes = o.Attributes.With(members, list...)
			out[n] = o
		}
	}
	return out
}

// byItself are attributes that change without anybody's doing, or that a target writes for itself whatever is done.
var byItself = []string{model.LastSignIn, model.FailedSignIns, model.ChangedBy}

// told is an object as it is compared; "" for one that is not there, and for a set that nobody is in where sets come by joining.
func (x suite) told(all map[model.Named]model.Object, n model.Named) string {
	o, there := all[n]
	if !there {
		return ""
	}
	m := o.Attributes.Without(byItself...).Map()
	empty := len(slices.Concat(slices.Collect(maps.Values(m))...)) == 0
	if k := x.schema.Of(n.Kind); empty && k != nil && k.Does(model.JoinIt) && !k.Does(model.Create) {
		return ""
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(m)) {
		values := slices.Clone(m[name])
		slices.Sort(values)
		if len(values) > 0 {
			parts = append(parts, name+"="+strings.Join(values, ","))
		}
	}
	return "there " + strings.Join(parts, " ")
}

// surveyed is a survey on a session of its own.
func (x suite) surveyed() map[model.Named]model.Object {
	s := x.open()
	defer s.Close()
	return Surveyed(x, s)
}

// agrees faults what is stored after a batch where a survey says otherwise.
func (x suite) agrees(what string, was map[model.Named]model.Object, acts []model.Act, answers []connect.Answer) {
	x.Helper()
	if x.power(was).Spreads(acts, x.schema, false) {
		return
	}
	is, kept := x.surveyed(), stored(was, acts, answers)
	for _, n := range slices.SortedFunc(maps.Keys(is), model.Named.Compare) {
		kept[n] = kept[n] // what only the survey knows counts too
	}
	for _, n := range slices.SortedFunc(maps.Keys(kept), model.Named.Compare) {
		if n.Kind == model.SystemKind || n.Kind == model.SessionKind || n.Kind == model.HomeKind {
			continue
		}
		if a, b := x.told(kept, n), x.told(is, n); a != b && !(b == "" && kept[n].Name == "") {
			x.Errorf("%s: %s %s is stored as %q, and a survey says %q", what, n.Kind, n.Name, a, b)
		}
	}
}

// power is who can become superuser, out of a survey.
func (x suite) power(all map[model.Named]model.Object) *power.Power {
	var right *model.Object
	var ways []model.Named
	for n, o := range all {
		if n.Kind == model.RightKind && n.Name == model.Superuser {
			right = &o
		}
		if n.Kind == model.ElevationKind {
			ways = append(ways, n)
		}
	}
	var mighty func(string) bool
	if k := x.schema.Of(model.RightKind); k != nil && k.Spelled != nil {
		mighty = k.Spelled.Mighty
	}
	p, err := power.Of(right, ways, nil, mighty, x.schema.FoldNames, func(names []model.Named) (out []model.Object, err error) {
		for _, n := range names {
			if o, there := all[n]; there {
				out = append(out, o)
			}
		}
		return out, nil
	})
	if err != nil {
		x.Fatal(err)
	}
	for n, o := range all {
		if n.Kind == model.Account {
			p.Account(&o)
		}
	}
	return p
}
