package cli

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/intake"
)

func (a *app) intake() *cobra.Command {
	c := &cobra.Command{Use: "intake", Short: "People whom other systems push in, over SCIM 2.0",
		Long: `People whom other systems push in, as a personnel system does, over SCIM 2.0 at /scim/v2 of the service. Such a system is an
operator with the duty push and no other, and signs in with a token:

  roost operator add personnel --duties push
  roost intake set personnel --role deck-crew --file deck.yaml

What it says of people waits until somebody takes it as a revision of the declaration, or is taken by itself.`}
	c.AddCommand(a.intakeList(), a.intakeShow(), a.intakeSet(), a.intakeGive(), a.intakeTake())
	return c
}

func (a *app) intakeList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the systems that push people in", Args: cobra.NoArgs, Example: "  roost intake list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []intake.Source
			if err := a.get(c.Context(), "/intakes", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"SYSTEM", "PEOPLE", "LAST PUSH", "TAKEN", "ROLES", "FILE"}, right: []int{1}, list: out,
				empty: "No system pushes people in: roost intake set --help"}
			for _, x := range out {
				how := "by an operator"
				if x.Settings.AtOnce {
					how = "by itself"
				}
				t.rows = append(t.rows, []string{x.Name, figure(x.People), clock(x.Last), how, strings.Join(x.Settings.Roles, ", "),
					x.Settings.File})
			}
			return a.show(out, t)
		}}
}

func (a *app) intakeShow() *cobra.Command {
	return &cobra.Command{Use: "show SYSTEM", Short: "Show what a system's pushes would change of the declaration",
		Args:    cobra.ExactArgs(1),
		Example: "  roost intake show personnel",
		RunE: func(c *cobra.Command, args []string) error {
			var out intake.Proposal
			if err := a.get(c.Context(), "/intakes/"+url.PathEscape(args[0]), nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"USER", "FIELD", "BECOMES"}, list: out.Edits, empty: "Nothing would change.",
				about: fmt.Sprintf("%s: %d new, %d changed, %d leaving, %d back, %d the same.", args[0], out.New, out.Changed,
					len(out.Leaving),
					len(out.Back), out.Same)}
			for _, e := range out.Edits[:min(len(out.Edits), editsTold)] {
				t.rows = append(t.rows, []string{e.Name, e.Key, editWords(e.Do, e.Value)})
			}
			if err := a.show(out, t); err != nil || !a.forPeople() {
				return err
			}
			if rest := len(out.Edits) - editsTold; rest > 0 {
				a.tell("… and %d more: --output json tells all", rest)
			}
			for _, f := range out.Faults {
				a.tell("\nNot read: %s", f.Words)
			}
			if n := len(out.NotTheirs); n > 0 {
				a.tell("\n%s would leave, whom %s neither brought nor was given; they stay: %s. Give them to it with: "+
					"roost intake give %s USERS",
					plural(n, "user", "users"), args[0],
					cut(strings.Join(out.NotTheirs, ", "), 200), args[0])
			}
			switch {
			case out.Held != "":
				a.tell("\nHeld: %s. To take it all the same: roost intake take %s %s --leaving %d --because REASON", out.Held, args[0],
					out.Mark, len(out.Leaving))
			case !out.Empty():
				a.tell("\nNext: roost intake take %s %s --because REASON", args[0], out.Mark)
			}
			return nil
		}}
}

// editsTold is how many changes are told to people.
const editsTold = 200

func editWords(do string, value any) string {
	switch v := value.(type) {
	case nil:
		return map[string]string{"take": "nothing"}[do]
	case map[string]any:
		var parts []string
		for _, k := range []string{"name", "mail", "manager", "roles"} {
			if x, ok := v[k]; ok {
				parts = append(parts, fmt.Sprintf("%s %v", k, x))
			}
		}
		return "new: " + strings.Join(parts, " · ")
	default:
		return fmt.Sprint(v)
	}
}

func (a *app) intakeGive() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "give SYSTEM [USERS…]", Short: "Give users to a system: they may leave by what it pushes",
		Args: cobra.MinimumNArgs(1),
		Long: `Give declared users to a system that pushes people in. A system ends only people whom it brought itself, or who
were given to it. --all gives everybody who is declared now.`,
		Example: "  roost intake give personnel marit.fell kari.berg\n  roost intake give personnel --all",
		RunE: func(c *cobra.Command, args []string) error {
			if all == (len(args) > 1) {
				return wrong{fmt.Errorf("name users, or use --all")}
			}
			var out api.Given
			in := map[string]any{"users": args[1:], "all": all}
			if err := a.send(c.Context(), http.MethodPost, "/intakes/"+url.PathEscape(args[0])+"/people", in, &out); err != nil {
				return err
			}
			return a.show(out, table{bare: fmt.Sprintf("%s may leave by what %s pushes.", plural(out.Users, "user", "users"), args[0])})
		}}
	c.Flags().BoolVar(&all, "all", false, "all users that are declared")
	return c
}

