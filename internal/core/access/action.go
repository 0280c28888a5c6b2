package access

import (
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Need is a permission that an action takes, and how it stands for a person.
type Need struct {
	Permission string   `json:"permission"`
	State      string   `json:"state" enum:"has,is to have,lacks,not surveyed"`
	Gives      []Answer `json:"gives"` // what gives it to them or, where nothing does, what would: at most GivesMost
	More       int      `json:"more,omitempty"`
}

// States of a need.
const (
	Has      = "has"
	IsToHave = "is to have" // it is declared, and a round will give it
	Lacks    = "lacks"
)

// GivesMost is how many of those that give a permission are told.
const GivesMost = 20

// NeedOf says of a permission how it stands for a person, by what was seen and by what is declared. givers are what gives it on the
// target: sets, or the account itself.
func NeedOf(d *resolve.Desired, p *resolve.Person, seen Seen, permission string, givers []Item) Need {
	e := explainer{d: d, p: p, seen: seen}
	e.find(seen)
	for _, i := range givers {
		e.item(i)
	}
	n := Need{Permission: permission, State: Lacks, Gives: e.out}
	rank := func(a Answer) int {
		switch {
		case len(a.Found) > 0:
			return 0
		case len(a.Declared) > 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(n.Gives, func(a, b Answer) int { return rank(a) - rank(b) })
	switch {
	case !seen.Surveyed:
		n.State = NotSeen
	case len(n.Gives) > 0 && rank(n.Gives[0]) == 0:
		n.State = Has
		n.Gives = slices.DeleteFunc(n.Gives, func(a Answer) bool { return rank(a) == 2 }) // nobody asks for them
	case len(n.Gives) > 0 && rank(n.Gives[0]) == 1:
		n.State = IsToHave
	}
	if over := len(n.Gives) - GivesMost; over > 0 {
		n.Gives, n.More = n.Gives[:GivesMost], over
	}
	if n.Gives == nil {
		n.Gives = []Answer{}
	}
	return n
}

// Holding lists the sets of a kind that are declared on a target by what they allow, for targets on which rights are called so.
func Holding(d *resolve.Desired) (out []Item) {
	for _, x := range d.Rights() {
		for _, permission := range resolve.Permissions(d.Schema, x) {
			if i := (Item{model.RightKind, permission}); !slices.Contains(out, i) {
				out = append(out, i)
			}
		}
	}
	return out
}
