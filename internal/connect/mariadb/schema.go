// Package mariadb looks after the accounts, roles and permissions of MariaDB
// servers, over their own protocol with TLS. An account is its login and the origin
// that it may come from: ulla@10.1.%; several origins of one login are several accounts.
//
// Round trips: a survey is one request of nine queries, however many accounts there
// are. A batch of acts is one request to read what it speaks of, one statement for
// each 250 accounts that have the same done to them, and one request to read
// back; before anybody is removed two more ask who is signed in, and what belongs to
// them. A statement that fails is followed by a reading, and by what is left of it
// one by one, so that the one that fails is named.
//
// Everything is read out of the tables that the server itself keeps (mysql.global_priv
// and its like): what it tells of them elsewhere takes a query for each account.
package mariadb

import (
	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches MariaDB servers. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "mariadb"

// Attributes of accounts here alone.
const (
	defaultRole  = "default-role"        // the role that is in force from the beginning of a session
	passwordMost = "password-max-age"    // days
	changed      = model.PasswordChanged // the day
	demandsTLS   = "tls"                 // see tlsWords
	subject      = "certificate-subject" // of the certificate that is demanded
	issuer       = "certificate-issuer"
	sessionsMost = "sessions-most" // at once
	queriesMost  = "queries-most"  // in an hour
	updatesMost  = "updates-most"
	signInsMost  = "sign-ins-most"
)

// Settings.
const (
	alsoAt      = "also-at"      // more addresses of the same database: it is written where it is writable
	passwordsAs = "passwords-as" // the plugin that keeps them, where who signs in does not know the better one
)

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

// everywhere is the origin of an account that may come from anywhere.
const everywhere = "%"

var schema = model.Schema{
	Kind:        Kind,
	Renews:      true,
	Permits:     &model.Permits{Examples: []string{"SELECT ON stores.items"}},
	About:       "a MariaDB server (10.6 and later), over its own protocol with TLS",
	SystemNames: []string{"mariadb.sys", "PUBLIC"},
	Factory:     []string{"root@*", "@*"},
	Kinds: []model.KindSchema{
		{Kind: model.Account, Joint: "@", About: "a login and where it may come from",
			Name: []model.NamePart{{Name: "login", Pattern: `^[^\x00-\x1f\x7f\x{10000}-\x{10ffff}]{1,128}$`},
				{Name: "origin", Pattern: `^[0-9A-Za-z.:%_/-]{1,255}$`, Usual: everywhere,
					About: "an address, a name, a network as 10.1.0.0/255.255.0.0, or a pattern with % and _"}},
			Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Password, About: "kept as ed25519 where the server has it, else as mysql_native_password", Sealed: true},
				{Name: model.PasswordKept, About: "as the server keeps it", Sealed: true},
				{Name: model.MustChange, About: "the password has expired"},
				{Name: model.Disabled, About: "ACCOUNT LOCK"},
				{Name: model.SignIn, About: "password, or methods of the server's (unix_socket odd.strand), any of which lets it in",
					Many: true, Settable: true, Canonical: canonicalWay},
				{Name: defaultRole, About: "the role in force from the beginning of a session", Settable: true},
				{Name: passwordMost, About: "days, or never", Settable: true},
				{Name: demandsTLS, About: "no, yes, or certificate: what a sign-in must come with", Settable: true},
				{Name: subject, About: "of the client certificate that is demanded", Settable: true},
				{Name: issuer, About: "of the client certificate that is demanded", Settable: true},
				{Name: sessionsMost, About: "sessions at once; 0: as many as the server allows", Settable: true},
				{Name: queriesMost, About: "statements in an hour; 0: any number", Settable: true},
				{Name: updatesMost, About: "changes in an hour; 0: any number", Settable: true},
				{Name: signInsMost, About: "sign-ins in an hour; 0: any number", Settable: true},
				{Name: changed, About: "the day of the last change of the password, or that none was given yet"},
				{Name: model.PasswordEnds}, {Name: model.Elevation, Many: true}, {Name: model.Passwordless},
				{Name: model.OpenWide}, {Name: model.WeakSignIn}, {Name: model.ShadowedBy}, {Name: model.UnevenWith},
				{Name: model.Owns, About: "what runs as it: views, routines, triggers, events", Many: true},
			}},
		{Kind: model.GroupKind, About: "a role", Name: model.OnePart("name", `^[^\x00-\x1f\x7f\x{10000}-\x{10ffff}]{1,128}$`),
			Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs:   []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Members, Many: true}, {Name: model.MemberGroups, Many: true},
				{Name: model.Administrators, About: "members that may give the role on (ADMIN OPTION)", Many: true}}},
		{Kind: model.RightKind, About: "a permission, as GRANT has it: SELECT ON stores.items", ByJoining: true,
			Name: model.OnePart("permission", `.`), Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs:      []model.Verb{model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Members, Many: true}, {Name: model.MemberGroups, Many: true}},
			Spelled:    &model.Spelling{Read: dialect.Read, Covers: dialect.Covers, Mighty: isMighty}},
		{Kind: model.SessionKind},
		{Kind: model.SystemKind, About: "the server itself", Attributes: []model.AttributeSchema{
			{Name: model.System}, {Name: model.Version}, {Name: model.HostName}, {Name: model.UpSince}, {Name: model.ClockOff},
			{Name: "read-only"}, {Name: "cluster"}, {Name: "follows", About: "the server that it is a replica of"}}},
	},
	Settings: []string{alsoAt, passwordsAs},
}

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows {
	return connect.Knows{MakeLogin: makeLogin, Answers: answering}
}
