package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service"
)

func (a *app) bulk() *cobra.Command {
	var where, what, because, first string
	var targets []string
	c := &cobra.Command{Use: "bulk [FILE.csv]", Short: "Draft a round from changes asked for one by one, or for a selection", Args: cobra.MaximumNArgs(1),
		Long: `Draft a round from a file with one change a line: columns user, target, what. A target of * means all where
the user has an account; what is disable, enable, join GROUP, leave GROUP or change ATTRIBUTE=VALUE. Or for
all users for whom a condition holds, with --where and --what. Every line is answered; those that cannot be
are refused with the reason, and the others drafted all the same. --output csv writes the answers as a file.`,
		Example: "  roost bulk leaving.csv --because \"end of the season\"\n  roost bulk --where \"user.details.base == 'southness'\" --target northquay --what \"change shell=/bin/sh\" --because \"site rule\"",
		RunE: func(c *cobra.Command, args []string) error {
			in := map[string]any{"because": because, "first": first}
			switch {
			case len(args) == 1 && where != "", len(args) == 0 && where == "":
				return wrong{errors.New("give a file, or --where and --what")}
			case where != "":
				in["where"], in["what"], in["targets"] = where, what, targets
			default:
				lines, err := readBulk(args[0], a.In)
				if err != nil {
					return err
				}
				in["lines"] = lines
			}
			var out service.BulkResult
			if err := a.send(c.Context(), http.MethodPost, "/bulk", in, &out); err != nil {
				return err
			}
			return a.showBulk(out)
		}}
	c.Flags().StringVar(&where, "where", "", "CEL condition over user, day and params")
	c.Flags().StringSliceVar(&targets, "target", nil, "with --where: on these targets; left out: all where they have an account")
	c.Flags().StringVar(&what, "what", "", "with --where: what to do")
	firstFlag(c, &first)
	reasonFlag(c, &because)
	return c
}

// readBulk reads a file of changes (RFC 4180); - is standard input.
func readBulk(name string, in io.Reader) ([]service.BulkLine, error) {
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: no line with the columns user, target, what: %w", name, err)
	}
	at := map[string]int{}
	for i, h := range head {
		at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))] = i
	}
	for _, want := range []string{"user", "target", "what"} {
		if _, ok := at[want]; !ok {
			return nil, fmt.Errorf("%s: line 1 has no column %q; it has %s", name, want, strings.Join(head, ", "))
		}
	}
	var out []service.BulkLine
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		cell := func(column string) string {
			if i := at[column]; i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		out = append(out, service.BulkLine{User: cell("user"), Target: cell("target"), What: cell("what")})
	}
}

func (a *app) showBulk(out service.BulkResult) error {
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
	for _, o := range []string{"drafted", "already-so", "refused"} {
		if count[o] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[o], o))
		}
	}
	t.about = plural(len(out.Lines), "change", "changes") + ": " + strings.Join(parts, ", ") + "."
	if err := a.show(out, t); err != nil {
		return err
	}
	if out.Round.ID != 0 {
		a.held(out.Round)
	}
	if slices.ContainsFunc(out.Lines, func(l service.BulkAnswer) bool { return l.Outcome == "refused" }) {
		return exit{exitSteps}
	}
	return nil
}
