package ldap

import (
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// setsPassword says whether an act sets a password, or one by its hash.
func setsPassword(a connect.Act) bool {
	_, set := a.Secrets[model.Password]
	_, hashed := a.Secrets[model.PasswordHash]
	return set || hashed
}

// staysShut says of an account whose password is set that it is to be shut after it.
func (b *batch) staysShut(a connect.Act) bool {
	if after := a.After(); after.Has(model.Disabled) {
		return after.One(model.Disabled) == "yes"
	}
	was := b.before.entry(a.Of())
	return was != nil && was.object.Attributes.One(model.Disabled) == "yes"
}

// asked is an act without what the directory has no attribute for, and words that
// say so: without a password policy nobody is asked for another password.
func (b *batch) asked(a connect.Act) (connect.Act, string) {
	if !setsPassword(a) || !a.After().Has(model.MustChange) || !b.unruled.Load() {
		return a, ""
	}
	a.Changes = slices.DeleteFunc(slices.Clone(a.Changes), func(c model.Change) bool { return c.Attribute == model.MustChange })
	return a, "this directory asks nobody for another password at the first sign-in"
}
