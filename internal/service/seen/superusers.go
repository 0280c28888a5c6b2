package seen

import (
	"context"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

// Superusers are who can become superuser on a target, and all that leads there.
type Superusers struct {
	Accounts []Held   `json:"accounts" doc:"that can now, with the ways in which they can"`
	Groups   []string `json:"groups" doc:"that give it to whoever is in them, there or not"`
	Rights   []string `json:"rights" doc:"permissions that give it to whoever has one of them"`
	Named    []string `json:"named" doc:"names that rules give it to and that no account has: who gets such an account has it"`
	Everyone bool     `json:"everyone,omitempty" doc:"a rule gives it to everybody"`
}

// TargetSuperusers tells who can become superuser on a target and through what, as it was last seen.
func (s *Seen) TargetSuperusers(ctx context.Context, who door.Operator, target string) (Superusers, error) {
	out := Superusers{Accounts: []Held{}, Groups: []string{}, Rights: []string{}, Named: []string{}}
	d, _, err := s.kindOn(ctx, who, target, model.Account.String())
	if err != nil {
		return out, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return out, err
	}
	names, err := s.Store.Powerful(ctx, target)
	if err != nil {
		return out, err
	}
	seen, err := s.Store.Flagged(ctx, target, names)
	if err != nil {
		return out, err
	}
	owner, err := s.Store.LinkedNames(ctx, target, names)
	if err != nil {
		return out, err
	}
	shield := d.Shield()
	for _, name := range door.KeysOf(seen) {
		o := seen[name]
		why, _ := shield.Covers(o)
		out.Accounts = append(out.Accounts, Held{Name: name, User: owner[name], UserName: c.FullName(owner[name]), System: o.System,
			Protected: why, Attributes: o.Attributes.Map()})
	}
	p, err := s.PowerOn(ctx, d, nil)
	if err != nil {
		return out, err
	}
	out.Groups, out.Rights = orEmpty(p.Sets(model.GroupKind)), orEmpty(p.Sets(model.RightKind))
	for _, name := range p.Accounts() {
		switch {
		case name == model.Everyone:
			out.Everyone = true
		case seen[name] == nil:
			out.Named = append(out.Named, name)
		}
	}
	out.Named = slices.DeleteFunc(out.Named, func(name string) bool { return slices.Contains(d.Schema.SystemNames, name) })
	return out, nil
}
