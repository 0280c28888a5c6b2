package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) targetSeats() *cobra.Command {
	var size, from int
	c := &cobra.Command{Use: "seats TARGET [LICENCE]", Short: "Tell of licences: how many seats, who has one, and who wants one",
		Long: `Tell of the licences of a target: how many seats there are, how many are taken, and how many the declaration wants. Of one
licence it is told who sits there: first those who could give up their seat, whom nobody gives one, who are shut, and
who have not signed in for longest, where the target tells that.`,
		Args: cobra.RangeArgs(1, 2),
		Example: `  roost target seats ticketing
  roost target seats ticketing counter-seat`,
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"size": {strconv.Itoa(size)}, "from": {strconv.Itoa(from)}}
			if len(args) > 1 {
				q.Set("licence", args[1])
			}
			var out seen.Seats
			if err := a.get(c.Context(), "/targets/"+url.PathEscape(args[0])+"/seats", q, &out); err != nil {
				return err
			}
			if len(args) < 2 {
				return a.show(out, poolTable(out.Pools))
			}
			t := table{head: []string{"ACCOUNT", "WHOSE", "DECLARED", "OPEN", "LAST SIGN-IN", "NOTE"}, list: out.Sitters,
				empty: "Nobody has a seat.", about: poolWords(args[0], out.Pools[0])}
			for _, x := range out.Sitters {
				t.rows = append(t.rows, []string{x.Account, who(x.UserName, x.User), map[bool]string{true: "yes"}[x.Asked],
					map[bool]string{true: "open", false: "shut"}[x.Open], x.LastSignIn, x.Protected})
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			a.more(out.Total, out.From, len(out.Sitters))
			return nil
		}}
	sittersFlags(c, &size, &from)
	return c
}

func poolTable(pools []seen.Pool) table {
	t := table{head: []string{"LICENCE", "SEATS", "TAKEN", "SPARE", "DECLARED", "MISSING", "BESIDE", "TOO FEW"}, right: []int{1, 2, 3,
		4, 5, 6, 7},
		list: pools, empty: "No licences."}
	for _, p := range pools {
		seats, spare := "", ""
		if p.Told {
			seats, spare = strconv.Itoa(p.Seats), strconv.Itoa(p.Seats-p.Taken)
		}
		t.rows = append(t.rows, []string{p.Licence, seats, strconv.Itoa(p.Taken), spare, figure(p.Wanted), figure(p.Missing),
			figure(p.Beside),
			figure(p.Short)})
	}
	return t
}

// poolWords says how a licence stands.
func poolWords(target string, p seen.Pool) string {
	words := fmt.Sprintf("%s on %s: %s taken", p.Licence, target, plural(p.Taken, "seat", "seats"))
	if p.Told {
		words = fmt.Sprintf("%s on %s: %d of %s taken", p.Licence, target, p.Taken, plural(p.Seats, "seat", "seats"))
	}
	if !p.Asked {
		return words + "; nobody is declared to have one, so that nobody is given or loses one."
	}
	words += fmt.Sprintf("; %d declared to have one, of whom %d have none yet; %d taken by others.", p.Wanted, p.Missing, p.Beside)
	if p.Short > 0 {
		words += fmt.Sprintf(" %s too few, with all freed that can be.", plural(p.Short, "seat is", "seats are"))
	}
	return words
}

// more says how to see the rest of a list of which some were told.
func (a *app) more(total, from, told int) {
	if rest := total - from - told; rest > 0 {
		a.tell("\n%d more: --from %d", rest, from+told)
	}
}

func sittersFlags(c *cobra.Command, size, from *int) {
	c.Flags().IntVar(size, "size", 100, "how many who sit there are told")
	c.Flags().IntVar(from, "from", 0, "how many of them to pass over")
}
