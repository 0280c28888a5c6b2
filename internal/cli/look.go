package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/seen"
)

func (a *app) user() *cobra.Command {
	c := &cobra.Command{Use: "user", Short: "Look at users"}
	var text string
	var from, size int
	list := &cobra.Command{Use: "list", Short: "List declared users", Args: cobra.NoArgs,
		Example: "  roost user list\n  roost user list --find fell\n  roost user list --output csv --size 1000",
		RunE: func(c *cobra.Command, _ []string) error {
			var out seen.Users
			q := map[string][]string{"text": {text}, "from": {fmt.Sprint(from)}, "size": {fmt.Sprint(size)}}
			if err := a.get(c.Context(), "/users", q, &out); err != nil {
				return err
			}
			t := table{head: []string{"USER", "NAME", "NUMBER", "STATE", "ROLES", "TARGETS", "FINDINGS"}, right: []int{2, 5, 6},
				empty: "Nobody."}
			for _, u := range out.Items {
				t.rows = append(t.rows, []string{u.ID, u.Name, figure(u.Number), mark(u.State), strings.Join(u.Roles, ", "),
					figure(u.Targets), figure(u.Findings)})
			}
			if err := a.show(out.Items, t); err != nil {
				return err
			}
			if shown := len(out.Items); out.Total > shown {
				a.tell("\n%d to %d of %d; the next with --from %d", from+1, from+shown, out.Total, from+shown)
			}
			return nil
		}}
	list.Flags().StringVar(&text, "find", "", "part of an id, name or mail, or a whole role")
	list.Flags().IntVar(&from, "from", 0, "how many to pass over")
	list.Flags().IntVar(&size, "size", 100, "how many at most")
	show := &cobra.Command{Use: "show USER", Short: "Show one user's accounts on every target, side by side", Args: cobra.ExactArgs(1),
		Example: "  roost user show marit.fell", ValidArgsFunction: a.completing(1, a.userNames),
		RunE: func(c *cobra.Command, args []string) error {
			var u seen.UserDetail
			if err := a.get(c.Context(), "/users/"+url.PathEscape(args[0]), nil, &u); err != nil {
				return err
			}
			return a.show(u, sideBySide(u))
		}}
	c.AddCommand(list, show, a.userTime(), a.userSessions(), a.screenings())
	return c
}

// sideBySide has a column for each target and a line for each attribute.
func sideBySide(u seen.UserDetail) table {
	t := table{head: []string{""}, about: fmt.Sprintf("%s (%s), number %s, %s. Roles: %s. Declared at %s.", u.Name, u.ID,
		orNone(figure(u.Number)), orNone(u.Mail), orNone(strings.Join(u.Roles, ", ")), u.At),
		empty: "No account anywhere is asked for or known.", list: u.Accounts}
	if len(u.Formerly) > 0 {
		t.about += " Formerly " + strings.Join(u.Formerly, ", ") + "."
	}
	attributes := map[string]bool{}
	for _, x := range u.Accounts {
		t.head = append(t.head, x.Target)
		for name := range x.Attributes {
			attributes[name] = true
		}
	}
	line := func(name string, cell func(seen.Account) string) {
		row := []string{name}
		for _, x := range u.Accounts {
			row = append(row, cut(cell(x), 34))
		}
		t.rows = append(t.rows, row)
	}
	if len(u.Accounts) == 0 {
		return t
	}
	line("account", func(x seen.Account) string { return x.Name })
	line("state", func(x seen.Account) string { return mark(x.State) })
	for _, name := range slices.Sorted(maps.Keys(attributes)) {
		line(model.Called(name), func(x seen.Account) string {
			if v := x.Attributes[name]; len(v) > 1 || len(v) == 1 && name == "keys" {
				return plural(len(v), "value", "values")
			}
			return strings.Join(x.Attributes[name], ", ")
		})
	}
	line("groups", func(x seen.Account) string { return strings.Join(x.Groups, ", ") })
	line("because", func(x seen.Account) string { return x.Because })
	for i := range maxFindings(u) {
		name := ""
		if i == 0 {
			name = "drift"
		}
		line(name, func(x seen.Account) string {
			if i >= len(x.Findings) {
				return ""
			}
			f := x.Findings[i]
			return f.What + " " + change(f.Before, f.After)
		})
	}
	return t
}

