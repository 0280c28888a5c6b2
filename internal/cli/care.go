package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/seen"
)

// chosenKeys are the keys of the findings that the options choose.
func (a *app) chosenKeys(ctx context.Context, ch choice) ([]string, error) {
	if len(ch.targets)+len(ch.users)+len(ch.kinds)+len(ch.keys) == 0 {
		return nil, wrong{errors.New("choose findings with --finding, --target, --user or --kind; all of them is never meant")}
	}
	if len(ch.keys) > 0 {
		return ch.keys, nil
	}
	ch.all = true
	found, err := a.findings(ctx, ch, math.MaxInt)
	if err != nil {
		return nil, err
	}
	keys := make([]string, len(found.Items))
	for i, f := range found.Items {
		keys[i] = f.Key
	}
	if len(keys) == 0 {
		return nil, errors.New("no finding is chosen by this; roost drift lists them")
	}
	return keys, nil
}

func (a *app) accept() *cobra.Command {
	var ch choice
	var until, because string
	var over bool
	c := &cobra.Command{Use: "accept", Short: "Let findings be as they are for a time", Args: cobra.NoArgs,
		Long: `Let the chosen findings be as they are up to and with a day, for a reason. Until then they are left out
of drift, drafts and counts; roost drift --accepted lists them.`,
		Example: "  roost accept --target sooty-tern --user kari.berg --until 2026-12-31 --because \"sorted out with the bosun in " +
			"December\"\n  roost accept --user kari.berg --over --because \"settled\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if over == (until != "") {
				return wrong{errors.New("say until when (--until 2026-12-31), or that it is over (--over)")}
			}
			keys, err := a.chosenKeys(c.Context(), ch)
			if err != nil {
				return err
			}
			return a.cared(c.Context(), "/findings/accept", map[string]any{"keys": keys, "until": until, "because": because},
				map[bool]string{true: "no longer accepted", false: "accepted until " + until}[over])
		}}
	a.careFlags(&ch, c)
	c.Flags().StringVar(&until, "until", "", "the last day, 2026-12-31")
	c.Flags().BoolVar(&over, "over", false, "they are no longer accepted")
	reasonFlag(c, &because)
	return c
}

func (a *app) giveUp() *cobra.Command {
	var ch choice
	var because string
	c := &cobra.Command{Use: "give-up", Short: "Leave what is contested to whatever changes it back", Args: cobra.NoArgs,
		Long: `Leave what is contested to whatever changes it back, as an application does whose own rules overrule what it is told. The
attributes that rounds put right and that were changed again are declared under leaves of those targets: accounts that are made get
them all the same, and are not compared by them. To own one again, take it out: roost edit targets TARGET --take leaves=ATTRIBUTE.`,
		Example: "  roost give-up --target ticketing --because \"the desk's own rules set titles\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if len(ch.kinds) == 0 {
				ch.kinds = []string{"contested"}
			}
			keys, err := a.chosenKeys(c.Context(), ch)
			if err != nil {
				return err
			}
			var out declared.Revision
			if err := a.send(c.Context(), http.MethodPost, "/findings/give-up", map[string]any{"keys": keys, "because": because},
				&out); err != nil {
				return err
			}
			return a.showRevision(out)
		}}
	a.careFlags(&ch, c)
	reasonFlag(c, &because)
	return c
}

func (a *app) careFlags(ch *choice, c *cobra.Command) {
	a.flags(ch, c)
	c.Flags().StringSliceVar(&ch.keys, "finding", nil, "these findings, by the key that roost drift --output csv shows")
}

// cared sends what is to be done with findings, a thousand at a time, and says how many there were.
func (a *app) cared(ctx context.Context, path string, in map[string]any, words string) error {
	keys := in["keys"].([]string)
	total := 0
	for len(keys) > 0 {
		in["keys"] = keys[:min(1000, len(keys))]
		keys = keys[min(1000, len(keys)):]
		var out struct {
			Findings int `json:"findings"`
		}
		if err := a.send(ctx, http.MethodPost, path, in, &out); err != nil {
			return err
		}
		total += out.Findings
	}
	return a.show(map[string]int{"findings": total}, table{head: []string{"findings"}, rows: [][]string{{fmt.Sprint(total)}},
		bare: fmt.Sprintf("%s: %s.", plural(total, "finding", "findings"), words)})
}

func (a *app) assign() *cobra.Command {
	var ch choice
	c := &cobra.Command{Use: "assign OPERATOR", Short: "Give findings to an operator to look after", Args: cobra.ExactArgs(1),
		Long: "Give the chosen findings to an operator to look after; nobody takes them from whoever has them. roost drift --assigned " +
			"OPERATOR lists them.",
		Example: "  roost assign odd.strand --target sooty-tern --kind unmatched\n  roost assign nobody --user kari.berg",
		RunE: func(c *cobra.Command, args []string) error {
			keys, err := a.chosenKeys(c.Context(), ch)
			if err != nil {
				return err
			}
			operator := args[0]
			if operator == "nobody" {
				operator = ""
			}
			return a.cared(c.Context(), "/findings/assign", map[string]any{"keys": keys, "operator": operator}, "assigned to "+args[0])
		}}
	a.careFlags(&ch, c)
	return c
}

