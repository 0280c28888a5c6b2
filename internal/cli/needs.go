package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) targetNeeds() *cobra.Command {
	var from string
	c := &cobra.Command{Use: "needs TARGET", Short: "Print what makes a login for Hen Roost on a target", Args: cobra.ExactArgs(1),
		Long: `Print the statements by which an administrator of a target makes the login that is declared for it: it may look
after accounts and give what the declaration gives there, and no more. Nothing is carried out.`,
		Example:           "  roost target needs stores-database\n  roost target needs rota-database --from 10.20.1.4 >make-login.sql",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var out seen.Needs
			if err := a.get(c.Context(), "/targets/"+url.PathEscape(args[0])+"/needs", map[string][]string{"from": {from}},
				&out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{list: []seen.Needs{out}})
			}
			for _, line := range out.Lines {
				fmt.Fprintln(a.Out, line)
			}
			return nil
		}}
	c.Flags().StringVar(&from, "from", "", "the address that Hen Roost comes from; left out: the one that it reaches the target from")
	return c
}

func (a *app) targetOrigins() *cobra.Command {
	return &cobra.Command{Use: "origins TARGET", Short: "List where the accounts of a target may come from", Args: cobra.ExactArgs(1),
		Example:           "  roost target origins stores-database",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var out []seen.Origin
			if err := a.get(c.Context(), "/targets/"+url.PathEscape(args[0])+"/origins", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"ORIGIN", "ACCOUNTS"}, right: []int{1}, list: out, empty: "No accounts seen yet."}
			for _, x := range out {
				t.rows = append(t.rows, []string{x.Origin, strconv.Itoa(x.Accounts)})
			}
			return a.show(out, t)
		}}
}
