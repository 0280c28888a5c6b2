package ldap

import (
	"crypto/rand"
	"errors"
	"slices"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// setPassword lets the directory hash a new password (RFC 3062), and has it asked
// for another at the next sign-in where an act says so. No secret is no change.
func (b *batch) setPassword(conn *goldap.Conn, dn string, a connect.Act) error {
	if secret, set := a.Secrets[model.Password]; set {
		if len(secret.Reveal()) == 0 {
			return errors.New("a password of no letters is none: the directory would make up one that nobody knows (RFC 3062 §2)")
		}
		if b.access.Settings[honoursPrevious] == "yes" { // then the one before is one that nobody has
			if _, err := conn.PasswordModify(goldap.NewPasswordModifyRequest(dn, "", rand.Text()+"-x7")); err != nil {
				return err
			}
		}
		if _, err := conn.PasswordModify(goldap.NewPasswordModifyRequest(dn, "", string(secret.Reveal()))); err != nil {
			return err
		}
	}
	if hash, hashed := a.Secrets[model.PasswordHash]; hashed {
		m := goldap.NewModifyRequest(dn, nil)
		m.Replace("userPassword", []string{"{CRYPT}" + string(hash.Reveal())})
		if err := conn.Modify(m); err != nil {
			return err
		}
	}
	if setsPassword(a) && b.staysShut(a) { // a new password has lifted the lock
		m := goldap.NewModifyRequest(dn, nil)
		m.Replace(ldapName[model.Disabled], []string{lockedForever})
		if err := conn.Modify(m); err != nil {
			return err
		}
	}
	if !a.After().Has(model.MustChange) {
		return nil
	}
	m := goldap.NewModifyRequest(dn, nil)
	m.Replace(ldapName[model.MustChange], map[bool][]string{true: {"TRUE"}}[a.After().One(model.MustChange) == "yes"])
	err := conn.Modify(m)
	if setsPassword(a) && goldap.IsErrorWithCode(err, goldap.LDAPResultUndefinedAttributeType) {
		b.unruled.Store(true)
		return nil
	}
	return err
}

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
