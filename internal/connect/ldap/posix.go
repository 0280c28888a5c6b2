package ldap

import (
	"crypto/rand"
	"errors"
	"slices"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// lockedForever is the value of pwdAccountLockedTime that only an operator
// lifts (draft-behera-ldap-password-policy-10, 5.3.3).
const lockedForever = "000001010000Z"

const (
	locked = "pwdAccountLockedTime"
	reset  = "pwdReset"
)

// posix are directories of people as inetOrgPerson and posixAccount, and groups as groupOfNames and posixGroup (RFC 2798, RFC 2307),
// with the password policy of draft-behera-ldap-password-policy.
var posix = &flavour{
	schema: schema,

	// Whoever can sign in is seen, also those who have no login to be known by.
	signerFilter: "(|(objectClass=person)(objectClass=posixAccount)(objectClass=simpleSecurityObject)(userPassword=*)(uid=*))",
	personFilter: "(|(objectClass=person)(objectClass=posixAccount))",
	groupFilter:  "(|(objectClass=groupOfNames)(objectClass=posixGroup))",
	login:        "uid", groupName: "cn", number: "gidNumber", member: "member", unique: "entryUUID",
	also: []string{"shadowLastChange", "shadowMax"},
	fields: sorted(
		field{ours: model.Number, theirs: "uidNumber"},
		field{ours: model.FullName, theirs: "cn"},
		field{ours: "given", theirs: "givenName"},
		field{ours: surname, theirs: "sn"},
		field{ours: model.Mail, theirs: "mail"},
		field{ours: "home", theirs: "homeDirectory"},
		field{ours: "shell", theirs: "loginShell"},
		field{ours: model.PrimaryGroup, theirs: "gidNumber",
			read: func(t *tree, number string) string {
				if name := t.groupByNumber[number]; name != "" {
					return name
				}
				return number
			},
			write: func(t *tree, after []string) ([]string, bool) {
				g := t.found[strings.ToLower(one(after))]
				if g == nil {
					return nil, false
				}
				return g.object.Attributes.Get(model.Number), true
			}},
		field{ours: model.Disabled, theirs: locked,
			read: func(_ *tree, since string) string {
				switch since {
				case "":
					return "no"
				case lockedForever:
					return "yes"
				}
				return "partly"
			},
			write: func(_ *tree, after []string) ([]string, bool) {
				if one(after) == "yes" {
					return []string{lockedForever}, true
				}
				return []string{}, true // takes it away, and is no error when it is gone already
			}},
		field{ours: model.MustChange, theirs: reset, apart: true,
			read: func(_ *tree, value string) string { return map[string]string{"TRUE": "yes"}[value] }},
	),

	place: func(s *session, a model.Act) string {
		if a.Object == model.GroupKind {
			return "cn=" + goldap.EscapeDN(a.Name) + "," + s.access.Settings["groups"]
		}
		return "uid=" + goldap.EscapeDN(a.Name) + "," + s.access.Settings["people"]
	},
	made: func(s *session, t *tree, a model.Act) map[string][]string {
		want := a.After()
		if a.Object == model.GroupKind {
			out := map[string][]string{"objectClass": {"groupOfNames"}, "cn": {a.Name}, "member": {s.placeholder}}
			if n := want.Get(model.Number); n != nil {
				out["objectClass"], out["gidNumber"] = []string{"groupOfNames", "posixGroup"}, n
			}
			return out
		}
		out := map[string][]string{"objectClass": {"inetOrgPerson"}, "uid": {a.Name}, "cn": {a.Name},
			"sn": {lastWord(want.One(model.FullName), a.Name)}}
		if want.Has(model.Number) {
			for name, values := range posixAccount(a.Name, want) {
				out[name] = append(out[name], values...)
			}
		}
		return out
	},
	grown: func(_ *tree, v *entryView, a model.Act) map[string][]string {
		switch want := a.After(); {
		case a.Object == model.GroupKind && want.Has(model.Number) && !hasClass(v.classes, "posixGroup"):
			return map[string][]string{"objectClass": {"posixGroup"}}
		case a.Object == model.Account && want.Has(model.Number) && !hasClass(v.classes, "posixAccount"):
			return posixAccount(a.Name, want)
		}
		return nil
	},
	told: func(e *entry) []model.Attribute {
		ends := connect.ShadowEnds(e.one("shadowLastChange"), e.one("shadowMax"))
		if ends == "" {
			return nil
		}
		return []model.Attribute{{Name: model.PasswordEnds, Values: []string{ends}}}
	},
	setPassword: setPassword,
}

func sorted(list ...field) []field {
	for i := range list {
		s, _ := schema.Find(model.Account, list[i].ours)
		list[i].loose = s.Canonical != nil
	}
	slices.SortFunc(list, func(a, b field) int { return strings.Compare(a.ours, b.ours) })
	return list
}

// posixAccount is what an entry of that class cannot be without (RFC 2307 §3), as far as the declaration is silent.
func posixAccount(name string, want model.Attributes) map[string][]string {
	out := map[string][]string{"objectClass": {"posixAccount"}, "gidNumber": {want.One(model.Number)}}
	if !want.Has("home") {
		out["homeDirectory"] = []string{"/home/" + name}
	}
	return out
}

// lastWord is the surname of somebody of whom only the full name is known.
func lastWord(full, otherwise string) string {
	if f := strings.Fields(full); len(f) > 0 {
		return f[len(f)-1]
	}
	return otherwise
}

func hasClass(classes []string, want string) bool {
	return slices.ContainsFunc(classes, func(c string) bool { return strings.EqualFold(c, want) })
}

// setPassword lets the directory hash a new password (RFC 3062), and has it asked
// for another at the next sign-in where an act says so. No secret is no change.
func setPassword(b *batch, conn *goldap.Conn, dn string, a connect.Act) error {
	replace := func(attribute string, values ...string) error {
		m := goldap.NewModifyRequest(dn, nil)
		m.Replace(attribute, values)
		return conn.Modify(m)
	}
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
		if err := replace("userPassword", "{CRYPT}"+string(hash.Reveal())); err != nil {
			return err
		}
	}
	if setsPassword(a) && b.staysShut(a) { // a new password has lifted the lock
		if err := replace(locked, lockedForever); err != nil {
			return err
		}
	}
	var err error
	switch after := a.After(); {
	case !after.Has(model.MustChange):
		return nil
	case after.One(model.MustChange) == "yes":
		err = replace(reset, "TRUE")
	default:
		err = replace(reset)
	}
	if setsPassword(a) && goldap.IsErrorWithCode(err, goldap.LDAPResultUndefinedAttributeType) {
		b.unruled.Store(true)
		return nil
	}
	return err
}
