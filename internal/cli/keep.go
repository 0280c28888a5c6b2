package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

func (a *app) secret() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Seal secrets, list their names"}
	var file, password string
	var targets []string
	var yes bool
	set := &cobra.Command{Use: "set NAME", Short: "Seal a secret under a name", Args: cobra.ExactArgs(1),
		Long: "Seal a secret under a name that targets use (login: {secret: NAME}). It is asked for, or read from a file or standard " +
			"input; it is never an argument, and never shown again. It goes only to targets of which an administrator approved the " +
			"settings: at that address, that way and as that identity. --for puts in force what waits of the named " +
			"targets, after it was shown; --yes answers that.",
		Example: "  roost secret set vessel-key --for arctic-tern,sooty-tern --file vessel-key\n" +
			"  roost secret set vessel-key --file vessel-key\n" +
			"  roost secret set directory-password",
		RunE: func(c *cobra.Command, args []string) error {
			in := map[string]any{}
			if len(targets) > 0 {
				var things []string
				for _, t := range targets {
					things = append(things, "target "+t)
				}
				var p declared.PendingSettings
				if err := a.get(c.Context(), "/revisions/pending", map[string][]string{"thing": things}, &p); err != nil {
					return err
				}
				if len(p.Items) > 0 {
					if ok, err := a.putInForce(p, yes); err != nil || !ok {
						return err
					}
				}
				in["for"], in["revision"] = targets, p.Revision
			}
			value, err := a.secretInput(file, "Secret: ", "--file")
			if err != nil {
				return err
			}
			if strings.Contains(string(value), "PRIVATE KEY") {
				value = append(value, '\n') // a key in PEM form ends with its line
			}
			in["value"] = value
			path := "/secrets/" + url.PathEscape(args[0])
			if err := a.withPassword(c.Context(), http.MethodPut, path, in, password, nil); err != nil {
				return err
			}
			a.tell("The secret %s is sealed.", args[0])
			return nil
		}}
	set.Flags().StringVar(&file, "file", "", "file with the secret; - is standard input")
	set.Flags().StringSliceVar(&targets, "for", nil, "release it for these targets: what waits of them is put in force")
	yesFlag(set, &yes)
	passwordFlag(set, &password)
	list := &cobra.Command{Use: "list", Short: "List the names of sealed secrets", Args: cobra.NoArgs, Example: "  roost secret list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []declared.SecretInfo
			if err := a.get(c.Context(), "/secrets", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"SECRET", "SET", "BY", "RELEASED FOR"}, empty: "No secrets yet."}
			for _, s := range out {
				t.rows = append(t.rows, []string{s.Name, clock(&s.SetAt), s.SetBy, cut(strings.Join(s.For, ", "), 60)})
			}
			return a.show(out, t)
		}}
	c.AddCommand(set, list)
	return c
}

func (a *app) operator() *cobra.Command {
	c := &cobra.Command{Use: "operator", Short: "Look after those who sign in to Hen Roost itself"}
	var full, file string
	var duties, changed []string
	list := &cobra.Command{Use: "list", Short: "List operators and their duties", Args: cobra.NoArgs, Example: "  roost operator list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []door.Operator
			if err := a.get(c.Context(), "/operators", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"OPERATOR", "NAME", "DUTIES", "ON PROBATION"}}
			for _, o := range out {
				var words []string
				for _, d := range o.Duties {
					words = append(words, string(d))
				}
				probation := ""
				if o.ProbationUntil != nil {
					probation = fmt.Sprintf("until %s, for %s", clock(o.ProbationUntil), strings.Join(o.GivenBy, ", "))
				}
				t.rows = append(t.rows, []string{o.Name, o.FullName, strings.Join(words, ", "), probation})
			}
			return a.show(out, t)
		}}
	add := &cobra.Command{Use: "add NAME", Short: "Add an operator", Args: cobra.ExactArgs(1),
		Example: "  roost operator add ines.moreau --name \"Ines Moreau\" --duties look,draft",
		RunE: func(c *cobra.Command, args []string) error {
			in := map[string]any{"name": args[0], "full-name": full, "duties": duties}
			if file != "" {
				p, err := a.secretInput(file, "", "--password-file")
				if err != nil {
					return err
				}
				in["password"] = string(p)
			}
			var out api.Password
			if err := a.send(c.Context(), http.MethodPost, "/operators", in, &out); err != nil {
				return err
			}
			if file != "" {
				out.Password = ""
			}
			return a.newOperator(args[0], out)
		}}
	add.Flags().StringVar(&full, "name", "", "the operator's full name")
	add.Flags().StringSliceVar(&duties, "duties", []string{"look"},
		"look, draft, approve, run, suspend, restore, credential, administer, push")
	add.Flags().StringVar(&file, "password-file", "", "file with the password, - for standard input; generated when absent")
	set := &cobra.Command{Use: "set NAME", Short: "Change an operator's duties", Args: cobra.ExactArgs(1),
		Example: "  roost operator set ines.moreau --duties look,draft",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.send(c.Context(), http.MethodPut, "/operators/"+url.PathEscape(args[0])+"/duties",
				map[string]any{"duties": changed}, nil); err != nil {
				return err
			}
			a.tell("Operator %s has the duties %s.", args[0], strings.Join(changed, ", "))
			return nil
		}}
	set.Flags().StringSliceVar(&changed, "duties", nil, "look, draft, approve, run, suspend, restore, credential, administer, push")
	_ = set.MarkFlagRequired("duties")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an operator", Args: cobra.ExactArgs(1),
		Example: "  roost operator remove ines.moreau",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.send(c.Context(), http.MethodDelete, "/operators/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.tell("Operator %s is removed, with all their tokens.", args[0])
			return nil
		}}
	confirm := &cobra.Command{Use: "confirm NAME", Short: "Confirm that an operator whom somebody made is somebody of their own",
		Args: cobra.ExactArgs(1), Example: "  roost operator confirm ines.moreau",
		Long: `Confirm an operator whom another administrator made, or gave duties or a password. Until then, or until their
probation is over, they cannot lift holds of rounds which that administrator drafted.`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.send(c.Context(), http.MethodPost, "/operators/"+url.PathEscape(args[0])+"/confirm", nil, nil); err != nil {
				return err
			}
			a.tell("Operator %s is confirmed.", args[0])
			return nil
		}}
	c.AddCommand(list, add, set, remove, confirm, a.password(), a.firstOperator())
	return c
}

