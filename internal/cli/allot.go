package cli

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
)

func (a *app) allot() *cobra.Command {
	var users, groups []string
	var because string
	var yes bool
	c := &cobra.Command{Use: "allot", Short: "Give users and groups without a number the lowest that is free", Args: cobra.NoArgs,
		Long: `Give declared users and groups that have no number the lowest one out of the range that a role of theirs names
(numbers, group-numbers), that nobody declared has and no target was seen to have for anybody else. Users who have
accounts already keep the numbers that these have. It is shown first, and asked.`,
		Example: "  roost allot --because \"one number everywhere\"\n  roost allot --group galley --yes --because \"new group\"",
		RunE: func(c *cobra.Command, _ []string) error {
			var look, done life.Allotment
			body := map[string]any{"users": users, "groups": groups, "because": because, "look": true}
			if err := a.send(c.Context(), http.MethodPost, "/numbers", body, &look); err != nil {
				return err
			}
			t := table{head: []string{"section", "name", "number", "role", "note"}, right: []int{2}}
			fresh := 0
			for _, l := range look.Lines {
				n := ""
				if l.Number != 0 {
					n = strconv.Itoa(l.Number)
					fresh++
				}
				t.rows = append(t.rows, []string{l.Section, l.Name, n, l.Role, l.Words})
			}
			if a.forPeople() {
				if len(look.Lines) == 0 {
					a.tell("Everybody whose roles name a range has a number.")
					return nil
				}
				if err := a.show(look, t); err != nil {
					return err
				}
			}
			if fresh > 0 {
				if ok, err := a.confirmed(yes); err != nil || !ok {
					return err
				}
				body["look"] = false
				if err := a.send(c.Context(), http.MethodPost, "/numbers", body, &done); err != nil {
					return err
				}
			} else {
				done = look
			}
			if !a.forPeople() {
				return a.show(done, t)
			}
			if fresh > 0 {
				fmt.Fprintf(a.Out, "Declared as revision %d.\n", done.Revision.Number)
			}
			return nil
		}}
	c.Flags().StringSliceVar(&users, "user", nil, "these users only")
	c.Flags().StringSliceVar(&groups, "group", nil, "these groups only")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}
