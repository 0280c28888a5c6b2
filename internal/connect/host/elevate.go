package host

import (
	"regexp"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// What Hen Roost gives somebody to do as superuser stands in a file of its own
// among those of sudo, a line for each account and command:
//
//	marit.fell ALL=(ALL:ALL) /usr/bin/systemctl restart winch
//
// Everybody else's files are read, and left as they are.

// everything is the command that is all of them.
const everything = "all"

// given is what one line of our own file gives.
type given struct{ account, command string }

var ownLine = regexp.MustCompile(`^(\S+) ALL=\((?:ALL:ALL|ALL)\) (?:NOPASSWD: )?(.+)$`)

// givenOf reads a line of our own file. What somebody else wrote there still counts as a rule of sudo.
func givenOf(line string) (given, bool) {
	m := ownLine.FindStringSubmatch(strings.TrimSpace(line))
	if m == nil {
		return given{}, false
	}
	x := given{name(unescaped(m[1])), connect.Printable(unescaped(m[2]))}
	if x.command == "ALL" {
		x.command = everything
	}
	return x, true
}

// ruleOf is the line that gives an account a command (sudoers(5)).
func ruleOf(account, command string, asks bool) string {
	tag := map[bool]string{false: "NOPASSWD: "}[asks]
	if command == everything {
		command = "ALL"
	} else {
		command = escaped(command)
	}
	return account + " ALL=(ALL:ALL) " + tag + command
}

// escaped writes a command so that nothing in its arguments is a sign of sudoers' own.
func escaped(s string) string {
	return strings.NewReplacer(`\`, `\\`, `,`, `\,`, `:`, `\:`, `=`, `\=`, `#`, `\#`, `"`, `\"`).Replace(s)
}

func unescaped(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// plainAccount is a name that sudoers takes for an account's, and for nothing else.
var plainAccount = regexp.MustCompile(`^[a-zA-Z0-9_.][a-zA-Z0-9_.-]*$`)

// unfitElevation says why sudo could not be told of an elevation; "" that it can.
func unfitElevation(a model.Act) string {
	switch {
	case a.Object != model.ElevationKind:
		return ""
	case !plainAccount.MatchString(a.Member) || a.Member == strings.ToUpper(a.Member):
		return "sudo's files cannot name the account " + a.Member + ": they would take it for something else"
	case a.Name != everything && (!strings.HasPrefix(a.Name, "/") || connect.Printable(a.Name) != a.Name):
		return a.Name + " is neither all nor a command with its whole path"
	case len(a.Name) > 2000:
		return "the command is longer than 2000 bytes"
	}
	return ""
}

// give lists what our own file gives as sets, by command, and who through it can become superuser.
func (r *reading) give(list []given) {
	by := map[string][]string{}
	for _, x := range list {
		if !slices.Contains(by[x.command], x.account) {
			by[x.command] = append(by[x.command], x.account)
		}
		r.power.ours[x.account] = append(r.power.ours[x.account], "elevation "+x.command)
	}
	for command, members := range by {
		slices.Sort(members)
		r.groups = append(r.groups, model.Object{Kind: model.ElevationKind, Name: command,
			Attributes: model.Pack(model.Attribute{Name: model.Members, Values: members})})
	}
}
