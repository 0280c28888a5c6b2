package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
)

func (a *app) edit() *cobra.Command {
	var because, file string
	var set, add, take []string
	var yes, gone bool
	c := &cobra.Command{Use: "edit SECTION NAME", Short: "Change one entry of the declaration, in its own text", Args: cobra.ExactArgs(2),
		Long: `Change one entry of the declaration that the service holds, and declare the outcome. Comments and order
stay. SECTION is params, users, groups, roles, targets, rights, containers, policies or pools. A key goes deeper
with dots, as in details.base; a list takes several values with commas.`,
		Example: "  roost edit users marit.fell --set until=2026-10-31 --because \"end of the season\"\n" +
			"  roost edit users marit.fell --add roles=mate --take roles=deck-crew --because \"promoted\"\n" +
			"  roost edit users ines.silva --set name=\"Inês Silva\" --set number=1201 --add roles=deck-crew --file deck.yaml --because " +
			"\"new\"",
		RunE: func(c *cobra.Command, args []string) error {
			edits, err := editsOf(args[0], args[1], file, set, add, take, gone)
			if err != nil {
				return wrong{err}
			}
			return a.declareEdits(c.Context(), edits, because, yes)
		}}
	c.Flags().StringArrayVar(&set, "set", nil, "KEY=VALUE: set a value")
	c.Flags().StringArrayVar(&add, "add", nil, "KEY=VALUE: add to a list")
	c.Flags().StringArrayVar(&take, "take", nil, "KEY or KEY=VALUE: take a key away, or a value from a list")
	c.Flags().BoolVar(&gone, "remove", false, "take the whole entry away")
	c.Flags().StringVar(&file, "file", "", "file of the declaration that a new entry goes into")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

// editsOf reads the options of one entry.
func editsOf(section, name, file string, set, add, take []string, gone bool) ([]declare.Edit, error) {
	var out []declare.Edit
	if gone {
		out = append(out, declare.Edit{Section: section, Name: name, Do: declare.Take})
	}
	for _, o := range []struct {
		do   string
		list []string
	}{{declare.Set, set}, {declare.Take, take}, {declare.Add, add}} {
		for _, text := range o.list {
			key, value, has := strings.Cut(text, "=")
			if !has && o.do != declare.Take || key == "" {
				return nil, fmt.Errorf("--%s %q: write KEY=VALUE", o.do, text)
			}
			e := declare.Edit{Section: section, Name: name, Key: key, Do: o.do, File: file}
			if has {
				e.Value = value
			}
			out = append(out, e)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("say what to change: --set, --add, --take or --remove")
	}
	return out, nil
}

// declareEdits shows what edits mean, asks, and declares them.
func (a *app) declareEdits(ctx context.Context, edits []declare.Edit, because string, yes bool) error {
	var m api.EditsMeaning
	if err := a.send(ctx, http.MethodPost, "/edits/meaning", map[string]any{"edits": edits}, &m); err != nil {
		return a.faults(err)
	}
	const fewLines = 12
	if len(m.Lines) <= fewLines && a.forPeople() {
		sayLines(a.Err, m.Lines)
		fmt.Fprintln(a.Err)
	}
	if ok, err := a.agreed(m.Meaning, yes); !ok || err != nil {
		return err
	}
	var out declared.Revision
	if err := a.send(ctx, http.MethodPost, "/edits", map[string]any{"from": m.Revision, "edits": edits, "because": because},
		&out); err != nil {
		return a.faults(err)
	}
	return a.showRevision(out)
}

func (a *app) revision() *cobra.Command {
	c := &cobra.Command{Use: "revision",
		Short: "Look at revisions of the declaration, compare them, bring one back, approve what is guarded"}
	list := &cobra.Command{Use: "list", Short: "List revisions, newest first", Args: cobra.NoArgs, Example: "  roost revision list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out api.Revisions
			if err := a.get(c.Context(), "/revisions", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"REVISION", "DECLARED", "BY", "BECAUSE"}, right: []int{0}, empty: "Nothing is declared yet."}
			for _, r := range out.Items {
				t.rows = append(t.rows, []string{fmt.Sprint(r.Number), clock(&r.MadeAt), r.Operator, cut(r.Because, 80)})
			}
			return a.show(out.Items, t)
		}}
	var into string
	show := &cobra.Command{Use: "show [REVISION]", Short: "Print a revision's files, or write them into a folder",
		Args:    cobra.MaximumNArgs(1),
		Example: "  roost revision show\n  roost revision show 3 --save declaration-3",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := revisionNumber(args, 0)
			if err != nil {
				return err
			}
			var out api.RevisionFiles
			if err := a.get(c.Context(), fmt.Sprintf("/revisions/%d", n), nil, &out); err != nil {
				return err
			}
			if into != "" {
				return a.writeFiles(into, out.Files)
			}
			t := table{list: out.Files}
			if !a.forPeople() {
				return a.show(out, t)
			}
			for _, f := range out.Files {
				fmt.Fprintf(a.file(), "# %s\n%s\n", f.Name, strings.TrimRight(f.Text, "\n"))
			}
			return nil
		}}
	show.Flags().StringVar(&into, "save", "", "folder to write the files into; files there are not overwritten")
	compare := &cobra.Command{Use: "compare [OLDER] [NEWER]", Short: "Say what changed between revisions, for people and in lines",
		Args: cobra.MaximumNArgs(2),
		Long: "Say what changed from one revision to another. With one number, from that one to the newest; with none, what the newest " +
			"changed.",
		Example: "  roost revision compare\n  roost revision compare 2 5",
		RunE: func(c *cobra.Command, args []string) error {
			older, err := revisionNumber(args, 0)
			if err != nil {
				return err
			}
			newer, err := revisionNumber(args, 1)
			if err != nil {
				return err
			}
			var out declared.Compared
			if err := a.get(c.Context(), fmt.Sprintf("/revisions/%d/compare", newer), map[string][]string{"with": {fmt.Sprint(older)}},
				&out); err != nil {
				return err
			}
			return a.showCompared(out)
		}}
	var because string
	var yes bool
	restore := &cobra.Command{Use: "restore REVISION", Short: "Declare the files of an earlier revision anew", Args: cobra.ExactArgs(1),
		Example: "  roost revision restore 3 --because \"the merger was called off\"",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := revisionNumber(args, 0)
			if err != nil {
				return err
			}
			var was api.RevisionFiles
			if err := a.get(c.Context(), fmt.Sprintf("/revisions/%d", n), nil, &was); err != nil {
				return err
			}
			var m declared.Meaning
			if err := a.send(c.Context(), http.MethodPost, "/meaning", map[string]any{"files": was.Files}, &m); err != nil {
				return a.faults(err)
			}
			if ok, err := a.agreed(m, yes); !ok || err != nil {
				return err
			}
			var out declared.Revision
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/revisions/%d/restore", n),
				map[string]any{"from": m.Revision, "because": because}, &out); err != nil {
				return a.faults(err)
			}
			return a.showRevision(out)
		}}
	reasonFlag(restore, &because)
	yesFlag(restore, &yes)
	c.AddCommand(list, show, compare, restore, a.pendingSettings(), a.approveSettings())
	return c
}

