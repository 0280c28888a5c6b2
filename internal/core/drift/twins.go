package drift

import (
	"cmp"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Contrast is something in which two targets differ that should be alike.
type Contrast struct {
	Kind      model.ObjectKind
	Name      string // of the object
	Attribute string // "": it is on one of them alone
	One       []string
	Other     []string
}

// ownAlone are attributes that differ between any two targets, and say nothing.
var ownAlone = append([]string{model.HostName, model.Addresses, model.UpSince, model.ClockOff, model.Members, model.MemberGroups,
	model.PasswordChanged, model.ChangedBy}, model.OfSurveys...)

// Twins compares what two targets were seen to hold, accounts first. Each side comes in any order; who is signed in, and
// what people left behind, is nobody's twin. Of sets it tells the members that only one of them has.
func Twins(one, other []model.Object) []Contrast {
	var out []Contrast
	sides := [2]map[model.Named]*model.Object{byName(one), byName(other)}
	for name, a := range sides[0] {
		b := sides[1][name]
		if b == nil {
			out = append(out, Contrast{Kind: name.Kind, Name: name.Name, One: []string{"there"}})
			continue
		}
		out = append(out, unlike(a, b)...)
	}
	for name := range sides[1] {
		if sides[0][name] == nil {
			out = append(out, Contrast{Kind: name.Kind, Name: name.Name, Other: []string{"there"}})
		}
	}
	slices.SortFunc(out, func(a, b Contrast) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), strings.Compare(a.Attribute, b.Attribute))
	})
	return out
}

func byName(list []model.Object) map[model.Named]*model.Object {
	out := map[model.Named]*model.Object{}
	for i := range list {
		if o := &list[i]; o.Kind != model.SessionKind && o.Kind != model.HomeKind {
			out[model.Named{Kind: o.Kind, Name: o.Name}] = o
		}
	}
	return out
}

// unlike compares one object as two targets hold it.
func unlike(a, b *model.Object) (out []Contrast) {
	names := map[string]bool{}
	for name := range a.Attributes.All() {
		names[name] = true
	}
	for name := range b.Attributes.All() {
		names[name] = true
	}
	for name := range names {
		x, y := a.Attributes.Get(name), b.Attributes.Get(name)
		switch {
		case name == model.Members || name == model.MemberGroups:
			x, y = without(x, y), without(y, x)
		case slices.Contains(ownAlone, name):
			continue
		}
		if len(x)+len(y) > 0 && !model.SameSet(x, y, func(s string) string { return s }) {
			out = append(out, Contrast{a.Kind, a.Name, name, x, y})
		}
	}
	return out
}

// without are those of a list that another lacks.
func without(a, b []string) (out []string) {
	has := make(map[string]bool, len(b))
	for _, s := range b {
		has[s] = true
	}
	for _, s := range a {
		if !has[s] {
			out = append(out, s)
		}
	}
	return out
}

// Like is what is known of a target among those that are like it.
type Like struct {
	Target     string
	Details    map[string]string // what it tells of itself, one value each
	Accounts   []string          // of people, open ones
	Superusers []string          // those of them that can become superuser
}

// oddMost is how many names are told of one oddity.
const oddMost = 6

// OddAmong says of each target what is odd about it among its like: a detail that most of the others have otherwise, an
// account or a superuser that no other has, an account that all others have. Of fewer than three nothing is odd.
func OddAmong(list []Like, details ...string) map[string][]string {
	out := map[string][]string{}
	if len(list) < 3 {
		return out
	}
	for _, detail := range details {
		n, usual := map[string]int{}, ""
		for _, t := range list {
			v := t.Details[detail]
			if n[v]++; n[v] > n[usual] || n[v] == n[usual] && v < usual {
				usual = v
			}
		}
		for _, t := range list {
			if v := t.Details[detail]; v != usual && usual != "" && 2*n[usual] > len(list) {
				out[t.Target] = append(out[t.Target], model.Called(detail)+" is "+cmp.Or(v,
					"not told")+", and "+usual+" on most of the others")
			}
		}
	}
	accounts, superusers := map[string]int{}, map[string]int{}
	for _, t := range list {
		count(accounts, t.Accounts)
		count(superusers, t.Superusers)
	}
	var nearlyAll []string // accounts that all but one have
	for name, n := range accounts {
		if n == len(list)-1 {
			nearlyAll = append(nearlyAll, name)
		}
	}
	for _, t := range list {
		alone := func(words string, names []string, n map[string]int) {
			names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return n[name] > 1 })
			if len(names) > 0 {
				out[t.Target] = append(out[t.Target], words+some(names))
			}
		}
		alone("only here can become superuser: ", t.Superusers, superusers)
		alone("only here there is an account ", t.Accounts, accounts)
		var lacks []string
		has := make(map[string]bool, len(t.Accounts))
		for _, name := range t.Accounts {
			has[name] = true
		}
		for _, name := range nearlyAll {
			if !has[name] {
				lacks = append(lacks, name)
			}
		}
		if slices.Sort(lacks); len(lacks) > 0 {
			out[t.Target] = append(out[t.Target], "all others have an account "+some(lacks))
		}
	}
	return out
}

func count(n map[string]int, names []string) {
	for _, name := range names {
		n[name]++
	}
}

func some(names []string) string {
	slices.Sort(names)
	if len(names) > oddMost {
		return strings.Join(names[:oddMost], ", ") + " and others"
	}
	return strings.Join(names, ", ")
}
