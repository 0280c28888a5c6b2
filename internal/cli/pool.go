package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

func (a *app) pool() *cobra.Command {
	c := &cobra.Command{Use: "pool", Short: "Pools of seats that several targets share",
		Long: `Pools of seats that licences of several targets share, as the declaration says under pools. Whoever has one of the licences,
or several of them, takes one seat. Licences of one target alone are told by roost target seats.`}
	c.AddCommand(a.poolList(), a.poolShow())
	return c
}

func (a *app) poolList() *cobra.Command {
	var target string
	c := &cobra.Command{Use: "list", Short: "List the shared pools and how they stand", Args: cobra.NoArgs,
		Example: "  roost pool list\n  roost pool list --target ticketing",
		RunE: func(c *cobra.Command, _ []string) error {
			var out []seen.SharedPool
			if err := a.get(c.Context(), "/pools", url.Values{"target": {target}}, &out); err != nil {
				return err
			}
			empty := "No pool is declared that several targets share."
			if target != "" {
				empty = target + " shares no pool of seats with others."
			}
			t := table{head: []string{"POOL", "SEATS", "TAKEN", "SPARE", "DECLARED", "MISSING", "BESIDE", "TOO FEW", "LICENCES"},
				right: []int{1, 2, 3, 4, 5, 6, 7}, list: out, empty: empty}
			for _, p := range out {
				t.rows = append(t.rows, []string{p.Name, strconv.Itoa(p.Seats), strconv.Itoa(p.Taken), strconv.Itoa(p.Seats - p.Taken),
					figure(p.Wanted), figure(p.Missing), figure(p.Beside), figure(p.Short), licencesOf(p)})
			}
			return a.show(out, t)
		}}
	c.Flags().StringVar(&target, "target", "", "those alone that a target shares")
	return c
}

func licencesOf(p seen.SharedPool) string {
	var parts []string
	for _, l := range p.At {
		parts = append(parts, l.Licence+" on "+l.Target)
	}
	return strings.Join(parts, ", ")
}

func (a *app) poolShow() *cobra.Command {
	var size, from int
	c := &cobra.Command{Use: "show POOL", Short: "Tell who takes the seats of a shared pool",
		Long: `Tell who takes the seats of a shared pool: first those who could give up theirs, whom nobody gives one, and who have not
signed in for longest, where the targets tell that.`,
		Args: cobra.ExactArgs(1), Example: "  roost pool show passenger-suite",
		RunE: func(c *cobra.Command, args []string) error {
			var out seen.PoolSeats
			q := url.Values{"size": {strconv.Itoa(size)}, "from": {strconv.Itoa(from)}}
			if err := a.get(c.Context(), "/pools/"+url.PathEscape(args[0]), q, &out); err != nil {
				return err
			}
			words := fmt.Sprintf("%s, of %s: %d of %s taken; %d declared to have one, of whom %d have none yet; %d taken by others.",
				out.Name, licencesOf(out.SharedPool), out.Taken, plural(out.Seats, "seat", "seats"), out.Wanted, out.Missing, out.Beside)
			if out.Short > 0 {
				words += fmt.Sprintf(" %s too few.", plural(out.Short, "seat is", "seats are"))
			}
			t := table{head: []string{"WHO", "DECLARED", "LAST SIGN-IN", "ACCOUNTS"}, list: out.Sitters, empty: "Nobody has a seat.",
				about: words}
			for _, x := range out.Sitters {
				t.rows = append(t.rows, []string{who(x.UserName, x.User), map[bool]string{true: "yes"}[x.Asked], x.LastSignIn,
					strings.Join(x.Accounts, ", ")})
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
