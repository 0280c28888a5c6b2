package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/rounds"
)

func (a *app) round() *cobra.Command {
	c := &cobra.Command{Use: "round", Short: "Look at rounds"}
	var states []string
	var which some
	list := &cobra.Command{Use: "list", Short: "List rounds, newest first", Args: cobra.NoArgs,
		Example: "  roost round list\n  roost round list --state draft,approved",
		RunE: func(c *cobra.Command, _ []string) error {
			var out api.Rounds
			if err := a.get(c.Context(), "/rounds", map[string][]string{"state": states}, &out); err != nil {
				return err
			}
			t := table{head: []string{"ROUND", "STATE", "STEPS", "OUTCOME", "DRAFTED BY", "DRAFTED", "BECAUSE"}, right: []int{0, 2},
				empty: "No rounds yet."}
			for _, r := range out.Items {
				t.rows = append(t.rows, []string{fmt.Sprint(r.ID), mark(r.State), fmt.Sprint(r.Steps), rounds.Tally(r.Outcomes),
					r.DraftedBy, clock(&r.DraftedAt), cut(r.Because, 60)})
			}
			return a.show(out.Items, t)
		}}
	list.Flags().StringSliceVar(&states, "state", nil, "only these: draft, held, approved, running, complete, incomplete, stopped, undone")
	show := &cobra.Command{Use: "show ROUND", Short: "Show a round, person by person", Args: cobra.ExactArgs(1),
		Example: "  roost round show 3\n" +
			"  roost round show 3 --outcome failed,out-of-reach\n  roost round show 3 --target arctic-tern --after 100 --size 500",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			var r rounds.Round
			if err := a.get(c.Context(), fmt.Sprintf("/rounds/%d", id), nil, &r); err != nil {
				return err
			}
			return a.showRound(c.Context(), r, which)
		}}
	show.Flags().StringSliceVar(&which.outcomes, "outcome", nil,
		"only steps that ended so: done, already-so, moved, failed, out-of-reach, not-tried")
	show.Flags().StringVar(&which.target, "target", "", "only steps on this target")
	_ = show.RegisterFlagCompletionFunc("target", a.completing(0, a.targetNames)) // the flag was made just above
	afterFlag(show, &which.after)
	show.Flags().IntVar(&which.size, "size", 100, "how many steps at most")
	c.AddCommand(list, show, a.roundDifference())
	return c
}

// some are the steps to show of a round.
type some struct {
	outcomes      []string
	target, after string
	size          int
}

// showRound prints a page of a round person by person; programs get all of it.
func (a *app) showRound(ctx context.Context, r rounds.Round, which some) error {
	if !a.forPeople() {
		steps, err := a.steps(ctx, r.ID, which)
		if err != nil {
			return err
		}
		value := struct {
			rounds.Round
			Items []rounds.Step `json:"items"`
		}{r, steps}
		return a.show(value, table{list: steps})
	}
	page, err := a.stepsPage(ctx, r.ID, which)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s\n%s by %s, %s. Because: %s\n", headline(r), "Drafted", r.DraftedBy, clock(&r.DraftedAt), flat(r.Because))
	if r.ApprovedBy != "" {
		fmt.Fprintf(a.Out, "Approved by %s, %s.\n", r.ApprovedBy, clock(r.ApprovedAt))
	}
	for _, h := range r.Holds {
		fmt.Fprintf(a.Out, "Held for %s: %s\n", h.Kind, wrapped(h.Words, "  ", 100))
	}
	a.lost(r.Lost)
	a.printSteps(page.Items, r.StartedAt != nil)
	a.tellNext(len(page.Items), page.Total, page.Next)
	return nil
}

func (a *app) printSteps(steps []rounds.Step, outcomes bool) {
	var order []string
	by := map[string][]rounds.Step{}
	for _, s := range steps {
		key := who(s.UserName, s.User)
		if s.User == "" {
			key = "Nobody in particular"
		}
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], s)
	}
	t := table{head: []string{"", "", "", "", "", ""}}
	for _, key := range order {
		for _, s := range by[key] {
			to := s.Subject
			if _, group, membership := strings.Cut(s.Subject, " · "); membership && s.User != "" {
				to = group // the person stands above
			}
			last := s.Because
			if outcomes {
				last = mark(s.Outcome)
			}
			t.rows = append(t.rows, []string{"  " + s.Target, s.What, to, change(s.Before, s.After), last, ""})
		}
	}
	var b strings.Builder
	t.print(&b, a.Width)
	lines := strings.Split(strings.TrimRight(b.String(), "\n"), "\n")[1:]
	for _, key := range order {
		fmt.Fprintf(a.Out, "\n%s\n", flat(key))
		for _, s := range by[key] {
			fmt.Fprintln(a.Out, lines[0])
			lines = lines[1:]
			if outcomes && s.Words != "" && s.Outcome != "done" {
				fmt.Fprintf(a.Out, "      %s\n", wrapped(s.Words, "      ", 100))
			}
		}
	}
}

// stepsPage fetches one page of a round's steps.
func (a *app) stepsPage(ctx context.Context, id int64, which some) (page rounds.Steps, err error) {
	q := map[string][]string{"after": {which.after}, "size": {fmt.Sprint(which.size)}, "outcome": which.outcomes,
		"target": {which.target}}
	return page, a.get(ctx, fmt.Sprintf("/rounds/%d/steps", id), q, &page)
}

// steps fetches all pages.
func (a *app) steps(ctx context.Context, id int64, which some) ([]rounds.Step, error) {
	all := []rounds.Step{}
	for which.after, which.size = "", 1000; ; {
		page, err := a.stepsPage(ctx, id, which)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if which.after = page.Next; which.after == "" {
			return all, nil
		}
	}
}
