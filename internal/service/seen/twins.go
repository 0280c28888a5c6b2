package seen

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Contrast is one thing in which two targets differ.
type Contrast struct {
	Kind      string   `json:"kind"`
	Name      string   `json:"name"`
	User      string   `json:"user,omitempty" doc:"whose account it is, on either"`
	UserName  string   `json:"user-name,omitempty"`
	Attribute string   `json:"attribute,omitempty" doc:"left out: it is on one of them alone"`
	Called    string   `json:"called,omitempty" doc:"what the attribute is called for people"`
	One       []string `json:"one"`
	Other     []string `json:"other"`
}

// Twins is how two targets stand to each other, as they were last seen.
type Twins struct {
	One      string     `json:"one"`
	Other    string     `json:"other"`
	OneAt    time.Time  `json:"one-at" doc:"when it was surveyed"`
	OtherAt  time.Time  `json:"other-at"`
	Items    []Contrast `json:"items"`
	Alike    int        `json:"alike" doc:"accounts and sets that are the same on both"`
	Sentence string     `json:"sentence"`
}

// comparedMost is how many differences are told.
const comparedMost = 5000

// CompareTargets tells in what two targets differ that should be alike: people, groups, elevation, policy, what they tell of
// themselves. System accounts that one of them has for itself count too.
func (s *Seen) CompareTargets(ctx context.Context, who door.Operator, one, other string) (Twins, error) {
	if err := who.May(door.Look); err != nil {
		return Twins{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Twins{}, err
	}
	out := Twins{One: one, Other: other, Items: []Contrast{}}
	if one == other {
		return out, door.Wrong("other", "%s is always like itself; name another target", one)
	}
	a, links, err := s.held(ctx, c, one, &out.OneAt)
	if err != nil {
		return out, err
	}
	b, more, err := s.held(ctx, c, other, &out.OtherAt)
	if err != nil {
		return out, err
	}
	for name, user := range more {
		links[name] = user
	}
	list := drift.Twins(a, b)
	touched, by := map[model.Named]bool{}, map[string]int{}
	for _, x := range list {
		touched[model.Named{Kind: x.Kind, Name: x.Name}] = true
		by[x.Kind.String()]++
		if len(out.Items) == comparedMost {
			continue
		}
		item := Contrast{Kind: x.Kind.String(), Name: x.Name, Attribute: x.Attribute, One: orEmpty(x.One), Other: orEmpty(x.Other)}
		if x.Attribute != "" {
			item.Called = model.Called(x.Attribute)
		}
		if x.Kind == model.Account {
			item.User = links[x.Name]
			item.UserName = c.FullName(item.User)
		}
		out.Items = append(out.Items, item)
	}
	for _, o := range a {
		if o.Kind != model.SystemKind && o.Kind != model.HomeKind && !touched[model.Named{Kind: o.Kind, Name: o.Name}] {
			out.Alike++
		}
	}
	out.Sentence = alikeness(one, other, len(list), by)
	return out, nil
}

func alikeness(one, other string, n int, by map[string]int) string {
	if n == 0 {
		return fmt.Sprintf("%s and %s are alike.", one, other)
	}
	var parts []string
	for _, kind := range door.KeysOf(by) {
		parts = append(parts, door.Count(by[kind], kind, strings.TrimSuffix(kind, "y")+map[bool]string{true: "ies",
			false: "s"}[strings.HasSuffix(kind, "y")]))
	}
	return fmt.Sprintf("%s and %s differ in %s: %s.", one, other, door.Count(n, "thing", "things"), strings.Join(parts, ", "))
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// held is all that a target was last seen to hold, and whose its accounts are.
func (s *Seen) held(ctx context.Context, c *declared.Current, target string, at *time.Time) ([]model.Object, map[string]string, error) {
	if _, err := s.targetNames(c, []string{target}); err != nil {
		return nil, nil, err
	}
	row, err := s.Store.Target(ctx, target)
	if err != nil && err != store.ErrNone {
		return nil, nil, err
	}
	if row.SurveyedAt == nil {
		return nil, nil, &door.Problem{Kind: door.Unknown,
			Words: fmt.Sprintf("nobody knows yet what %s holds; survey it first: roost survey %s", target, target)}
	}
	*at = *row.SurveyedAt
	accounts, others, links, err := s.Store.Holding(ctx, target)
	if err != nil {
		return nil, nil, err
	}
	owners := map[string]string{}
	for _, l := range links {
		owners[l.Name] = l.User
	}
	for _, o := range accounts {
		if o.Linked {
			owners[o.Name] = o.Name
		}
	}
	return append(accounts, others...), owners, nil
}

// FleetTarget is a target among its like.
type FleetTarget struct {
	Name       string     `json:"name"`
	Kind       string     `json:"kind"`
	State      string     `json:"state"`
	Findings   int        `json:"findings"`
	System     string     `json:"system,omitempty"`
	Version    string     `json:"version,omitempty"`
	ClockOff   string     `json:"clock-off,omitempty" doc:"seconds"`
	Accounts   int        `json:"accounts" doc:"of people"`
	Superusers int        `json:"superusers" doc:"open accounts of people that can become superuser"`
	SurveyedAt *time.Time `json:"surveyed-at,omitempty"`
	Odd        []string   `json:"odd" doc:"what is otherwise than on its like"`
}

// Fleet are targets that share a tag.
type Fleet struct {
	Tag      string        `json:"tag"`
	Tags     []string      `json:"tags" doc:"all there are"`
	Items    []FleetTarget `json:"items"`
	Odd      int           `json:"odd" doc:"how many have something odd about them"`
	Sentence string        `json:"sentence"`
}

// fleetMost is how many targets are set beside each other.
const fleetMost = 2_000

// Fleet sets targets that share a tag beside each other, kind by kind, and tells what is odd about one among its like.
// With no tag all of them are meant.
func (s *Seen) Fleet(ctx context.Context, who door.Operator, tag string) (Fleet, error) {
	all, err := s.AllTargets(ctx, who)
	if err != nil {
		return Fleet{}, err
	}
	out := Fleet{Tag: tag, Items: []FleetTarget{}, Tags: tagsOf(all)}
	key, value, _ := strings.Cut(tag, "=")
	var names []string
	for _, t := range all {
		if tag != "" && (t.Tags[key] != value || value == "") {
			continue
		}
		if names = append(names, t.Name); len(names) > fleetMost {
			return out, door.Wrong("tag", "more than %d targets; choose fewer by a tag", fleetMost)
		}
		out.Items = append(out.Items, FleetTarget{Name: t.Name, Kind: t.Kind, State: t.State, Findings: t.Total, Accounts: t.Accounts,
			SurveyedAt: t.SurveyedAt, Odd: []string{}})
	}
	if len(names) == 0 && tag != "" {
		return out, door.NotKnown("tag", tag, out.Tags)
	}
	systems, err := s.Store.Systems(ctx, names)
	if err != nil {
		return out, err
	}
	by := map[string][]drift.Like{} // by kind
	place := map[string]*drift.Like{}
	for i := range out.Items {
		t := &out.Items[i]
		told := systems[t.Name].Attributes
		t.System, t.Version, t.ClockOff = told.One(model.System), told.One(model.Version), told.One(model.ClockOff)
		place[t.Name] = &drift.Like{Target: t.Name, Details: map[string]string{model.System: t.System, model.Version: t.Version}}
	}
	if err := s.Store.PeopleOn(ctx, names, func(target, account string, superuser bool) error {
		x := place[target]
		x.Accounts = append(x.Accounts, account)
		if superuser {
			x.Superusers = append(x.Superusers, account)
		}
		return nil
	}); err != nil {
		return out, err
	}
	for i := range out.Items {
		t := &out.Items[i]
		t.Superusers = len(place[t.Name].Superusers)
		if t.SurveyedAt != nil { // of one that was never seen nothing is odd
			by[t.Kind] = append(by[t.Kind], *place[t.Name])
		}
	}
	for _, list := range by {
		for target, words := range drift.OddAmong(list, model.System, model.Version) {
			at := slices.IndexFunc(out.Items, func(t FleetTarget) bool { return t.Name == target })
			out.Items[at].Odd = words
			out.Odd++
		}
	}
	out.Sentence = fmt.Sprintf("%s, %d of them odd among their like.", door.Count(len(names), "target", "targets"), out.Odd)
	return out, nil
}

// tagsOf are all tags of targets, as key=value.
func tagsOf(all []Target) []string {
	tags := map[string]bool{}
	for _, t := range all {
		for k, v := range t.Tags {
			tags[k+"="+v] = true
		}
	}
	return append([]string{}, door.KeysOf(tags)...)
}
