package cli

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
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
	targets, users, kinds, keys, without []string
	assigned                             string
	accepted, all                        bool
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
			"target was not surveyed yet at its present address.",
		Example: "  roost drift\n  roost drift --target arctic-tern --kind missing\n  roost drift --assigned odd.strand\n  roost drift " +
			"--trend\n  roost drift --user marit.fell --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			if trend {
				return a.trend(c.Context(), ch)
			}
			out, err := a.findings(c.Context(), ch, size)
			if err != nil {
				return err
			}
			if err := a.show(out.Items, driftTable(out)); err != nil {
				return err
			}
			switch {
			case out.Total > 0:
				if a.forPeople() {
					if err := a.notes(c.Context(), ch, out); err != nil {
						return err
					}
					a.pendingNote(c.Context())
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

// driftTable has a line for each finding, and a sentence first that counts all.
func driftTable(out seen.Findings) table {
	t := table{head: []string{"TARGET", "KIND", "WHO", "WHAT WOULD BE DONE", "TO", "BEFORE → AFTER", "BECAUSE"}, empty: out.Sentence}
	for _, f := range out.Items {
		t.rows = append(t.rows, []string{f.Target, mark(f.Kind), who(f.UserName, f.User), f.What, f.Subject, change(f.Before, f.After),
			f.Because})
	}
	if out.Total > 0 {
		var parts []string
		for _, k := range kindsOfFindings {
			if n := out.Kinds[k]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, k))
			}
		}
		t.about = fmt.Sprintf("%s on %s: %s.", plural(out.Total, "finding", "findings"), plural(out.Targets, "target", "targets"),
			strings.Join(parts, ", "))
	}
	return t
}

// notes explains the findings that say more than fits a line.
func (a *app) notes(ctx context.Context, ch choice, out seen.Findings) error {
	if n := len(out.Unread); n > 0 {
		a.tell("Not surveyed yet at the present address, so what is there is not known: %s", cut(strings.Join(out.Unread, ", "), 200))
	}
	if more := out.Total - len(out.Items); more > 0 {
		a.tell("… and %d more; choose with --target, --user, --kind, or show more with --size.", more)
	}
	for _, one := range []struct {
		title  string
		kinds  []string
		chosen func(seen.Finding) bool
	}{
		{"Put right before, and changed back", []string{"contested"}, func(seen.Finding) bool { return true }},
		{"For a person to decide", []string{"unmatched"}, func(f seen.Finding) bool { return f.Decide }},
		{"To be known, whatever is declared", toKnow,
			func(seen.Finding) bool { return true }},
		{"Nobody declared", []string{"unexpected"}, func(f seen.Finding) bool { return !f.Decide && f.User == "" }},
	} {
		if err := a.told(ctx, ch, out, one.title, one.kinds, one.chosen); err != nil {
			return err
		}
	}
	byHand := false
	for _, f := range out.Items {
		if _, by, told := strings.Cut(f.Note, "changed last by "); told {
			if !byHand {
				a.tell("\nChanged last by somebody else, as the target tells:")
			}
			byHand = true
			a.tell("  %s on %s: %s", flat(f.Subject), f.Target, wrapped(by, "    ", 100))
		}
	}
	if can := out.Total - out.Decide; can > 0 {
		a.tell("\n%s can be put right: roost draft --because REASON", plural(can, "finding", "findings"))
	}
	return nil
}

// toKnow are the kinds of finding that a person should know of, whatever is declared.
var toKnow = []string{"passwordless", "shared-login", "factory", "dormant", "short", "unused-seat", "stale-home", "wide-open",
	"weak-sign-in", "shadowed",
	"uneven", "running-out", "clock-off", "expiring", "odd"}

// toldMost is how many of the findings of a kind are told in so many words.
const toldMost = 12

// told lists what is to be known of the chosen findings of some kinds, as many as a person reads.
func (a *app) told(ctx context.Context, ch choice, out seen.Findings, title string, kinds []string,
	chosen func(seen.Finding) bool) error {
	kinds = slices.DeleteFunc(slices.Clone(kinds), func(k string) bool { return out.Kinds[k] == 0 }) // and none that was not chosen
	if len(kinds) == 0 {
		return nil
	}
	items := out.Items
	if len(items) < out.Total { // those on this page need not be of the kind
		ch.kinds = kinds
		page, err := a.page(ctx, ch, "", toldMost+1)
		if err != nil {
			return err
		}
		items = page.Items
	}
	told := 0
	for _, f := range items {
		if f.Note == "" || !slices.Contains(kinds, f.Kind) || !chosen(f) {
			continue
		}
		if told++; told == 1 {
			a.tell("\n%s:", title)
		}
		if told <= toldMost {
			a.tell("  %s on %s: %s", flat(f.Subject), f.Target, wrapped(f.Note, "    ", 100))
		}
	}
	if told > toldMost {
		a.tell("  … and more; see: roost drift --kind %s", strings.Join(kinds, ","))
	}
	return nil
}

// page fetches one page of findings.
func (a *app) page(ctx context.Context, ch choice, after string, size int) (page seen.Findings, err error) {
	q := ch.query()
	q["after"], q["size"] = []string{after}, []string{fmt.Sprint(size)}
	return page, a.get(ctx, "/findings", q, &page)
}

// findings fetches, for people, the first of the chosen findings, and for programs all.
func (a *app) findings(ctx context.Context, ch choice, size int) (seen.Findings, error) {
	if !a.forPeople() {
		size = math.MaxInt
	}
	all, err := a.page(ctx, ch, "", min(size, 1000))
	for err == nil && all.Next != "" && len(all.Items) < size {
		var page seen.Findings
		if page, err = a.page(ctx, ch, all.Next, min(size-len(all.Items), 1000)); err == nil {
			page.Items = append(all.Items, page.Items...)
			all = page
		}
	}
	return all, err
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
