package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/seen"
)

// standing are the words of a matrix in one column.
var standing = map[string]string{seen.AsAsked: "●", seen.Besides: "▲", seen.Lacking: "■", seen.Along: "○"}

func (a *app) targetMatrix() *cobra.Command {
	var sets, begins, after string
	var from, size int
	var groups bool
	c := &cobra.Command{Use: "matrix TARGET KIND", Short: "Show who is in which groups, rights or seats, side by side",
		Args: cobra.ExactArgs(2),
		Long: `Show who was last seen in which sets of a kind: a line for each member, a column
for each set. ● is in it as declared, ▲ is in it though nothing asks for it,
■ is missing from it; ○ is a permission that comes along with a wider one that
is asked for.`,
		Example: "  roost target matrix arctic-tern group\n  roost target matrix staff-directory group --sets cr --begins m\n" +
			"  roost target matrix stores-database right",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			of := membersAre(groups)
			var m seen.Matrix
			path := "/targets/" + url.PathEscape(args[0]) + "/objects/" + url.PathEscape(args[1]) + "/matrix"
			if err := a.get(c.Context(), path, map[string][]string{"sets": {sets}, "from": {fmt.Sprint(from)}, "of": {of.String()},
				"prefix": {begins}, "after": {after}, "size": {fmt.Sprint(size)}}, &m); err != nil {
				return err
			}
			if err := a.show(m, across(m)); err != nil || !a.forPeople() {
				return err
			}
			if numbered(m) {
				a.tell("")
				for i, set := range m.Sets {
					a.tell("%3d  %s", i+1, set.Name)
				}
			}
			if shown := len(m.Sets); m.Total > shown {
				a.tell("\nSets %d to %d of %d; the next with --from %d", m.From+1, m.From+shown, m.Total, from+shown)
			}
			if m.More {
				a.tell("More members follow; the next with --after %s", typed(model.Clean(m.Lines[len(m.Lines)-1].Name, false)))
			}
			return nil
		}}
	c.Flags().StringVar(&sets, "sets", "", "only sets whose name begins so")
	c.Flags().StringVar(&begins, "begins", "", "only members whose name begins so")
	c.Flags().StringVar(&after, "after", "", "only members behind this name")
	c.Flags().BoolVar(&groups, "groups", false, "show the groups in them instead")
	c.Flags().IntVar(&from, "from", 0, "how many sets to pass over")
	c.Flags().IntVar(&size, "size", 100, "how many members at most")
	return c
}

// across is a matrix as a table.
func across(m seen.Matrix) table {
	t := table{head: []string{"MEMBER", "WHOSE"}, empty: "Nobody is in any of them.", list: m.Lines}
	for i, s := range m.Sets {
		if numbered(m) {
			s.Name = strconv.Itoa(i + 1)
		}
		t.head = append(t.head, s.Name)
	}
	for _, x := range m.Lines {
		row := []string{x.Name, who(x.UserName, x.User)}
		for _, s := range m.Sets {
			row = append(row, standing[x.Stands[s.Name]])
		}
		t.rows = append(t.rows, row)
	}
	return t
}

// numbered says whether the names of the sets are too long to stand above columns, and are listed below the table.
func numbered(m seen.Matrix) bool {
	return slices.ContainsFunc(m.Sets, func(s seen.Column) bool { return len(s.Name) > 20 })
}

// plain says whether a shell takes a character as it is.
func plain(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("._@-", r)
}

// typed is a name as it is typed in a shell.
func typed(name string) string {
	if !strings.ContainsFunc(name, func(r rune) bool { return !plain(r) }) {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

func (a *app) targetHistory() *cobra.Command {
	var before string
	var size int
	c := &cobra.Command{Use: "history TARGET KIND NAME", Short: "List what became of an account, a group …", Args: cobra.ExactArgs(3),
		Long: `List the moments at which an object of a target was seen to be otherwise than
before, the newest first: when it came and went, which values changed, who came
into a set and who left it. The record says who did it, where Hen Roost did.`,
		Example:           "  roost target history arctic-tern account marit.fell\n  roost target history arctic-tern group crew --size 5",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var h seen.History
			path := "/targets/" + url.PathEscape(args[0]) + "/objects/" + url.PathEscape(args[1]) + "/history"
			q := map[string][]string{"object": {args[2]}, "size": {fmt.Sprint(size)}}
			if before != "" {
				if _, err := time.Parse(time.RFC3339, before); err != nil {
					return wrong{fmt.Errorf("--before is a time such as 2026-03-01T09:30:00Z, not %q", before)}
				}
				q["before"] = []string{before}
			}
			if err := a.get(c.Context(), path, q, &h); err != nil {
				return err
			}
			if err := a.show(h.Items, past(h)); err != nil {
				return err
			}
			if h.More && a.forPeople() {
				a.tell("\nThere are earlier ones; see them with --before %s", h.Items[len(h.Items)-1].At.UTC().Format(time.RFC3339Nano))
			}
			return nil
		}}
	c.Flags().StringVar(&before, "before", "", "only moments before this one (2006-01-02T15:04:05Z)")
	c.Flags().IntVar(&size, "size", 20, "how many at most")
	return c
}

// pastLine is one value that changed, or who came, or who left.
type pastLine struct {
	At     time.Time `json:"at"`
	State  string    `json:"state"`
	What   string    `json:"what"`
	Before []string  `json:"before"`
	After  []string  `json:"after"`
}

// past has a line for each value that changed, and for who came and who left.
func past(h seen.History) table {
	var lines []pastLine
	t := table{head: []string{"WHEN", "STATE", "WHAT", "BEFORE", "AFTER"}, empty: "Nothing is known of it before that."}
	for _, p := range h.Items {
		first := len(lines)
		line := func(what string, before, after []string) {
			lines = append(lines, pastLine{p.At, p.State, what, before, after})
		}
		for _, v := range p.Values {
			line(model.Called(v.Attribute), v.Before, v.After)
		}
		if p.CameN > 0 {
			line(fmt.Sprintf("%d came in", p.CameN), nil, p.Came)
		}
		if p.LeftN > 0 {
			line(fmt.Sprintf("%d left", p.LeftN), p.Left, nil)
		}
		if len(lines) == first {
			line("", nil, nil)
		}
		for i, l := range lines[first:] {
			row := []string{"", "", l.What, cut(strings.Join(l.Before, ", "), 60), cut(strings.Join(l.After, ", "), 60)}
			if i == 0 {
				row[0], row[1] = clock(&p.At), p.State
			}
			t.rows = append(t.rows, row)
		}
	}
	t.list = lines
	return t
}