func maxFindings(u seen.UserDetail) int {
	n := 0
	for _, x := range u.Accounts {
		n = max(n, len(x.Findings))
	}
	return n
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (a *app) target() *cobra.Command {
	c := &cobra.Command{Use: "target", Short: "Look at targets, and accept their keys"}
	c.AddCommand(a.targetList(), a.targetShow(), a.targetKinds(), a.targetHolds(), a.targetMembers(), a.targetMatrix(), a.targetNeeds(),
		a.targetOrigins(), a.targetSeats(), a.targetHistory(),
		a.targetSuperusers(), a.targetRenumber(), a.targetSessions(), a.targetDifference(), a.endSession(), a.acceptKey())
	return c
}

func (a *app) targetList() *cobra.Command {
	var text string
	c := &cobra.Command{Use: "list", Short: "List targets with their state and findings", Args: cobra.NoArgs,
		Example: "  roost target list\n  roost target list --find vessels",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.targets(c.Context(), text)
			if err != nil {
				return err
			}
			t := table{head: []string{"TARGET", "KIND", "ADDRESS", "STATE", "ACCOUNTS", "MISSING", "UNEXPECTED", "DIFFERENT", "UNMATCHED",
				"TO KNOW", "SURVEYED"}, right: []int{4, 5, 6, 7, 8, 9}}
			for _, x := range all {
				state := x.State
				if state == seen.Surveyed && x.Total == 0 {
					state = "as declared"
				}
				f, rest := x.Findings, 0
				for kind, n := range f {
					if !slices.Contains([]string{"missing", "unexpected", "different", "unmatched"}, kind) {
						rest += n
					}
				}
				t.rows = append(t.rows, []string{x.Name, x.Kind, x.Address, mark(state), figure(x.Accounts), figure(f["missing"]),
					figure(f["unexpected"]), figure(f["different"]), figure(f["unmatched"]), figure(rest),
					clock(x.SurveyedAt)})
			}
			return a.show(all, t)
		}}
	c.Flags().StringVar(&text, "find", "", "part of a name or of a tag, or a whole kind")
	return c
}

// targets fetches all pages.
func (a *app) targets(ctx context.Context, text string) ([]seen.Target, error) {
	all := []seen.Target{}
	for {
		var page seen.Targets
		if err := a.get(ctx, "/targets", map[string][]string{"text": {text}, "from": {fmt.Sprint(len(all))}, "size": {"1000"}},
			&page); err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if len(page.Items) == 0 || len(all) >= page.Total {
			return all, nil
		}
	}
}

func (a *app) targetShow() *cobra.Command {
	var size int
	var prefix, ends, after string
	c := &cobra.Command{Use: "show TARGET", Short: "Show one target and the accounts it holds", Args: cobra.ExactArgs(1),
		Example:           "  roost target show arctic-tern\n  roost target show staff-directory --begins m",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var x seen.TargetDetail
			path := "/targets/" + url.PathEscape(args[0])
			if err := a.get(c.Context(), path, nil, &x); err != nil {
				return err
			}
			var held seen.HeldPage
			if err := a.get(c.Context(), path+"/accounts", map[string][]string{"prefix": {prefix}, "ends": {ends},
				"after": {after}, "size": {fmt.Sprint(size)}}, &held); err != nil {
				return err
			}
			t := table{head: []string{"ACCOUNT", "WHOSE", "NUMBER", "NAME THERE", "OPEN", "LAST SIGN-IN", "SUPERUSER", "NOTE"},
				right: []int{2}, sparse: true,
				empty: "No accounts seen yet.",
				about: fmt.Sprintf("%s is %s %s at %s, %s. Hen Roost signs in as %s. Accounts nobody declared: %s. Protected: %s. "+
					"Declared at %s.",
					x.Name, article(x.Kind), x.Kind, x.Address, x.State, x.Login, x.Unexpected, orNone(strings.Join(x.Protect, ", ")),
					x.At)}
			for _, h := range held.Items {
				note := h.Protected
				if note == "" && h.System {
					note = "the system's own, lent"
				}
				open := map[string]string{"yes": "shut", "no": "open"}[one(h.Attributes["disabled"])]
				t.rows = append(t.rows, []string{h.Name, who(h.UserName, h.User), one(h.Attributes["number"]),
					one(h.Attributes["full-name"]), orElse(open, "half shut"), one(h.Attributes["last-sign-in"]),
					strings.Join(h.Attributes["elevation"], ", "),
					note})
			}
			value := struct {
				seen.TargetDetail
				Held []seen.Held `json:"held"`
			}{x, held.Items}
			t.list = held.Items
			if err := a.show(value, t); err != nil {
				return err
			}
			a.tellOf(x)
			if x.Words != "" {
				a.tell("\n%s", wrapped(x.Words, "", 100))
			}
			a.tellNext(len(held.Items), held.Total, held.Next)
			return nil
		}}
	c.Flags().StringVar(&prefix, "begins", "", "only accounts whose name begins so")
	c.Flags().StringVar(&ends, "ends", "", "only accounts whose name ends so: @localhost")
	afterFlag(c, &after)
	c.Flags().IntVar(&size, "size", 100, "how many at most")
	return c
}

