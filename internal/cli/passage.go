package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func (a *app) join() *cobra.Command {
	var p life.Joiner
	var table, like, file, because string
	var columns, roles, without, details []string
	var h handing
	var none, yes bool
	c := &cobra.Command{Use: "join [ID [NAME]]", Short: "Let people join: declared, brought to the targets, each with a password to " +
		"collect once",
		Args: cobra.MaximumNArgs(2),
		Long: `Let one person join, or all of a table. They are declared with the days they are there and the roles they
hold, beside what a colleague has (--like); it is shown what that means, and asked. Then a round makes their
accounts, on their first day, each with a password that is handed over once. Those who have left come back.
Lines of a table that cannot be are refused with the reason; the others join all the same. What is missing of
one person is asked for when you are at a terminal.`,
		Example: "  roost join runa.dahl \"Rúna Dahl\" --like marit.fell --number 1301 --from 2027-04-01 --until 2027-10-31 --because " +
			"\"spring crew\"\n" +
			"  roost join --from-csv crew.csv --role deck-crew --until 2027-10-31 --batch spring-crew --because \"spring crew\"",
		RunE: func(c *cobra.Command, args []string) error {
			body := h.into(map[string]any{"like": like, "roles": roles, "without": without, "file": file, "no-passwords": none,
				"because": because, "from": p.From, "until": p.Until})
			if table != "" {
				if len(args) > 0 {
					return wrong{errors.New("name one person, or give a table: not both")}
				}
				text, err := a.readText(table)
				if err != nil {
					return err
				}
				m, err := mapped(columns)
				if err != nil {
					return err
				}
				body["csv"], body["columns"] = text, m
			} else {
				if err := a.askWho(&p, args, details, &like); err != nil {
					return err
				}
				if like != "" && !c.Flags().Changed("like") {
					if err := a.askDiffers(c.Context(), like, &roles, &without); err != nil {
						return err
					}
				}
				body["people"], body["like"], body["roles"], body["without"] = []life.Joiner{p}, like, roles, without
			}
			return a.joined(c.Context(), body, yes, table)
		}}
	c.Flags().StringVar(&table, "from-csv", "", "a table with a column for each field; - is standard input")
	c.Flags().StringArrayVar(&columns, "map", nil,
		"FIELD=COLUMN of the table; fields are id, name, given, family, number, mail, manager, from, until, roles, details.KEY")
	c.Flags().StringVar(&like, "like", "", "a colleague whose roles and details they get")
	c.Flags().StringSliceVar(&roles, "role", nil, "roles beside those")
	c.Flags().StringSliceVar(&without, "without", nil, "but not these of the colleague's roles")
	c.Flags().StringVar(&p.Given, "given", "", "given name")
	c.Flags().StringVar(&p.Family, "family", "", "family name")
	c.Flags().StringVar(&p.Number, "number", "", "uid: one person, one number everywhere")
	c.Flags().StringVar(&p.Mail, "mail", "", "mail address")
	c.Flags().StringVar(&p.Manager, "manager", "", "who they work for")
	c.Flags().StringVar(&p.From, "from", "", "first day, as 2027-04-01; left out: today")
	c.Flags().StringVar(&p.Until, "until", "", "last day; left out: none")
	c.Flags().StringArrayVar(&details, "detail", nil, "KEY=VALUE of theirs, as base=northquay")
	c.Flags().StringVar(&file, "into", "", "file of the declaration that new entries go into")
	c.Flags().BoolVar(&none, "no-passwords", false, "make none")
	h.flags(c)
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

// askWho reads who joins from the arguments, and asks for what is missing when somebody is there.
func (a *app) askWho(p *life.Joiner, args, details []string, like *string) error {
	for i, into := range []*string{&p.ID, &p.Name} {
		if i < len(args) {
			*into = args[i]
		}
	}
	var err error
	if p.ID == "" {
		if p.ID, err = a.ask("ID, as marit.fell: "); err != nil {
			return err
		}
	}
	if p.Name == "" && p.Given+p.Family == "" && a.Terminal {
		if p.Name, err = a.ask("Full name: "); err != nil {
			return err
		}
		if *like == "" {
			if *like, err = a.ask("Like which colleague? (an ID, or nothing) "); err != nil {
				return err
			}
		}
		if p.Number == "" {
			if p.Number, err = a.ask("Number (uid), or nothing: "); err != nil {
				return err
			}
		}
	}
	for _, d := range details {
		key, value, ok := strings.Cut(d, "=")
		if !ok || key == "" {
			return wrong{fmt.Errorf("--detail %q: write KEY=VALUE", d)}
		}
		if p.Details == nil {
			p.Details = map[string]string{}
		}
		p.Details[key] = value
	}
	return nil
}

// askDiffers asks what somebody is to have otherwise than a colleague.
func (a *app) askDiffers(ctx context.Context, like string, roles, without *[]string) error {
	var u seen.UserDetail
	if err := a.get(ctx, "/users/"+url.PathEscape(like), nil, &u); err != nil {
		return err
	}
	for _, q := range []struct {
		into     *[]string
		question string
	}{{without, fmt.Sprintf("%s has the roles %s. Without which of them? (names, or nothing) ", u.Name, orNone(strings.Join(u.Roles,
		", ")))},
		{roles, "Which roles beside them? (names, or nothing) "}} {
		answer, err := a.ask(q.question)
		if err != nil {
			return err
		}
		*q.into = append(*q.into, strings.FieldsFunc(answer, func(r rune) bool { return r == ',' || r == ' ' || r == ';' })...)
	}
	return nil
}

func mapped(columns []string) (map[string]string, error) {
	m := map[string]string{}
	for _, pair := range columns {
		field, column, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, wrong{fmt.Errorf("--map %q: write FIELD=COLUMN", pair)}
		}
		m[field] = column
	}
	return m, nil
}

