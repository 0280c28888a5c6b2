package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/spf13/cobra"

	"hen-roost/internal/client"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

func passwordFlag(c *cobra.Command, file *string) {
	c.Flags().StringVar(file, "password-file", "",
		"file with your password, for what you approve yourself because nobody else could; - is standard input")
}

// withPassword sends a request that may need the operator's password, and asks for it only then.
func (a *app) withPassword(ctx context.Context, method, path string, in map[string]any, file string, out any) error {
	err := a.send(ctx, method, path, in, out)
	var p *client.Problem
	if !errors.As(err, &p) || p.Code != string(door.PasswordNeeded) || file == "" && !a.Terminal {
		return err
	}
	if file == "" {
		a.tell("%s.", capital(p.Detail))
	}
	password, err := a.secretInput(file, "Your password: ", "--password-file")
	if err != nil {
		return err
	}
	in["password"] = string(password)
	return a.send(ctx, method, path, in, out)
}

func (a *app) pendingSettings() *cobra.Command {
	c := &cobra.Command{Use: "pending [NAMES]", Short: "List changes of guarded settings that wait for approval",
		Long: `List changes of guarded settings that wait for approval. Guarded are settings by which power or a secret
could be gained: where a target is and how Hen Roost signs in to it, what is protected, limits, what repeats by
itself, and others (docs/security.md). The old value stays in force until somebody who did not declare the change
approves it. A target that is new is signed in to by nobody before that. Names choose targets, roles, rights or
policies. Exit status 3 when something waits.`,
		Example: "  roost revision pending\n  roost revision pending arctic-tern",
		RunE: func(c *cobra.Command, args []string) error {
			var p declared.PendingSettings
			if err := a.get(c.Context(), "/revisions/pending", map[string][]string{"thing": args}, &p); err != nil {
				return err
			}
			if err := a.show(p, a.pendingTable(p.Items)); err != nil {
				return err
			}
			if len(p.Items) == 0 {
				return nil
			}
			if a.forPeople() {
				a.tellRest(p)
				switch {
				case p.Alone:
					a.tell("\nNobody else could approve them: you may, with your password: roost revision approve")
				case p.Mine:
					a.tell("\nYou declared some of them; another operator approves those: roost revision approve")
				default:
					a.tell("\nPut them in force with: roost revision approve")
				}
			}
			return exit{exitDrift}
		}}
	return c
}

// pendingNote tells people beside something else that changes of guarded settings wait: by them it would be otherwise.
func (a *app) pendingNote(ctx context.Context) {
	var p declared.PendingSettings
	if err := a.get(ctx, "/revisions/pending", nil, &p); err != nil || len(p.Items) == 0 {
		return // what it stands beside has been told
	}
	a.tell("\n%s for approval, and the old values are in force: roost revision pending",
		plural(p.Total, "change of a guarded setting waits", "changes of guarded settings wait"))
}

func (a *app) pendingTable(items []declared.PendingSetting) table {
	t := table{head: []string{"WHAT", "SETTING", "IN FORCE", "DECLARED", "BY"}, empty: "No change of a guarded setting waits for approval.",
		list: items}
	for _, p := range items {
		force := p.InForce
		if p.New {
			force = "(new)"
		}
		t.rows = append(t.rows, []string{p.Thing, p.Setting, cut(force, 40), cut(p.Declared, 50), fmt.Sprintf("%s, revision %d", p.By,
			p.Revision)})
	}
	return t
}

// sayPending shows in few lines what would wait; of a new target where it is, and with which secret it would be signed in to.
func (a *app) sayPending(items []declared.PendingSetting) {
	const most = 20
	said := 0
	for _, p := range items {
		if p.New && !slices.Contains([]string{"address", "login.secret"}, p.Setting) {
			continue
		}
		if said++; said > most {
			a.tell("  …")
			return
		}
		if p.New {
			a.tell("  new %s: %s %s", p.Thing, p.Setting, p.Declared)
			continue
		}
		a.tell("  %s: %s is %s, would be %s (guarded: it %s)", p.Thing, p.Setting, p.InForce, p.Declared, p.Why)
	}
}

// putInForce shows what waits, and asks whether it is to be put in force.
func (a *app) putInForce(p declared.PendingSettings, yes bool) (bool, error) {
	if yes {
		return true, nil
	}
	if !a.Terminal {
		return false, wrong{errors.New("nobody is there to be asked whether this is meant; add --yes")}
	}
	if a.forPeople() {
		if err := a.show(p.Items, a.pendingTable(p.Items)); err != nil {
			return false, err
		}
		a.tellRest(p)
	}
	ok, err := a.yes(fmt.Sprintf("Put %s in force? (y/n) ", plural(p.Total, "change", "changes")))
	if err == nil && !ok {
		a.tell("Nothing was changed.")
	}
	return ok, err
}

// tellRest says how many settings wait beside those that are listed.
func (a *app) tellRest(p declared.PendingSettings) {
	if rest := p.Total - len(p.Items); rest > 0 {
		a.tell("… and %d more; name what to see", rest)
	}
}

func (a *app) approveSettings() *cobra.Command {
	var because, file string
	var yes bool
	c := &cobra.Command{Use: "approve [NAMES]", Short: "Put changes of guarded settings in force",
		Long: `Put changes of guarded settings in force: those of the named targets, roles, rights and policies, or all that
wait. It takes the duty approve, and administer for what says where a secret goes. Whoever declared a change cannot
approve it, unless nobody else could: then they are asked for their password, and the record says so.
Each is shown first, and asked about; --yes answers that.`,
		Example: "  roost revision approve\n  roost revision approve arctic-tern sooty-tern --because \"moved to the new net\"",
		RunE: func(c *cobra.Command, args []string) error {
			var p declared.PendingSettings
			if err := a.get(c.Context(), "/revisions/pending", map[string][]string{"thing": args}, &p); err != nil {
				return err
			}
			if len(p.Items) == 0 {
				a.tell("No change of a guarded setting waits for approval.")
				return nil
			}
			if ok, err := a.putInForce(p, yes); err != nil || !ok {
				return err
			}
			var out declared.Revision
			in := map[string]any{"things": args, "revision": p.Revision, "because": because}
			if err := a.withPassword(c.Context(), http.MethodPost, "/revisions/approve", in, file, &out); err != nil {
				return err
			}
			words := fmt.Sprintf("Revision %d: %s in force.", out.Number, plural(p.Total, "change is", "changes are"))
			if out.Pending > 0 {
				words += fmt.Sprintf(" %d still wait.", out.Pending)
			}
			return a.show(out, table{bare: words})
		}}
	c.Flags().StringVar(&because, "because", "", "the reason, for those who read the record")
	yesFlag(c, &yes)
	passwordFlag(c, &file)
	return c
}
