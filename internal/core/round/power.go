package round

import (
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Power is what makes somebody superuser on a target. The zero Power is none
// that is known, as on targets that have no superuser.
type Power struct {
	accounts map[string]bool // that have it as soon as they are there
	groups   map[string]bool // that give it to whoever is in them
	numbers  map[string]bool // of accounts
	rights   map[string]bool // that make whoever has them superuser
	everyone bool
}

// PowerOf reads the right by which a target tells of it (model.Superuser); nil tells of none.
func PowerOf(o *model.Object) Power {
	p := Power{accounts: map[string]bool{}, groups: map[string]bool{}, numbers: map[string]bool{}, rights: map[string]bool{}}
	if o == nil {
		return p
	}
	for into, attribute := range map[*map[string]bool]string{&p.accounts: model.Members, &p.groups: model.MemberGroups,
		&p.numbers: model.Number, &p.rights: model.Allows} {
		for _, v := range o.Attributes.Get(attribute) {
			(*into)[v] = true
		}
	}
	p.everyone = p.accounts[model.Everyone]
	return p
}

// Gains says through what an act lets somebody become superuser, "" when it does not.
func (f Facts) Gains(a model.Act) string {
	p := f.Power
	switch {
	case a.Verb == model.JoinIt && a.Object == model.ElevationKind:
		return a.Name
	case a.Verb == model.JoinIt && a.Object == model.GroupKind && p.groups[a.Name]:
		return "group " + a.Name
	case a.Verb == model.JoinIt && a.Object == model.RightKind && (p.rights[a.Name] || f.Mighty != nil && f.Mighty(a.Name)):
		return "right " + a.Name
	case a.Object != model.Account || a.Moves() || a.Verb == model.NoRemedy || a.Verb == model.Disable || a.Verb == model.Remove ||
		a.Verb == model.AdoptIt:
		return ""
	case a.Verb == model.Enable:
		if o := f.Seen[a.Name]; o != nil && o.Attributes.Has(model.Elevation) {
			return strings.Join(o.Attributes.Get(model.Elevation), " and ")
		}
	case a.Verb == model.Create && (p.everyone || p.accounts[a.Name]):
		return "named where superusers are"
	}
	for _, c := range a.Changes {
		fresh := len(c.After) > 0 && !slices.Equal(c.Before, c.After)
		switch {
		case c.Sealed != "" || waysIn[c.Attribute] != "" && opens(c): // whoever has it can become what the account can
			if o := f.Seen[a.Name]; o != nil && o.Attributes.Has(model.Elevation) {
				what := waysIn[c.Attribute]
				if c.Sealed != "" {
					what = model.Called(c.Attribute)
				}
				return "a new " + what + " of an account with " + strings.Join(o.Attributes.Get(model.Elevation), " and ")
			}
		case !fresh:
		case c.Attribute == model.Elevation:
			return strings.Join(c.After, ", ")
		case c.Attribute == model.PrimaryGroup && p.groups[c.After[0]]:
			return "primary group " + c.After[0]
		case c.Attribute == model.Number && p.numbers[c.After[0]]:
			return "number " + c.After[0]
		}
	}
	return ""
}

// waysIn are attributes that say who gets into an account, in words.
var waysIn = map[string]string{model.Keys: "key", model.SignIn: "way to sign in"}

// opens says whether a change of ways in brings one that was not there.
func opens(c model.Change) bool {
	return slices.ContainsFunc(c.After, func(k string) bool { return !slices.Contains(c.Before, k) })
}

// Weakens says whether an act could take superuser rights from somebody who has
// them: then who else has them must be known as it is now.
func (f Facts) Weakens(a model.Act) bool {
	if len(f.Administrators) == 0 {
		return false
	}
	x := newAdmins(f)
	before := len(x.ways)
	x.loses(a)
	return len(x.ways) < before
}

// admins follows through steps who can still administer a target.
type admins struct {
	f    Facts
	ways map[string][]string
	any  bool // there were some
	told bool
}

func newAdmins(f Facts) *admins {
	a := &admins{f: f, ways: map[string][]string{}, any: len(f.Administrators) > 0}
	for name, ways := range f.Administrators {
		a.ways[name] = ways
	}
	return a
}

// none says, once, that nobody is left of those there were.
func (x *admins) none() bool {
	if x.any && len(x.ways) == 0 && !x.told {
		x.told = true
		return true
	}
	return false
}

// finds counts somebody whose account is adopted, and who administers the target by what it has: from then on they could be the last.
func (x *admins) finds(a model.Act) {
	if o := x.f.Seen[a.Name]; a.Verb == model.AdoptIt && o != nil && o.Administers() {
		x.ways[a.Name], x.any = o.Attributes.Get(model.Elevation), true
	}
}

// loses takes from somebody what an act takes from them. What acts give counts
// only once it is read back.
func (x *admins) loses(a model.Act) {
	switch {
	case a.Object == model.Account && (a.Verb == model.Disable || a.Verb == model.Remove):
		delete(x.ways, a.Name)
	case a.Verb == model.LeaveIt && a.MemberKind != model.GroupKind:
		x.drop(a.Member, a.Object.String()+" "+a.Name)
	case a.Verb == model.LeaveIt, a.Object == model.GroupKind && a.Verb == model.Remove:
		for name := range x.ways { // who is in the inner group is not known here: all are
			x.drop(name, "group "+a.Name)
			x.drop(name, "primary group "+a.Name)
		}
	case a.Object == model.Account && a.Verb == model.Modify:
		for _, c := range a.Changes {
			switch {
			case len(c.Before) == 0 || slices.Equal(c.Before, c.After):
			case c.Attribute == model.PrimaryGroup:
				x.drop(a.Name, "primary group "+c.Before[0])
			case c.Attribute == model.Number:
				x.drop(a.Name, "number "+c.Before[0])
			case c.Attribute == model.Elevation && len(c.After) == 0:
				delete(x.ways, a.Name)
			}
		}
	}
}

func (x *admins) drop(name, way string) {
	ways, has := x.ways[name]
	if !has || !slices.Contains(ways, way) {
		return
	}
	left := slices.DeleteFunc(slices.Clone(ways), func(w string) bool { return w == way })
	if x.ways[name] = left; len(left) == 0 {
		delete(x.ways, name)
	}
}
