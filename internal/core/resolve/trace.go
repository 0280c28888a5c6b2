package resolve

import "hen-roost/internal/core/model"

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
