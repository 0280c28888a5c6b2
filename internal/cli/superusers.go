package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

// side is what one target has of a contrast.

func (a *app) targetSuperusers() *cobra.Command {
	return &cobra.Command{Use: "superusers TARGET", Short: "Tell who can become superuser, and through what", Args: cobra.ExactArgs(1),
		Example: "  roost target superusers arctic-tern", ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var out seen.Superusers
			if err := a.get(c.Context(), "/targets/"+url.PathEscape(args[0])+"/superusers", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"ACCOUNT", "WHOSE", "THROUGH", "OPEN", "LAST SIGN-IN", "NOTE"}, list: out.Accounts,
				about: fmt.Sprintf("%s can become superuser on %s.", plural(len(out.Accounts), "account", "accounts"), args[0])}
			for _, h := range out.Accounts {
				open := map[string]string{"yes": "shut", "no": "open"}[one(h.Attributes["disabled"])]
				t.rows = append(t.rows, []string{h.Name, who(h.UserName, h.User), strings.Join(h.Attributes["elevation"], ", "),
					orElse(open, "half shut"), one(h.Attributes["last-sign-in"]), h.Protected})
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			if out.Everyone {
				a.tell("\nA rule gives it to everybody.")
			}
			if a.forPeople() {
				if len(out.Groups) > 0 || len(out.Rights) == 0 {
					a.tell("\nWhoever is in one of these groups can: %s", orNone(strings.Join(out.Groups, ", ")))
				}
				if len(out.Rights) > 0 {
					a.tell("\nWhoever has one of these rights can: %s", strings.Join(out.Rights, ", "))
				}
				if len(out.Named) > 0 {
					a.tell("Rules name, and there is no such account yet: %s", strings.Join(out.Named, ", "))
				}
			}
			return nil
		}}
}
