package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) survey() *cobra.Command {
	return &cobra.Command{Use: "survey [TARGETS…]", Short: "Read targets and compare them with the declaration",
		Long: "Read the named targets, or all, several at once. Nothing is changed there. Exit status 1 when a target could not be " +
			"read.",
		Example: "  roost survey\n  roost survey arctic-tern staff-directory", ValidArgsFunction: a.completing(0, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			results, err := a.surveyNow(c.Context(), args)
			if err != nil {
				return err
			}
			rows, failed := [][]string{}, 0
			for _, r := range results {
				rows = append(rows, []string{r.Target, mark(r.State), figure(r.Accounts), figure(r.Findings), figure(r.Fresh),
					fmt.Sprintf("%d ms", r.TookMS)})
				if r.State != seen.Surveyed {
					failed++
				}
			}
			err = a.show(results, table{head: []string{"TARGET", "STATE", "ACCOUNTS", "FINDINGS", "NEW", "TOOK"}, rows: rows,
				right: []int{2, 3, 4, 5}})
			if err != nil || failed == 0 {
				return err
			}
			a.tell("")
			for _, r := range results {
				if r.State != seen.Surveyed {
					a.tell("%s", wrapped(r.Words, "  ", 100))
				}
			}
			return exit{exitFailed}
		}}
}

// surveyNow surveys and shows how far it is.
func (a *app) surveyNow(ctx context.Context, targets []string) ([]seen.SurveyResult, error) {
	began := time.Now()
	stop := make(chan struct{})
	over := make(chan struct{})
	go func() {
		defer close(over)
		for a.Terminal {
			select {
			case <-stop:
				return
			case <-time.After(300 * time.Millisecond):
			}
			all, err := a.targets(ctx, "")
			if err != nil {
				continue
			}
			n := 0
			for _, t := range all {
				if t.TriedAt != nil && t.TriedAt.After(began) {
					n++
				}
			}
			total := len(targets)
			if total == 0 {
				total = len(all)
			}
			progress{a, "surveying", total}.at(n, "targets")
		}
	}()
	var results []seen.SurveyResult
	err := a.send(ctx, http.MethodPost, "/surveys", map[string]any{"targets": targets}, &results)
	close(stop)
	<-over
	progress{a: a}.end()
	return results, err
}

// choice adds the options that choose findings.
type choice struct {
	targets, users, kinds, keys []string
	assigned                    string
	accepted, all               bool
}

func (a *app) flags(ch *choice, c *cobra.Command) {
	c.Flags().StringSliceVar(&ch.targets, "target", nil, "only on these targets")
	c.Flags().StringSliceVar(&ch.users, "user", nil, "only of these users")
	c.Flags().StringSliceVar(&ch.kinds, "kind", nil, "only of these kinds: "+strings.Join(kindsOfFindings, ", "))
	for flag, names := range map[string]func(context.Context, string) ([]string, error){"target": a.targetNames, "user": a.userNames,
		"kind": kindNames} {
		_ = c.RegisterFlagCompletionFunc(flag, a.completing(0, names)) // the flags were made just above
	}
}

func (ch *choice) query() map[string][]string {
	q := map[string][]string{"target": ch.targets, "user": ch.users, "kind": ch.kinds}
	if ch.assigned != "" {
		q["assigned"] = []string{ch.assigned}
	}
	if ch.accepted {
		q["accepted"] = []string{"true"}
	}
	if ch.all {
		q["all"] = []string{"true"}
	}
	return q
}

func (a *app) drift() *cobra.Command {
	var ch choice
	var size int
	var trend bool
	c := &cobra.Command{Use: "drift", Short: "List what differs from the declaration", Args: cobra.NoArgs,
		Long: "List what the last surveys found to differ from the declaration. Exit status 3 when something differs, 1 when a chosen " +
			"target was never surveyed.",
		Example: "  roost drift\n  roost drift --target arctic-tern --kind missing\n  roost drift --assigned odd.strand\n  roost drift " +
			"--trend\n  roost drift --user marit.fell --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			if trend {
				return a.trend(c.Context(), ch)
			}
			out, err := a.findings(c.Context(), ch)
			if err != nil {
				return err
			}
			if err := a.show(out.Items, driftTable(out, a.forPeople(), size)); err != nil {
				return err
			}
			switch {
			case out.Total > 0:
				if a.forPeople() {
					a.notes(out, size)
				}
				return exit{exitDrift}
			case len(out.Unread) > 0: // that nothing was found where nobody looked is no all-clear
				return exit{exitFailed}
			}
			return nil
		}}
	a.flags(&ch, c)
	c.Flags().StringVar(&ch.assigned, "assigned", "", "only those that this operator looks after")
	c.Flags().BoolVar(&ch.accepted, "accepted", false, "those accepted for a time, instead of the others")
	c.Flags().BoolVar(&ch.all, "all", false, "those accepted too")
	c.Flags().BoolVar(&trend, "trend", false, "how many there were, day by day")
	c.Flags().IntVar(&size, "size", 40, "how many a person is shown; programs get all")
	return c
}

