package cli

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/serve"
	"hen-roost/internal/service/seen"
)

func (a *app) dialect() *cobra.Command {
	c := &cobra.Command{Use: "dialect", Short: "Files that teach kinds of targets that are run by typing at them",
		Long: `Files that teach Hen Roost kinds of targets that are run by typing at them: an application's own command, a device's command
line. They stand in the folder that roost serve --dialects names, with recordings of conversations beside them:

  harbour-switch.yaml  harbour-switch.recording.yaml

How they are written is in docs/dialects.md.`}
	c.AddCommand(a.dialectList(), a.dialectShow(), a.dialectCheck(), a.dialectTry(), a.dialectRecord())
	return c
}

func (a *app) dialectList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the kinds of targets that files teach", Args: cobra.NoArgs,
		Example: "  roost dialect list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []seen.Dialect
			if err := a.get(c.Context(), "/dialects", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"KIND", "FILE", "RECORDINGS", "FAULTS", "TARGETS", "WHAT IT IS"}, right: []int{2, 3}, list: out,
				empty: "No dialect teaches anything: roost serve --dialects."}
			for _, d := range out {
				t.rows = append(t.rows, []string{d.Kind, d.File, figure(d.Recordings), figure(len(d.Faults)), strings.Join(d.Targets, ", "),
					d.About})
			}
			return a.show(out, t)
		}}
}

func (a *app) dialectShow() *cobra.Command {
	return &cobra.Command{Use: "show KIND", Short: "Show a dialect as it stands in its file", Args: cobra.ExactArgs(1),
		Example: "  roost dialect show harbour-switch",
		RunE: func(c *cobra.Command, args []string) error {
			var out seen.DialectDetail
			if err := a.get(c.Context(), "/dialects/"+url.PathEscape(args[0]), nil, &out); err != nil {
				return err
			}
			if err := a.show(out, table{bare: strings.TrimRight(out.Text, "\n")}); err != nil || !a.forPeople() {
				return err
			}
			for _, f := range out.Faults {
				a.tell("%s", f)
			}
			return nil
		}}
}

// checkedDialect is what became of one file.
type checkedDialect struct {
	File       string   `json:"file"`
	Kind       string   `json:"kind,omitempty"`
	Recordings int      `json:"recordings"`
	Turns      int      `json:"turns"`
	Attacks    int      `json:"attacks"`
	Faults     []string `json:"faults"`
}

func (a *app) dialectCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE…", Short: "Check dialects with the recordings beside them, here", Args: cobra.MinimumNArgs(1),
		Long: `Check dialects with the recordings beside them: what was answered must be read as the recordings say, and hostile names and
values must each stay one word of what is typed, or be refused. Every fault is told with its line. It needs no service and no
system. Exit status 1 when there are faults.`,
		Example: "  roost dialect check dialects/harbour-switch.yaml\n  roost dialect check dialects/harbour-switch.yaml --output json",
		RunE: func(c *cobra.Command, args []string) error {
			var out []checkedDialect
			t := table{head: []string{"FILE", "KIND", "RECORDINGS", "TURNS", "ATTACKS", "FAULTS"}, right: []int{2, 3, 4, 5}}
			bad := false
			for _, path := range args {
				kind, l, err := serve.CheckDialect(path)
				if err != nil {
					return err
				}
				x := checkedDialect{path, kind, len(l.Recordings), l.Turns, l.Attacks, append([]string{}, l.Faults...)}
				out, bad = append(out, x), bad || len(x.Faults) > 0
				t.rows = append(t.rows, []string{path, kind, figure(x.Recordings), figure(x.Turns), figure(x.Attacks),
					figure(len(x.Faults))})
			}
			t.list = out
			if err := a.show(out, t); err != nil {
				return err
			}
			if a.forPeople() {
				for _, x := range out {
					for _, f := range x.Faults {
						a.tell("%s", f)
					}
				}
			}
			if bad {
				return exit{1}
			}
			return nil
		}}
}

