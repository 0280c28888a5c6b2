// Package host looks after the accounts of a Unix host over SSH. It needs
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
)

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

var schema = model.Schema{
	Kind:  Kind,
	About: "a Unix host, over SSH",
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
				{Name: shell, About: "login shell", Settable: true},
				{Name: keys, About: "authorized keys", Many: true, From: "keys"},
				{Name: model.Password, About: "password", Sealed: true},
				{Name: model.PasswordHash, About: "a hash of a password, as crypt(5) writes it", Sealed: true},
				{Name: model.MustChange, About: "the password must be changed at the next sign-in"},
				{Name: model.Disabled, About: "password locked and account expired"},
				{Name: model.Elevation, About: "how the account can become superuser", Many: true},
			}},
		{Kind: model.GroupKind, Name: model.OnePart("name", name32), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{
				{Name: model.Number, About: "gid", Settable: true},
				{Name: model.Members, About: "accounts in it", Many: true},
			}},
		{Kind: model.SessionKind, About: "who is signed in over SSH", Attributes: []model.AttributeSchema{
			{Name: model.HeldBy}, {Name: model.From, About: "address"}, {Name: model.Since}, {Name: "terminal"}}},
		{Kind: model.SystemKind, About: "the host itself", Attributes: []model.AttributeSchema{
			{Name: model.HostName}, {Name: model.System}, {Name: model.Version, About: "kernel"}, {Name: model.Addresses, Many: true},
			{Name: model.UpSince}, {Name: model.ClockOff}}},
		{Kind: model.RightKind, About: "what makes somebody superuser", Members: []model.ObjectKind{model.Account, model.GroupKind}},
	},
}

// name32 is what useradd takes; 32 bytes is the room utmp has for a name.
const name32 = `^[a-z_][a-z0-9_.-]{0,31}$`

// gecos is a full name as the host keeps it: what chfn's other fields would follow is cut off.
func gecos(s string) string { return strings.TrimRight(s, ",") }