func (a *app) intakeSet() *cobra.Command {
	var x intake.Settings
	var fields []string
	c := &cobra.Command{Use: "set SYSTEM", Short: "Say what becomes of what a system pushes", Args: cobra.ExactArgs(1),
		Long: `Say what becomes of what a system pushes. SYSTEM is an operator with the duty push and no other. Fields of users are taken
from the usual attributes (userName, displayName, name, emails, and the enterprise extension's employeeNumber, department and manager);
--field takes one from another, as details.base=addresses.locality. What is not said stays as it was set before; --role "" and
--field details.base= take back.

A system that cannot speak SCIM drops files into the folder of its name in the one that roost serve --drops names: CSV whose first
line names the attributes, or JSON Lines with a user in each, as it would be pushed.`,
		Example: `  roost intake set personnel --role deck-crew --file deck.yaml
  roost intake set personnel --at-once --share 2 --field details.base=addresses.locality
  roost intake set personnel --everybody`,
		RunE: func(c *cobra.Command, args []string) error {
			var all []intake.Source
			if err := a.get(c.Context(), "/intakes", nil, &all); err != nil {
				return err
			}
			at := slices.IndexFunc(all, func(s intake.Source) bool { return s.Name == args[0] })
			var before intake.Settings
			if at >= 0 {
				before = all[at].Settings
			}
			keep := func(flag string, do func()) {
				if at >= 0 && !c.Flags().Changed(flag) {
					do()
				}
			}
			keep("role", func() { x.Roles = before.Roles })
			keep("file", func() { x.File = before.File })
			keep("at-once", func() { x.AtOnce = before.AtOnce })
			keep("everybody", func() { x.Everybody = before.Everybody })
			keep("share", func() { x.Share = before.Share })
			x.Roles = slices.DeleteFunc(x.Roles, func(r string) bool { return r == "" })
			x.Fields = map[string]string{}
			maps.Copy(x.Fields, before.Fields)
			for _, f := range fields {
				field, path, ok := strings.Cut(f, "=")
				if !ok {
					return wrong{fmt.Errorf("--field is FIELD=ATTRIBUTE, not %q", f)}
				}
				if x.Fields[field] = path; path == "" {
					delete(x.Fields, field)
				}
			}
			if err := a.send(c.Context(), http.MethodPut, "/intakes/"+url.PathEscape(args[0]), x, nil); err != nil {
				return err
			}
			a.tell("%s may push people in, at /scim/v2 of the service, with its token: roost token --help", args[0])
			return nil
		}}
	f := c.Flags()
	f.StringSliceVar(&x.Roles, "role", nil, "roles for those who are new")
	f.StringVar(&x.File, "file", "", "file of the declaration for those who are new; left out: where other users stand")
	f.StringArrayVar(&fields, "field", nil, "FIELD=ATTRIBUTE: from where a field of users is taken")
	f.BoolVar(&x.AtOnce, "at-once", false, "what is pushed is taken by itself, a few seconds after the last push")
	f.BoolVar(&x.Everybody, "everybody", false, "a file that the system drops holds all its people: who is not in it is gone")
	f.IntVar(&x.Share, "share", 5, "of all users, in percent: when more would leave, nothing is taken by itself")
	return c
}

func (a *app) intakeTake() *cobra.Command {
	var because string
	var leaving int
	c := &cobra.Command{Use: "take SYSTEM MARK", Short: "Take what a system's pushes would change as a revision", Args: cobra.ExactArgs(2),
		Long: `Take what a system's pushes would change as a revision of the declaration. MARK is the one that roost intake show tells: when
other people have been pushed in since, it is another one, and nothing is taken until somebody has looked again.`,
		Example: "  roost intake take personnel 5f1c09ab --because \"new season\"",
		RunE: func(c *cobra.Command, args []string) error {
			var out declared.Revision
			in := map[string]any{"mark": args[1], "because": because, "leaving": leaving}
			if err := a.send(c.Context(), http.MethodPost, "/intakes/"+url.PathEscape(args[0])+"/take", in, &out); err != nil {
				return err
			}
			return a.showRevision(out)
		}}
	reasonFlag(c, &because)
	c.Flags().IntVar(&leaving, "leaving", 0, "how many leave by it, where that is more than the share that is set")
	return c
}