func revisionNumber(args []string, i int) (int, error) {
	if i >= len(args) {
		return 0, nil
	}
	n, err := strconv.Atoi(args[i])
	if err != nil || n < 1 {
		return 0, wrong{fmt.Errorf("%q is not the number of a revision; roost revision list shows them", args[i])}
	}
	return n, nil
}

func (a *app) showCompared(out declared.Compared) error {
	t := table{list: out.Moves}
	if !a.forPeople() {
		return a.show(out, t)
	}
	fmt.Fprintf(a.Out, "From revision %d to %d, something changes for %s.\n", out.From, out.To, plural(out.People, "person", "people"))
	for _, m := range out.Moves {
		fmt.Fprintf(a.Out, "  %s\n", wrapped(who(m.Name, m.User)+" "+m.Say, "    ", 100))
	}
	sayLines(a.Out, out.Lines)
	return nil
}

// sayLines says which lines of the files are otherwise.
func sayLines(w io.Writer, lines []declare.LineChange) {
	for _, l := range lines {
		fmt.Fprintf(w, "\n%s, line %d\n", l.File, l.Line)
		sayText(w, "was", l.Before)
		sayText(w, "is ", l.After)
	}
}

// sayText prints the lines of a change, as many as a person reads.
func sayText(w io.Writer, how string, lines []string) {
	const most = 30
	for i, s := range lines {
		if i == most {
			fmt.Fprintf(w, "  …    and %d lines more\n", len(lines)-most)
			return
		}
		fmt.Fprintf(w, "  %s  %s\n", how, flat(s))
	}
}

// writeFiles writes a declaration into a folder, and nothing over what is there.
func (a *app) writeFiles(folder string, files []declare.File) error {
	for _, f := range files {
		if !filepath.IsLocal(f.Name) {
			return fmt.Errorf("%q is not a name of a file inside %s", f.Name, folder)
		}
		path := filepath.Join(folder, f.Name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		w, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return err
		}
		if _, err := w.WriteString(f.Text); err != nil {
			w.Close()
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
	}
	a.tell("%s written into %s.", plural(len(files), "file", "files"), folder)
	return nil
}
