package round

import (
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
)

// gains says through what an act lets somebody become superuser, after the steps before it; "" when it does not.
func (f Facts) gains(a model.Act, c *power.Course) string {
	switch {
	case a.Verb == model.JoinIt && a.Object == model.ElevationKind:
		return a.Name
	case a.Verb == model.JoinIt && c.Gives(a.Of()):
		return a.Object.String() + " " + a.Name
	case a.Object != model.Account || a.Moves() || a.Verb == model.NoRemedy || a.Verb == model.Disable || a.Verb == model.Remove ||
		a.Verb == model.AdoptIt:
		return ""
	case a.Verb == model.Enable:
		return strings.Join(f.ways(a.Name, c), " and ")
	}
	for _, x := range a.Changes {
		if x.Attribute == model.Elevation && len(x.After) > 0 && !slices.Equal(x.Before, x.After) {
			return strings.Join(x.After, ", ")
		}
	}
	had := c.Ways(a.Name)
	if a.Verb == model.Create {
		had = nil
	}
	for _, way := range c.WaysAfter(a) {
		if !slices.Contains(had, way) {
			return way
		}
	}
	for _, x := range a.Changes {
		if x.Sealed == "" && (waysIn[x.Attribute] == "" || !opens(x)) {
			continue
		}
		if ways := f.ways(a.Name, c); len(ways) > 0 { // a new way in lets somebody use the account's power
			what := waysIn[x.Attribute]
			if x.Sealed != "" {
				what = model.Called(x.Attribute)
			}
			return "a new " + what + " of an account with " + strings.Join(ways, " and ")
		}
	}
	return ""
}

// ways are through what an account can become superuser: as the target tells, or else as steps before have made it.
func (f Facts) ways(name string, c *power.Course) []string {
	if o := f.Seen[name]; o != nil && o.Attributes.Has(model.Elevation) {
		return o.Attributes.Get(model.Elevation)
	}
	return c.Ways(name)
}

// waysIn are attributes that say who gets into an account, in words.
var waysIn = map[string]string{model.Keys: "key", model.SignIn: "way to sign in"}

// opens says whether a change of ways in brings one that was not there.
func opens(c model.Change) bool {
	return slices.ContainsFunc(c.After, func(k string) bool { return !slices.Contains(c.Before, k) })
}

// Weakens says whether some acts could take superuser rights from somebody who has
// them: then who else has them must be known as it is now.
func (f Facts) Weakens(acts []Step) bool {
	x := newAdmins(f)
	for _, a := range acts {
		if x.last(a.Act) {
			return true
		}
	}
	return len(x.left) < len(f.Administrators)
}

// Spreads says whether some steps could change more on the target than what they name: see power.Spreads.
func (f Facts) Spreads(steps []Step, schema model.Schema) bool {
	acts := make([]model.Act, len(steps))
	for i, s := range steps {
		acts[i] = s.Act
	}
	return f.Power.Spreads(acts, schema, f.Target.Homes.Stale > 0)
}

// admins follows through steps who can still administer a target.
type admins struct {
	f      Facts
	course *power.Course
	left   map[string]bool
}

func newAdmins(f Facts) *admins {
	return &admins{f: f, course: f.Power.Course(), left: maps.Clone(f.Administrators)}
}

// finds counts somebody whose account is adopted, and who administers the target by what it has: from then on they could be the last.
func (x *admins) finds(a model.Act) {
	if o := x.f.Seen[a.Name]; a.Verb == model.AdoptIt && o != nil && o.Administers() {
		if x.left == nil {
			x.left = map[string]bool{}
		}
		x.left[a.Name] = true
	}
}

// last says whether an act would take from the last who can administer the target what lets them: then it does not count, since it
// is not carried out. What acts give counts only once it is read back.
func (x *admins) last(a model.Act) bool {
	if len(x.left) == 0 {
		return false
	}
	if a.Object == model.Account && (a.Verb == model.Disable || a.Verb == model.Remove) {
		if x.left[a.Name] && len(x.left) == 1 {
			return true
		}
		delete(x.left, a.Name)
		return false
	}
	if !x.course.Concerns(a) {
		return false
	}
	course, left := x.course.Clone(), map[string]bool{}
	course.Take(a, true)
	for name := range x.left {
		if len(course.Ways(name)) > 0 {
			left[name] = true
		}
	}
	if len(left) == 0 {
		return true
	}
	x.course, x.left = course, left
	return false
}
