package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"hen-roost/internal/client"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service"
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
	return &cobra.Command{Use: "check FILES…", Short: "Check declaration files without storing them", Args: cobra.MinimumNArgs(1),
		Long:    "Check declaration files, or all of a folder, without storing them. Every fault of every file is shown at once.",
		Example: "  roost check declaration/\n  roost check crew.yaml targets.yaml --output json",
		RunE: func(c *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			var out service.Checked
			if err := a.send(c.Context(), http.MethodPost, "/check", map[string]any{"files": files}, &out); err != nil {
				return a.faults(err)
			}
			words := fmt.Sprintf("No faults: %s, %s, %s, %s.", plural(out.Users, "user", "users"), plural(out.Groups, "group", "groups"), plural(out.Roles, "role", "roles"), plural(out.Targets, "target", "targets"))
			return a.show(out, table{head: []string{"users", "groups", "roles", "targets"}, rows: [][]string{{fmt.Sprint(out.Users), fmt.Sprint(out.Groups), fmt.Sprint(out.Roles), fmt.Sprint(out.Targets)}}, bare: words})
		}}
}

func (a *app) declare() *cobra.Command {
	var because string
	var yes bool
	c := &cobra.Command{Use: "declare FILES…", Short: "Store declaration files as a new revision", Args: cobra.MinimumNArgs(1),
		Long: `Store declaration files, or all of a folder, as a new revision. First it is shown what they mean for
people, against the revision before and the last surveys, and asked whether to store them; --yes answers
that. Nothing is changed on any target by that: see roost drift, roost draft.`,
		Example: `  roost declare declaration/ --because "spring deck crew"` + "\n" + `  roost declare declaration/ --yes --because "nightly, from the repository"`,
		RunE: func(c *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			var m service.Meaning
			if err := a.send(c.Context(), http.MethodPost, "/meaning", map[string]any{"files": files}, &m); err != nil {
				return a.faults(err)
			}
			if ok, err := a.agreed(m, yes); !ok || err != nil {
				return err
			}
			var out service.Revision
			if err := a.send(c.Context(), http.MethodPost, "/revisions", map[string]any{"files": files, "because": because}, &out); err != nil {
				return a.faults(err)
			}
			return a.showRevision(out)
		}}
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

func yesFlag(c *cobra.Command, yes *bool) {
	c.Flags().BoolVar(yes, "yes", false, "do not ask; for scripts")
}

// agreed shows what a declaration would mean, and asks whether that is meant.
func (a *app) agreed(m service.Meaning, yes bool) (bool, error) {
	if a.forPeople() {
		a.showMeaning(m)
	}
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

// showMeaning says what a declaration would change, person by person.
func (a *app) showMeaning(m service.Meaning) {
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

func (a *app) showRevision(out service.Revision) error {
	words := fmt.Sprintf("Revision %d is declared: %s, %s, %s, %s. Against the last survey: %s.", out.Number, plural(out.Users, "user", "users"),
		plural(out.Groups, "group", "groups"), plural(out.Roles, "role", "roles"), plural(out.Targets, "target", "targets"), plural(out.Findings, "finding", "findings"))
	return a.show(out, table{head: []string{"revision", "users", "groups", "roles", "targets", "findings"}, bare: words,
		rows: [][]string{{fmt.Sprint(out.Number), fmt.Sprint(out.Users), fmt.Sprint(out.Groups), fmt.Sprint(out.Roles), fmt.Sprint(out.Targets), fmt.Sprint(out.Findings)}}})
}

// reasonFlag adds the reason that everything large requires.
func reasonFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "because", "", "the reason, for those who read the record (required)")
	_ = c.MarkFlagRequired("because")
}

// faults shows a declaration's faults for programs too.
func (a *app) faults(err error) error {
	var p *client.Problem
	if a.forPeople() || !errors.As(err, &p) || len(p.Faults) == 0 {
		return err
	}
	rows := [][]string{}
	for _, f := range p.Faults {
		rows = append(rows, []string{f.At.File, fmt.Sprint(f.At.Line), fmt.Sprint(f.At.Column), f.Message})
	}
	return errors.Join(exit{exitFailed}, a.show(p.Faults, table{head: []string{"file", "line", "column", "fault"}, rows: rows}))
}
