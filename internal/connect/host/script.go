package host

import (
	_ "embed"
	"fmt"
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

// applyScript carries out a batch: read before, change step by step, read back.
func applyScript(acts []connect.Act) string {
	var b strings.Builder
	b.WriteString(lib)
	b.WriteString(applyLib)
	b.WriteString("printf '%s\\n'")
	for _, a := range acts {
		for _, q := range questions(a) {
			b.WriteString(" " + quote(q))
		}
	}
	b.WriteString(` >"$lock/names" || { echo 'X:the disk is full'; exit 0; }
state 1 "$lock/names" >"$lock/now" || { echo 'X:the accounts cannot be read, or the disk is full'; exit 0; }
exec 3<"$lock/now"
`)
	for i, a := range acts {
		fmt.Fprintf(&b, "s %d\n%se\n", i, step(a))
	}
	b.WriteString("survey\n")
	return b.String()
}

// questions are what is asked of the host before the batch for one step, in the
// order in which the step reads the answers; see state in lib.sh.
func questions(a connect.Act) []string {
	ask := func(kind string, names ...string) string {
		q := kind + strings.Join(names, ":")
		if slices.ContainsFunc(names, func(n string) bool { return strings.ContainsAny(n, ":\n\x00") }) {
			return "-" // no name that a host could have
		}
		return q
	}
	switch {
	case a.Object == model.GroupKind:
		return []string{ask("g", a.Name)}
	case a.Object == model.Membership:
		return []string{ask("m", a.Name, a.Member)}
	case a.Verb == model.Create && !ownGroup(a):
		return []string{ask("g", a.Name), ask("a", a.Name)}
	default:
		return []string{ask("a", a.Name)}
	}
}

// ownGroup says whether an account that is made is given its primary group.
func ownGroup(a connect.Act) bool { return a.After().Has(model.PrimaryGroup) }

// quote makes one word of any value for a POSIX shell (2.2.2, single quotes).
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func command(words ...string) string {
	for i, w := range words {
		words[i] = quote(w)
	}
	return "run " + strings.Join(words, " ")
}

// variable is where acct and grp leave an attribute.
var variable = map[string]string{
	model.Number: "$number", model.PrimaryGroup: "$group", model.Disabled: "$disabled",
	home: "$home", shell: "$shell", model.FullName: "$fullname",
}

// flag is how useradd and usermod are told an attribute.
var flag = map[string]string{model.Number: "-u", model.PrimaryGroup: "-g", model.FullName: "-c", home: "-d", shell: "-s"}

func step(a connect.Act) string {
	switch a.Object {
	case model.GroupKind:
		return groupStep(a)
	case model.Membership:
		return memberStep(a)
	}
	switch a.Verb {
	case model.Create:
		there := "[ $did != ready ] || did=moved\n"
		if a.Again { // ours, cut off before its keys were written
			there = "if ready; then :\n" + keysStep(a) + "fi\n"
		}
		left := "grp && left=yes || left=\n" // a group of the account's name that somebody left behind
		if ownGroup(a) {
			left = ""
		}
		return left + "if acct; then\n" + guards(a) + there + "elif [ \"$odd\" ]; then gone it\nelse did=acted\n" + create(a) + "fi\n"
	case model.AdoptIt:
		return "if acct; then did=acted; else gone " + quote("account "+a.Name) + "; fi\n"
	default:
		return "if acct; then\n" + guards(a) + "if ready; then\n" + change(a) + "fi\nelse gone " + quote("account "+a.Name) + "; fi\n"
	}
}

// guards compare what is there with what the act expects.
func guards(a connect.Act) string {
	var b strings.Builder
	for _, c := range a.Changes {
		if v := variable[c.Attribute]; v != "" {
			fmt.Fprintf(&b, "was %s \"%s\" %s %s\n", c.Attribute, v, quote(one(c.Before)), quote(one(c.After)))
		}
	}
	for _, c := range a.Changes { // last, since looking at keys costs forks
		if c.Attribute == keys {
			fmt.Fprintf(&b, "was keys \"$(held \"$home\")\" %s %s\n", quote(inOrder(c.Before)), quote(inOrder(c.After)))
		}
	}
	return b.String()
}

// inOrder writes a set of keys the way held prints them.
func inOrder(set []string) string {
	lines := slices.Clone(set)
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}

func options(a connect.Act) []string {
	var out []string
	for _, c := range a.Changes {
		if f := flag[c.Attribute]; f != "" {
			out = append(out, f, one(c.After))
		}
	}
	return out
}

func create(a connect.Act) string {
	words := append([]string{"useradd", "-m"}, options(a)...)
	make := command(append(words, "--", a.Name)...)
	if !ownGroup(a) {
		// useradd stops at a group of the account's name that is left over; it is theirs, so it is used.
		kept := command(append(words, "-g", a.Name, "--", a.Name)...)
		make = "if [ \"$left\" ]; then " + kept + "; else " + make + "; fi"
	}
	return make + "\n" + keysStep(a)
}

func change(a connect.Act) string {
	switch a.Verb {
	case model.Disable:
		// Locking stops passwords only; the expiry stops keys as well.
		return command("usermod", "-L", "-e", "1", "--", a.Name) + "\n"
	case model.Enable:
		name := quote(a.Name)
		return "if [ \"$(awk -F: -v n=" + name + " '$1 == n && $2 ~ /^!+[^!*]/ { print 1 }' /etc/shadow)\" ]; then " +
			command("usermod", "-U", "-e", "", "--", a.Name) + "; else " + command("usermod", "-e", "", "--", a.Name) + "; fi\n"
	}
	words := append([]string{"usermod"}, options(a)...)
	if i := slices.Index(words, "-d"); i >= 0 {
		words = slices.Insert(words, i, "-m")
	}
	script := ""
	if len(words) > 1 {
		script = command(append(words, "--", a.Name)...) + "\n"
	}
	return script + keysStep(a)
}

func keysStep(a connect.Act) string {
	for _, c := range a.Changes {
		if c.Attribute == keys {
			text := strings.Join(c.After, "\n")
			if text != "" {
				text += "\n"
			}
			return "[ $rc != 0 ] || keys " + quote(a.Name) + " " + quote(text) + "\n"
		}
	}
	return ""
}

func groupStep(a connect.Act) string {
	number := one(a.After().Get(model.Number))
	if a.Verb == model.Create {
		words := []string{"groupadd"}
		if number != "" {
			words = append(words, "-g", number)
		}
		return "if grp; then\n" + guards(a) + "[ $did != ready ] || did=moved\nelse did=acted\n" + command(append(words, "--", a.Name)...) + "\nfi\n"
	}
	return "if grp; then\n" + guards(a) + "if ready; then " + command("groupmod", "-g", number, "--", a.Name) + "; fi\nelse gone " + quote("group "+a.Name) + "; fi\n"
}

// memberStep cannot rely on the reading made before the batch for the group
// itself, which the batch may just have made; gpasswd says so when it is missing.
func memberStep(a connect.Act) string {
	in, out, option := "so", "acted", "-a"
	if a.Verb == model.LeaveIt {
		in, out, option = "acted", "so", "-d"
	}
	return fmt.Sprintf("if member; then did=%s; else did=%s; fi\n[ $did = so ] || %s\n", in, out, command("gpasswd", option, a.Member, a.Name))
}
