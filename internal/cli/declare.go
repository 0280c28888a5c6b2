package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/client"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

// readFiles reads declaration files; of a folder, all that end in .yaml or .yml, those in it.
func readFiles(args []string) ([]declare.File, error) {
	var files []declare.File
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil {
			return nil, err
		}
		names := []string{arg}
		if info.IsDir() {
			names = nil
			err := filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
				if err == nil && !d.IsDir() && slices.Contains([]string{".yaml", ".yml"}, filepath.Ext(path)) {
					names = append(names, path)
				}
				return err
			})
			if err != nil {
				return nil, err
			}
			if len(names) == 0 {
				return nil, fmt.Errorf("%s: no .yaml files in it", arg)
			}
		}
		for _, name := range names {
			b, err := os.ReadFile(name)
			if err != nil {
				return nil, err
			}
			files = append(files, declare.File{Name: shortName(arg, name, info.IsDir()), Text: string(b)})
		}
	}
	return files, nil
}

// shortName names a file as messages should: within the folder given.
func shortName(arg, name string, dir bool) string {
	if dir {
		if rel, err := filepath.Rel(arg, name); err == nil {
			return rel
		}
	}
	return filepath.Base(name)
}

func (a *app) check() *cobra.Command {
	var ask bool
	var dialects string
	c := &cobra.Command{Use: "check FILES…", Short: "Check declaration files, here or by the service", Args: cobra.MinimumNArgs(1),
		Long: `Check declaration files, or all of a folder. Every fault of every file is shown at once. It needs no service
and no sign-in, so it can stand in a repository's own checks; with --service the service you are signed in to
does it, by the same rules. Exit status 1 when there are faults.`,
		Example: "  roost check declaration/\n  roost check crew.yaml targets.yaml --output json\n  roost check declaration/ --service\n" +
			"  roost check declaration/ --dialects dialects/",
		RunE: func(c *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			var out declared.Checked
			if ask {
				err = a.send(c.Context(), http.MethodPost, "/check", map[string]any{"files": files}, &out)
			} else {
				kinds, bad := serve.Kinds(cmp.Or(dialects, a.Getenv("ROOST_DIALECTS")))
				if bad != nil {
					return bad
				}
				out, err = declared.CheckFiles(kinds.Schemas(), files, time.Now())
			}
			if err != nil {
				return a.faults(err)
			}
			words := fmt.Sprintf("No faults: %s, %s, %s, %s.", plural(out.Users, "user", "users"), plural(out.Groups, "group", "groups"),
				plural(out.Roles, "role", "roles"), plural(out.Targets, "target", "targets"))
			return a.show(out, table{bare: words})
		}}
	c.Flags().StringVar(&dialects, "dialects", "", "folder with the dialects that teach kinds of targets; also ROOST_DIALECTS")
	c.Flags().BoolVar(&ask, "service", false, "ask the service instead of checking here")
	return c
}

