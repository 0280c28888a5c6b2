package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/seen"
)

// What targets hold is shown by what their schemas say of it.

// tellOf says below a target's accounts what it tells of itself, and what else it holds.
func (a *app) tellOf(x seen.TargetDetail) {
	if !a.forPeople() {
		return
	}
	var lines []string
	for _, attribute := range sortedKeys(x.Details) {
		if words := detail(attribute, x.Details[attribute]); words != "" {
			lines = append(lines, words)
		}
	}
	if len(lines) > 0 {
		a.tell("\n%s", wrapped("It tells of itself: "+strings.Join(lines, "; ")+".", "", 100))
	}
	var holds []string
	for _, h := range x.Holds {
		if h.Kind != model.Account.String() && h.N > 0 {
			holds = append(holds, plural(h.N, h.Kind, several(h.Kind)))
		}
	}
	if len(holds) > 0 {
		a.tell("It also holds %s; see: roost target holds %s %s", strings.Join(holds, ", "), x.Name, model.GroupKind)
	}
}

// detail is one thing that a target tells of itself, as a person says it.
func detail(attribute string, values []string) string {
	if attribute != model.ClockOff {
		return model.Called(attribute) + " " + strings.Join(values, ", ")
	}
	n, err := strconv.Atoi(one(values))
	if err != nil {
		return ""
	}
	return "its clock is " + model.ClockWords(n)
}

func several(kind string) string {
	if kind == model.PolicyKind.String() {
		return "policies"
	}
	return kind + "s"
}

func (a *app) targetKinds() *cobra.Command {
	return &cobra.Command{Use: "kinds", Short: "List the kinds of target, and what can be declared there", Args: cobra.NoArgs,
		Example: "  roost target kinds\n  roost target kinds --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			var kinds []model.Schema
			if err := a.get(c.Context(), "/kinds", nil, &kinds); err != nil {
				return err
			}
			t := table{head: []string{"KIND", "HOLDS", "WHAT CAN BE DONE", "WHAT IS LOOKED AFTER"}, list: kinds}
			for _, s := range kinds {
				name := s.Kind
				for _, k := range s.Kinds {
					var verbs, attributes []string
					for _, v := range k.Verbs {
						if k.Kind.IsSet() && (v == model.JoinIt || v == model.LeaveIt) {
							verbs = append(verbs, k.Kind.Joining(v))
						} else {
							verbs = append(verbs, string(v))
						}
					}
					for _, at := range k.Attributes {
						attributes = append(attributes, model.Called(at.Name))
					}
					t.rows = append(t.rows, []string{name, k.Kind.String(), orElse(strings.Join(verbs, ", "), "looked at only"),
						strings.Join(attributes, ", ")})
					name = ""
				}
			}
			return a.show(kinds, t)
		}}
}

func (a *app) targetHolds() *cobra.Command {
	var prefix, after string
	var size int
	c := &cobra.Command{Use: "holds TARGET KIND", Short: "List what a target holds of a kind: groups, rights, licences …",
		Args:              cobra.ExactArgs(2),
		Example:           "  roost target holds arctic-tern group\n  roost target holds staff-directory group --begins cr",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var page seen.Objects
			path := "/targets/" + url.PathEscape(args[0]) + "/objects/" + url.PathEscape(args[1])
			if err := a.get(c.Context(), path, map[string][]string{"prefix": {prefix}, "after": {after},
				"size": {fmt.Sprint(size)}}, &page); err != nil {
				return err
			}
			if err := a.show(page.Items, holding(args[1], page)); err != nil {
				return err
			}
			if a.forPeople() {
				a.tellNext(len(page.Items), page.Total, page.Next)
			}
			return nil
		}}
	c.Flags().StringVar(&prefix, "begins", "", "only those whose name begins so")
	afterFlag(c, &after)
	c.Flags().IntVar(&size, "size", 100, "how many at most")
	return c
}

// holding is a table of objects, with a column for each of their attributes.
func holding(kind string, page seen.Objects) table {
	var attributes []string
	for _, o := range page.Items {
		for name := range o.Attributes {
			if name != model.Within && !slices.Contains(attributes, name) { // that is drawn as a tree
				attributes = append(attributes, name)
			}
		}
	}
	slices.Sort(attributes)
	depth := nested(&page)
	t := table{head: []string{strings.ToUpper(kind), "DECLARED"}, empty: "None was seen.", list: page.Items}
	set := model.KindNamed(kind).IsSet()
	if set {
		t.head, t.right = append(t.head, "ACCOUNTS IN IT", "GROUPS IN IT"), []int{2, 3}
	}
	for _, name := range attributes {
		t.head = append(t.head, strings.ToUpper(model.Called(name)))
	}
	t.head = append(t.head, "NOTE")
	for i, o := range page.Items {
		row := []string{strings.Repeat("  ", depth[i]) + o.Name, map[bool]string{true: "yes"}[o.Declared]}
		if set {
			row = append(row, figure(o.Members), figure(o.Groups))
		}
		for _, name := range attributes {
			row = append(row, cut(strings.Join(o.Attributes[name], ", "), 60))
		}
		t.rows = append(t.rows, append(row, o.Protected))
	}
	return t
}

