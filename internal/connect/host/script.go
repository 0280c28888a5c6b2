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

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}
