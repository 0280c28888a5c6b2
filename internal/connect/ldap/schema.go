// Package ldap looks after the people and groups of a directory over LDAP with
// TLS. What its entries are made of is a flavour: posix is the one there is.
//
// Round trips: a survey is one search for groups and one for people, in pages
// of 1,000 (RFC 2696), after three for what the directory is, two for its tree and
// two for where it stands; one of what changed is two searches (RFC 4533) and two
// for the tree. A batch of changes is one search for each 200 names, the changes
// themselves, stage by stage, with eight requests under way at once over one
// connection or, when they are many, two, all changes of one group in one request,
// and the same searches again to read back, with a comparison for each member that
// was to join or leave. An entry to be added is looked for too: one with its login
// may stand elsewhere in the tree.
//
// Reading is our own (wire.go): at 100,000 entries the usual client library is
// six times slower than the directory. Everything else goes through go-ldap.
package ldap

import (
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches directories of the posix flavour. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "directory"

const (
	surname         = "surname"
	honoursPrevious = "honours-previous" // a setting: yes, where the directory lets the password before the last one in for a time
)

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

var schema = model.Schema{
	Kind:      Kind,
	Renews:    true,
	About:     "a directory, over LDAP with TLS",
	FoldNames: true,
	Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", name128),
			Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Number, About: "uidNumber", Settable: true, From: "number"},
				{Name: model.FullName, About: "cn", Settable: true, Fold: true, From: "name", Canonical: spaced},
				{Name: "given", About: "givenName", Settable: true, Fold: true, From: "given", Canonical: spaced},
				{Name: surname, About: "sn", Settable: true, Fold: true, From: "family", Canonical: spaced},
				{Name: model.Mail, About: "mail", Settable: true, Fold: true, From: "mail"},
				{Name: "home", About: "homeDirectory", Settable: true},
				{Name: "shell", About: "loginShell", Settable: true, Remade: true},
				{Name: model.PrimaryGroup, About: "name of the group that gidNumber means", Settable: true},
				{Name: model.Password, About: "userPassword", Sealed: true},
				{Name: model.PasswordHash, About: "userPassword, as {CRYPT} (RFC 2307 §5.3)", Sealed: true},
				{Name: model.Certificate, About: "client certificates that the server maps to entries (SASL EXTERNAL)", Sealed: true},
				{Name: model.PasswordEnds, About: "shadowLastChange and shadowMax: the last day of the password (RFC 2307 §5.2)"},
				{Name: model.MustChange, About: "the password policy asks for a new password at the next sign-in"},
				{Name: model.Disabled, About: "locked for good by the password policy's attribute"},
			}},
		{Kind: model.GroupKind, Name: model.OnePart("name", name128), Members: []model.ObjectKind{model.Account, model.GroupKind},
			Renames: true, Verbs: []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Number, About: "gidNumber", Settable: true},
				{Name: model.Members, About: "accounts in it", Many: true},
				{Name: model.MemberGroups, About: "groups in it", Many: true},
			}},
		{Kind: model.PlaceKind, About: "where people and groups stand", Name: model.OnePart("name", name128),
			Attributes: []model.AttributeSchema{{Name: model.Within, About: "the unit above it"}}},
		{Kind: model.SystemKind, About: "the directory itself", Attributes: []model.AttributeSchema{
			{Name: model.System}, {Name: "naming-contexts", Many: true}, {Name: model.UpSince}, {Name: model.ClockOff}}},
	},
	Settings: []string{"people", "groups", "placeholder", honoursPrevious},
	Needs:    []string{"people", "groups"},
}

const name128 = `^[^\x00-\x1f\x7f]{1,128}$`

// spaced is a text as a directory compares it: spaces at its ends do not count,
// and several in a row count as one (RFC 4518 §2.6.1).
func spaced(s string) string {
	if !strings.Contains(s, "  ") && strings.TrimSpace(s) == s {
		return s // nearly always
	}
	return strings.Join(strings.Fields(s), " ")
}

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows { return connect.Knows{} }
