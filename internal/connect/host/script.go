package host

import (
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

// surveyScript reads all that a host holds.
func surveyScript() string { return lib + "survey\n" }

// askScript begins a batch: it reads what the acts speak of, and waits for what
// is to be done about it.
func askScript(acts []connect.Act, urgent bool) string {
	var b strings.Builder
	b.WriteString(lib)
	b.WriteString(map[bool]string{false: "urgent=\n", true: "urgent=1\n"}[urgent])
	b.WriteString(applyLib)
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
	case a.Moves():
		return append(ask("g", a.Name), ask("m", a.Name, a.Member)...)
	case a.Object == model.GroupKind:
		return ask("g", a.Name)
	case a.Verb == model.Create && !ownGroup(a): // a group of its name that somebody left behind
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

// step is what carries out an act that is ready, given what the host holds.
func step(a connect.Act, view connect.View) string {
	switch a.Verb {
	case model.JoinIt:
		return command("gpasswd", "-a", a.Member, a.Name)
	case model.LeaveIt:
		return command("gpasswd", "-d", a.Member, a.Name)
	case model.AdoptIt:
		return ""
	case model.Disable: // locking stops passwords only; the expiry stops keys as well
		return command("usermod", "-L", "-e", "1", "--", a.Name)
	case model.Enable: // with a new password it is opened when it has it
		return insideStep(a) + "reopen " + quoted(a.Name)
	}
	if a.Object == model.GroupKind {
		return groupStep(a.Act)
	}
	switch a.Verb {
	case model.Remove:
		return removeStep(a.Act)
	case model.Create:
		if view.Object(a.Of()) == nil {
			return create(a, view) + insideStep(a)
		}
		return insideStep(a) // ours, cut off before that
	}
	return change(a.Act) + insideStep(a)
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
	words := append([]string{"useradd", "-m"}, options(a.Act)...)
	if !ownGroup(a.Act) && view.Object(model.Named{Kind: model.GroupKind, Name: a.Name}) != nil {
		words = append(words, "-g", a.Name) // useradd stops at a group of the account's name that is left over; it is theirs
	}
	return command(append(words, "--", a.Name)...)
}

func change(a model.Act) string {
	words := append([]string{"usermod"}, options(a)...)
	if i := slices.Index(words, "-d"); i >= 0 {
		words = slices.Insert(words, i, "-m")
	}
	if len(words) == 1 {
		return ""
	}
	return command(append(words, "--", a.Name)...)
}

// insideStep sets what the account tools have no option for.
func insideStep(a connect.Act) string {
	out := ""
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
		}
	}
	return out
}

func groupStep(a model.Act) string {
	number := one(a.After().Get(model.Number))
	switch {
	case a.Verb == model.Remove:
		return command("groupdel", "--", a.Name)
	case a.Verb == model.Modify:
		return command("groupmod", "-g", number, "--", a.Name)
	case number != "":
		return command("groupadd", "-g", number, "--", a.Name)
	}
	return command("groupadd", "--", a.Name)
}

// removeStep removes an account, and its home as the act says: kept when it says nothing.
func removeStep(a model.Act) string {
	remove := command("userdel", "--", a.Name)
	switch how := a.After().One(home); how {
	case model.HomeArchived, model.HomeRemoved:
		return "if leave_home " + strings.TrimSuffix(quoted(a.Name, how), "\n") + "; then " + strings.TrimSuffix(remove, "\n") +
			"; clear_home; fi\n"
	}
	return remove
}
