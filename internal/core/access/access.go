// Package access answers who has what, why they have it or lack it, and what a
// new declaration would change for people. Whatever can be had is an Item: an
// account, a group, a right, a licence, superuser commands, on a target.
package access

import (
	"cmp"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Item is something a person can have on a target.
type Item struct {
	Kind model.ObjectKind `json:"kind"`
	Name string           `json:"name"` // of the set; an account has none here
}

func (i Item) String() string {
	switch {
	case i.Kind == model.Account:
		return "an account"
	case i.Kind == model.ElevationKind && i.Name == "all":
		return "all superuser rights"
	case i.Kind == model.ElevationKind:
		return "superuser rights for " + i.Name
	}
	return i.Kind.String() + " " + i.Name
}

var anAccount = Item{Kind: model.Account}

// Of lists what the declaration gives on one target with an account, sorted.
func Of(a resolve.Account) []Item {
	items := []Item{anAccount}
	for _, j := range a.Sets() {
		items = append(items, Item(j.Set))
	}
	slices.SortFunc(items, compare)
	return items
}

func compare(a, b Item) int {
	return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name))
}

// Held lists what an observed account has, with the sets it was seen in, sorted.
func Held(o *model.Object, sets []model.Named) []Item {
	if o == nil {
		return nil
	}
	items := []Item{anAccount}
	for _, s := range sets {
		items = append(items, Item(s))
	}
	slices.SortFunc(items, compare)
	return items
}

// Find reads what a person asks for on a target: an item by its name alone, or
// "account". It returns nothing when nobody could have such a thing there.
func Find(d *resolve.Desired, held []Item, name string) []Item {
	var out []Item
	add := func(i Item) {
		if !slices.Contains(out, i) {
			out = append(out, i)
		}
	}
	if name == model.Account.String() {
		add(anAccount)
	}
	for _, s := range d.Sets {
		if s.Name == name {
			add(Item(s.Named))
		}
	}
	if x := d.Plan.Declaration().Rights[name]; slices.Contains(d.Rights(), x) {
		for _, permission := range resolve.Permissions(d.Schema, x) {
			add(Item{model.RightKind, permission})
		}
	}
	for _, g := range d.Plan.Giving(d, func(g *model.Grant) bool { return true }) {
		for _, kind := range []model.ObjectKind{model.GroupKind, model.RightKind, model.LicenceKind, model.ElevationKind} {
			if i := (Item{kind, name}); gives(d, g.Grant, i) {
				add(i)
			}
		}
	}
	for _, i := range held {
		if i.Name == name && name != "" {
			add(i)
		}
	}
	return out
}
