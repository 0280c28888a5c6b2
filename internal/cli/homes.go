package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func (a *app) home() *cobra.Command {
	c := &cobra.Command{Use: "home", Short: "Look at what people leave on hosts, and clear what nobody uses"}
	c.AddCommand(a.homeList(), a.homeDraft(), a.homeArchives(), a.homeReturn())
	return c
}

var staleForm = regexp.MustCompile(`^([0-9]{1,5})d?$`)

// staleDays reads a number of days.

func staleDays(text string) (int, error) {
	if text == "" {
		return 0, nil
	}
	m := staleForm.FindStringSubmatch(text)
	if m == nil {
		return 0, wrong{fmt.Errorf("--stale is a number of days, as 90d, not %q", text)}
	}
	return strconv.Atoi(m[1])
}

func (a *app) homeList() *cobra.Command {
	var stale string
	var only bool
	c := &cobra.Command{Use: "list [TARGETS…]", Short: "List homes with size, last use, and why each stays",
		ValidArgsFunction: a.completing(0, a.targetNames),
		Long: `Ask hosts for the homes on them. The last use is the last sign-in or the newest file, whichever is later; every
file is looked at, so that large ones take their time. Nothing is changed.`,
		Example: "  roost home list\n  roost home list northquay --stale 90d\n  roost home list --stale 365d --only-stale --output csv",
		RunE: func(c *cobra.Command, args []string) error {
			days, err := staleDays(stale)
			if err != nil {
				return err
			}
			var out seen.HomesSeen
			if err := a.get(c.Context(), "/homes", map[string][]string{"target": args, "stale": {fmt.Sprint(days)}}, &out); err != nil {
				return err
			}
			t := homeTable(out)
			if only {
				out.Items = slices.DeleteFunc(out.Items, func(h seen.HomeOn) bool { return !h.Stale })
				t.rows, t.list, t.empty = homeTable(out).rows, out.Items, ""
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			return a.tellNot(out)
		}}
	c.Flags().StringVar(&stale, "stale", "", "days without use after which one may go, as 90d; left out: as the declaration says, or 90d")
	c.Flags().BoolVar(&only, "only-stale", false, "only those that may go")
	return c
}

// tellNot tells which targets could not be asked.

func (a *app) tellNot(out seen.HomesSeen) error {
	if len(out.Not) == 0 {
		return nil
	}
	a.tell("")
	for _, words := range sortedWords(out.Not) {
		a.tell("%s", wrapped(words, "  ", 100))
	}
	return exit{exitFailed}
}

func sortedWords(not map[string]string) (out []string) {
	for target, words := range not {
		if !strings.HasPrefix(words, target) {
			words = target + ": " + words
		}
		out = append(out, words)
	}
	slices.Sort(out)
	return out
}

func homeTable(out seen.HomesSeen) table {
	t := table{head: []string{"TARGET", "HOME", "WHOSE", "SIZE", "LAST USE", "MAY GO", "WHY NOT"}, right: []int{3}, list: out.Items,
		empty: "There are no homes.",
		about: fmt.Sprintf("%s, %d may go and take up %s.", plural(len(out.Items), "home", "homes"), out.Stale, bytesOf(out.Bytes))}
	for _, h := range out.Items {
		whose := who(h.UserName, h.User)
		switch {
		case h.User == "" && h.Account != "":
			whose = h.Account
		case h.User == "":
			whose = "nobody, number " + h.Number
		}
		t.rows = append(t.rows, []string{h.Target, h.Folder, whose, bytesOf(h.Bytes), orElse(h.LastUse, "not known"),
			map[bool]string{true: mark("stale")}[h.Stale], h.Words})
	}
	return t
}

// bytesOf is a size as people read it.

func bytesOf(n int64) string {
	const step = 1000
	units, v := []string{"B", "kB", "MB", "GB", "TB"}, float64(n)
	for len(units) > 1 && v >= step {
		v, units = v/step, units[1:]
	}
	if v < 10 && units[0] != "B" {
		return fmt.Sprintf("%.1f %s", v, units[0])
	}
	return fmt.Sprintf("%.0f %s", v, units[0])
}

func (a *app) homeDraft() *cobra.Command {
	var stale, because string
	var archive, seal, remove bool
	c := &cobra.Command{Use: "draft [TARGETS…]", Short: "Draft a round that clears homes nobody has used for long",
		ValidArgsFunction: a.completing(0, a.targetNames),
		Long: `Draft a round from the homes that may go: kept in an archive on the host (--archive), fetched and sealed here
(--seal), or gone for good (--remove). Look at it, approve and run it like any other; each home is looked at
again before it goes, and one that was used since, or that somebody works in, stays.`,
		Example: "  roost home draft northquay --stale 180d --archive --because \"end of the season\"",
		RunE: func(c *cobra.Command, args []string) error {
			days, err := staleDays(stale)
			if err != nil {
				return err
			}
			var how []string
			for _, x := range []struct {
				word   string
				chosen bool
			}{{"archive", archive}, {"seal", seal}, {"remove", remove}} {
				if x.chosen {
					how = append(how, x.word)
				}
			}
			if len(how) != 1 {
				return wrong{fmt.Errorf("say what becomes of them: --archive, --seal or --remove")}
			}
			var out rounds.HomesDrafted
			if err := a.send(c.Context(), http.MethodPost, "/homes/draft", map[string]any{"targets": args, "stale": days, "how": how[0],
				"because": because}, &out); err != nil {
				return err
			}
			t := homeTable(out.Homes)
			if err := a.show(out, t); err != nil {
				return err
			}
			if out.Round.ID == 0 {
				a.tell("\nNo home may go; nothing was drafted.")
			} else {
				a.tell("\nRound %d is %s. Look at it: roost round show %d", out.Round.ID, out.Round.State, out.Round.ID)
			}
			return a.tellNot(out.Homes)
		}}
	c.Flags().StringVar(&stale, "stale", "", "days without use after which one may go, as 90d; left out: as the declaration says, or 90d")
	c.Flags().BoolVar(&archive, "archive", false, "keep each in an archive on the host")
	c.Flags().BoolVar(&seal, "seal", false, "fetch each, and keep it sealed here for as long as the declaration says, or a year")
	c.Flags().BoolVar(&remove, "remove", false, "they are gone for good")
	reasonFlag(c, &because)
	return c
}

func (a *app) homeArchives() *cobra.Command {
	var target string
	var before int64
	var size int
	c := &cobra.Command{Use: "archives", Short: "List homes of those who were removed, kept sealed by Hen Roost", Args: cobra.NoArgs,
		Example: "  roost home archives\n  roost home archives --target northquay",
		RunE: func(c *cobra.Command, _ []string) error {
			var out life.Archives
			if err := a.get(c.Context(), "/archives", map[string][]string{"target": {target}, "before": {fmt.Sprint(before)},
				"size": {fmt.Sprint(size)}}, &out); err != nil {
				return err
			}
			t := table{head: []string{"NUMBER", "TARGET", "WHOSE", "ACCOUNT", "SIZE", "STATE", "REMOVED", "UNTIL", "WORDS"},
				right: []int{0, 4},
				list:  out.Items, empty: "None is kept."}
			for _, x := range out.Items {
				t.rows = append(t.rows, []string{fmt.Sprint(x.ID), x.Target, who(x.UserName, x.User), x.Account, bytesOf(x.Bytes),
					mark(x.State),
					clock(&x.At), clock(x.Until), x.Words})
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			if out.Next != 0 {
				a.tell("\nThe next with --before %d", out.Next)
			}
			return nil
		}}
	c.Flags().StringVar(&target, "target", "", "only of this target")
	c.Flags().Int64Var(&before, "before", 0, "the page behind this number")
	c.Flags().IntVar(&size, "size", 100, "how many at most")
	return c
}

func (a *app) homeReturn() *cobra.Command {
	var because string
	c := &cobra.Command{Use: "return NUMBER", Short: "Bring a sealed home back to the target that it came from", Args: cobra.ExactArgs(1),
		Long: `Bring a sealed home back: among the archives of the target that it came from, and in its place where its account is
there, with the same number and without a home. An account that is made again with its number has it at once.`,
		Example: "  roost home return 3 --because \"he comes back in spring\"",
		RunE: func(c *cobra.Command, args []string) error {
			var out struct {
				life.Archive
				Said string `json:"said"`
			}
			if err := a.send(c.Context(), http.MethodPost, "/archives/"+url.PathEscape(args[0])+"/return",
				map[string]string{"because": because},
				&out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{})
			}
			fmt.Fprintf(a.Out, "The home of %s is on %s again: %s\n", orElse(out.Account, "number "+out.Number), out.Target, out.Said)
			return nil
		}}
	reasonFlag(c, &because)
	return c
}
