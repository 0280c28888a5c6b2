package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
)

func (a *app) screenings() *cobra.Command {
	return &cobra.Command{Use: "weak-passwords [USER]", Short: "List who took passwords that a policy watches for and lets through",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completing(1, a.userNames),
		Long: `List who took passwords that a policy watches for and lets through (screening: watch): how many in a week, the newest
week first. The passwords themselves are kept nowhere.`,
		Example: "  roost user weak-passwords\n  roost user weak-passwords kari.berg",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{}
			if len(args) == 1 {
				q.Set("user", args[0])
			}
			var out api.Screenings
			if err := a.get(c.Context(), "/screenings", q, &out); err != nil {
				return err
			}
			t := table{head: []string{"WEEK FROM", "USER", "NAME", "TIMES", "POLICY"}, right: []int{3}, list: out.Items,
				empty: "Nobody took one."}
			for _, x := range out.Items {
				t.rows = append(t.rows, []string{x.Week, x.User, x.Name, fmt.Sprint(x.Times), x.Policy})
			}
			return a.show(out.Items, t)
		}}
}
