package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/life"
)

func (a *app) suspend() *cobra.Command {
	var because, where, group string
	var security, last, later bool
	c := &cobra.Command{Use: "suspend [USERS…]", Short: "Cut people off now: shut every account of theirs, everywhere, ahead of all else",
		Long: `Cut people off now. Every account of theirs is shut on all targets at once, ahead of everything that runs;
who is signed in is thrown out; each target is asked whether it still lets them in; and the declaration says
that they are suspended, so that nothing opens them again. What cannot be reached is tried until it succeeds,
and at every sign of life. The last account of a person that can administer a target is not touched, unless you
say --although-last. Exit status 4 when something is still open. roost restore ends it.`,
		Example: "  roost suspend marit.fell --because \"laptop lost\" --security\n" +
			"  roost suspend --group deck --because \"the yard's keys are out\"\n" +
			"  roost suspend --where 'user.details.base == \"northquay\"' --because \"enquiry\" --no-wait",
		RunE: func(c *cobra.Command, users []string) error {
			var out api.Suspended
			if err := a.send(c.Context(), http.MethodPost, "/suspensions", map[string]any{"users": users, "where": where, "group": group,
				"because": because, "security": security, "although-last": last}, &out); err != nil {
				return err
			}
			if !later {
				if err := a.awaitShut(c.Context(), out.Items); err != nil {
					return err
				}
			}
			if err := a.showSuspensions(out.Items); err != nil {
				return err
			}
			for _, s := range out.Items {
				if s.Tally[life.Shut]+s.Tally[life.Absent] < len(s.Accounts) && !later {
					return exit{exitSteps}
				}
			}
			return nil
		}}
	c.Flags().StringVar(&where, "where", "", "all for whom a condition holds (CEL over user, day and params)")
	c.Flags().StringVar(&group, "group", "", "all who should be in a declared group")
	c.Flags().BoolVar(&security, "security", false, "for security's sake: two operators are needed to restore them, unless you do")
	c.Flags().BoolVar(&last, "although-last", false, "shut the last administrator of a target too; Hen Roost's own login there stays")
	c.Flags().BoolVar(&later, "no-wait", false, "start it and do not follow it")
	reasonFlag(c, &because)
	return c
}

// awaitShut follows suspensions until each account was tried once and the declaration says so.
func (a *app) awaitShut(ctx context.Context, list []life.Suspension) error {
	all, at := 0, map[int64]int{}
	for i, s := range list {
		all += len(s.Accounts)
		at[s.ID] = i
	}
	bar := progress{a, "shutting out", all}
	defer bar.end()
	for pause := 100 * time.Millisecond; ; pause = min(pause*5/4, time.Second) {
		tried, said := 0, 0
		for _, s := range list {
			tried += len(s.Accounts) - s.Tally[life.Waiting]
			if s.Revision > 0 || s.Undeclared != "" || s.EndedAt != nil {
				said++
			}
		}
		bar.at(tried, "accounts")
		if tried == all && said == len(list) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		for before, seen := int64(0), 0; seen < len(list); {
			var page life.Suspensions
			q := url.Values{"size": {"1000"}, "before": {fmt.Sprint(before)}}
			if len(list) == 1 {
				q.Set("user", list[0].User)
			}
			if err := a.get(ctx, "/suspensions", q, &page); err != nil {
				return err
			}
			for _, s := range page.Items {
				if i, ours := at[s.ID]; ours {
					list[i] = s
					seen++
				}
			}
			if before = page.Next; before == 0 {
				break
			}
		}
	}
}

// showSuspensions prints what became of each account, and says first what is true now.
func (a *app) showSuspensions(list []life.Suspension) error {
	t := table{head: []string{"USER", "TARGET", "ACCOUNT", "STATE", "A SIGN-IN IS", "SESSIONS", "SINCE", "WORDS"}, right: []int{5},
		list:  list,
		empty: "No account of theirs is known."}
	var lines []string
	for _, s := range list {
		lines = append(lines, sayingOf(s))
		for _, x := range s.Accounts {
			sessions := ""
			if x.Sessions > 0 {
				sessions = fmt.Sprintf("%d ended", x.Sessions)
			}
			words := x.Words
			if x.DueAt != nil && x.Tries > 0 {
				words += fmt.Sprintf("; tried %s, again by %s or at a sign of life", plural(x.Tries, "time", "times"), clock(x.DueAt))
			}
			t.rows = append(t.rows, []string{s.User, x.Target, x.Name, mark(x.State), x.Proof, sessions, clock(x.EndedAt), words})
		}
	}
	const many = 12
	if len(lines) > many {
		lines = append(lines[:many], fmt.Sprintf("… and %d more", len(list)-many))
	}
	if a.forPeople() {
		fmt.Fprintln(a.Out, strings.Join(lines, "\n"))
		fmt.Fprintln(a.Out)
	}
	return a.show(list, t)
}