// tellNext says how to see the page behind the one that is shown.
func (a *app) tellNext(shown, total int, next string) {
	if next != "" {
		a.tell("\n%d of %d; the next with --after %s", shown, total, quotedArg(next))
	}
}

// quotedArg is a text as a shell takes it for one argument.
func quotedArg(s string) string {
	if strings.IndexFunc(s, func(r rune) bool {
		return !strings.ContainsRune("-._:/@", r) && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

func afterFlag(c *cobra.Command, after *string) {
	c.Flags().StringVar(after, "after", "", "the page behind this place, as the page before says at its end")
}

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}

func orElse(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

func (a *app) acceptKey() *cobra.Command {
	var print string
	var all bool
	c := &cobra.Command{Use: "accept-key [TARGET]", Short: "Accept the identity key a target shows", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completing(1, a.targetNames),
		Long: `Accept the identity key a target shows: the host key of a host, the authority of a
directory's certificate. Compare the fingerprint with one taken on the target
itself. A key that later changes is refused until it is accepted anew.`,
		Example: `  roost target accept-key arctic-tern
  roost target accept-key arctic-tern --fingerprint SHA256:Fv0n…`,
		RunE: func(c *cobra.Command, args []string) error {
			targets, err := a.targets(c.Context(), "")
			if err != nil {
				return err
			}
			if all == (len(args) == 1) {
				return wrong{fmt.Errorf("name a target, or use --all-new")}
			}
			accepted := 0
			for _, t := range targets {
				if all && t.State != seen.KeyUnknown || !all && t.Name != args[0] {
					continue
				}
				if err := a.acceptOne(c, t, print, all); err != nil {
					return err
				}
				accepted++
			}
			if accepted == 0 && !all {
				var t seen.TargetDetail // lets the service name the nearest
				return a.get(c.Context(), "/targets/"+url.PathEscape(args[0]), nil, &t)
			}
			if accepted == 0 {
				a.tell("No target shows a key that was never accepted.")
			}
			return nil
		}}
	c.Flags().StringVar(&print, "fingerprint", "", "accept exactly this key, without asking")
	c.Flags().BoolVar(&all, "all-new", false, "accept every key of a target that never had one; never a changed key")
	return c
}

func (a *app) acceptOne(c *cobra.Command, t seen.Target, print string, all bool) error {
	switch {
	case print != "":
	case t.Print == "":
		return fmt.Errorf("%s shows no key that waits for acceptance; survey it first: roost survey %s", t.Name, t.Name)
	case all:
		print = t.Print
	case !a.Terminal:
		return wrong{fmt.Errorf("%s shows the key %s (%s), and there is no terminal to ask on: compare it with the one on the target "+
			"itself, then add --fingerprint %s", t.Name, t.Print, t.State, t.Print)}
	default:
		yes, err := a.yes(fmt.Sprintf("%s shows the key %s (%s).\nIs it the one on the target itself? [y/N] ", t.Name, t.Print, t.State))
		if err != nil {
			return err
		}
		if !yes {
			a.tell("Nothing was accepted.")
			return exit{exitFailed}
		}
		print = t.Print
	}
	if err := a.send(c.Context(), http.MethodPost, "/targets/"+url.PathEscape(t.Name)+"/accept-key", map[string]string{"print": print},
		nil); err != nil {
		return err
	}
	a.tell("Accepted %s as the key of %s.", print, t.Name)
	return nil
}