// trial says what to look at with a dialect.
type trial struct{ address, as, key, file string }

func (t *trial) flags(c *cobra.Command) {
	c.Flags().StringVar(&t.address, "address", "", "in place of a target: the address of a system that is not declared")
	c.Flags().StringVar(&t.as, "as", "", "with --address: the login")
	c.Flags().StringVar(&t.key, "key", "", "with --address: the fingerprint of its key, as you have compared it there")
	c.Flags().StringVar(&t.file, "secret-file", "", "with --address: the password from a file, - for standard input; asked for when absent")
}

// tried looks at a target, or at a system that is not declared, with a dialect.
func (a *app) tried(c *cobra.Command, args []string, t trial) (out seen.TriedDialect, err error) {
	if (len(args) == 2) == (t.address != "") {
		return out, wrong{errors.New("name a target, or a system that is not declared with --address and --as")}
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return out, err
	}
	body := map[string]any{"file": filepath.Base(args[0]), "text": string(text)}
	if t.address == "" {
		body["target"] = args[1]
	} else {
		secret, err := a.secretInput(t.file, "Password of "+t.as+" there: ", "--secret-file")
		if err != nil {
			return out, err
		}
		body["address"], body["as"], body["key"], body["secret"] = t.address, t.as, t.key, string(secret)
	}
	return out, a.send(c.Context(), http.MethodPost, "/dialects/try", body, &out)
}

func (a *app) dialectTry() *cobra.Command {
	look := false
	var t trial
	c := &cobra.Command{Use: "try FILE [TARGET]", Short: "Look at a target with a dialect that nobody relies on yet",
		Args: cobra.RangeArgs(1, 2),
		Long: `Look at a target with a dialect that nobody relies on yet: all its lists are typed and read, and nothing else is. The target is
one that is declared; its address, login and secret are used. A system that is not declared is named by --address and --as; its
password is kept nowhere. What is typed is the file's to say, so that it takes an administrator.`,
		Example: "  roost dialect try dialects/harbour-switch.yaml northquay-switch --look\n" +
			"  roost dialect try dialects/harbour-switch.yaml --address 127.0.9.1:22 --as admin --key SHA256:4l54…",
		RunE: func(c *cobra.Command, args []string) error {
			if !look {
				return wrong{errors.New("nothing but looking is tried; declare the target to change it")}
			}
			out, err := a.tried(c, args, t)
			if err != nil {
				return err
			}
			t := table{head: []string{"KIND", "READ"}, right: []int{1}, about: "Every answer was understood, and nothing was changed."}
			for _, kind := range sortedKeys(out.Objects) {
				t.rows = append(t.rows, []string{kind, fmt.Sprint(out.Objects[kind])})
			}
			if err := a.show(out, t); err != nil || !a.forPeople() {
				return err
			}
			a.tell("\nAccounts: %s", strings.Join(out.Accounts, ", "))
			return nil
		}}
	t.flags(c)
	c.Flags().BoolVar(&look, "look", true, "look, and change nothing; nothing more is tried")
	return c
}

func (a *app) dialectRecord() *cobra.Command {
	var t trial
	c := &cobra.Command{Use: "record FILE [TARGET]", Short: "Record what a target answers to a dialect's lists",
		Args: cobra.RangeArgs(1, 2),
		Long: `Record what a target answers to a dialect's lists, and what is read out of it, as a recording to be put beside the file. Our
secret is struck out. Look through it before it is shared: names and addresses stand in it.`,
		Example: "  roost dialect record dialects/harbour-switch.yaml northquay-switch > dialects/harbour-switch.recording.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := a.tried(c, args, t)
			if err != nil {
				return err
			}
			return a.show(out, table{bare: strings.TrimRight(out.Recording, "\n")})
		}}
	t.flags(c)
	return c
}