// sayingOf says in a sentence how far a suspension is.
func sayingOf(s life.Suspension) string {
	who := s.User
	if s.State != "in force" {
		return fmt.Sprintf("%s was suspended by %s (%s), and restored by %s: %s.", who, s.Operator, s.Because, s.EndedBy, s.EndedBecause)
	}
	out := fmt.Sprintf("%s is suspended (%d): ", who, s.ID)
	switch shut, all := s.Tally[life.Shut], len(s.Accounts)-s.Tally[life.Absent]; {
	case all == 0:
		out += "no account of theirs is there."
	case shut == all:
		out += fmt.Sprintf("%s shut.", plural(shut, "account is", "accounts are"))
	default:
		out += fmt.Sprintf("%d of %s shut.", shut, plural(all, "account is", "accounts are"))
	}
	if n := s.Tally[life.Unsure]; n > 0 {
		out += fmt.Sprintf(" %d shut, but not proved: see why.", n)
	}
	if n := s.Tally[life.Open]; n > 0 {
		out += fmt.Sprintf(" %d still open: tried again until shut.", n)
	}
	if n := s.Tally[life.Spared]; n > 0 {
		out += fmt.Sprintf(" %d not touched: see why.", n)
	}
	if s.Undeclared != "" {
		out += " The declaration was not changed: " + s.Undeclared
	}
	if s.AskedBy != "" {
		out += fmt.Sprintf(" %s wants it to end; somebody else must want it too.", s.AskedBy)
	}
	return out
}

func (a *app) suspension() *cobra.Command {
	c := &cobra.Command{Use: "suspension", Short: "Look at who was cut off, and what became of each account"}
	var user string
	var inForce bool
	var before int64
	var size int
	list := &cobra.Command{Use: "list", Short: "List suspensions, newest first", Args: cobra.NoArgs,
		Example: "  roost suspension list --in-force\n  roost suspension list --user marit.fell",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"size": {fmt.Sprint(size)}, "before": {fmt.Sprint(before)}}
			if user != "" {
				q.Set("user", user)
			}
			if inForce {
				q.Set("in-force", "true")
			}
			var out life.Suspensions
			if err := a.get(c.Context(), "/suspensions", q, &out); err != nil {
				return err
			}
			t := table{head: []string{"NUMBER", "USER", "STATE", "SHUT", "NOT PROVED", "OPEN", "NOT TOUCHED", "SINCE", "BY", "BECAUSE"},
				right: []int{0, 3, 4, 5, 6}, empty: "Nobody was suspended."}
			for _, s := range out.Items {
				n := s.Tally
				t.rows = append(t.rows, []string{fmt.Sprint(s.ID), s.User, mark(s.State), figure(n[life.Shut]), figure(n[life.Unsure]),
					figure(n[life.Open] + n[life.Waiting]), figure(n[life.Spared]), clock(&s.At), s.Operator, cut(s.Because, 60)})
			}
			if err := a.show(out.Items, t); err != nil {
				return err
			}
			if out.Next > 0 {
				a.tell("There are more: --before %d", out.Next)
			}
			return nil
		}}
	list.Flags().StringVar(&user, "user", "", "only of one user")
	list.Flags().BoolVar(&inForce, "in-force", false, "only those in force")
	list.Flags().Int64Var(&before, "before", 0, "only those with a smaller number")
	list.Flags().IntVar(&size, "size", 100, "how many at most")
	show := &cobra.Command{Use: "show NUMBER", Short: "Show a suspension, and what became of each account", Args: cobra.ExactArgs(1),
		Example: "  roost suspension show 1",
		RunE: func(c *cobra.Command, args []string) error {
			var out life.Suspension
			if err := a.get(c.Context(), "/suspensions/"+url.PathEscape(args[0]), nil, &out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{})
			}
			return a.showSuspensions([]life.Suspension{out})
		}}
	c.AddCommand(list, show)
	return c
}

