package resolve

import (
	"slices"

	"hen-roost/internal/core/model"
)

// Why tells where a value comes from.
func (p *Plan) Why(o model.Origin) model.Why { return p.d.Why(o) }

// Trace says for each change of an act which role and line ask for it now. The
// changes are replaced, so that who shares them does not notice.
func (p *Plan) Trace(a *model.Act) {
	d := p.Targets[a.Target]
	if d == nil {
		return
	}
	origin := d.origins(a)
	changes := make([]model.Change, len(a.Changes))
	for i, c := range a.Changes {
		c.Why = p.Why(origin(c.Attribute))
		changes[i] = c
	}
	a.Changes = changes
}

// account is the account of a user that has a name, or their first one.
func (d *Desired) account(user, name string) (Account, bool) {
	list := d.Plan.Accounts(user, d.Target.Name)
	for _, a := range list {
		if a.Name == name {
			return a, true
		}
	}
	if len(list) == 0 {
		return Account{}, false
	}
	return list[0], true
}

// origins finds the lineage of an act's attributes.
func (d *Desired) origins(a *model.Act) func(attribute string) model.Origin {
	none := func(string) model.Origin { return model.Origin{} }
	account, asked := d.account(a.User, a.Account())
	switch {
	case a.Moves():
		return func(string) model.Origin { return d.joining(a, account, asked) }
	case a.Object == model.Account:
		if !asked {
			return none
		}
		if account.Suspended() && a.Verb == model.Disable {
			return func(string) model.Origin { return model.Origin{At: account.Declared.Suspended.Pos} }
		}
		return func(attribute string) model.Origin {
			for i := range account.Fields() {
				if account.FieldName(i) == attribute {
					v, _ := account.Value(i)
					return v.Why
				}
			}
			return account.Why()
		}
	case a.Object == model.GroupKind:
		for _, s := range d.Sets {
			if s.Named == a.Of() {
				return func(string) model.Origin { return s.Why }
			}
		}
	default:
		for _, t := range d.Things {
			if t.Kind == a.Object && t.Name == a.Name {
				return func(attribute string) model.Origin {
					for _, w := range t.Want {
						if w.Name == attribute {
							return w.Why
						}
					}
					return t.Why
				}
			}
		}
	}
	return none
}

// joining is why somebody should be in a set, or why the set is owned.
func (d *Desired) joining(a *model.Act, account Account, asked bool) model.Origin {
	if asked && a.MemberKind == model.Account {
		for _, j := range account.Sets() {
			if j.Set == a.Of() {
				return j.Why
			}
		}
	}
	for _, s := range d.Sets {
		if s.Named == a.Of() {
			if why, inside := s.Groups[a.Member]; inside && a.MemberKind == model.GroupKind {
				return why
			}
			return s.Why
		}
	}
	return model.Origin{}
}

// Asks says whether the declaration asks now for what an act leaves behind: who is in a set, an account open or shut, a value,
// something that is there. It errs towards no: what is left out for that can be drafted anew.
func (p *Plan) Asks(a model.Act) bool {
	d := p.Targets[a.Target]
	if d == nil {
		return false
	}
	account, asked := d.account(a.User, a.Account())
	if account.Name != a.Account() { // a single one may have been found under another name than is declared
		asked = asked && len(p.Accounts(a.User, a.Target)) == 1
	}
	switch {
	case a.Moves():
		return d.in(a, account, asked) == (a.Verb == model.JoinIt) && (a.Verb == model.JoinIt || d.owns(a.Of()))
	case a.Object != model.Account:
		there := d.owns(a.Of()) || slices.ContainsFunc(d.Things, func(t Thing) bool { return t.Kind == a.Object && t.Name == a.Name })
		return there == (a.Verb != model.Remove)
	case a.Verb == model.Disable:
		return (!asked || account.Suspended()) && (a.User != "" || d.Target.Unexpected != model.ReportUnexpected)
	case a.Verb == model.Remove:
		return !asked && (a.User != "" || d.Target.Unexpected == model.RemoveUnexpected)
	case a.Verb == model.Create, a.Verb == model.Enable:
		return asked && !account.Suspended()
	case a.Verb == model.Modify:
		return asked && slices.ContainsFunc(a.Changes, func(c model.Change) bool { return d.wants(account, c) })
	}
	return true // whose an account is is not declared
}

// wants says whether the declaration has an account with the value that a change sets; of what it says nothing of, it may.
func (d *Desired) wants(account Account, c model.Change) bool {
	for i := range account.Fields() {
		if account.FieldName(i) == c.Attribute {
			v, _ := account.Value(i)
			s, _ := d.Schema.Find(model.Account, c.Attribute)
			return s.Same(v.Values, c.After)
		}
	}
	return true
}

// in says whether the declaration has somebody in a set.
func (d *Desired) in(a model.Act, account Account, asked bool) bool {
	if a.MemberKind == model.Account {
		return asked && slices.ContainsFunc(account.Sets(), func(j Joining) bool { return j.Set == a.Of() })
	}
	return slices.ContainsFunc(d.Sets, func(s *Set) bool {
		_, inside := s.Groups[a.Member]
		return s.Named == a.Of() && inside
	})
}

// owns says whether the declaration says who is in a set.
func (d *Desired) owns(set model.Named) bool {
	return slices.ContainsFunc(d.Sets, func(s *Set) bool { return s.Named == set })
}
