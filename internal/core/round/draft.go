// Package round turns findings into ordered steps, says what must be approved
// before they run, and works out how to take them back.
package round

import (
	"cmp"
	"slices"

	"hen-roost/internal/core/model"
)

// Stage is the place of a step in the order that works on one target. What is
// made or changed comes at the place of its kind; then, as below, what others
// have left is free before anybody takes it, and what goes goes last, in the
// reverse order.
type Stage int

const (
	Leaving  Stage = 60 // sets are left, and seats freed,
	Joining  Stage = 61 // before they are taken
	Closing  Stage = 100
	removing Stage = 200 // less the place of the kind
)

// Step is one act with its place in the order.
type Step struct {
	model.Act
	Wave  int // from 1; the next begins only if the one before held
	Tier  int // of the target: one that feeds others has a lower one
	Stage Stage
}

// Filter chooses findings; empty fields choose all.
type Filter struct {
	Targets, Users, Kinds []string
	Only                  map[string]bool // by key; nil: all
}

func (f Filter) takes(x model.Finding) bool {
	return (f.Only == nil || f.Only[x.Key()]) && takes(f.Targets, x.Target) && takes(f.Users, x.User) && takes(f.Kinds, string(x.Kind))
}

func takes(list []string, s string) bool { return len(list) == 0 || slices.Contains(list, s) }

// Order is what the order of steps depends on beside the acts themselves.
type Order struct {
	Schemas map[string]model.Schema  // by kind of target: what must be there first
	Groups  map[string]*model.Group  // which group is inside which
	Targets map[string]*model.Target // which target comes after which
	First   map[string]bool          // targets of the first wave; empty: all are in one
}

func (o Order) schema(target string) model.Schema {
	if t := o.Targets[target]; t != nil {
		return o.Schemas[t.Kind]
	}
	return model.Schema{}
}

// Draft makes the steps that put the chosen findings right, in order. Findings
// that a person must decide yield no step and are returned beside.
func Draft(findings []model.Finding, f Filter, o Order) (steps []Step, undecided []model.Finding) {
	acts, undecided := Choose(findings, f)
	return Arrange(acts, o), undecided
}

// Choose returns the acts that put the chosen findings right, and the findings
// that a person must decide. Sets that a chosen person is to join and that are
// missing come along.
func Choose(findings []model.Finding, f Filter) (acts []model.Act, undecided []model.Finding) {
	type place struct {
		target string
		set    model.Named
	}
	needed := map[place]bool{}
	for _, x := range findings {
		if x.Verb == model.JoinIt && f.takes(x) {
			needed[place{x.Target, x.Of()}] = true
		}
	}
	for _, x := range findings {
		leansOn := x.Verb == model.Create && needed[place{x.Target, x.Of()}]
		if !f.takes(x) && !leansOn {
			continue
		}
		if x.Verb == model.NoRemedy {
			undecided = append(undecided, x)
			continue
		}
		acts = append(acts, x.Act)
	}
	return acts, undecided
}

// Arrange puts acts in an order that works: wave by wave; targets that feed
// others before those; on each target stage by stage; groups from the outermost
// in, and those that go from the innermost out.
func Arrange(acts []model.Act, o Order) []Step {
	acts, late := administratorsLate(acts)
	steps := make([]Step, len(acts))
	tiers, depths := ranks{}, ranks{}
	for i, a := range acts {
		s := Step{Act: a, Wave: 1, Stage: StageOf(a, o.schema(a.Target))}
		if i >= len(acts)-late {
			s.Stage = Stage(o.schema(a.Target).Place(model.Account)) + 1
		}
		if len(o.First) > 0 && !o.First[a.Target] {
			s.Wave = 2
		}
		s.Tier = tiers.of(a.Target, func(name string) []model.Ref {
			if t := o.Targets[name]; t != nil {
				return t.After
			}
			return nil
		})
		steps[i] = s
	}
	depth := func(a model.Act) int {
		d := depths.of(a.Name, func(name string) []model.Ref {
			if g := o.Groups[name]; g != nil {
				return g.In
			}
			return nil
		})
		if a.Verb == model.Remove {
			return -d
		}
		return d
	}
	slices.SortStableFunc(steps, func(a, b Step) int {
		if c := cmp.Or(cmp.Compare(a.Wave, b.Wave), cmp.Compare(a.Tier, b.Tier), cmp.Compare(a.Target, b.Target),
			cmp.Compare(a.Stage, b.Stage)); c != 0 {
			return c
		}
		if a.Object == model.GroupKind && !a.Moves() {
			if c := cmp.Compare(depth(a.Act), depth(b.Act)); c != 0 {
				return c
			}
		}
		return cmp.Or(cmp.Compare(verbOrder(a.Verb), verbOrder(b.Verb)), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Member, b.Member))
	})
	return steps
}

