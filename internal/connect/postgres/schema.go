// Package postgres looks after the roles and permissions of PostgreSQL servers, over
// their own protocol with TLS. Of its roles those that may sign in, or could when they
// were not shut, are accounts; the others are groups.
//
// Round trips: a survey is one request of a few queries for the server, and one for
// each of its databases, however many accounts there are. A batch of acts is one
// request to read what it speaks of (and one for each database that it speaks of), one
// for each 250 changes, which is one transaction, and the same readings again to
// read back; before anybody is removed one more for each database asks what belongs to
// them. A transaction that fails has changed nothing, and is done again one by one, so
// that the change that fails is named.
package postgres

import (
	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches PostgreSQL servers. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "postgres"

// Attributes of accounts here alone.
const (
	sessionsMost = "sessions-most"
	inherits     = "inherits"
	settings     = "settings"
	onRequest    = "on-request"
	neverAs      = "never-as"
)

// Settings of targets.
const (
	alsoAt   = "also-at"  // more addresses of the same database: it is written where it is writable
	database = "database" // the one that is signed in to; usually postgres
	heir     = "heir"     // whose what belongs to an account becomes when it is removed
)

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

// nameMost is how many bytes a name has at most: the server cuts what is longer.
const nameMost = 63

const namePattern = `^[^\x00-\x1f\x7f]{1,63}$`

var schema = model.Schema{
	Kind:        Kind,
	Renews:      true,
	Permits:     &model.Permits{Examples: []string{"SELECT ON rota.public.shifts"}},
	About:       "a PostgreSQL server (15 and later), over its own protocol with TLS",
	SystemNames: []string{"pg_*"},
	Factory:     []string{"postgres"},
	Kinds: []model.KindSchema{
		{Kind: model.Account, About: "a role that signs in", Name: model.OnePart("login", namePattern),
			Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Password, About: "kept as SCRAM-SHA-256", Sealed: true},
				{Name: model.PasswordKept, About: "as the server keeps it: SCRAM-SHA-256$…", Sealed: true},
				{Name: model.Disabled, About: "NOLOGIN"},
				{Name: model.PasswordEnds, About: "VALID UNTIL: a day, a time, or never", Settable: true, Canonical: canonicalTime},
				{Name: sessionsMost, About: "sessions at once, or any", Settable: true},
				{Name: inherits, About: "has what its groups have without asking for it: yes or no", Settable: true},
				{Name: onRequest, Many: true, Settable: true,
					About: "groups that it is in and whose rights it has only once it asks for them (INHERIT FALSE; since 16)"},
				{Name: neverAs, About: "groups that it is in and may not act as (SET FALSE; since 16)", Many: true, Settable: true},
				{Name: settings, About: "as work_mem=64MB, or search_path=crew in rota", Many: true, Settable: true},
				{Name: model.Elevation, Many: true}, {Name: model.Passwordless}, {Name: model.WeakSignIn},
				{Name: model.Owns, About: "what belongs to it", Many: true},
			}},
		{Kind: model.GroupKind, About: "a role that nobody signs in as", Name: model.OnePart("name", namePattern),
			Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs:   []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Members, Many: true}, {Name: model.MemberGroups, Many: true},
				{Name: model.Administrators, About: "members that may give it on (ADMIN OPTION)", Many: true},
				{Name: model.Owns, About: "what belongs to it", Many: true}}},
		{Kind: model.RightKind,
			About:     "a permission, as GRANT has it: SELECT ON rota.public.shifts; or what a role may do on the server: CREATEDB",
			ByJoining: true, Name: model.OnePart("permission", `.`), Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs:      []model.Verb{model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Members, Many: true}, {Name: model.MemberGroups, Many: true}},
			Spelled:    &model.Spelling{Read: dialect.Read, Covers: dialect.Covers, Mighty: isMighty}},
		{Kind: model.SessionKind},
		{Kind: model.SystemKind, About: "the server itself", Attributes: []model.AttributeSchema{
			{Name: model.System}, {Name: model.Version}, {Name: model.UpSince}, {Name: model.ClockOff}, {Name: "read-only"},
			{Name: "databases", Many: true}}},
	},
	Settings: []string{alsoAt, database, heir},
}

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows { return connect.Knows{MakeLogin: makeLogin} }
