package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) rename() *cobra.Command {
	var because string
	var yes bool
	c := &cobra.Command{Use: "rename OLD NEW", Short: "Give a user another id everywhere in the declaration",
		Args: cobra.ExactArgs(2),
		Long: `Give a user another id wherever the declaration names them. Their accounts stay theirs, under the logins that
they have on their targets; so do their decisions, suspensions and passwords that wait. The record and the past keep
the old id, and both are found by the new one. First it is shown what would change, and asked.`,
		Example:           "  roost rename jens-ole.krag jens-ole.bell --because \"married\"",
		ValidArgsFunction: a.completing(1, a.userNames),
		RunE: func(c *cobra.Command, args []string) error {
			path := "/users/" + url.PathEscape(args[0]) + "/rename"
			var out seen.Renaming
			if err := a.send(c.Context(), http.MethodPost, path, map[string]any{"to": args[1], "look": true}, &out); err != nil {
				return a.faults(err)
			}
			a.showRenaming(out)
			if ok, err := a.confirmed(yes); !ok || err != nil {
				return err
			}
			if err := a.send(c.Context(), http.MethodPost, path, map[string]any{"to": args[1], "because": because}, &out); err != nil {
				return a.faults(err)
			}
			return a.show(out, table{bare: fmt.Sprintf("Revision %d: %s is renamed to %s.", out.Revision.Number, out.User, out.To)})
		}}
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

// showRenaming says what a renaming changes, and what a person should look at.
func (a *app) showRenaming(r seen.Renaming) {
	if !a.forPeople() {
		return
	}
	a.tell("%s of the declaration would say %s in place of %s.", plural(r.Places, "place", "places"), r.To, r.User)
	var kept []string
	for _, x := range r.Accounts {
		kept = append(kept, x.Account+" on "+x.Target)
	}
	switch {
	case len(kept) == 0:
		a.tell("No account is known to be theirs.")
	default:
		a.tell("%s theirs: %s.", plural(len(kept), "account stays", "accounts stay"), wrapped(strings.Join(kept, ", "), "  ", 100))
	}
	a.tell("Values that the declaration makes of the id, as a mail address, change with it; then: roost drift --user %s", r.To)
	if len(r.Also) > 0 {
		a.tell("The old id also stands in comments or conditions, which stay as they are: %s.", strings.Join(r.Also, ", "))
	}
	if len(r.Sources) > 0 {
		a.tell("▲ The source %s tells of them by the old id, and would bring it back: change it there too.", strings.Join(r.Sources, ", "))
	}
}