func (a *app) finding() *cobra.Command {
	c := &cobra.Command{Use: "finding", Short: "Look at one finding, say something of it"}
	show := &cobra.Command{Use: "show KEY", Short: "Show a finding with what was said of it", Args: cobra.ExactArgs(1),
		Example: "  roost finding show 5b1c33a0e6f24d0e8a47c1d2f3b4a596",
		RunE: func(c *cobra.Command, args []string) error {
			var f seen.FindingDetail
			if err := a.get(c.Context(), "/findings/"+url.PathEscape(args[0]), nil, &f); err != nil {
				return err
			}
			t := table{head: []string{"", ""}}
			for _, line := range [][]string{{"target", f.Target}, {"kind", mark(f.Kind)}, {"whose", who(f.UserName, f.User)},
				{"what would be done", f.What + " " + f.Subject}, {"change", change(f.Before, f.After)},
				{"because", f.Because}, {"to know", f.Note}, {"first seen", clock(&f.SeenAt)}, {"assigned to", f.Assigned},
				{"accepted", strings.TrimSpace(f.Accepted + " " + f.AcceptedBecause)}} {
				if line[1] != "" {
					t.rows = append(t.rows, line)
				}
			}
			for _, r := range f.Remarks {
				t.rows = append(t.rows, []string{r.Operator + " said", r.Words})
			}
			return a.show(f, t)
		}}
	comment := &cobra.Command{Use: "comment KEY WORDS…", Short: "Say something of a finding", Args: cobra.MinimumNArgs(2),
		Example: "  roost finding comment 5b1c33a0e6f24d0e8a47c1d2f3b4a596 \"asked the bosun\"",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.send(c.Context(), http.MethodPost, "/findings/"+url.PathEscape(args[0])+"/comments",
				map[string]any{"text": strings.Join(args[1:], " ")}, nil); err != nil {
				return err
			}
			a.tell("Noted.")
			return nil
		}}
	c.AddCommand(show, comment)
	return c
}

func (a *app) adopt() *cobra.Command {
	var because string
	var not bool
	c := &cobra.Command{Use: "adopt TARGET ACCOUNT USER", Short: "Decide whose a found account is", Args: cobra.ExactArgs(3),
		Long: `Decide that an account found on a target is a user's, or with --not that it is not. It counts for more than
what the target's match rules would recognise, and is remembered: roost decision list. What follows from it
is drift, which a round puts right.`,
		Example: "  roost adopt sooty-tern kberg kari.berg --because \"says the bosun\"\n  roost adopt sooty-tern kari.berg kari.berg " +
			"--not --because \"it is her namesake's\"",
		RunE: func(c *cobra.Command, args []string) error {
			in := map[string]any{"target": args[0], "account": args[1], "user": args[2], "theirs": !not, "because": because}
			if err := a.send(c.Context(), http.MethodPost, "/decisions", in, nil); err != nil {
				return err
			}
			is := map[bool]string{true: "is not", false: "is"}[not]
			a.tell("Decided: the account %s on %s %s %s's. Next: roost drift --user %s", args[1], args[0], is, args[2], args[2])
			return nil
		}}
	c.Flags().BoolVar(&not, "not", false, "it is not theirs")
	reasonFlag(c, &because)
	return c
}

func (a *app) decision() *cobra.Command {
	c := &cobra.Command{Use: "decision", Short: "Look at what was decided of accounts, take it back"}
	var target string
	list := &cobra.Command{Use: "list", Short: "List what people decided of accounts", Args: cobra.NoArgs,
		Example: "  roost decision list\n  roost decision list --target sooty-tern",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []seen.Decision
			if err := a.get(c.Context(), "/decisions", map[string][]string{"target": {target}}, &out); err != nil {
				return err
			}
			t := table{head: []string{"TARGET", "ACCOUNT", "", "USER", "DECIDED BY", "ON", "BECAUSE"}, empty: "Nothing was decided yet."}
			for _, d := range out {
				t.rows = append(t.rows, []string{d.Target, d.Account, map[bool]string{true: "is", false: "is not"}[d.Theirs], d.User,
					d.Operator, clock(&d.MadeAt), cut(d.Because, 60)})
			}
			return a.show(out, t)
		}}
	list.Flags().StringVar(&target, "target", "", "only on this target")
	forget := &cobra.Command{Use: "forget TARGET ACCOUNT USER", Short: "Take a decision back", Args: cobra.ExactArgs(3),
		Example: "  roost decision forget sooty-tern kberg kari.berg",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"target": {args[0]}, "account": {args[1]}, "user": {args[2]}}
			if err := a.send(c.Context(), http.MethodDelete, "/decisions?"+q.Encode(), nil, nil); err != nil {
				return err
			}
			a.tell("Taken back: what was decided of the account %s on %s and %s.", args[1], args[0], args[2])
			return nil
		}}
	c.AddCommand(list, forget)
	return c
}

// trend shows findings per day.
func (a *app) trend(ctx context.Context, ch choice) error {
	var out []seen.TrendDay
	if err := a.get(ctx, "/trend", map[string][]string{"target": ch.targets}, &out); err != nil {
		return err
	}
	kinds := kindsOfFindings
	t := table{head: append([]string{"DAY", "FINDINGS"}, upper(kinds)...), right: []int{1, 2, 3, 4, 5, 6, 7, 8},
		empty: "Nothing was compared yet."}
	for _, d := range out {
		row := []string{d.Day, fmt.Sprint(d.Total)}
		for _, k := range kinds {
			row = append(row, figure(d.Kinds[k]))
		}
		t.rows = append(t.rows, row)
	}
	return a.show(out, t)
}

func upper(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = strings.ToUpper(w)
	}
	return out
}