// joined shows what a joining means, asks, and does it.
func (a *app) joined(ctx context.Context, body map[string]any, yes bool, table string) error {
	var p life.Passage
	body["look"] = true
	if err := a.send(ctx, http.MethodPost, "/users/join", body, &p); err != nil {
		return a.faults(err)
	}
	refused := 0
	for _, l := range p.Lines {
		if l.Outcome != "refused" {
			continue
		}
		refused++
		where := l.User
		if l.Line > 0 {
			where = strings.TrimSpace(fmt.Sprintf("%s, line %d: %s", table, l.Line, l.User))
		}
		a.tell("%s: %s", where, l.Words)
	}
	if len(p.Lines) == refused {
		a.tell("Nobody joins.")
		return exit{exitFailed}
	}
	body["look"] = false
	if err := a.passes(ctx, "/users/join", body, &p, yes); err != nil {
		return err
	}
	if refused > 0 {
		return exit{exitSteps}
	}
	return nil
}

// passes shows what was looked at, asks, does it, and follows it.
func (a *app) passes(ctx context.Context, path string, body map[string]any, p *life.Passage, yes bool) error {
	switch {
	case !a.forPeople():
	case len(p.Sides) > 0:
		a.showSides(*p)
	default:
		a.showMeaning(p.Meaning)
	}
	if ok, err := a.confirmed(yes); !ok || err != nil {
		return err
	}
	*p = life.Passage{}
	if err := a.send(ctx, http.MethodPost, path, body, p); err != nil {
		return a.faults(err)
	}
	if !a.forPeople() {
		return a.show(p, table{})
	}
	fmt.Fprintf(a.Out, "Revision %d: %s.\n", p.Revision.Number, p.Words)
	var failed error
	if p.Round.State == rounds.Running {
		var told exit
		if failed = a.followed(ctx, p.Round); failed != nil && !errors.As(failed, &told) {
			return failed
		}
		if err := a.awaitHandovers(ctx, p.Handovers); err != nil {
			return err
		}
		for i := range p.Links {
			p.Links[i].Handover = p.Handovers[i]
		}
	}
	if n := len(p.Handovers); n > 0 && len(p.Links) == 0 {
		batch := p.Handovers[0].Batch
		fmt.Fprintf(a.Out, "%s of batch %s: roost handover list --batch %s; then seal or print them.\n", plural(n, "handover", "handovers"),
			batch, batch)
	}
	if err := a.showLinks(p.Links); err != nil {
		return err
	}
	return failed
}

// showSides says what somebody keeps, gains and loses, target by target.
func (a *app) showSides(p life.Passage) {
	t := table{head: []string{"TARGET", "KEEPS", "GAINS", "LOSES"}}
	for _, s := range p.Sides {
		t.rows = append(t.rows, []string{s.Target, strings.Join(s.Keeps, ", "), strings.Join(s.Gains, ", "), strings.Join(s.Loses, ", ")})
	}
	_ = a.show(nil, t)
	when := "today"
	if p.Meaning.People == 0 {
		when = "not yet today, but by " + p.By
	}
	a.tell("\nSo it is %s.", when)
}