// password changes the operator's own password, or gives another a new one.
func (a *app) password() *cobra.Command {
	var old, fresh string
	c := &cobra.Command{Use: "password [NAME]", Short: "Change your own password, or give another operator a new one",
		Args: cobra.MaximumNArgs(1),
		Long: `Change your own password: the one you have and the new one are asked for, or read from files. All your other
sessions and tokens end. With a NAME, an administrator gives another operator a new password, generated
unless one is given by a file; all that operator's sessions and tokens end.`,
		Example: "  roost operator password\n  roost operator password ines.moreau",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				in := map[string]any{}
				if fresh != "" {
					p, err := a.secretInput(fresh, "", "--new-file")
					if err != nil {
						return err
					}
					in["password"] = string(p)
				}
				var out api.Password
				if err := a.send(c.Context(), http.MethodPost, "/operators/"+url.PathEscape(args[0])+"/password", in, &out); err != nil {
					return err
				}
				words := fmt.Sprintf("Operator %s has a new password, shown this once: %s", args[0], out.Password)
				if fresh != "" {
					words, out.Password = fmt.Sprintf("Operator %s has a new password.", args[0]), ""
				}
				return a.show(out, table{bare: words})
			}
			was, err := a.secretInput(old, "The password you have: ", "--old-file")
			if err != nil {
				return err
			}
			is, err := a.secretInput(fresh, "The new one: ", "--new-file")
			if err != nil {
				return err
			}
			if err := a.send(c.Context(), http.MethodPut, "/session/password", map[string]string{"old": string(was), "new": string(is)},
				nil); err != nil {
				return err
			}
			a.tell("Your password is changed; your other sessions and tokens have ended.")
			return nil
		}}
	c.Flags().StringVar(&old, "old-file", "", "file with the password you have; - is standard input")
	c.Flags().StringVar(&fresh, "new-file", "", "file with the new password; - is standard input")
	return c
}

func (a *app) newOperator(name string, p api.Password) error {
	words := fmt.Sprintf("Operator %s is added.", name)
	if p.Password != "" {
		words = fmt.Sprintf("Operator %s is added. Password, shown this once: %s", name, p.Password)
	}
	return a.show(p, table{head: []string{"operator", "password"}, rows: [][]string{{name, p.Password}}, bare: words})
}

func (a *app) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Look after your API tokens"}
	list := &cobra.Command{Use: "list", Short: "List your API tokens", Args: cobra.NoArgs, Example: "  roost token list",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []door.Token
			if err := a.get(c.Context(), "/tokens", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"TOKEN", "MADE", "ENDS", "LAST USED"}}
			for _, x := range out {
				t.rows = append(t.rows, []string{x.Name, clock(&x.MadeAt), clock(&x.EndsAt), clock(x.UsedAt)})
			}
			return a.show(out, t)
		}}
	var file string
	add := &cobra.Command{Use: "add NAME", Short: "Make an API token, for a script", Args: cobra.ExactArgs(1),
		Example: "  roost token add nightly --password-file - < password",
		Long: "Make an API token of your own for a script, which uses it by ROOST_SERVER, ROOST_TOKEN and ROOST_FINGERPRINT. Your " +
			"password is asked for again.",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.profile()
			if err != nil {
				return err
			}
			password, err := a.secretInput(file, "Password: ", "--password-file")
			if err != nil {
				return err
			}
			var out api.SignedIn
			if err := a.send(c.Context(), http.MethodPost, "/session",
				map[string]string{"name": p.Operator, "password": string(password), "token": args[0]}, &out); err != nil {
				return err
			}
			return a.show(out, table{head: []string{"token", "secret", "ends"},
				rows: [][]string{{args[0], out.Secret, clock(&out.EndsAt)}},
				bare: fmt.Sprintf("Token %s, shown this once: %s", args[0], out.Secret)})
		}}
	add.Flags().StringVar(&file, "password-file", "", "file with your password; - is standard input")
	remove := &cobra.Command{Use: "remove NAME", Short: "End one of your API tokens", Args: cobra.ExactArgs(1),
		Example: "  roost token remove nightly",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.send(c.Context(), http.MethodDelete, "/tokens/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.tell("The token %s is ended.", args[0])
			return nil
		}}
	c.AddCommand(list, add, remove)
	return c
}