// nested puts what stands within another behind that, and says how deep each stands.
func nested(page *seen.Objects) (depth []int) {
	here, within := map[string]bool{}, map[string][]seen.Object{}
	for _, o := range page.Items {
		here[o.Name] = true
	}
	for _, o := range page.Items {
		above := one(o.Attributes[model.Within])
		if !here[above] {
			above = ""
		}
		within[above] = append(within[above], o)
	}
	var out []seen.Object
	var lay func(above string, deep int)
	lay = func(above string, deep int) {
		list := within[above]
		delete(within, above) // a ring ends here
		for _, o := range list {
			out, depth = append(out, o), append(depth, deep)
			lay(o.Name, deep+1)
		}
	}
	lay("", 0)
	for _, above := range sortedKeys(within) { // what stands in a ring stands nowhere
		lay(above, 0)
	}
	page.Items = out
	return depth
}

// membersAre is the kind of members that are asked for.
func membersAre(groups bool) model.ObjectKind {
	if groups {
		return model.GroupKind
	}
	return model.Account
}

func (a *app) targetMembers() *cobra.Command {
	var from, size int
	var groups bool
	c := &cobra.Command{Use: "members TARGET KIND NAME", Short: "List who is in a group, has a right or a seat", Args: cobra.ExactArgs(3),
		Example:           "  roost target members arctic-tern group crew\n  roost target members staff-directory group all-hands --groups",
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			of := membersAre(groups)
			var page seen.Members
			path := "/targets/" + url.PathEscape(args[0]) + "/objects/" + url.PathEscape(args[1]) + "/members"
			q := map[string][]string{"set": {args[2]}, "of": {of.String()}, "from": {fmt.Sprint(from)}, "size": {fmt.Sprint(size)}}
			if err := a.get(c.Context(), path, q, &page); err != nil {
				return err
			}
			t := table{head: []string{"MEMBER", "WHOSE"}, empty: "Nobody is in it.", list: page.Items,
				about: fmt.Sprintf("%s %s on %s: %s.", args[1], args[2], args[0], plural(page.Total, of.String(), several(of.String())))}
			for _, m := range page.Items {
				t.rows = append(t.rows, []string{m.Name, who(m.UserName, m.User)})
			}
			if err := a.show(page.Items, t); err != nil {
				return err
			}
			if shown := len(page.Items); page.Total > shown && a.forPeople() {
				a.tell("\n%d to %d of %d; the next with --from %d", from+1, from+shown, page.Total, from+shown)
			}
			return nil
		}}
	c.Flags().BoolVar(&groups, "groups", false, "list the groups in it instead")
	c.Flags().IntVar(&from, "from", 0, "how many to pass over")
	c.Flags().IntVar(&size, "size", 100, "how many at most")
	return c
}

func (a *app) targetSessions() *cobra.Command {
	return &cobra.Command{Use: "sessions TARGET", Short: "Ask a target who is signed in now", Args: cobra.ExactArgs(1),
		Example: "  roost target sessions arctic-tern", ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			return a.sessions(c, "/targets/"+url.PathEscape(args[0])+"/sessions")
		}}
}

func (a *app) userSessions() *cobra.Command {
	return &cobra.Command{Use: "sessions USER", Short: "Ask every target where a user is signed in now", Args: cobra.ExactArgs(1),
		Example: "  roost user sessions marit.fell", ValidArgsFunction: a.completing(1, a.userNames),
		RunE: func(c *cobra.Command, args []string) error {
			return a.sessions(c, "/users/"+url.PathEscape(args[0])+"/sessions")
		}}
}

func (a *app) sessions(c *cobra.Command, path string) error {
	var out seen.Sessions
	if err := a.get(c.Context(), path, nil, &out); err != nil {
		return err
	}
	t := table{head: []string{"TARGET", "SESSION", "ACCOUNT", "WHOSE", "SINCE", "FROM", "HOLDS"}, list: out.Items}
	if len(out.Not) == 0 {
		t.empty = "Nobody is signed in there now."
	}
	for _, x := range out.Items {
		t.rows = append(t.rows, []string{x.Target, x.Name, x.Account, who(x.UserName, x.User), x.Since, x.From,
			strings.Join(x.Holds, ", ")})
	}
	if err := a.show(out, t); err != nil {
		return err
	}
	for _, target := range sortedKeys(out.Not) {
		a.tell("%s could not be asked: %s", target, wrapped(out.Not[target], "  ", 100))
	}
	if len(out.Not) > 0 {
		return exit{exitFailed}
	}
	return nil
}

func (a *app) endSession() *cobra.Command {
	var because string
	c := &cobra.Command{Use: "end-session TARGET SESSION…", Short: "End sessions on a target", Args: cobra.MinimumNArgs(2),
		Long: "End sessions by their names, as roost target sessions shows them. Each is answered, and stands in the record with the " +
			"reason.",
		Example:           `  roost target end-session arctic-tern 4711-880214 --because "laptop lost"`,
		ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			var out []seen.EndedSession
			err := a.send(c.Context(), http.MethodPost, "/targets/"+url.PathEscape(args[0])+"/sessions/end",
				map[string]any{"sessions": args[1:], "because": because}, &out)
			if err != nil {
				return err
			}
			t := table{head: []string{"SESSION", "ACCOUNT", "OUTCOME", "WORDS"}, list: out}
			failed := false
			for _, x := range out {
				t.rows = append(t.rows, []string{x.Name, x.Account, mark(x.Outcome), x.Words})
				failed = failed || x.Outcome != "done" && x.Outcome != "already-so"
			}
			if err := a.show(out, t); err != nil || !failed {
				return err
			}
			return exit{exitFailed}
		}}
	c.Flags().StringVar(&because, "because", "", "why")
	return c
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
