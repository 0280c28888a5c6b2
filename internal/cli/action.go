package cli

import (
	"fmt"
	"strings"

	"hen-roost/internal/service/seen"
)

// showAction writes whether somebody may do something, and why.
func (a *app) showAction(x seen.Explanation) error {
	t := x.Action
	if !a.forPeople() {
		type line struct {
			Permission string   `json:"permission"`
			State      string   `json:"state"`
			Gives      []string `json:"gives"`
		}
		lines := []line{}
		for _, n := range t.Needs {
			l := line{n.Permission, n.State, []string{}}
			for _, g := range n.Gives {
				l.Gives = append(l.Gives, g.What+": "+g.State)
			}
			lines = append(lines, l)
		}
		return a.show(x, table{list: lines})
	}
	may := map[string]string{"yes": "may do that", "no": "may not do that", "not known": "it is not known whether they may do that"}[t.May]
	fmt.Fprintf(a.Out, "%s: %s: %s.\n", about(x), flat(t.Action), may)
	if t.Words != "" {
		fmt.Fprintf(a.Out, "%s.\n", capital(t.Words))
	}
	if len(t.Needs) == 0 {
		fmt.Fprintln(a.Out, "It takes no permission.")
	}
	for _, n := range t.Needs {
		fmt.Fprintf(a.Out, "\nIt takes %s: %s\n", flat(n.Permission), mark(n.State))
		if len(n.Gives) == 0 {
			fmt.Fprintf(a.Out, "    no group or right that was seen on %s gives it\n", x.Target)
		}
		for _, g := range n.Gives {
			fmt.Fprintf(a.Out, "    %s gives it: %s\n", giver(g.What), mark(g.State))
			for _, w := range g.Why {
				a.reason("        ", w.Words, w.At.File, w.At.Line)
			}
		}
		if n.More > 0 {
			fmt.Fprintf(a.Out, "    and %d more that give it\n", n.More)
		}
	}
	a.openSessions(x)
	return nil
}

// giver is what gives a permission, in words.
func giver(what string) string {
	if what == "an account" {
		return "the account itself"
	}
	return flat(what)
}

// openSessions says who of them is signed in, with what.
func (a *app) openSessions(x seen.Explanation) {
	t := x.Action
	switch {
	case t.NotAsked != "":
		fmt.Fprintf(a.Out, "\nWhether they are signed in is not known: %s\n", wrapped(t.NotAsked, "  ", 100))
		return
	case len(t.Sessions) == 0:
		return
	}
	fmt.Fprintf(a.Out, "\nWhat is given or taken counts from the next sign-in. They are signed in now:\n")
	var end []string
	for _, s := range t.Sessions {
		fmt.Fprintf(a.Out, "    %s since %s, from %s: %s\n", flat(s.Name), flat(s.Since), flat(s.From), flat(s.Words))
		if len(s.Still)+len(s.NotYet) > 0 {
			end = append(end, s.Name)
		}
	}
	if len(end) > 0 {
		fmt.Fprintf(a.Out, "End what is otherwise: roost target end-session %s %s --because REASON\n", x.Target, strings.Join(end, " "))
	}
}
