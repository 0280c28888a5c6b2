package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) compare() *cobra.Command {
	return &cobra.Command{Use: "compare TARGET TARGET", Short: "Tell in what two targets differ that should be alike",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completing(2, a.targetNames),
		Long: `Set two targets beside each other as they were last surveyed: people, groups and who is in them, elevation, policy,
and what they tell of themselves. Exit status 3 when they differ.`,
		Example: "  roost compare arctic-tern sooty-tern",
		RunE: func(c *cobra.Command, args []string) error {
			var out seen.Twins
			if err := a.get(c.Context(), "/compare", map[string][]string{"one": {args[0]}, "other": {args[1]}}, &out); err != nil {
				return err
			}
			t := table{head: []string{"KIND", "NAME", "WHOSE", "WHAT", strings.ToUpper(args[0]), strings.ToUpper(args[1])},
				about: out.Sentence,
				list:  out.Items}
			for _, x := range out.Items {
				t.rows = append(t.rows, []string{x.Kind, x.Name, who(x.UserName, x.User), x.Called, side(x, x.One), side(x, x.Other)})
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			if len(out.Items) > 0 {
				return exit{exitDrift}
			}
			return nil
		}}
}

func side(x seen.Contrast, values []string) string {
	switch {
	case x.Attribute == "" && len(values) == 0:
		return "–"
	case len(values) > 4:
		return strings.Join(values[:4], ", ") + fmt.Sprintf(" and %d more", len(values)-4)
	}
	return strings.Join(values, ", ")
}

func (a *app) fleet() *cobra.Command {
	c := &cobra.Command{Use: "fleet", Short: "Look at targets beside their like"}
	var tag string
	var only bool
	list := &cobra.Command{Use: "list", Short: "List targets that share a tag, and what is odd about one among its like",
		Args:    cobra.NoArgs,
		Example: "  roost fleet list --tag fleet=vessels\n  roost fleet list --only-odd",
		RunE: func(c *cobra.Command, _ []string) error {
			var out seen.Fleet
			if err := a.get(c.Context(), "/fleet", map[string][]string{"tag": {tag}}, &out); err != nil {
				return err
			}
			if only {
				out.Items = slices.DeleteFunc(out.Items, func(t seen.FleetTarget) bool { return len(t.Odd) == 0 })
			}
			t := table{head: []string{"TARGET", "STATE", "SYSTEM", "ACCOUNTS", "SUPERUSERS", "FINDINGS", "ODD AMONG ITS LIKE"},
				right: []int{3, 4, 5},
				about: out.Sentence, list: out.Items}
			for _, x := range out.Items {
				t.rows = append(t.rows, []string{x.Name, mark(x.State), x.System, figure(x.Accounts), figure(x.Superusers),
					figure(x.Findings),
					strings.Join(x.Odd, "; ")})
			}
			return a.show(out, t)
		}}
	list.Flags().StringVar(&tag, "tag", "", "only targets with this tag, as fleet=vessels")
	list.Flags().BoolVar(&only, "only-odd", false, "only those with something odd about them")
	c.AddCommand(list)
	return c
}