func (a *app) declare() *cobra.Command {
	var because string
	var yes bool
	var from int
	c := &cobra.Command{Use: "declare FILES…", Short: "Store declaration files as a new revision", Args: cobra.MinimumNArgs(1),
		Long: `Store declaration files, or all of a folder, as a new revision. First it is shown what they mean for
people, against the revision before and the last surveys, and asked whether to store them; --yes answers
that. If somebody else declares a revision meanwhile, their changes come along where they do not touch yours,
and are shown; where they do, nothing is stored and both sides are told. --from names the revision that your
files were made from, if that is not the newest. Nothing is changed on any target: see roost drift, roost draft.`,
		Example: `  roost declare declaration/ --because "spring deck crew"` + "\n" +
			`  roost declare declaration/ --yes --because "nightly, from the repository"`,
		RunE: func(c *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			var m declared.Meaning
			if err := a.send(c.Context(), http.MethodPost, "/meaning", map[string]any{"from": from, "files": files}, &m); err != nil {
				return a.faults(err)
			}
			if ok, err := a.agreed(m, yes); !ok || err != nil {
				return err
			}
			if from == 0 {
				from = m.Revision
			}
			var out declared.Revision
			if err := a.send(c.Context(), http.MethodPost, "/revisions", map[string]any{"from": from, "files": files, "because": because},
				&out); err != nil {
				return a.faults(err)
			}
			return a.showRevision(out)
		}}
	c.Flags().IntVar(&from, "from", 0, "the revision that the files were made from; left out: the newest")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

func yesFlag(c *cobra.Command, yes *bool) {
	c.Flags().BoolVar(yes, "yes", false, "do not ask; for scripts")
}

// agreed shows what a declaration would mean, and asks whether that is meant.
func (a *app) agreed(m declared.Meaning, yes bool) (bool, error) {
	if a.forPeople() {
		a.showMeaning(m)
	}
	return a.confirmed(yes)
}

// confirmed asks whether what was shown is meant.
func (a *app) confirmed(yes bool) (bool, error) {
	if yes {
		return true, nil
	}
	if !a.Terminal {
		return false, wrong{errors.New("nobody is there to be asked whether this is meant; add --yes")}
	}
	ok, err := a.yes("Store it as a new revision? (y/n) ")
	if err == nil && !ok {
		a.tell("Nothing was stored.")
	}
	return ok, err
}

// along shows what others declared meanwhile.
func (a *app) along(lines []declare.LineChange) {
	if len(lines) > 0 {
		a.tell("Somebody else has declared meanwhile; this comes along:")
		sayLines(a.Err, lines)
		a.tell("")
	}
}

// showMeaning says what a declaration would change, person by person.
func (a *app) showMeaning(m declared.Meaning) {
	a.along(m.Merged)
	if n := m.Waits; n > 0 {
		a.tell("%s for approval; until then the old values stay in force:",
			plural(n, "change of a guarded setting would wait", "changes of guarded settings would wait"))
		a.sayPending(m.Pending)
		a.tell("")
	}
	if n := len(m.Unset); n > 0 {
		a.tell("Nobody has set %s: %s. Until then Hen Roost does not sign in to their targets: roost secret set NAME\n",
			map[bool]string{true: "this secret", false: "these secrets"}[n == 1], strings.Join(m.Unset[:min(n, 10)], ", "))
	}
	for _, words := range m.Short {
		a.tell("%s\n", wrapped(words, "  ", 100))
	}
	if n := len(m.Ungiven); n > 0 {
		a.tell("No role gives %s: %s. No target gets %s.\n", map[bool]string{true: "this group", false: "these groups"}[n == 1],
			strings.Join(m.Ungiven, ", "), map[bool]string{true: "it", false: "them"}[n == 1])
	}
	if m.People == 0 {
		a.tell("For people nothing changes by this.")
	} else {
		a.tell("This means, for %s:", plural(m.People, "person", "people"))
	}
	const most = 15
	for i, move := range m.Moves {
		if i == most {
			break
		}
		a.tell("  %s", wrapped(who(move.Name, move.User)+" "+move.Say, "    ", 100))
	}
	if m.People > most {
		a.tell("  … and %d more", m.People-min(most, len(m.Moves)))
	}
	a.tell("Against the last survey: %s, and %d before.\n", plural(m.Findings, "finding", "findings"), m.Before)
}

func (a *app) showRevision(out declared.Revision) error {
	words := fmt.Sprintf("Revision %d is declared: %s, %s, %s, %s. Against the last survey: %s.", out.Number,
		plural(out.Users, "user", "users"),
		plural(out.Groups, "group", "groups"), plural(out.Roles, "role", "roles"), plural(out.Targets, "target", "targets"),
		plural(out.Findings, "finding", "findings"))
	switch {
	case out.Unchanged:
		words = fmt.Sprintf("Revision %d holds just this already; nothing was declared.", out.Number)
	case out.Beside != 0:
		words += fmt.Sprintf(" The changes of revision %d came along.", out.Beside)
	}
	if out.Pending > 0 {
		words += fmt.Sprintf("\n%s for approval: roost revision pending", plural(out.Pending, "change of a guarded setting waits",
			"changes of guarded settings wait"))
	}
	return a.show(out, table{bare: words})
}

// reasonFlag adds the reason that everything large requires.
func reasonFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "because", "", "the reason, for those who read the record (required)")
	_ = c.MarkFlagRequired("because")
}

// faults shows a declaration's faults, and what two people changed, for programs too.
func (a *app) faults(err error) error {
	var here *door.Problem
	if errors.As(err, &here) { // checked here
		err = &client.Problem{Detail: here.Words, Code: string(here.Kind), Faults: here.Faults, Clashes: here.Clashes}
	}
	var p *client.Problem
	if !errors.As(err, &p) || len(p.Faults)+len(p.Clashes) == 0 {
		return err
	}
	if a.forPeople() {
		for _, c := range p.Clashes {
			a.tell("\n%s, line %d", c.File, c.Line)
			for _, side := range []struct {
				who   string
				lines []string
			}{{"was   ", c.Before}, {"theirs", c.Theirs}, {"yours ", c.Mine}} {
				for _, line := range side.lines {
					a.tell("  %s  %s", side.who, flat(line))
				}
			}
		}
		return err
	}
	type line struct {
		File    string `json:"file"`
		Line    int    `json:"line"`
		Column  int    `json:"column"`
		Message string `json:"message"`
	}
	var list []line
	for _, f := range p.Faults {
		list = append(list, line{f.At.File, f.At.Line, f.At.Column, f.Message})
	}
	for _, c := range p.Clashes {
		list = append(list, line{c.File, c.Line, 1, "somebody else changed the same lines"})
	}
	value := any(p.Faults)
	if len(p.Clashes) > 0 {
		value = p.Clashes
	}
	return errors.Join(exit{exitFailed}, a.show(value, table{list: list}))
}