func (a *app) restore() *cobra.Command {
	var because string
	var fresh bool
	c := &cobra.Command{Use: "restore USER", Short: "End a suspension: what it shut is opened again, and nothing else",
		Args: cobra.ExactArgs(1),
		Long: `End a suspension. The accounts that it shut are opened again by a round, which is followed to its end;
those that were shut before stay shut. After one for security's sake they are opened with a new password, which is
handed over once: the old one may have been stolen (--new-password=false keeps it). One for security's sake, begun by somebody else,
	ends when two
operators want it: the first who asks is noted, and the second ends it.`,
		Example: "  roost restore marit.fell --because \"laptop found\"",
		RunE: func(c *cobra.Command, args []string) error {
			var out life.Restored
			body := map[string]any{"because": because}
			if c.Flags().Changed("new-password") {
				body["new-password"] = fresh
			}
			if err := a.send(c.Context(), http.MethodPost, "/users/"+url.PathEscape(args[0])+"/restore", body, &out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{})
			}
			fmt.Fprintln(a.Out, strings.ToUpper(out.Words[:1])+out.Words[1:]+".")
			if out.Round.ID == 0 || out.Round.State != "running" {
				return nil
			}
			if err := a.followed(c.Context(), out.Round); err != nil || out.Link == nil {
				return err
			}
			list := []life.Handover{*out.Handover}
			if err := a.awaitHandovers(c.Context(), list); err != nil {
				return err
			}
			out.Link.Handover = list[0]
			return a.showLinks([]life.Linked{*out.Link})
		}}
	c.Flags().BoolVar(&fresh, "new-password", false, "open the accounts with a new password; left out: after one for security's sake")
	reasonFlag(c, &because)
	return c
}

func (a *app) ending() *cobra.Command {
	var within string
	var size int
	c := &cobra.Command{Use: "ending", Short: "List roles, people, keys and passwords whose last day is near, the earliest first",
		Args:    cobra.NoArgs,
		Example: "  roost ending --within 14d\n  roost ending --within 90d --output csv",
		RunE: func(c *cobra.Command, _ []string) error {
			days, err := strconv.Atoi(strings.TrimSuffix(within, "d"))
			if err != nil || days < 0 {
				return wrong{fmt.Errorf("--within %q: write a number of days, as 14d", within)}
			}
			var out life.Endings
			if err := a.get(c.Context(), "/ending", url.Values{"within": {fmt.Sprint(days)}, "size": {fmt.Sprint(size)}},
				&out); err != nil {
				return err
			}
			t := table{head: []string{"UNTIL", "IN", "USER", "NAME", "WHAT ENDS", "GIVEN BECAUSE", "DECLARED AT"}, list: out.Items,
				empty: fmt.Sprintf("Nothing ends within %s.", plural(days, "day", "days"))}
			for _, e := range out.Items {
				what := "everything"
				switch {
				case e.Role != "":
					what = "role " + e.Role
				case e.Target != "":
					what = "the password of " + e.Account + " on " + e.Target
				case e.Credential != "":
					what = "a " + e.Credential
				}
				t.rows = append(t.rows, []string{e.Until, inDays(e.Days), e.User, e.Name, what, cut(e.Because, 60), e.At})
			}
			if err := a.show(out.Items, t); err != nil {
				return err
			}
			if more := out.Total - len(out.Items); more > 0 {
				a.tell("%d more: --size %d", more, out.Total)
			}
			return nil
		}}
	c.Flags().StringVar(&within, "within", "14d", "days from today")
	c.Flags().IntVar(&size, "size", 100, "how many at most")
	return c
}

func inDays(n int) string {
	if n == 0 {
		return "today"
	}
	return plural(n, "day", "days")
}

func (a *app) extend() *cobra.Command {
	var role, until, because string
	c := &cobra.Command{Use: "extend USER", Short: "Let a role of a user's, or all of theirs, end on a later day", Args: cobra.ExactArgs(1),
		Example: "  roost extend kari.berg --role bosun --until 2026-12-31 --because \"the season goes on\"\n" +
			"  roost extend ines.silva --until 2027-03-31 --because \"a second season\"",
		RunE: func(c *cobra.Command, args []string) error {
			var out declared.Revision
			if err := a.send(c.Context(), http.MethodPost, "/users/"+url.PathEscape(args[0])+"/extend",
				map[string]any{"role": role, "until": until, "because": because}, &out); err != nil {
				return a.faults(err)
			}
			return a.showRevision(out)
		}}
	c.Flags().StringVar(&role, "role", "", "the role; left out: their own last day")
	c.Flags().StringVar(&until, "until", "", "the new last day, as 2026-12-31")
	_ = c.MarkFlagRequired("until")
	reasonFlag(c, &because)
	return c
}
