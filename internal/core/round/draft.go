// Package round turns findings into ordered steps.
package round

import (
	"cmp"
	"slices"

	"hen-roost/internal/core/model"
)

// Stage is the place of a step in the order that works: what others lean on
// comes first, and on the way out last.
type Stage int

const (
	Groups      Stage = iota // groups exist before anyone joins them
	Accounts                 // accounts are adopted, made, changed, opened
	Memberships              // then they join and leave
	Closing                  // and last are those that are shut
)

// Step is one act with its place in the order.
type Step struct {
	model.Act
	Stage Stage
}

// Filter chooses findings; empty fields choose all.
type Filter struct {
	Targets, Users, Kinds []string
}

func (f Filter) takes(x model.Finding) bool {
	return takes(f.Targets, x.Target) && takes(f.Users, x.User) && takes(f.Kinds, string(x.Kind))
}

func takes(list []string, s string) bool { return len(list) == 0 || slices.Contains(list, s) }

// Draft makes the steps that put the chosen findings right, in order: by
// target, stage, group and person. Groups that a chosen person is to join and
// that are missing come along. Findings that a person must decide yield no
// step and are returned beside.
func Draft(findings []model.Finding, f Filter) (steps []Step, undecided []model.Finding) {
	needed := map[[2]string]bool{}
	for _, x := range findings {
		if x.Verb == model.JoinIt && f.takes(x) {
			needed[[2]string{x.Target, x.Name}] = true
		}
	}
	for _, x := range findings {
		leansOn := x.Object == model.GroupKind && x.Verb == model.Create && needed[[2]string{x.Target, x.Name}]
		if !f.takes(x) && !leansOn {
			continue
		}
		if x.Verb == model.NoRemedy {
			undecided = append(undecided, x)
			continue
		}
		steps = append(steps, Step{x.Act, StageOf(x.Act)})
	}
	slices.SortStableFunc(steps, func(a, b Step) int {
		return cmp.Or(cmp.Compare(a.Target, b.Target), cmp.Compare(a.Stage, b.Stage), cmp.Compare(verbOrder(a.Verb), verbOrder(b.Verb)), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Member, b.Member))
	})
	return steps, undecided
}

// StageOf says when an act may be carried out.
func StageOf(a model.Act) Stage {
	switch {
	case a.Verb == model.Disable:
		return Closing
	case a.Object == model.GroupKind:
		return Groups
	case a.Object == model.Membership:
		return Memberships
	default:
		return Accounts
	}
}

// verbOrder lets numbers be freed before they are taken and memberships end before new ones begin.
func verbOrder(v model.Verb) int {
	return slices.Index([]model.Verb{model.AdoptIt, model.Modify, model.Create, model.Enable, model.LeaveIt, model.JoinIt, model.Disable}, v)
}
