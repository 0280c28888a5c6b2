// Package scim looks after the people, groups, roles and licences of applications over SCIM 2.0 (RFC 7643, 7644) with TLS.
// What a server offers is asked of it when a session is opened, and nothing else is used.
//
// Round trips: opening is three requests at once for what the server offers, and one before for a token where it gives
// them. A survey is a request for each page of users, of groups and of licences, the next under way while one is read. A
// batch of acts is one request for each 120 names that it speaks of, the changes themselves, eight requests under way at once
// or, where the server takes many in one, as many in one as it takes, and the same requests again to read back. A server
// without filters is read whole before a batch.
package scim

import (
	"fmt"
	"strings"
	"unicode"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches applications. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "application"

// Settings.
const (
	pathAt      = "path"                // of the protocol on the server
	signInBy    = "sign-in"             // token, client or certificate
	tokenAt     = "token-at"            // path of the token endpoint, for client
	proveAt     = "prove-at"            // path of one that takes a user's password
	licencesAt  = "licences-at"         // endpoint of the resources that are pools of seats
	seatsIn     = "seats-in"            // their attribute that tells how many seats there are
	lastSignIn  = "last-sign-in-in"     // attribute of users
	mustChange  = "must-change-in"      // attribute of users
	mighty      = "administrator-roles" // whoever has one of them can do everything
	atOnce      = "at-once"             // requests under way
	groupsLists = "groups-of"           // user or group: who tells who is in a group
	groupKindIn = "group-kind-in"       // attribute of groups
	newGroups   = "new-groups"          // what stands there in those that we make
)

// Attributes of accounts here alone.
const (
	given      = "given"
	surname    = "surname"
	moreMails  = "more-mails"
	telephones = "telephones"
	manager    = "manager"
	extensions = "extensions"
)

// groupKind is what kind of group one is, in the server's own word: for security, for mail.
const groupKind = "group-kind"

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

const name255 = `^[^\x00-\x1f\x7f]{1,255}$`

// simple are the attributes that are one string each, and where it stands.
var simple = []struct{ name, path, about, from string }{
	{model.FullName, "displayName", "displayName", "name"}, {given, "name.givenName", "name.givenName", "given"},
	{surname, "name.familyName", "name.familyName", "family"}, {"middle-name", "name.middleName", "name.middleName", ""},
	{"name-before", "name.honorificPrefix", "name.honorificPrefix", ""}, {"name-behind", "name.honorificSuffix", "name.honorificSuffix",
		""},
	{"written-name", "name.formatted", "name.formatted", ""}, {"nick-name", "nickName", "nickName", ""}, {"title", "title", "title", ""},
	{"user-type", "userType", "userType", ""}, {"language", "preferredLanguage", "preferredLanguage", ""}, {"locale", "locale",
		"locale", ""},
	{"time-zone", "timezone", "timezone", ""}, {"external-id", "externalId", "externalId", ""},
	{"employee-number", enterprise + "employeeNumber", "of the enterprise extension", ""},
	{"cost-centre", enterprise + "costCenter", "of the enterprise extension", ""},
	{"organization", enterprise + "organization", "of the enterprise extension", ""},
	{"division", enterprise + "division", "of the enterprise extension", ""},
	{"department", enterprise + "department", "of the enterprise extension", ""},
}

const enterprise = protocol.EnterpriseSchema + ":"

var schema = func() model.Schema {
	account := []model.AttributeSchema{
		{Name: model.Mail, About: "the primary mail, or the first", Settable: true, Fold: true, From: "mail"},
		{Name: moreMails, About: "the others, each with its sort: home ulla@ternsound.example", Many: true, Settable: true,
			Canonical: typed},
		{Name: telephones, About: "each with its sort: work +47 555 01 07", Many: true, Settable: true, Canonical: typed},
		{Name: manager, About: "the login of whoever leads them, of the enterprise extension", Settable: true, Fold: true},
		{Name: extensions, About: "of other extensions, each as SCHEMA:attribute=value", Many: true, Settable: true},
		{Name: model.Password, About: "set, and never read", Sealed: true},
		{Name: model.MustChange, About: "where the target's settings say in what attribute that is"},
		{Name: model.Disabled, About: "not active"},
		{Name: model.LastSignIn, About: "where the target's settings say in what attribute that is"},
		{Name: model.Elevation, Many: true}}
	for _, s := range simple {
		account = append(account, model.AttributeSchema{Name: s.name, About: s.about, Settable: true, From: s.from})
	}
	members := []model.AttributeSchema{{Name: model.Members, Many: true}}
	return model.Schema{
		Kind: Kind, About: "an application, or a directory in a cloud, over SCIM 2.0 with TLS", FoldNames: true,
		Kinds: []model.KindSchema{
			{Kind: model.Account, Name: model.OnePart("login", name255), Attributes: account,
				Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt}},
			{Kind: model.GroupKind, Name: model.OnePart("name", name255), Members: []model.ObjectKind{model.Account, model.GroupKind},
				Verbs: []model.Verb{model.Create, model.Remove, model.JoinIt, model.LeaveIt},
				Attributes: append(members, model.AttributeSchema{Name: model.MemberGroups, Many: true},
					model.AttributeSchema{Name: groupKind, About: "where the target's settings say in what attribute that is"})},
			{Kind: model.RightKind, About: "a role", ByJoining: true, Name: model.OnePart("role", name255),
				Members: []model.ObjectKind{model.Account}, Verbs: []model.Verb{model.JoinIt, model.LeaveIt}, Attributes: members,
				Spelled: &model.Spelling{Read: readRole, Covers: strings.EqualFold}},
			{Kind: model.LicenceKind, About: "an entitlement, with as many seats as the server tells", ByJoining: true,
				Name: model.OnePart("licence", name255), Members: []model.ObjectKind{model.Account},
				Verbs:      []model.Verb{model.JoinIt, model.LeaveIt},
				Attributes: append(members, model.AttributeSchema{Name: model.Seats, About: "how many there are"})},
			{Kind: model.SystemKind, About: "the server itself", Attributes: []model.AttributeSchema{{Name: model.System},
				{Name: model.ClockOff},
				{Name: "offers", Many: true, About: "what of the standard it can"}}},
		},
		Admins: []string{mighty},
		Settings: []string{pathAt, signInBy, tokenAt, proveAt, licencesAt, seatsIn, lastSignIn, mustChange, mighty, atOnce, groupsLists,
			groupKindIn, newGroups},
	}
}()

// readRole reads a role as it stands in a declaration: one is a permission of its own, whatever the server means by it.
func readRole(text string) ([]string, error) {
	role := strings.TrimSpace(text)
	if role == "" || len(role) > 255 || strings.ContainsFunc(role, unicode.IsControl) {
		return nil, fmt.Errorf("%q is not the name of a role", text)
	}
	return []string{role}, nil
}

// typed is a value with its sort before it, one space between them.
func typed(s string) string {
	sort, value, ok := strings.Cut(strings.TrimSpace(s), " ")
	if !ok {
		return "other " + sort
	}
	return strings.ToLower(sort) + " " + strings.TrimSpace(value)
}

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows { return connect.Knows{} }
