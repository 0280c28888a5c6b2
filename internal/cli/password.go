package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
)

func (a *app) unlock() *cobra.Command {
	var because string
	var at []string
	c := &cobra.Command{Use: "unlock USERS…", Short: "Let people in again who were locked out after wrong passwords",
		Args: cobra.MinimumNArgs(1),
		Long: `Let people in again who were locked out after wrong passwords, or whose password alone is locked. What was
shut on purpose stays shut. Each account is read first: already-so says that it was not locked.`,
		Example: "  roost unlock kari.berg --because \"back from a holiday, telephoned\"\n  roost unlock kari.berg --at staff-directory " +
			"--because \"telephoned\"",
		RunE: func(c *cobra.Command, users []string) error {
			return a.simply(c.Context(), "/passwords/unlock", users, at, because)
		}}
	c.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	reasonFlag(c, &because)
	return c
}

// simply has something done to accounts, and follows it.
func (a *app) simply(ctx context.Context, path string, users, at []string, because string) error {
	var out life.Rotated
	if err := a.send(ctx, http.MethodPost, path, map[string]any{"users": users, "targets": at, "because": because}, &out); err != nil {
		return err
	}
	if !a.forPeople() {
		return a.show(out, table{})
	}
	for _, l := range out.Left {
		a.tell("%s: %s", strings.TrimSpace(strings.Join([]string{l.User, l.Target, l.Name}, " ")), l.Words)
	}
	fmt.Fprintln(a.Out, capital(out.Words)+".")
	if out.Round.State != rounds.Running {
		return nil
	}
	return a.followed(ctx, out.Round)
}

func (a *app) passwords() *cobra.Command {
	c := &cobra.Command{Use: "password", Short: "Try whether a password could be used, or have one changed"}
	var user, file string
	try := &cobra.Command{Use: "try", Short: "Say whether a password could be used, which word it is built from, and what would do",
		Args: cobra.NoArgs,
		Long: `Say whether a password could be used. It is asked for without being shown, or read from a file or standard
input; it is looked at by the service, and nothing of it is kept. Exit status 1 when it could not be used.`,
		Example: "  roost password try --user marit.fell\n  roost password try --password-file - < candidate",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.secretInput(file, "Password: ", "--password-file")
			if err != nil {
				return err
			}
			var out life.Tried
			if err := a.send(c.Context(), http.MethodPost, "/passwords/try", map[string]any{"user": user, "password": string(p)},
				&out); err != nil {
				return err
			}
			words := fmt.Sprintf("It could be used: it stands about ten to the power of %.0f guesses.", out.Guesses)
			if !out.Fit {
				words = "It should not be used: " + strings.Join(out.Why, ", and ") + ".\nBetter: " + out.Try + "."
				if out.Passes {
					words += "\nIt would pass all the same, and be counted: " + strings.Join(out.Policies, ", ") + " only watches."
				}
			}
			if err := a.show(out, table{bare: words}); err != nil {
				return err
			}
			if !out.Fit {
				return exit{exitFailed}
			}
			return nil
		}}
	try.Flags().StringVar(&user, "user", "", "whose it would be: their own names count, and the policies that speak of them")
	try.Flags().StringVar(&file, "password-file", "", "file with the password; - is standard input")
	var because string
	var at []string
	expire := &cobra.Command{Use: "expire USERS…", Short: "Have people change their passwords at the next sign-in",
		Args:    cobra.MinimumNArgs(1),
		Example: "  roost password expire kari.berg marit.fell --because \"the list was left on a table\"",
		RunE: func(c *cobra.Command, users []string) error {
			return a.simply(c.Context(), "/passwords/expire", users, at, because)
		}}
	expire.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	reasonFlag(expire, &because)
	c.AddCommand(try, expire)
	return c
}
