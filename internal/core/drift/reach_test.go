package drift_test

import (
	"fmt"
	"hash/maphash"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// village is a small declaration whose people resemble each other.
type village struct {
	*rand.Rand
	people map[string]string // by id, as they stand in the file
}

const villageRest = `groups: {all: {}, crew: {in: [all]}, deck: {in: [crew]}, bar: {members: at-least}}
roles:
  everyone: {held-when: "!user.service && user.id != 'u7'", gives: [{at: staff, account: {shell: "/home/${user.id}"}}]}
  deck: {gives: [{at: {kind: host}, account: {shell: "/bin/${target.tags.shell}"}, groups: [deck]}, {at: staff, groups: [deck]}]}
  bar: {gives: [{at: {kind: host}, groups: [bar]}, {at: staff, groups: [all, bar]}]}
targets:
  arctic: {kind: host, address: a, login: {as: root}, tags: {shell: bash}, unexpected: disable, protect: ["svc*"], match: [name, number, mail, full-name]}
  staff: {kind: directory, address: b, login: {as: root}}
`

var villageSchemas = map[string]model.Schema{"host": schema, "directory": {Kind: "directory", FoldNames: true, Kinds: []model.KindSchema{
	{Kind: model.Account, Name: model.OnePart("login", "."),
		Attributes: []model.AttributeSchema{{Name: model.Number, From: "number"}, {Name: model.Mail, From: "mail", Fold: true},
			{Name: model.FullName, From: "name"}, {Name: "shell", Settable: true}, {Name: model.Disabled}}},
	{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account, model.GroupKind},
		Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}}}

func (v *village) put(i int) {
	id := fmt.Sprintf("u%d", i)
	s := fmt.Sprintf("{name: Name %d, mail: m%d@x, number: %d", v.IntN(40), v.IntN(40), 1000+2*i+v.IntN(2))
	var roles []string
	for _, r := range []string{"deck", "bar"} {
		if v.IntN(3) > 0 {
			roles = append(roles, r)
		}
	}
	s += ", roles: [" + strings.Join(roles, ", ") + "]"
	switch v.IntN(12) {
	case 0:
		s += ", accounts: {arctic: none}"
	case 1:
		s += fmt.Sprintf(", accounts: {arctic: {name: x%d}}", i)
	case 2:
		s += ", from: 2027-01-01"
	case 3:
		s += ", service: true"
	}
	v.people[id] = s + "}"
}

func (v *village) read(t *testing.T) *model.Declaration {
	t.Helper()
	var b strings.Builder
	b.WriteString("roost: 1\nusers:\n")
	for id, text := range v.people {
		b.WriteString("  " + id + ": " + text + "\n")
	}
	d, err := declare.Read([]declare.File{{Name: "v.yaml", Text: b.String() + villageRest}}, villageSchemas)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// seen is what a target holds: much as it should be, and not all.
func (v *village) seen(d *resolve.Desired) drift.Input {
	in := drift.Input{Desired: d}
	members := map[string][]string{}
	for a := range d.Accounts() {
		if v.IntN(12) == 0 {
			continue
		}
		name := a.Name
		if v.IntN(30) == 0 {
			name += "-old"
		}
		o := model.Object{Kind: model.Account, Name: name}
		for _, w := range a.Want() {
			o.Attributes = o.Attributes.With(w.Name, w.Values...)
		}
		if v.IntN(15) == 0 {
			o.Attributes = o.Attributes.With(model.Number, fmt.Sprint(1000+v.IntN(90)))
		}
		if v.IntN(10) == 0 {
			o.Attributes = o.Attributes.With("shell", "/bin/odd")
		}
		in.Accounts = append(in.Accounts, o)
		if v.IntN(15) > 0 {
			in.Links = append(in.Links, model.Link{User: a.ID, Name: name})
		}
		for _, j := range a.Sets() {
			if v.IntN(10) > 0 {
				members[j.Set.Name] = append(members[j.Set.Name], name)
			}
		}
	}
	for i := range v.IntN(4) {
		in.Accounts = append(in.Accounts, model.Object{Kind: model.Account,
			Name: fmt.Sprintf("%s%d", []string{"svc", "w", "u", "U"}[v.IntN(4)], 30+i),
			Attributes: model.Pack(model.Attribute{Name: model.Number, Values: []string{fmt.Sprint(1000 + v.IntN(90))}},
				model.Attribute{Name: model.Mail, Values: []string{fmt.Sprintf("m%d@x", v.IntN(40))}},
				model.Attribute{Name: model.FullName, Values: []string{fmt.Sprintf("Name %d", v.IntN(40))}})})
	}
	for _, g := range d.Sets {
		if v.IntN(8) == 0 {
			members[g.Name] = append(members[g.Name], fmt.Sprintf("u%d", v.IntN(45)))
		}
		if v.IntN(10) > 0 {
			in.Others = append(in.Others, model.Object{Kind: model.GroupKind, Name: g.Name,
				Attributes: model.Pack(model.Attribute{Name: model.Members, Values: members[g.Name]})})
		}
	}
	slices.SortFunc(in.Accounts, func(a, b model.Object) int { return strings.Compare(a.Name, b.Name) })
	return in
}

// within is the part of a target's observations that a change can concern.
func within(in drift.Input, r *drift.Reach) drift.Input {
	out := drift.Input{Desired: in.Desired, Reach: r}
	for _, o := range in.Accounts {
		if slices.Contains(r.Names, o.Name) {
			out.Accounts = append(out.Accounts, o)
		}
	}
	for _, l := range in.Links {
		if slices.Contains(r.Users, l.User) {
			out.Links = append(out.Links, l)
		}
	}
	for _, g := range in.Others {
		if slices.Contains(r.Sets, model.Named{Kind: g.Kind, Name: g.Name}) {
			list := slices.DeleteFunc(g.Attributes.Get(model.Members), func(m string) bool { return !slices.Contains(r.Names, m) })
			out.Others = append(out.Others, model.Object{Kind: g.Kind, Name: g.Name, Attributes: g.Attributes.With(model.Members, list...)})
		}
	}
	return out
}

// linked tells of the links by the accounts, as far as they can.
func linked(in drift.Input) drift.Input {
	in.Accounts = slices.Clone(in.Accounts)
	in.Links = slices.DeleteFunc(slices.Clone(in.Links), func(l model.Link) bool {
		i := slices.IndexFunc(in.Accounts, func(o model.Object) bool { return o.Name == l.Name && o.Name == l.User })
		if i >= 0 {
			in.Accounts[i].Linked = true
		}
		return i >= 0
	})
	return in
}

func said(list []model.Finding) string {
	var lines []string
	for _, f := range list {
		lines = append(lines, fmt.Sprintf("%+v", f))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// turns is how often something random is tried: an eighth of it, unless LONG is set.
func turns(n int) int {
	if os.Getenv("LONG") == "" {
		return n / 8
	}
	return n
}

// After a change of some people, what is in reach and what was found before
// come to what a comparison of everything finds.
func TestReach(t *testing.T) {
	short, whole := 0, 0
	for range turns(400) {
		seed := rand.Uint64()
		v := &village{rand.New(rand.NewPCG(seed, 2)), map[string]string{}}
		for i := range 30 {
			v.put(i)
		}
		d := v.read(t)
		before, err := resolve.Resolve(d, villageSchemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
		if err != nil {
			t.Fatal(err)
		}
		var changed []string
		for range 1 + v.IntN(2) {
			i := v.IntN(33)
			if v.IntN(6) == 0 {
				delete(v.people, fmt.Sprintf("u%d", i))
			} else {
				v.put(i)
			}
			changed = append(changed, fmt.Sprintf("u%d", i), fmt.Sprintf("u%d", v.IntN(30))) // one of them is as they were
		}
		slices.Sort(changed)
		next := *d
		next.Users = v.read(t).Users
		after, err := resolve.Resolve(&next, villageSchemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
		if err != nil {
			t.Fatal(err)
		}
		for id, u := range next.Users {
			if !slices.Contains(changed, id) {
				next.Users[id] = d.Users[id]
			} else {
				next.Users[id] = u
			}
		}
		follows, change, err := before.Follow(&next, slices.Compact(changed))
		if err != nil {
			t.Fatal(err)
		}
		for name, d := range before.Targets {
			in := v.seen(d)
			was, loose := drift.Loose(in)
			in.Desired = after.Targets[name]
			want := said(drift.Compare(in))
			if got := said(drift.Compare(linked(in))); got != want {
				t.Fatalf("seed %d, %s: told by the accounts it is otherwise:\n%s\nwant\n%s", seed, name, got, want)
			}
			in.Desired = follows.Targets[name]
			if got := said(drift.Compare(in)); got != want {
				t.Fatalf("seed %d: the plan that follows asks otherwise of %s:\n%s\nwant\n%s", seed, name, got, want)
			}
			if in.Desired.Len() != after.Targets[name].Len() {
				t.Fatalf("seed %d: %d accounts on %s, want %d", seed, in.Desired.Len(), name, after.Targets[name].Len())
			}
			if change.Anew[name] || slices.ContainsFunc(drift.Keys(change), func(k uint64) bool { return slices.Contains(loose, k) }) {
				whole++
				continue
			}
			links := slices.DeleteFunc(slices.Clone(in.Links), func(l model.Link) bool {
				return !slices.ContainsFunc(change.People, func(p resolve.Pair) bool { return p.ID() == l.User })
			})
			if r := drift.ReachOf(change, follows, name, links); r != nil {
				short++
				was = slices.DeleteFunc(was, func(f model.Finding) bool { return r.Holds(f.Act) })
				was = append(was, drift.Compare(within(in, r))...)
			}
			if got := said(was); got != want {
				t.Fatalf("seed %d, %s, changed %v:\n%s\nwant\n%s", seed, name, changed, got, want)
			}
		}
	}
	if short < turns(100) || whole < turns(50) {
		t.Errorf("%d comparisons in reach, %d of everything", short, whole)
	}
}

// With what is known from before, whatever came in between, a comparison finds
// what one that knows nothing finds.
func TestKnown(t *testing.T) {
	for range turns(150) {
		seed := rand.Uint64()
		v := &village{rand.New(rand.NewPCG(seed, 4)), map[string]string{}}
		for i := range 30 {
			v.put(i)
		}
		d := v.read(t)
		plan, err := resolve.Resolve(d, villageSchemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
		if err != nil {
			t.Fatal(err)
		}
		ins, knowns := map[string]drift.Input{}, map[string]*drift.Known{}
		for name, d := range plan.Targets {
			ins[name], knowns[name] = linked(v.seen(d)), drift.NewKnown(maphash.MakeSeed())
		}
		for step := range 8 {
			for name, in := range ins {
				in.Desired = plan.Targets[name]
				want := said(drift.Compare(in))
				in.Known = knowns[name]
				if got := said(drift.Compare(in)); got != want {
					t.Fatalf("seed %d, step %d, %s:\n%s\nwant\n%s", seed, step, name, got, want)
				}
				switch i := v.IntN(len(in.Accounts)); v.IntN(5) {
				case 0:
					in.Accounts[i].Attributes = in.Accounts[i].Attributes.With("shell", fmt.Sprintf("/bin/%d", v.IntN(3)))
				case 1:
					in.Accounts[i].Linked = !in.Accounts[i].Linked
				case 2:
					in.Accounts = slices.Delete(in.Accounts, i, i+1)
				case 3:
					if len(in.Others) > 0 {
						g := &in.Others[v.IntN(len(in.Others))]
						g.Attributes = g.Attributes.With(model.Members, append(g.Attributes.Get(model.Members),
							fmt.Sprintf("u%d", v.IntN(32)))...)
					}
				}
				ins[name] = in
			}
			switch v.IntN(3) {
			case 0: // somebody changes
				i := v.IntN(32)
				id := fmt.Sprintf("u%d", i)
				v.put(i)
				next := *plan.Declaration()
				next.Users = maps.Clone(next.Users)
				next.Users[id] = v.read(t).Users[id]
				if plan, _, err = plan.Follow(&next, []string{id}); err != nil {
					t.Fatal(err)
				}
			case 1: // everything is read anew
				if plan, err = resolve.Resolve(plan.Declaration(), villageSchemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
					nil); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
}
