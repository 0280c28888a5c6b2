package host

import (
	"cmp"
	_ "embed"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

//go:embed lib.sh
var lib string

//go:embed apply.sh
var applyLib string

//go:embed remove.sh
var removeLib string

//go:embed elevate.sh
var elevateLib string

//go:embed homes.sh
var homesLib string

//go:embed files.sh
var filesLib string

// prelude sets what the shell side wants to know of the target's settings.
func prelude(settings map[string]string) string {
	if settings[keysSetting] == "at-least" {
		return "ours_only=1\n" + lib
	}
	return "ours_only=\n" + lib
}

// surveyScript reads all that a host holds.
func surveyScript(settings map[string]string, homes bool) string {
	if homes {
		return prelude(settings) + homesLib + "homes_all\nsurvey\n"
	}
	return prelude(settings) + "survey\n"
}

// homesScript looks at homes alone.
func homesScript(settings map[string]string) string {
	return prelude(settings) + homesLib + "signed; homes_all; echo Z:\n"
}

// askScript begins a batch: it reads what the acts speak of, and waits for what
// is to be done about it.
func askScript(acts []connect.Act, urgent bool, settings map[string]string) string {
	var b strings.Builder
	b.WriteString(map[bool]string{false: "urgent=\n", true: "urgent=1\n"}[urgent])
	of := func(kind model.ObjectKind) bool {
		return slices.ContainsFunc(acts, func(a connect.Act) bool { return a.Object == kind })
	}
	b.WriteString(prelude(settings) + "folders=\n" + applyLib + removeLib)
	if of(model.ElevationKind) {
		b.WriteString(elevateLib)
	}
	if of(model.HomeKind) {
		b.WriteString("folders=1\n" + homesLib)
	}
	b.WriteString("printf '%s\\n'")
	told := map[string]bool{}
	for _, a := range acts {
		for _, q := range questions(a.Act) {
			if !told[q] {
				told[q] = true
				b.WriteString(" " + quote(q))
			}
		}
	}
	b.WriteString(` >"$lock/names" || { echo 'X:the disk is full'; exit 0; }
kept
tell
echo Y:
`)
	return b.String()
}

// questions are the names that an act speaks of; see state in lib.sh. One that
// no host could have is not asked for.
func questions(a model.Act) []string {
	ask := func(kind string, names ...string) []string {
		if slices.ContainsFunc(names, func(n string) bool { return strings.ContainsAny(n, ":\n\x00") }) {
			return nil
		}
		return []string{kind + strings.Join(names, ":")}
	}
	switch {
	case a.Object == model.HomeKind:
		return ask("h", a.Name)
	case a.Object == model.ElevationKind:
		return ask("a", a.Member)
	case a.Moves():
		return append(ask("g", a.Name), ask("m", a.Name, a.Member)...)
	case a.Formerly() != "":
		return append(ask("g", a.Name), ask("g", a.Formerly())...)
	case a.Object == model.GroupKind:
		return ask("g", a.Name)
	case a.Verb == model.Create || a.Verb == model.Remove: // and the group of its name, which may come and go with it
		return append(ask("g", a.Name), ask("a", a.Name)...)
	}
	return ask("a", a.Name)
}

// ownGroup says whether an account that is made is given its primary group.
func ownGroup(a model.Act) bool { return a.After().Has(model.PrimaryGroup) }

// quote makes one word of any value for a POSIX shell (2.2.2, single quotes).
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func command(words ...string) string { return "run " + quoted(words...) }

func quoted(words ...string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = quote(w)
	}
	return strings.Join(out, " ") + "\n"
}

// flag is how useradd and usermod are told an attribute.
var flag = map[string]string{model.Number: "-u", model.PrimaryGroup: "-g", model.FullName: "-c", home: "-d", shell: "-s"}

// step is what carries out an act that is ready with the host's own tools, given what it holds.
func step(a connect.Act, view connect.View, asks bool) string {
	switch {
	case a.Object == model.ElevationKind:
		return elevationStep(a.Act, asks)
	case a.Object == model.HomeKind:
		c := a.Before()
		return "drop_home " + quoted(a.Name, c.One(model.Number), c.One(model.HeldBy), a.After().One(home))
	}
	switch a.Verb {
	case model.JoinIt:
		return command("gpasswd", "-a", a.Member, a.Name)
	case model.LeaveIt:
		return command("gpasswd", "-d", a.Member, a.Name)
	case model.AdoptIt:
		return ""
	case model.Disable: // locking stops passwords only; the expiry stops keys as well
		return command("usermod", "-L", "-e", "1", "--", a.Name) + layAside(a.Name)
	case model.Enable: // with a new password it is opened when it has it
		return insideStep(a) + "reopen " + quoted(a.Name)
	}
	if a.Object == model.GroupKind {
		return groupStep(a.Act)
	}
	switch a.Verb {
	case model.Remove:
		return "remove " + quoted(a.Name, one(a.After().Get(home)))
	case model.Create:
		if view.Object(a.Of()) == nil {
			return create(a, view) + insideStep(a)
		}
		return "finish_home " + quoted(a.Name) + insideStep(a) // ours, cut off before that
	}
	return change(a.Act) + insideStep(a)
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

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}

func options(a model.Act) []string {
	var out []string
	for _, c := range a.Changes {
		if f := flag[c.Attribute]; f != "" {
			out = append(out, f, one(c.After))
		}
	}
	return out
}

func create(a connect.Act, view connect.View) string {
	words := append([]string{a.Name, one(a.After().Get(model.Number)), one(a.After().Get(home))}, options(a.Act)...)
	if !ownGroup(a.Act) && view.Object(model.Named{Kind: model.GroupKind, Name: a.Name}) != nil {
		words = append(words, "-g", a.Name) // useradd stops at a group of the account's name that is left over; it is theirs
	}
	return "create " + quoted(append(words, "--", a.Name)...)
}

func change(a model.Act) string {
	var words []string
	out, moves := "", ""
	for _, c := range a.Changes {
		switch f := flag[c.Attribute]; {
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

// ages are what chage is told of the days of an account.
var ages = map[string]string{least: "-m", most: "-M", warning: "-W", inactive: "-I", expires: "-E"}

// daysFor is how shadow(5) has a value of one of them; chage takes -1 for none.
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

// insideStep sets what the account tools have no option for.
func insideStep(a connect.Act) string {
	out := ""
	var age []string
	for _, c := range a.Changes {
		switch {
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
		case ages[c.Attribute] != "":
			age = append(age, ages[c.Attribute], cmp.Or(daysFor(c.Attribute, one(c.After)), "-1"))
		}
	}
	if age != nil {
		out = "[ $rc != 0 ] || " + command(append(append([]string{"chage"}, age...), "--", a.Name)...) + out
	}
	return out
}

func groupStep(a model.Act) string {
	out, number := "", one(a.After().Get(model.Number))
	switch {
	case a.Verb == model.Remove:
		return command("groupdel", "--", a.Name)
	case a.Formerly() != "":
		return command("groupmod", "-n", a.Name, "--", a.Formerly())
	case a.Verb == model.Modify && number != "":
		out = "regroup " + quoted(a.Name, number)
	case a.Verb == model.Create && number != "":
		out = command("groupadd", "-g", number, "--", a.Name)
	case a.Verb == model.Create:
		out = command("groupadd", "--", a.Name)
	}
	if a.After().Has(model.Administrators) {
		out += "[ $rc != 0 ] || " + command("gpasswd", "-A", strings.Join(a.After().Get(model.Administrators), ","), "--", a.Name)
	}
	return out
}
