// Package ldap looks after the people and groups of a directory over LDAP with
// TLS: inetOrgPerson with posixAccount, groupOfNames with posixGroup.
//
// Round trips: a survey is one search for groups and one for people, in pages
// of 1,000 (RFC 2696). A batch of changes is, for each stage in it, one search
// for each 200 names, the changes themselves with eight requests under way at
// once over one connection or, when they are many, two, all changes of one
// group in one request, and the same searches again to read back. An entry to
// be added is looked for too: one with its login may stand elsewhere in the tree.
//
// Reading is our own (wire.go): at 100,000 entries the usual client library is
// six times slower than the directory. Everything else goes through go-ldap.
package ldap

import (
	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches directories. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "directory"

const (
	surname = "surname"
)

// lockedForever is the value of pwdAccountLockedTime that only an operator
// lifts (draft-behera-ldap-password-policy-10, 5.3.3).
const lockedForever = "000001010000Z"

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

var schema = model.Schema{
	Kind:        Kind,
	About:       "a directory, over LDAP with TLS",
	AccountName: `^[^\x00-\x1f\x7f]{1,128}$`,
	GroupName:   `^[^\x00-\x1f\x7f]{1,128}$`,
	FoldNames:   true,
	NestGroups:  true,
	Account: []model.AttributeSchema{
		{Name: model.Number, About: "uidNumber", Settable: true, From: "number"},
		{Name: model.FullName, About: "cn", Settable: true, Fold: true, From: "name"},
		{Name: "given", About: "givenName", Settable: true, Fold: true, From: "given"},
		{Name: surname, About: "sn", Settable: true, Fold: true, From: "family"},
		{Name: model.Mail, About: "mail", Settable: true, Fold: true, From: "mail"},
		{Name: "home", About: "homeDirectory", Settable: true},
		{Name: "shell", About: "loginShell", Settable: true},
		{Name: model.PrimaryGroup, About: "name of the group that gidNumber means", Settable: true},
		{Name: model.Disabled, About: "locked for good by the password policy's attribute"},
	},
	Group: []model.AttributeSchema{
		{Name: model.Number, About: "gidNumber", Settable: true},
		{Name: model.Members, About: "accounts in it", Many: true, Settable: true},
		{Name: model.MemberGroups, About: "groups in it", Many: true, Settable: true},
	},
	Settings: []string{"people", "groups", "placeholder"},
	Needs:    []string{"people", "groups"},
}

// ldapName is what each attribute is called in the directory.
var ldapName = map[string]string{
	model.Number: "uidNumber", model.FullName: "cn", "given": "givenName", surname: "sn", model.Mail: "mail",
	"home": "homeDirectory", "shell": "loginShell", model.PrimaryGroup: "gidNumber", model.Disabled: "pwdAccountLockedTime",
}

var (
	personAttributes = []string{"uid", "cn", "givenName", "sn", "mail", "uidNumber", "gidNumber", "homeDirectory", "loginShell", "pwdAccountLockedTime", "entryUUID", "objectClass", "modifiersName", "modifyTimestamp"}
	groupAttributes  = []string{"cn", "gidNumber", "member", "entryUUID", "objectClass"}
)