func (a *app) move() *cobra.Command {
	var to, keep []string
	var on, overlap, because string
	var yes bool
	c := &cobra.Command{Use: "move USER --to ROLES", Short: "Change what somebody does on a day; the old roles end, at once or after an " +
		"overlap",
		Args: cobra.ExactArgs(1),
		Long: `Change what somebody does: roles begin on a day, and those that they were given by name end then, or after an
overlap. First it is shown what they keep, gain and lose on each target, and asked. What begins or ends on a
later day comes to pass by itself where targets are reconciled by themselves, and with the next round elsewhere.`,
		Example: "  roost move marit.fell --to bosun --because \"promoted\"\n" +
			"  roost move kari.berg --to ticket-clerk --on 2027-01-01 --overlap 14d --because \"moves ashore\"",
		RunE: func(c *cobra.Command, args []string) error {
			days := 0
			if overlap != "" {
				n, err := strconv.Atoi(strings.TrimSuffix(overlap, "d"))
				if err != nil || n < 0 {
					return wrong{fmt.Errorf("--overlap %q: write a number of days, as 14d", overlap)}
				}
				days = n
			}
			return a.lookedAt(c.Context(), "/users/"+url.PathEscape(args[0])+"/move", map[string]any{"to": to, "keep": keep, "on": on,
				"overlap": days, "because": because}, yes)
		}}
	c.Flags().StringSliceVar(&to, "to", nil, "roles that begin")
	_ = c.MarkFlagRequired("to")
	c.Flags().StringSliceVar(&keep, "keep", nil, "roles that go on; all others that were given by name end")
	c.Flags().StringVar(&on, "on", "", "the day on which it changes, as 2027-01-01; left out: today")
	c.Flags().StringVar(&overlap, "overlap", "", "for how long the old roles go on beside the new, as 14d")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

// lookedAt shows what something means for a person, asks, and does it.
func (a *app) lookedAt(ctx context.Context, path string, body map[string]any, yes bool) error {
	var p life.Passage
	body["look"] = true
	if err := a.send(ctx, http.MethodPost, path, body, &p); err != nil {
		return a.faults(err)
	}
	body["look"] = false
	return a.passes(ctx, path, body, &p, yes)
}

func (a *app) userTime() *cobra.Command {
	return &cobra.Command{Use: "time USER", Short: "Show one user's line of time: joined, roles, suspended, handovers, left",
		Args: cobra.ExactArgs(1), Example: "  roost user time kari.berg", ValidArgsFunction: a.completing(1, a.userNames),
		RunE: func(c *cobra.Command, args []string) error {
			var out api.TimeLine
			if err := a.get(c.Context(), "/users/"+url.PathEscape(args[0])+"/time", nil, &out); err != nil {
				return err
			}
			t := table{head: []string{"DAY", "UNTIL", "WHAT", "WHEN", "WORDS"}, empty: "No day is known of them."}
			for _, m := range out.Items {
				since := m.Day
				if since == "" {
					since = "ever since"
				}
				t.rows = append(t.rows, []string{since, m.Until, m.What, m.When, m.Words})
			}
			return a.show(out.Items, t)
		}}
}

func (a *app) leave() *cobra.Command {
	var on, to, because string
	var now, remove, yes bool
	c := &cobra.Command{Use: "leave USER", Short: "Give somebody their last day, and hand what they looked after to somebody else",
		Args: cobra.ExactArgs(1),
		Long: `Give somebody their last day: today, or a day to come. After it their accounts are shut everywhere, and
removed where the target's removal says after how long; --at-once shuts them now, and
--remove removes them now, held where the target's limits say. Groups, services and people
that they looked after are handed to somebody: without --hand-to it is told what there is. In the record their
name stays.`,
		Example: "  roost leave kari.berg --on 2027-01-31 --hand-to odd.strand --because \"retires\"\n" +
			"  roost leave jonas.lind --at-once --because \"let go\"",
		RunE: func(c *cobra.Command, args []string) error {
			return a.lookedAt(c.Context(), "/users/"+url.PathEscape(args[0])+"/leave", map[string]any{"on": on, "at-once": now,
				"remove": remove, "hand-to": to, "because": because}, yes)
		}}
	c.Flags().StringVar(&on, "on", "", "the last day, as 2027-01-31; left out: today")
	c.Flags().BoolVar(&now, "at-once", false, "shut the accounts now")
	c.Flags().BoolVar(&remove, "remove", false, "with --at-once: remove the accounts, where they can be; undo makes them again")
	c.Flags().StringVar(&to, "hand-to", "", "who looks after what they looked after")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}
