package cli

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/rounds"
)

func (a *app) bulk() *cobra.Command {
	var where, what, because, first, until string
	var targets []string
	var look bool
	c := &cobra.Command{Use: "bulk [FILE.csv]", Short: "Draft a round from changes asked for one by one, or for a selection",
		Args: cobra.MaximumNArgs(1),
		Long: `Draft a round from a file with one change a line: columns user, target, what. A target of * means all where
the user has an account; what is disable, enable, remove (or remove ACCOUNT, of several there), join GROUP,
leave GROUP (of another kind: join licence counter-seat) or change ATTRIBUTE=VALUE. A line without a user is
remove group NAME. What is against the declaration lasts until the next round, or until the day of --until. Or for
all users for whom a condition holds, with --where and --what. Every line is answered; those that cannot be
are refused with the reason, and the others drafted all the same. --output csv writes the answers as a file.`,
		Example: "  roost bulk leaving.csv --look\n" +
			"  roost bulk lent.csv --until 2027-01-31 --because \"lent to the yard\"\n" +
			"  roost bulk leaving.csv --because \"end of the season\"\n  roost bulk --where \"user.details.base == 'southness'\" " +
			"--target northquay --what \"change shell=/bin/sh\" --because \"site rule\"",
		RunE: func(c *cobra.Command, args []string) error {
			if because == "" && !look {
				return wrong{errors.New("say why with --because, or only --look")}
			}
			in := map[string]any{"because": because, "first": first, "until": until, "look": look}
			switch {
			case len(args) == 1 && where != "", len(args) == 0 && where == "":
				return wrong{errors.New("give a file, or --where and --what")}
			case where != "":
				in["where"], in["what"], in["targets"] = where, what, targets
			default:
				text, err := a.readText(args[0])
				if err != nil {
					return err
				}
				in["csv"] = text
			}
			var out rounds.BulkResult
			if err := a.send(c.Context(), http.MethodPost, "/bulk", in, &out); err != nil {
				return err
			}
			return a.showBulk(out)
		}}
	c.Flags().StringVar(&where, "where", "", "CEL condition over user, day and params")
	c.Flags().StringSliceVar(&targets, "target", nil, "with --where: on these targets; left out: all where they have an account")
	c.Flags().StringVar(&what, "what", "", "with --where: what to do")
	c.Flags().StringVar(&until, "until", "", "keep what is against the declaration until this day, as 2027-01-31; left out: until "+
		"the next round")
	c.Flags().BoolVar(&look, "look", false, "say what would become of each line, and draft nothing")
	c.Flags().StringVar(&because, "because", "", "the reason, for those who read the record (required, unless it is only looked at)")
	firstFlag(c, &first)
	return c
}

func (a *app) showBulk(out rounds.BulkResult) error {
	t := table{head: []string{"LINE", "USER", "TARGET", "WHAT", "OUTCOME", "WORDS"}, right: []int{0}}
	count := map[string]int{}
	for _, l := range out.Lines {
		count[l.Outcome]++
		if a.forPeople() && l.Outcome == "drafted" && len(out.Lines) > shortRound {
			continue // the round shows them
		}
		t.rows = append(t.rows, []string{fmt.Sprint(l.Line), l.User, l.Target, l.What, mark(l.Outcome), l.Words})
	}
	var parts []string
	for _, o := range []string{"drafted", "to-draft", "already-so", "refused"} {
		if count[o] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[o], o))
		}
	}
	t.about = plural(len(out.Lines), "change", "changes") + ": " + strings.Join(parts, ", ") + "."
	t.list = out.Lines
	if err := a.show(out, t); err != nil {
		return err
	}
	if out.Round.ID != 0 {
		a.held(out.Round)
	}
	if slices.ContainsFunc(out.Lines, func(l rounds.BulkAnswer) bool { return l.Outcome == "refused" }) {
		return exit{exitSteps}
	}
	return nil
}