// driftTable has a line for each finding; people get the first of them, after a sentence that counts all.
func driftTable(out seen.Findings, short bool, size int) table {
	t := table{head: []string{"TARGET", "KIND", "WHO", "WHAT WOULD BE DONE", "TO", "BEFORE → AFTER", "BECAUSE"}, empty: out.Sentence}
	kinds, targets := map[string]int{}, map[string]bool{}
	for i, f := range out.Items {
		kinds[f.Kind]++
		targets[f.Target] = true
		diff := change(f.Before, f.After)
		if short && i >= size {
			continue
		}
		t.rows = append(t.rows, []string{f.Target, mark(f.Kind), who(f.UserName, f.User), f.What, f.Subject, diff, f.Because})
	}
	if out.Total > 0 {
		var parts []string
		for _, k := range kindsOfFindings {
			if kinds[k] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", kinds[k], k))
			}
		}
		t.about = fmt.Sprintf("%s on %s: %s.", plural(out.Total, "finding", "findings"), plural(len(targets), "target", "targets"),
			strings.Join(parts, ", "))
	}
	return t
}

// notes explains the findings that say more than fits a line.
func (a *app) notes(out seen.Findings, size int) {
	if n := len(out.Unread); n > 0 {
		a.tell("Never surveyed, so nothing is known there: %s", cut(strings.Join(out.Unread, ", "), 200))
	}
	if out.Total > size {
		a.tell("… and %d more; choose with --target, --user, --kind, or show more with --size.", out.Total-size)
	}
	decide := 0
	for _, f := range out.Items {
		if f.Decide {
			decide++
		}
	}
	a.told("Put right before, and changed back", out.Items, func(f seen.Finding) bool { return f.Kind == "contested" })
	a.told("For a person to decide", out.Items, func(f seen.Finding) bool { return f.Decide && f.Kind == "unmatched" })
	a.told("To be known, whatever is declared", out.Items,
		func(f seen.Finding) bool { return f.Kind == "passwordless" || f.Kind == "odd" })
	a.told("Nobody declared", out.Items, func(f seen.Finding) bool { return !f.Decide && f.Kind == "unexpected" && f.User == "" })
	if out.Total > decide {
		a.tell("\n%s can be put right: roost draft --because REASON", plural(out.Total-decide, "finding", "findings"))
	}
}

// told lists what is to be known of the chosen findings, as many as a person reads.
func (a *app) told(title string, items []seen.Finding, chosen func(seen.Finding) bool) {
	const most = 12
	n := 0
	for _, f := range items {
		if f.Note == "" || !chosen(f) {
			continue
		}
		if n++; n == 1 {
			a.tell("\n%s:", title)
		}
		if n <= most {
			a.tell("  %s on %s: %s", flat(f.Subject), f.Target, wrapped(f.Note, "    ", 100))
		}
	}
	if n > most {
		a.tell("  … and %d more", n-most)
	}
}

// findings fetches all pages.
func (a *app) findings(ctx context.Context, ch choice) (seen.Findings, error) {
	all := seen.Findings{Items: []seen.Finding{}}
	for {
		q, fetched := ch.query(), len(all.Items)
		q["from"], q["size"] = []string{fmt.Sprint(len(all.Items))}, []string{"1000"}
		var page seen.Findings
		if err := a.get(ctx, "/findings", q, &page); err != nil {
			return all, err
		}
		page.Items = append(all.Items, page.Items...)
		all = page
		if len(page.Items) == fetched || len(all.Items) >= page.Total {
			return all, nil
		}
	}
}

func who(name, id string) string {
	switch {
	case id == "":
		return "–"
	case name == "":
		return id
	default:
		return name
	}
}

func change(before, after string) string {
	switch {
	case before == "":
		return after
	case after == "":
		return before + " → nothing"
	default:
		return before + " → " + after
	}
}
