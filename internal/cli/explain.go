package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) explain() *cobra.Command {
	var on, account, address, action string
	var whoHas bool
	var from, size int
	c := &cobra.Command{Use: "explain USER TARGET [WHAT]", Short: "Say why a user has or lacks something on a target",
		Args: cobra.RangeArgs(2, 3),
		Long: `Say of everything that a user has or should have on a target why, down to the line that asks for it; or of
one thing: an attribute, a group, a right, a licence, or "account". What the user lacks is told with what
would give it. With --who-has it is the other way round: everybody who has something on a target.

With --action it is whether they may do something there, as it is typed: which permissions that takes, what gives
these to them or would, and who of them is signed in with other rights than they have now. Devices and applications
that a dialect teaches know of actions, and databases, where an action is a permission.`,
		Example: "  roost explain marit.fell arctic-tern\n  roost explain marit.fell arctic-tern stores\n  roost explain " +
			"gunnar.holt stores-database --address 10.20.3.7\n  roost explain odd.strand northquay-switch --action \"light 3 on\"\n" +
			"  roost explain --who-has stores arctic-tern\n  roost explain --who-has elevation northquay --on 2026-03-01",
		ValidArgsFunction: a.completing(1, a.userNames),
		RunE: func(c *cobra.Command, args []string) error {
			if whoHas {
				if len(args) != 2 {
					return wrong{fmt.Errorf("write: roost explain --who-has WHAT TARGET")}
				}
				var out seen.Holders
				if err := a.get(c.Context(), "/holders", map[string][]string{"what": {args[0]}, "target": {args[1]}, "on": {on},
					"from": {fmt.Sprint(from)}, "size": {fmt.Sprint(size)}}, &out); err != nil {
					return err
				}
				return a.showHolders(out)
			}
			q := map[string][]string{"user": {args[0]}, "target": {args[1]}, "account": {account}, "on": {on}, "address": {address},
				"action": {action}}
			if len(args) == 3 {
				q["what"] = args[2:]
			}
			var out seen.Explanation
			if err := a.get(c.Context(), "/explain", q, &out); err != nil {
				return err
			}
			if out.Action != nil {
				return a.showAction(out)
			}
			return a.showExplanation(out)
		}}
	c.Flags().StringVar(&on, "on", "", "as it was at the end of a day, 2026-03-01; left out: now")
	c.Flags().StringVar(&account, "account", "", "which of their accounts there, where a user has several")
	c.Flags().BoolVar(&whoHas, "who-has", false, "list everybody who has WHAT on TARGET")
	c.Flags().StringVar(&address, "address", "", "say which account answers when they sign in from there")
	c.Flags().StringVar(&action, "action", "", "say whether they may do that there, as it is typed")
	c.Flags().IntVar(&from, "from", 0, "with --who-has: how many to pass over")
	c.Flags().IntVar(&size, "size", 100, "with --who-has: how many at most")
	return c
}

func (a *app) showExplanation(x seen.Explanation) error {
	if !a.forPeople() {
		type line struct {
			What     string   `json:"what"`
			State    string   `json:"state"`
			Declared []string `json:"declared"`
			Found    []string `json:"found"`
			Why      string   `json:"why"`
		}
		var lines []line
		for _, r := range x.Answers {
			var why []string
			for _, w := range r.Why {
				why = append(why, strings.TrimSpace(w.Words+" "+w.At.String()))
			}
			lines = append(lines, line{r.What, r.State, r.Declared, r.Found, strings.Join(why, "; ")})
		}
		return a.show(x, table{list: lines})
	}
	fmt.Fprintf(a.Out, "%s:\n", about(x))
	if len(x.Others) > 0 {
		fmt.Fprintf(a.Out, "They have other accounts there too: %s. Ask with --account.\n", strings.Join(x.Others, ", "))
	}
	if in := x.SignIn; in != nil && in.Account != "" {
		fmt.Fprintf(a.Out, "From %s the account %s answers: %s.\n", in.From, in.Account, in.Words)
	} else if in != nil {
		fmt.Fprintf(a.Out, "From %s: %s.\n", in.From, in.Words)
	}
	for _, r := range x.Answers {
		value := ""
		switch d, f := said(r.What, r.Declared), said(r.What, r.Found); {
		case d == "yes" || f == "yes":
		case r.State == "different":
			value = fmt.Sprintf(" %s, declared %s", f, d)
		case f != "":
			value = " " + f
		case d != "":
			value = " " + d
		}
		fmt.Fprintf(a.Out, "\n%s%s: %s\n", flat(r.What), flat(value), mark(r.State))
		for _, w := range r.Why {
			a.reason("    ", w.Words, w.At.File, w.At.Line)
		}
	}
	return nil
}

// about is of whom an explanation speaks, where and when.
func about(x seen.Explanation) string {
	account := ""
	if x.Account != "" && x.Account != x.User {
		account = ", as " + x.Account
	}
	return fmt.Sprintf("%s on %s%s, %s, by revision %d", who(x.UserName, x.User), x.Target, account, x.Day, x.Revision)
}

// reason is written with its place.
func (a *app) reason(indent, words, file string, line int) {
	place := ""
	if file != "" {
		place = fmt.Sprintf(" (%s line %d)", file, line)
	}
	fmt.Fprintf(a.Out, "%s%s%s\n", indent, wrapped(words, indent+"  ", 100), place)
}

// said is a value as a person reads it; keys are counted, since nobody reads them.
func said(what string, values []string) string {
	if what == "keys" && len(values) > 0 {
		return plural(len(values), "key", "keys")
	}
	return cut(strings.Join(values, ", "), 60)
}

func (a *app) showHolders(x seen.Holders) error {
	t := table{head: []string{"USER", "ACCOUNT", "STATE", "BECAUSE"},
		about: fmt.Sprintf("%s on %s, %s: %s.", x.What, x.Target, x.Day, plural(x.Total, "holder", "holders")),
		empty: "Nobody has it, and nobody should.", list: x.Holders}
	for _, h := range x.Holders {
		t.rows = append(t.rows, []string{who(h.UserName, h.User), h.Account, mark(h.State), h.Because})
	}
	if err := a.show(x, t); err != nil {
		return err
	}
	if shown := len(x.Holders); x.From+shown < x.Total {
		a.tell("\n%d to %d of %d; the next with --from %d", x.From+1, x.From+shown, x.Total, x.From+shown)
	}
	return nil
}
