// Package host looks after the accounts of a Unix host through a Shell, such as SSH. It needs
// nothing on the host but a POSIX shell, awk and the system's own account tools.
//
// Round trips: one connection a session; a survey is ONE exec, a batch of
// changes is ONE exec, whatever the number of steps: the shell reads what they
// speak of and tells it, waits, is told what to do, does it and reads back.
//
// Every value reaches the shell in single quotes, so nothing in a name can be
// run; what comes back is line by line behind a letter of ours, so nothing in a
// name can pass for an answer.
package host

import (
	"strconv"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var (
	_ connect.Connector = Connector{}
	_ connect.Session   = (*session)(nil)
)

// Connector reaches hosts. The zero value is ready.
type Connector struct{}

// Kind is what a target of this connector is called in a declaration.
const Kind = "host"

const (
	home  = "home"
	shell = "shell"
	keys  = "keys"
	tools = "tools" // of the host itself: with what its accounts are kept; see kept in lib.sh

	// Days that shadow(5) keeps of an account.
	changed  = model.PasswordChanged
	least    = "password-min-age"
	most     = "password-max-age"
	warning  = "password-warning"
	inactive = "password-inactive"
	expires  = "expires"

	otherKeys = "other-keys" // where only our own keys are looked after: those that somebody else put there
)

// What a target of this kind may say under settings.
const (
	keysSetting      = "keys"           // exactly, as when nothing is said, or at-least: then keys that others put there stay
	elevationSetting = "elevation"      // password, as when nothing is said, or no-password: what sudo asks of those whom we elevate
	authoritySetting = "host-authority" // the public key of who signs the identity keys of hosts
)

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

var schema = model.Schema{
	Kind:     Kind,
	Renews:   true,
	About:    "a Unix host, over SSH",
	Leads:    true,
	Settings: []string{keysSetting, elevationSetting, authoritySetting},
	Factory: []string{"pi", "ubuntu", "debian", "admin", "administrator", "user", "guest", "test", "demo", "vagrant", "ec2-user",
		"cloud-user"},
	SystemNames: []string{"root", "daemon", "bin", "sys", "sync", "games", "man", "lp", "mail", "news", "uucp", "proxy", "www-data",
		"backup", "list", "irc", "gnats",
		"nobody", "_*", "systemd-*", "messagebus", "dbus", "sshd", "polkitd", "tss", "uuidd", "tcpdump", "avahi*", "ntp", "chrony",
		"statd", "halt", "shutdown", "operator", "adm"},
	Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", name32),
			Verbs: []model.Verb{model.Create, model.Modify, model.Disable, model.Enable, model.Remove, model.AdoptIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Number, About: "uid", Settable: true, From: "number"},
				{Name: model.FullName, About: "the person's name", Settable: true, From: "name", Canonical: gecos},
				{Name: model.PrimaryGroup, About: "name of the primary group", Settable: true},
				{Name: home, About: "home folder", Settable: true},
				{Name: shell, About: "login shell", Settable: true, Remade: true},
				{Name: keys, About: "authorized keys", Many: true, From: "keys"},
				{Name: model.Password, About: "password", Sealed: true},
				{Name: model.PasswordHash, About: "a hash of a password, as crypt(5) writes it", Sealed: true},
				{Name: model.MustChange, About: "the password must be changed at the next sign-in"},
				{Name: model.Disabled, About: "password locked and account expired"},
				{Name: model.Elevation, About: "how the account can become superuser", Many: true},
				{Name: model.PasswordEnds, About: "last day of the password"},
				{Name: changed, About: "day on which the password was changed last"},
				{Name: least, About: "days that a password is kept at least", Settable: true, Canonical: days("0")},
				{Name: most, About: "days that a password is kept at most, or never", Settable: true, Canonical: days("never")},
				{Name: warning, About: "days before that on which the person is warned", Settable: true, Canonical: days("0")},
				{Name: inactive, About: "days after that until the account is shut, or never", Settable: true, Canonical: days("never")},
				{Name: expires, About: "day from which the account is shut, or never", Settable: true, Canonical: canonicalDay},
				{Name: model.Locked, About: "whether no password opens the superuser; keys go on"},
				{Name: model.LastSignIn, About: "day of the last sign-in"},
				{Name: model.FailedSignIns, About: "sign-ins that were tried in vain of late"},
				{Name: otherKeys, About: "keys that others put there, and that stay", Many: true},
				{Name: model.LyingAbout, About: "what it has outside its home", Many: true},
				{Name: model.KeptBy, About: "who keeps the account, if it is not the host"},
			}},
		{Kind: model.GroupKind, Name: model.OnePart("name", name32), Members: []model.ObjectKind{model.Account}, Renames: true,
			Verbs: []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Number, About: "gid", Settable: true},
				{Name: model.Members, About: "accounts in it", Many: true},
				{Name: model.Administrators, About: "accounts that may change who is in it", Many: true, Settable: true},
			}},
		{Kind: model.ElevationKind, About: "what may be done as superuser, given by Hen Roost", Members: []model.ObjectKind{model.Account},
			Name: model.OnePart("command", `^(all|/[^\x00-\x1f]*)$`), Verbs: []model.Verb{model.JoinIt, model.LeaveIt}, ByJoining: true, Given: true,
			Attributes: []model.AttributeSchema{{Name: model.Members, About: "accounts that may", Many: true}}},
		{Kind: model.HomeKind, About: "what people leave on the host", Name: model.OnePart("folder", `^/`),
			Verbs: []model.Verb{model.Remove}, Attributes: []model.AttributeSchema{
				{Name: model.HeldBy, About: "whose home it is"}, {Name: model.Number, About: "uid of whose folder it is"},
				{Name: model.Size, About: "bytes, to two digits"}, {Name: model.LastUse, About: "day of the last use"},
				{Name: model.InUse, About: "yes, while somebody works in it"}, {Name: home, About: "what becomes of it"}}},
		{Kind: model.SessionKind, About: "who is signed in over SSH", Attributes: []model.AttributeSchema{
			{Name: model.HeldBy}, {Name: model.From, About: "address"}, {Name: model.Since}, {Name: "terminal"}}},
		{Kind: model.SystemKind, About: "the host itself", Attributes: []model.AttributeSchema{
			{Name: model.HostName}, {Name: tools, About: "with what its accounts are kept"}, {Name: model.System}, {Name: model.Version,
				About: "kernel"}, {Name: model.Addresses, Many: true},
			{Name: model.UpSince}, {Name: model.ClockOff}}},
		{Kind: model.RightKind, About: "what makes somebody superuser", Members: []model.ObjectKind{model.Account, model.GroupKind}},
	},
}

// name32 is what useradd takes; 32 bytes is the room utmp has for a name.
const name32 = `^[a-z_][a-z0-9_.-]{0,31}$`

// gecos is a full name as the host keeps it: what chfn's other fields would follow is cut off.
func gecos(s string) string { return strings.TrimRight(s, ",") }

// days writes a number of days as the host keeps it: what shadow(5) has for "not at all" is a word.
func days(otherwise string) func(string) string {
	return func(s string) string {
		if n, err := strconv.Atoi(s); err != nil || n < 0 || n >= 99999 {
			return otherwise
		}
		return s
	}
}

// canonicalDay writes a day on which an account expires, or never.
func canonicalDay(s string) string {
	if s == "" {
		return "never"
	}
	return s
}

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows { return connect.Knows{} }
