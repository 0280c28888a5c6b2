// Package access answers who has what, why they have it or lack it, and what a
// new declaration would change for people. Whatever can be had is an Item: an
// account, a group, a right, a licence, superuser commands, on a target.
package access

import (
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Item is something a person can have on a target.
type Item struct {
	Kind string `json:"kind"` // "account", "group", "right", "licence", "elevation"
	Name string `json:"name"` // of the group, right or licence; the command of an elevation
}

// Kinds of item.
const (
	Account   = "account"
	Group     = "group"
	Right     = "right"
	Licence   = "licence"
	Elevation = "elevation"
)

func (i Item) String() string {
	if i.Kind == Account {
		return "an account"
	}
	if i.Kind == Elevation && i.Name == "all" {
		return "all superuser rights"
	}
	if i.Kind == Elevation {
		return "superuser rights for " + i.Name
	}
	return i.Kind + " " + i.Name
}

// lists are the attributes of an account that hold items.
var lists = map[string]string{model.Rights: Right, model.Licences: Licence, model.Elevation: Elevation}

// Of lists what the declaration gives on one target with an account, sorted.
func Of(a resolve.Account) []Item {
	items := []Item{{Account, ""}}
	for _, j := range a.Groups() {
		items = append(items, Item{Group, j.Group})
	}
	for i := range a.Fields() {
		if kind := lists[a.FieldName(i)]; kind != "" {
			if v, ok := a.Value(i); ok {
				for _, name := range v.Values {
					items = append(items, Item{kind, name})
				}
			}
		}
	}
	slices.SortFunc(items, compare)
	return items
}

func compare(a, b Item) int {
	if c := strings.Compare(a.Kind, b.Kind); c != 0 {
		return c
	}
	return strings.Compare(a.Name, b.Name)
}

// Held lists what an observed account has, with the groups it was seen in, sorted.
func Held(o *model.Object, groups []string) []Item {
	if o == nil {
		return nil
	}
	items := []Item{{Account, ""}}
	for _, g := range groups {
		items = append(items, Item{Group, g})
	}
	for attribute, kind := range lists {
		for _, name := range o.Attributes.Get(attribute) {
			items = append(items, Item{kind, name})
		}
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
	if name == Account {
		add(Item{Account, ""})
	}
	for _, g := range d.Groups {
		if g.Name == name {
			add(Item{Group, name})
		}
	}
	for _, g := range d.Plan.Giving(d, func(g *model.Grant) bool { return true }) {
		for _, ref := range g.Groups {
			if ref.Name == name {
				add(Item{Group, name})
			}
		}
		for _, ref := range g.Rights {
			if ref.Name == name {
				add(Item{Right, name})
			}
		}
		if slices.Contains(g.Licences, name) {
			add(Item{Licence, name})
		}
		if slices.Contains(g.Elevate, name) {
			add(Item{Elevation, name})
		}
	}
	for _, i := range held {
		if i.Name == name && name != "" {
			add(i)
		}
	}
	return out
}
