package host

import (
	"cmp"
	"fmt"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// form is how a host carries out an act, in both of the ways that there are; see program.
type form struct {
	tools string // shell lines that do it with the host's own account tools
	ops   string // operations on the account files, a line each (see files.sh), and
	after string // what is to be done after them; both empty: it is no matter of files
	heavy bool   // it does more than to change account files, on a host whose tools know how
}

// field is where an attribute of an account stands.
type field struct {
	flag   string // of useradd and usermod
	age    string // of chage
	column string // of passwd(5) and shadow(5), as files.sh calls it
}

var fields = map[string]field{
	model.Number: {flag: "-u"}, home: {flag: "-d"},
	model.PrimaryGroup: {flag: "-g", column: "gid"}, model.FullName: {flag: "-c", column: "gecos"}, shell: {flag: "-s", column: "shell"},
	least: {age: "-m", column: "least"}, most: {age: "-M", column: "most"}, warning: {age: "-W", column: "warning"},
	inactive: {age: "-I", column: "inactive"}, expires: {age: "-E", column: "expiry"},
}

// formOf is how an act that is ready, the n-th of its batch, is carried out on a host that holds what view says. asks says whether
// those who are elevated are asked for a password. Values hold neither tabs nor line breaks: see unfit.
func formOf(n int, a connect.Act, view connect.View, asks bool) form {
	f := former{n: n, Act: a, form: form{heavy: len(a.Secrets) > 0}}
	c := a.After()
	switch {
	case a.Object == model.ElevationKind:
		return form{tools: elevationStep(a.Act, asks), heavy: true}
	case a.Object == model.HomeKind:
		b := a.Before()
		return form{tools: "drop_home " + quoted(a.Name, b.One(model.Number), b.One(model.HeldBy), c.One(home)), heavy: true}
	case a.Verb == model.AdoptIt:
		return form{heavy: true}
	case a.Verb == model.JoinIt:
		f.tools = command("gpasswd", "-a", a.Member, a.Name)
		f.op("join", a.Name, a.Member)
	case a.Verb == model.LeaveIt:
		f.tools = command("gpasswd", "-d", a.Member, a.Name)
		f.op("leave", a.Name, a.Member)
	case a.Object == model.GroupKind:
		f.group()
	case a.Verb == model.Disable: // locking stops passwords only; the expiry stops keys as well
		f.after = layAside(a.Name)
		f.tools = command("usermod", "-L", "-e", "1", "--", a.Name) + f.after
		f.op("set", a.Name, "lock", "")
		f.op("set", a.Name, "expiry", "1")
	case a.Verb == model.Enable: // with a new password it is opened when it has it
		f.after = inside(a, a.Changes) + "reopen " + quoted(a.Name)
		f.tools = f.after
	case a.Verb == model.Remove:
		f.after = "remove " + quoted(a.Name, c.One(home))
		f.tools, f.heavy = f.after, true
	case a.Verb == model.Create && view.Object(a.Of()) == nil:
		f.tools = create(a, view) + inside(a, a.Changes)
		f.op("add", a.Name, c.One(model.Number), c.One(model.PrimaryGroup), c.One(home), c.One(shell), c.One(model.FullName))
		f.files(false)
	case a.Verb == model.Create: // ours, cut off before its home was finished
		f.tools = "finish_home " + quoted(a.Name) + inside(a, a.Changes)
		f.files(true)
		f.after = "finish_home " + quoted(a.Name) + f.after
	default:
		f.tools = change(a.Act) + inside(a, a.Changes)
		f.files(true)
		f.heavy = f.heavy || c.Has(model.Number) || c.Has(home) || c.Has(keys)
	}
	return f.form
}

type former struct {
	connect.Act
	form
	n int
}

func (f *former) op(words ...string) {
	f.ops += fmt.Sprintf("%d\t%s\n", f.n, strings.Join(words, "\t"))
}

func (f *former) group() {
	c := f.After()
	number := c.One(model.Number)
	switch {
	case f.Verb == model.Remove:
		f.tools, f.heavy = command("groupdel", "--", f.Name), true
		f.op("ungroup", f.Name)
		return
	case f.Formerly() != "":
		f.tools, f.heavy = command("groupmod", "-n", f.Name, "--", f.Formerly()), true
		f.op("callgroup", f.Formerly(), f.Name)
	case f.Verb == model.Create:
		words := []string{"groupadd", "--", f.Name}
		if number != "" {
			words = []string{"groupadd", "-g", number, "--", f.Name}
		}
		f.tools = command(words...)
		f.op("group", f.Name, number)
	case number != "":
		f.after = "regroup " + quoted(f.Name, number)
		f.tools, f.heavy = f.after, true
	}
	if c.Has(model.Administrators) {
		list := strings.Join(c.Get(model.Administrators), ",")
		f.tools += "[ $rc != 0 ] || " + command("gpasswd", "-A", list, "--", f.Name)
		f.op("admins", f.Name, list)
	}
}

// files are the operations that set values of an account, which is there or is added by the same act.
func (f *former) files(there bool) {
	for _, c := range f.Changes {
		at, v := fields[c.Attribute], one(c.After)
		switch {
		case c.Attribute == model.Locked:
			f.op("set", f.Name, map[bool]string{true: "lock", false: "open"}[v == "yes"], "")
		case at.age != "":
			f.op("set", f.Name, at.column, daysFor(c.Attribute, v))
		case at.column != "" && there:
			f.op("set", f.Name, at.column, v)
		case c.Attribute == model.Number && there:
			f.after += "renumber " + quoted(f.Name, v)
		case c.Attribute == home && there:
			f.after += "move_home " + quoted(f.Name, v)
		case c.Attribute == keys && !there:
			for _, k := range c.After {
				f.op("keys", f.Name, k)
			}
		case c.Attribute == model.MustChange && v == "yes" && len(f.Secrets) == 0:
			f.op("set", f.Name, "changed", "0")
		default:
			f.after += inside(f.Act, []model.Change{c})
		}
	}
}

// create makes an account with its own tool.
func create(a connect.Act, view connect.View) string {
	words := []string{a.Name, one(a.After().Get(model.Number)), one(a.After().Get(home))}
	for _, c := range a.Changes {
		if f := fields[c.Attribute].flag; f != "" {
			words = append(words, f, one(c.After))
		}
	}
	if !ownGroup(a.Act) && view.Object(model.Named{Kind: model.GroupKind, Name: a.Name}) != nil {
		words = append(words, "-g", a.Name) // useradd stops at a group of the account's name that is left over; it is theirs
	}
	return "create " + quoted(append(words, "--", a.Name)...)
}

// change sets with its own tool what that has an option for.
func change(a model.Act) string {
	var words []string
	out, moves := "", ""
	for _, c := range a.Changes {
		switch f := fields[c.Attribute].flag; {
		case c.Attribute == model.Locked:
			out += command("usermod", map[bool]string{true: "-L", false: "-U"}[one(c.After) == "yes"], "--", a.Name)
		case c.Attribute == model.Number && len(c.Before) > 0:
			out += "renumber " + quoted(a.Name, one(c.After))
		case c.Attribute == home:
			words, moves = append(words, "-m", f, one(c.After)), one(c.After)
		case f != "":
			words = append(words, f, one(c.After))
		}
	}
	words = append(append([]string{"usermod"}, words...), "--", a.Name)
	switch {
	case moves != "":
		out = "to_home " + quoted(append([]string{moves}, words...)...) + out
	case len(words) > 3:
		out = command(words...) + out
	}
	return out
}

// inside sets what the account tools have no option for.
func inside(a connect.Act, changes []model.Change) string {
	out := ""
	var age []string
	for _, c := range changes {
		switch f := fields[c.Attribute].age; {
		case c.Attribute == keys:
			text := strings.Join(c.After, "\n")
			if text != "" {
				text += "\n"
			}
			out += "keys " + quoted(a.Name, text)
		case c.Attribute == model.Password || c.Attribute == model.PasswordHash:
			fresh := map[bool]string{true: "new"}[a.Verb == model.Create]
			how := map[bool]string{true: "-e"}[c.Attribute == model.PasswordHash]
			out += "password " + quoted(a.Name, string(a.Secrets[c.Attribute].Reveal()), fresh, how)
		case c.Attribute == model.MustChange && one(c.After) == "yes":
			out += "must_change " + quoted(a.Name, "0")
		case c.Attribute == model.MustChange:
			out += "must_change " + quote(a.Name) + " $(($(date +%s) / 86400))\n"
		case f != "":
			age = append(age, f, cmp.Or(daysFor(c.Attribute, one(c.After)), "-1"))
		}
	}
	if age != nil {
		out = "[ $rc != 0 ] || " + command(append(append([]string{"chage"}, age...), "--", a.Name)...) + out
	}
	return out
}

// daysFor is how shadow(5) has a value of one of its days; chage takes -1 for none.
func daysFor(attribute, value string) string {
	switch {
	case attribute == expires:
		return numberOf(value)
	case value == "never" && attribute == most:
		return "99999"
	case value == "never":
		return ""
	}
	return value
}

// layAside takes keys out of use where they would open an account that is shut.
func layAside(account string) string { return "aside " + quoted(account, "", ".shut") }

func elevationStep(a model.Act, asks bool) string {
	how, text, probe := "give", strings.SplitN(ruleOf("", a.Name, true), ") ", 2)[1], a.Name
	if a.Verb == model.LeaveIt {
		how = "take"
	}
	if a.Name == everything {
		probe = "/bin/sh"
	}
	return "elevation " + quoted(append([]string{how, a.Member, text, ruleOf(a.Member, a.Name, asks)}, probe)...)
}