// administratorsLate has groups get those who may change who is in them when these have been made: acts of their own, which are
// the last so many.
func administratorsLate(acts []model.Act) (_ []model.Act, late int) {
	type place struct{ target, name string }
	made := map[place]bool{}
	for _, a := range acts {
		if a.Object == model.Account && a.Verb == model.Create {
			made[place{a.Target, a.Name}] = true
		}
	}
	out, last := make([]model.Act, 0, len(acts)), []model.Act{}
	for _, a := range acts {
		isMade := func(name string) bool { return made[place{a.Target, name}] }
		at := slices.IndexFunc(a.Changes, func(c model.Change) bool {
			return c.Attribute == model.Administrators && slices.ContainsFunc(c.After, isMade)
		})
		if a.Object != model.GroupKind || at < 0 {
			out = append(out, a)
			continue
		}
		then := model.Act{Target: a.Target, Verb: model.Modify, Object: a.Object, Name: a.Name, Changes: []model.Change{a.Changes[at]}}
		last = append(last, then)
		if a.Changes = slices.Delete(slices.Clone(a.Changes), at, at+1); a.Verb == model.Create || len(a.Changes) > 0 {
			out = append(out, a)
		}
	}
	return append(out, last...), len(last)
}

// ranks remembers how far each name is from those that lean on nothing.
type ranks map[string]int

// of counts the longest chain of what a name leans on. Loops are refused when a declaration is read.
func (r ranks) of(name string, on func(string) []model.Ref) int {
	if n, ok := r[name]; ok {
		return n
	}
	r[name] = 0
	n := 0
	for _, ref := range on(name) {
		n = max(n, r.of(ref.Name, on)+1)
	}
	r[name] = n
	return n
}

// StageOf says when an act may be carried out on a target of a kind.
func StageOf(a model.Act, s model.Schema) Stage {
	switch a.Verb {
	case model.LeaveIt:
		return Leaving
	case model.JoinIt:
		return Joining
	case model.Disable:
		return Closing
	case model.Remove:
		return removing - Stage(s.Place(a.Object))
	}
	return Stage(s.Place(a.Object))
}

// verbOrder lets numbers be freed before they are taken and memberships end before new ones begin.
func verbOrder(v model.Verb) int {
	return slices.Index([]model.Verb{model.AdoptIt, model.Modify, model.Create, model.Enable, model.LeaveIt, model.JoinIt, model.SetRule,
		model.Disable, model.Remove}, v)
}

// FirstOfEach chooses n targets of each kind, by name, for a first wave.
func FirstOfEach(acts []model.Act, targets map[string]*model.Target, n int) map[string]bool {
	by := map[string][]string{}
	for _, a := range acts {
		if t := targets[a.Target]; t != nil && !slices.Contains(by[t.Kind], a.Target) {
			by[t.Kind] = append(by[t.Kind], a.Target)
		}
	}
	first := map[string]bool{}
	for _, names := range by {
		slices.Sort(names)
		for _, name := range names[:min(n, len(names))] {
			first[name] = true
		}
	}
	return first
}

// Tagged chooses the targets that carry a tag, for a first wave.
func Tagged(targets map[string]*model.Target, key, value string) map[string]bool {
	first := map[string]bool{}
	for name, t := range targets {
		if t.Tags[key] == value {
			first[name] = true
		}
	}
	return first
}
