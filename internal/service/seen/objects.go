package seen

import (
	"context"
	"fmt"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// What targets hold is shown by what their schemas say of it, so that a new kind
// of target, or of object, needs no code here and no page.

// TargetKind describes a kind of target: what it holds, and what can be done to it.
type TargetKind = model.Schema

// TargetKinds are the kinds of target that can be looked after, by name.
func (s *Seen) TargetKinds(ctx context.Context, who door.Operator) ([]TargetKind, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	out := []TargetKind{}
	for _, name := range door.KeysOf(s.Schemas()) {
		one := s.Schemas()[name]
		one.Kinds = slices.Clone(one.Kinds)
		for i := range one.Kinds {
			k := &one.Kinds[i]
			k.Attributes = slices.Clone(k.Attributes)
			for j := range k.Attributes {
				k.Attributes[j].Called = model.Called(k.Attributes[j].Name)
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// told is what a target tells of itself, and how much of what it holds.
func (s *Seen) told(ctx context.Context, d *resolve.Desired) (map[string][]string, []Holding, error) {
	o, err := s.Store.Object(ctx, d.Target.Name, model.SystemKind, model.Itself)
	if err != nil && err != store.ErrNone {
		return nil, nil, err
	}
	n, err := s.Store.CountObjects(ctx, d.Target.Name)
	holds := []Holding{}
	for _, k := range d.Schema.Kinds {
		unseen := k.Kind == model.HomeKind && d.Target.Homes.Stale == 0 // surveys look at homes only where that is declared
		if k.Kind != model.SystemKind && k.Kind != model.SessionKind && !unseen {
			holds = append(holds, Holding{Kind: k.Kind.String(), About: k.About, Set: len(k.Members) > 0, N: n[k.Kind]})
		}
	}
	return o.Attributes.Map(), holds, err
}

// Object is something that a target was last seen to hold.
type Object struct {
	Name       string              `json:"name"`
	System     bool                `json:"system,omitempty"`
	Declared   bool                `json:"declared" doc:"the declaration asks for it"`
	Protected  string              `json:"protected,omitempty" doc:"why no step may touch it"`
	Members    int                 `json:"members,omitempty" doc:"of a set: accounts in it"`
	Groups     int                 `json:"groups,omitempty" doc:"of a set: groups in it"`
	Attributes map[string][]string `json:"attributes"`
}

// Objects is one page of them.
type Objects struct {
	Items []Object `json:"items"`
	Next  string   `json:"next,omitempty" doc:"ask for the page behind this one with after; absent: this is the last"`
	Total int      `json:"total" doc:"on all pages"`
}

// TargetObjects lists what a target was last seen to hold of a kind: the page
// behind the one that named after as the next one's.
func (s *Seen) TargetObjects(ctx context.Context, who door.Operator, target, kind, prefix, after string, size int) (Objects, error) {
	d, k, err := s.kindOn(ctx, who, target, kind)
	if err != nil {
		return Objects{}, err
	}
	list, next, total, err := s.observedPage(ctx, target, k.Kind, prefix, "", after, size)
	if err != nil {
		return Objects{}, err
	}
	members, err := s.Store.CountMembers(ctx, target, k.Kind, namesOf(list))
	if err != nil {
		return Objects{}, err
	}
	out, shield := Objects{Items: []Object{}, Next: next, Total: total}, d.Shield()
	for _, o := range list {
		why, _ := shield.Covers(&o)
		out.Items = append(out.Items, Object{Name: o.Name, System: o.System,
			Declared: asked(d, model.Named{Kind: o.Kind, Name: o.Name}), Protected: why,
			Members: members[o.Name][model.Account], Groups: members[o.Name][model.GroupKind], Attributes: o.Attributes.Map()})
	}
	return out, nil
}

// kindOn is a kind of object on a declared target that was surveyed.
func (s *Seen) kindOn(ctx context.Context, who door.Operator, target, kind string) (*resolve.Desired, *model.KindSchema, error) {
	if err := who.May(door.Look); err != nil {
		return nil, nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	if _, err := s.targetNames(c, []string{target}); err != nil {
		return nil, nil, err
	}
	d := c.Plan.Targets[target]
	k := d.Schema.Of(model.KindNamed(kind))
	if k == nil {
		var names []string
		for _, k := range d.Schema.Kinds {
			names = append(names, k.Kind.String())
		}
		return nil, nil, door.NotKnown("kind of object on "+target, kind, names)
	}
	row, err := s.Store.Target(ctx, target)
	if err != nil && err != store.ErrNone {
		return nil, nil, err
	}
	if row.SurveyedAt == nil { // nothing known is not nothing there
		return nil, nil, &door.Problem{Kind: door.Unknown,
			Words: fmt.Sprintf("nobody knows yet what %s holds; survey it first: roost survey %s", target, target)}
	}
	return d, k, nil
}

// asked says whether the declaration asks for something that is no account.
func asked(d *resolve.Desired, n model.Named) bool {
	return slices.ContainsFunc(d.Sets, func(s *resolve.Set) bool { return s.Named == n }) ||
		slices.ContainsFunc(d.Things, func(t resolve.Thing) bool { return t.Kind == n.Kind && t.Name == n.Name })
}

// Member is somebody, or a group, in a set.
type Member struct {
	Name     string `json:"name"`
	Kind     string `json:"kind" enum:"account,group"`
	User     string `json:"user,omitempty" doc:"whose account it is, once adopted or made"`
	UserName string `json:"user-name,omitempty"`
}

// Members is one page of a set's members.
type Members struct {
	Items []Member `json:"items"`
	Total int      `json:"total"`
	From  int      `json:"from"`
}

// SetMembers lists who was last seen in a set, or what groups.
func (s *Seen) SetMembers(ctx context.Context, who door.Operator, target, kind, name, of string, p door.Page) (Members, error) {
	_, k, err := s.kindOn(ctx, who, target, kind)
	if err != nil {
		return Members{}, err
	}
	set := model.Named{Kind: k.Kind, Name: name}
	if len(k.Members) == 0 {
		return Members{}, door.Wrong("kind", "nobody is in one of kind %s", kind)
	}
	if _, err := s.Store.Object(ctx, target, k.Kind, name); err == store.ErrNone {
		return Members{}, s.NotHeld(ctx, target, k.Kind, name)
	} else if err != nil {
		return Members{}, err
	}
	members := model.Account
	if of == model.GroupKind.String() {
		members = model.GroupKind
	}
	page := p.Bounded()
	names, total, err := s.Store.MembersPage(ctx, target, set, members, page)
	if err != nil {
		return Members{}, err
	}
	list, err := s.membersNamed(ctx, target, members, names)
	return Members{Items: list, Total: total, From: page.From}, err
}
