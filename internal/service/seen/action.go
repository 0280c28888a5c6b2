package seen

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/access"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
)

// Action says whether somebody may do something on a target, and why or why not.
type Action struct {
	Action   string        `json:"action"`
	May      string        `json:"may" enum:"yes,no,not known"`
	Words    string        `json:"words,omitempty" doc:"what stands in the way whatever they have"`
	Needs    []access.Need `json:"needs" doc:"the permissions that it takes: all of these"`
	AtOnce   bool          `json:"at-once" doc:"what is given counts at once for who is signed in; else from their next sign-in"`
	Sessions []OpenSession `json:"sessions" doc:"of theirs, which may do otherwise than their account now"`
	NotAsked string        `json:"not-asked,omitempty" doc:"why it is not known whether they are signed in"`
}

// OpenSession is a session of somebody's, held against what their account has now.
type OpenSession struct {
	Session
	Still  []string `json:"still" doc:"permissions for the action that it holds although they are taken away"`
	NotYet []string `json:"not-yet" doc:"permissions for the action that it lacks although they are given"`
	Words  string   `json:"words"`
}

// givers are what gives permissions on a target: sets, and accounts themselves.
type givers map[string][]access.Item

// action says whether a person may do something.
func (s *Seen) action(ctx context.Context, who door.Operator, m moment, p *resolve.Person, seen access.Seen, q Question) (*Action, error) {
	d := m.Plan.Targets[q.Target]
	needs, err := s.needs(ctx, who, d, q.Action)
	if err != nil {
		return nil, err
	}
	by, err := s.givers(ctx, m, d, seen, needs)
	if err != nil {
		return nil, err
	}
	out := &Action{Action: q.Action, May: "yes", Needs: []access.Need{}, AtOnce: d.Schema.Permits.AtOnce, Sessions: []OpenSession{}}
	for _, permission := range needs {
		n := access.NeedOf(d, p, seen, permission, by[permission])
		if out.Needs = append(out.Needs, n); n.State != access.Has {
			out.May = "no"
		}
	}
	switch {
	case !seen.Surveyed:
		out.May, out.Words = "not known", q.Target+" has not been surveyed"
	case seen.Account == nil:
		out.May, out.Words = "no", "they have no account there"
	case seen.Account.Attributes.One(model.Disabled) == "yes":
		out.May, out.Words = "no", "their account there is shut"
	}
	if !m.past && seen.Account != nil {
		out.Sessions, out.NotAsked = s.openSessions(ctx, who, m, d, seen.Account.Name, out, by)
	}
	return out, nil
}

// needs are the permissions that an action takes.
func (s *Seen) needs(ctx context.Context, who door.Operator, d *resolve.Desired, action string) ([]string, error) {
	if action = strings.TrimSpace(action); action == "" || len(action) > 500 {
		return nil, door.Wrong("action", "an action has between 1 and 500 characters")
	}
	list, err := connect.Needs(ctx, s.Kinds()[d.Target.Kind], action, func() (connect.Session, error) {
		if err := who.May(door.Run); err != nil {
			return nil, err
		}
		return s.SessionOn(ctx, d.Target.Name)
	})
	strikes := s.Strikes(ctx, d.Target.Name)
	var no *connect.NotKnownAction
	var p *door.Problem
	switch {
	case err == nil:
		for i := range list {
			list[i] = strikes.Text(list[i])
		}
		return list, nil
	case errors.As(err, &p):
		return nil, p
	case errors.As(err, &no):
		return nil, door.Wrong("action", "%s", strikes.Text(no.Words))
	case errors.Is(err, errors.ErrUnsupported):
		return nil, door.Wrong("action", "%v", err)
	}
	return nil, door.Clashing("what %q takes cannot be asked: %v", action, strikes.Error(err))
}

// givers finds what gives each of some permissions.
func (s *Seen) givers(ctx context.Context, m moment, d *resolve.Desired, seen access.Seen, needs []string) (givers, error) {
	out := givers{}
	attribute := d.Schema.Permits.Attribute
	add := func(i access.Item, gives func(permission string) bool) {
		for _, permission := range needs {
			if gives(permission) && !slices.Contains(out[permission], i) {
				out[permission] = append(out[permission], i)
			}
		}
	}
	if attribute == "" {
		spelled := d.Schema.Of(model.RightKind).Spelled
		for _, i := range append(access.Holding(d), access.Held(seen.Account, seen.Sets)...) {
			if i.Kind == model.RightKind {
				add(i, func(permission string) bool { return spelled.Covers(i.Name, permission) })
			}
		}
		return out, nil
	}
	of := func(i access.Item, o *model.Object) {
		list := o.Attributes.Get(attribute)
		add(i, func(permission string) bool { return slices.Contains(list, permission) })
	}
	if seen.Account != nil {
		of(access.Item{Kind: model.Account}, seen.Account)
	}
	if m.past {
		_, others, err := s.Store.ObservedAt(ctx, d.Target.Name, m.at)
		for i := range others {
			of(access.Item{Kind: others[i].Kind, Name: others[i].Name}, &others[i])
		}
		return out, err
	}
	for _, k := range d.Schema.Kinds {
		if _, tells := d.Schema.Find(k.Kind, attribute); !tells || k.Kind == model.Account {
			continue
		}
		for after, more := "", true; more; {
			list, next, _, err := s.Store.ObservedPage(ctx, d.Target.Name, k.Kind, "", "", after, door.PageMost)
			if err != nil {
				return nil, err
			}
			for i := range list {
				of(access.Item{Kind: k.Kind, Name: list[i].Name}, &list[i])
			}
			after, more = next, next != ""
		}
	}
	return out, nil
}

// openSessions are those of an account, and how what they may do differs from what the account may now.
func (s *Seen) openSessions(ctx context.Context, who door.Operator, m moment, d *resolve.Desired, account string, a *Action,
	by givers) ([]OpenSession, string) {
	out := []OpenSession{}
	if d.Schema.Of(model.SessionKind) == nil || a.AtOnce {
		return out, ""
	}
	if who.May(door.Run) != nil {
		return out, "asking the target who is signed in takes the duty to run"
	}
	list, err := s.sessionsOn(ctx, m.Current, d.Target.Name)
	if err != nil {
		return out, err.Error()
	}
	_, tells := d.Schema.Find(model.SessionKind, model.HoldsSets)
	for _, x := range list {
		if x.Account != account {
			continue
		}
		o := OpenSession{Session: x, Still: []string{}, NotYet: []string{}, Words: "as their account now"}
		for _, n := range a.Needs {
			holds := slices.ContainsFunc(by[n.Permission], func(i access.Item) bool {
				return slices.Contains(x.Holds, i.String()) || i.Kind == model.Account // of which a session tells nothing
			})
			switch {
			case !tells:
			case holds && n.State != access.Has:
				o.Still = append(o.Still, n.Permission)
			case !holds && n.State == access.Has:
				o.NotYet = append(o.NotYet, n.Permission)
			}
		}
		switch {
		case !tells:
			o.Words = "what it may do was settled when it began"
		case len(o.Still) > 0:
			o.Words = fmt.Sprintf("still may: %s", strings.Join(o.Still, ", "))
		case len(o.NotYet) > 0:
			o.Words = fmt.Sprintf("may not yet: %s", strings.Join(o.NotYet, ", "))
		}
		out = append(out, o)
	}
	return out, ""
}
