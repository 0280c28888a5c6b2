package cli

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"hen-roost/internal/service"
)

func (a *app) record() *cobra.Command {
	var f struct {
		kind, operator, target, user, text string
		round                              int64
		size                               int
	}
	var verify bool
	c := &cobra.Command{Use: "record [ENTRY]", Short: "Read the team record, check its chain", Args: cobra.MaximumNArgs(1),
		Long: `Read the team record: who did what, where, when, why, and whether it held. The
newest entries stand last. Each entry is chained to the one before by SHA-256;
--verify walks the chain and names the first broken entry (exit status 1).`,
		Example: `  roost record
  roost record --user marit.fell --kind step
  roost record 12
  roost record comment 12 "agreed with the captain"
  roost record --verify`,
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case verify:
				return a.verifyRecord(c)
			case len(args) == 1:
				return a.showEntry(c, args[0])
			}
			q := map[string][]string{"kind": {f.kind}, "operator": {f.operator}, "target": {f.target}, "user": {f.user}, "text": {f.text}, "size": {fmt.Sprint(f.size)}}
			if f.round > 0 {
				q["round"] = []string{fmt.Sprint(f.round)}
			}
			var out service.RecordPage
			if err := a.get(c.Context(), "/record", q, &out); err != nil {
				return err
			}
			slices.Reverse(out.Items)
			if err := a.show(out.Items, entries(out.Items, a.forPeople())); err != nil {
				return err
			}
			if out.Next > 0 {
				a.tell("\nThere are older entries; show more with --size.")
			}
			return nil
		}}
	fl := c.Flags()
	fl.StringVar(&f.kind, "kind", "", "only of this kind: sign-in, revision, survey, drift, round, step, key, secret, operator, comment")
	fl.StringVar(&f.operator, "operator", "", "only by this operator")
	fl.StringVar(&f.target, "target", "", "only about this target")
	fl.StringVar(&f.user, "user", "", "only about this user")
	fl.StringVar(&f.text, "find", "", "only with this in the words or the reason")
	fl.Int64Var(&f.round, "round", 0, "only of this round")
	fl.IntVar(&f.size, "size", 40, "how many at most")
	fl.BoolVar(&verify, "verify", false, "check the chain from end to end")
	c.AddCommand(&cobra.Command{Use: "comment ENTRY TEXT", Short: "Add a comment to an entry", Args: cobra.ExactArgs(2), Example: `  roost record comment 12 "agreed with the captain"`,
		RunE: func(c *cobra.Command, args []string) error {
			seq, err := entryNumber(args[0])
			if err != nil {
				return err
			}
			var e service.Entry
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/record/%d/comments", seq), map[string]string{"text": args[1]}, &e); err != nil {
				return err
			}
			return a.show(e, table{head: []string{"entry"}, rows: [][]string{{fmt.Sprint(e.Seq)}}, bare: fmt.Sprintf("Comment is entry %d.", e.Seq)})
		}})
	return c
}

func entryNumber(arg string) (int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return 0, wrong{fmt.Errorf("%q is not the number of an entry", arg)}
	}
	return n, nil
}

func entries(list []service.Entry, short bool) table {
	t := table{head: []string{"ENTRY", "WHEN", "OPERATOR", "KIND", "WHAT", "BECAUSE"}, right: []int{0}, empty: "No entries."}
	for _, e := range list {
		words := e.Words
		if e.Target != "" && (e.Kind == "step" || e.Kind == "survey") {
			words = e.Target + ": " + words
		}
		if e.About > 0 {
			words = fmt.Sprintf("on entry %d: %s", e.About, words)
		}
		if short {
			words = cut(words, 90)
		}
		t.rows = append(t.rows, []string{fmt.Sprint(e.Seq), clock(&e.At), e.Operator, e.Kind, words, cut(e.Because, 40)})
	}
	return t
}

func (a *app) showEntry(c *cobra.Command, arg string) error {
	seq, err := entryNumber(arg)
	if err != nil {
		return err
	}
	var e service.Entry
	if err := a.get(c.Context(), fmt.Sprintf("/record/%d", seq), nil, &e); err != nil {
		return err
	}
	return a.show(e, entries(append([]service.Entry{e}, e.Comments...), false))
}

func (a *app) verifyRecord(c *cobra.Command) error {
	var v service.Verified
	if err := a.get(c.Context(), "/record-check", nil, &v); err != nil {
		return err
	}
	if err := a.show(v, table{head: []string{"holds", "checked", "broken"}, rows: [][]string{{fmt.Sprint(v.Holds), fmt.Sprint(v.Checked), figure(int(v.Broken))}}, bare: v.Words}); err != nil {
		return err
	}
	if !v.Holds {
		return exit{exitFailed}
	}
	return nil
}
