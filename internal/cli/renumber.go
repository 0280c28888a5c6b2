package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/rounds"
)

func (a *app) targetRenumber() *cobra.Command {
	var because string
	var group bool
	c := &cobra.Command{Use: "renumber TARGET NAME NUMBER",
		Short: "Draft a round that gives an account or group another number, with its files",
		Args:  cobra.ExactArgs(3), ValidArgsFunction: a.completing(1, a.targetNames),
		Long: "Draft a round that gives an account, or a group, another number, and all files on the host that it owns with it. It " +
			"may be\n" +
			"nobody's: it is a way out where it has a number that somebody should have.",
		Example: "  roost target renumber sooty-tern kari.berg 1500 --because \"1010 is Kari Berg's everywhere else\"\n" +
			"  roost target renumber sooty-tern bilge 5900 --group --because \"5112 is the bridge's\"",
		RunE: func(c *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[2])
			if err != nil {
				return wrong{fmt.Errorf("%q is no number", args[2])}
			}
			var r rounds.Round
			if err := a.send(c.Context(), http.MethodPost, "/targets/"+url.PathEscape(args[0])+"/renumber",
				map[string]any{map[bool]string{true: "group", false: "account"}[group]: args[1], "number": number, "because": because},
				&r); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(r, table{})
			}
			fmt.Fprintf(a.Out, "Round %d is %s. Look at it: roost round show %d\n", r.ID, r.State, r.ID)
			return nil
		}}
	c.Flags().BoolVar(&group, "group", false, "NAME is a group's")
	reasonFlag(c, &because)
	return c
}
