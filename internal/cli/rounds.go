package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func (a *app) draft() *cobra.Command {
	var ch choice
	var because, first string
	var params []string
	c := &cobra.Command{Use: "draft", Short: "Draft a round from findings", Args: cobra.NoArgs,
		Long: "Draft a round that puts findings right: all of them, or those chosen. Nothing is changed on any target until it is " +
			"approved and run.",
		Example: "  roost draft --because \"spring deck crew\"\n  roost draft --target arctic-tern --kind missing --because \"first " +
			"vessel\"\n  roost draft --first 1 --because \"one host first\"\n  roost draft --param domain=ternsound.example --because " +
			"\"as it was\"\n  roost draft --without 3f2a9c01 --because \"all but the bosun\"\n " +
			" roost draft --assigned odd.strand --because \"mine\"",
		RunE: func(c *cobra.Command, _ []string) error {
			body, err := draftBody(ch, because, first, params)
			if err != nil {
				return err
			}
			var r rounds.Round
			if err := a.send(c.Context(), http.MethodPost, "/rounds", body, &r); err != nil {
				return err
			}
			if r.ID == 0 {
				return a.nothing(r, len(ch.targets)+len(ch.users)+len(ch.kinds)+len(ch.keys) > 0 || ch.assigned != "")
			}
			if err := a.showDraft(c.Context(), r); err != nil {
				return err
			}
			a.undecided(r)
			a.held(r)
			a.pendingNote(c.Context())
			return nil
		}}
	a.flags(&ch, c)
	c.Flags().StringSliceVar(&ch.keys, "finding", nil, "these findings and no others, by the key that roost drift --output csv shows")
	c.Flags().StringSliceVar(&ch.without, "without", nil, "leave these findings out, and what hangs on them, by their keys")
	c.Flags().StringVar(&ch.assigned, "assigned", "", "only findings that this operator looks after")
	firstFlag(c, &first)
	paramFlag(c, &params)
	reasonFlag(c, &because)
	return c
}

// shortRound is the length up to which a draft is shown whole at once.
const shortRound = 40

// whatWide is how much of what is done on a target stands on a line.
const whatWide = 90

// showDraft shows a short round whole, and of a long one what is done where.
func (a *app) showDraft(ctx context.Context, r rounds.Round) error {
	if !a.forPeople() || r.Steps <= shortRound {
		return a.showRound(ctx, r, some{size: shortRound})
	}
	var acts []rounds.Act
	if err := a.get(ctx, fmt.Sprintf("/rounds/%d/acts", r.ID), nil, &acts); err != nil {
		return err
	}
	t := table{head: []string{"TARGET", "CHANGES", "WHAT"}, right: []int{1}, about: headline(r)}
	for len(acts) > 0 {
		n := slices.IndexFunc(acts, func(x rounds.Act) bool { return x.Target != acts[0].Target })
		if n < 0 {
			n = len(acts)
		}
		here := slices.Clone(acts[:n])
		slices.SortStableFunc(here, func(x, y rounds.Act) int { return y.N - x.N })
		all, line := 0, ""
		row, first := []string{here[0].Target, "", ""}, len(t.rows)
		for _, x := range here {
			part := fmt.Sprintf("%d %s", x.N, x.What)
			if len(line)+len(part) > whatWide {
				row[2], line = line+",", ""
				t.rows = append(t.rows, row)
				row = []string{"", "", ""}
			}
			all, line = all+x.N, strings.TrimPrefix(line+", "+part, ", ")
		}
		row[2] = line
		t.rows = append(t.rows, row)
		t.rows[first][1] = strconv.Itoa(all)
		acts = acts[n:]
	}
	err := a.show(r, t)
	a.tell("\nPerson by person: roost round show %d", r.ID)
	return err
}

func draftBody(ch choice, because, first string, params []string) (map[string]any, error) {
	m := map[string]string{}
	for _, p := range params {
		key, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, wrong{fmt.Errorf("--param %q: write NAME=VALUE", p)}
		}
		m[key] = value
	}
	return map[string]any{"targets": ch.targets, "users": ch.users, "kinds": ch.kinds, "findings": ch.keys, "without": ch.without,
		"assigned": ch.assigned, "because": because, "first": first, "params": m}, nil
}

func firstFlag(c *cobra.Command, first *string) {
	c.Flags().StringVar(first, "first", "", "a first wave: so many targets of each kind, or those with a tag as fleet=vessels; the rest "+
		"only if it held")
}

func paramFlag(c *cobra.Command, params *[]string) {
	c.Flags().StringArrayVar(params, "param", nil, "NAME=VALUE: another value of a param, for this round")
}

// lost says what an undo cannot bring back, as much as a person reads.
func (a *app) lost(words []string) {
	const most = 12
	for i, w := range words {
		if i == 0 {
			a.tell("\nCannot be brought back:")
		}
		if i == most {
			a.tell("  … and %d more", len(words)-most)
			return
		}
		a.tell("  %s", wrapped(w, "    ", 100))
	}
}

// held says what a drafted round waits for.
func (a *app) held(r rounds.Round) {
	a.lost(r.Lost)
	others := false
	for i, h := range r.Holds {
		if i == 0 {
			a.tell(map[bool]string{true: "\nRound %d is held:", false: "\nSteps of round %d are left out:"}[r.State == rounds.OnHold], r.ID)
		}
		others = others || !h.Firm
		a.tell("  %s: %s", h.Kind, wrapped(h.Words, "    ", 100))
	}
	a.older(r)
	if r.Bare > 0 {
		a.tell("It makes %s without a password: keys open them, or roost rotate USERS gives them one.",
			plural(r.Bare, "account", "accounts"))
	}
	switch {
	case r.LeftOut > 0 && r.LeftOut == r.Steps:
		a.tell("Nobody can approve that. Put it away with: roost stop %d --because REASON", r.ID)
		return
	case r.LeftOut > 0:
		a.tell("Nobody can approve %s: the round runs without them.", plural(r.LeftOut, "of these steps", "of these steps"))
	}
	switch {
	case others:
		a.approvers(r)
	default:
		a.tell("\nNext: roost approve %d, then roost run %d", r.ID, r.ID)
	}
}

// approvers says who can approve a round that is held, and who cannot yet.
func (a *app) approvers(r rounds.Round) {
	switch {
	case len(r.Approvers) > 0:
		a.tell("An operator who did not draft it must approve it: %s. The command: roost approve %d", strings.Join(r.Approvers, ", "), r.ID)
		if r.Alone {
			a.tell("Each of them is too new, or has not signed in lately: so the operator who drafted it may approve it too, with their " +
				"password.")
		}
	case r.Alone:
		a.tell("No other operator could approve it, so the one who drafted it may, with their password: roost approve %d", r.ID)
	default:
		a.tell("No operator can approve it at this moment.")
	}
	for i, words := range r.Later {
		if i == 0 {
			a.tell("Not yet:")
		}
		a.tell("  %s", wrapped(words, "    ", 100))
	}
}

// older says of a round that waits whether something else is declared since it was drafted.
func (a *app) older(r rounds.Round) {
	if r.Declared != 0 {
		a.tell("\nIt was drafted from revision %d. Now revision %d is declared: steps that it no longer asks for are left out when the\n"+
			"round runs, and what it adds is not in the round. To draft anew: roost draft", r.Revision, r.Declared)
	}
}

// nothing tells that there was nothing to draft, and what waits for a person.
func (a *app) nothing(r rounds.Round, chosen bool) error {
	words := "Everything is as declared."
	if r.Undecided > 0 || chosen {
		words = "Nothing to draft."
	}
	err := a.show(r, table{bare: words, list: []rounds.Round{}})
	a.undecided(r)
	return err
}

// undecided says which findings a draft left to a person.
func (a *app) undecided(r rounds.Round) {
	if r.Undecided == 0 {
		return
	}
	a.tell("\n%s for a person to decide:", plural(r.Undecided, "finding is", "findings are"))
	for _, f := range r.Decide {
		note := f.Note
		if note == "" {
			note = f.Kind + ", and nothing puts it right by itself"
		}
		a.tell("  %s on %s: %s", flat(f.Subject), f.Target, wrapped(note, "    ", 100))
	}
	if more := r.Undecided - len(r.Decide); more > 0 {
		a.tell("  … and %d more: roost drift --kind unmatched,unexpected,%s", more, strings.Join(toKnow, ","))
	}
}

func roundID(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, wrong{fmt.Errorf("%q is not the number of a round; roost round list shows them", arg)}
	}
	return id, nil
}

// headline says what a round does, in one sentence.
func headline(r rounds.Round) string {
	people := ""
	if r.People > 0 {
		people = " for " + plural(r.People, "person", "people")
	}
	s := fmt.Sprintf("Round %d makes %s%s on %s.", r.ID, plural(r.Steps, "change", "changes"), people,
		plural(len(r.Targets), "target", "targets"))
	switch r.State {
	case rounds.Complete, rounds.Incomplete:
		s = fmt.Sprintf("Round %d is %s: %s.", r.ID, r.State, rounds.Tally(r.Outcomes))
	case rounds.Running:
		s += " It is running: " + rounds.Tally(r.Outcomes) + "."
	case rounds.Stopped:
		s = fmt.Sprintf("Round %d was stopped by %s: %s.", r.ID, r.StoppedBy, rounds.Tally(r.Outcomes))
		if r.Guard != "" {
			s = fmt.Sprintf("Round %d was stopped by a guard: %s. Its steps: %s.", r.ID, strings.TrimSuffix(flat(r.Guard), "."),
				rounds.Tally(r.Outcomes))
		}
	case rounds.Undone:
		s = fmt.Sprintf("Round %d is undone: %s.", r.ID, rounds.Tally(r.Outcomes))
	}
	if r.KeptUntil != "" {
		s += fmt.Sprintf(" What it changes against the declaration is kept until %s.", r.KeptUntil)
	}
	if r.Undoes != 0 {
		s += fmt.Sprintf(" It takes back round %d.", r.Undoes)
	}
	if last := len(r.Targets) - 1; last >= 0 && r.Targets[last].Wave > 1 {
		first := 0
		for _, t := range r.Targets {
			if t.Wave == 1 {
				first++
			}
		}
		s += fmt.Sprintf(" First on %s; on the rest only if that held.", plural(first, "target", "targets"))
	}
	if r.Scheduled {
		s += " It starts by itself"
		if r.NotBefore != nil {
			s += ", not before " + clock(r.NotBefore)
		}
		if r.InWindow {
			s += ", inside the windows of its targets"
		}
		s += "."
	}
	return s
}

func (a *app) approve() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "approve ROUND", Short: "Let a drafted round run", Args: cobra.ExactArgs(1),
		Long: `Let a drafted round run. A round that is held needs an operator who did not draft it. As long as nobody else
could approve it, its drafter does, and is asked for their password.`,
		Example: "  roost approve 3\n  roost approve 3 --password-file - < password",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			var r rounds.Round
			path := fmt.Sprintf("/rounds/%d/approve", id)
			if err := a.withPassword(c.Context(), http.MethodPost, path, map[string]any{}, file, &r); err != nil {
				return err
			}
			defer a.older(r)
			return a.show(r, table{head: []string{"round", "state"}, rows: [][]string{{fmt.Sprint(r.ID), r.State}},
				bare: fmt.Sprintf("Round %d is approved. Next: roost run %d", r.ID, r.ID)})
		}}
	passwordFlag(c, &file)
	return c
}

func (a *app) run() *cobra.Command {
	var later, window bool
	var notBefore string
	c := &cobra.Command{Use: "run ROUND", Short: "Run an approved round and follow it", Args: cobra.ExactArgs(1),
		Long: `Run an approved round and follow it to its end; it goes on if you leave. Exit status 4 when some steps did
not succeed. With --not-before or --in-window it starts by itself when its time has come.`,
		Example: "  roost run 3\n  roost run 3 --no-wait\n  roost run 3 --not-before \"2026-11-24 22:00\" --in-window",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			if notBefore != "" || window {
				return a.schedule(c.Context(), id, notBefore, window)
			}
			var r rounds.Round
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/rounds/%d/run", id), nil, &r); err != nil {
				return err
			}
			if later {
				return a.show(r, table{head: []string{"round", "state"}, rows: [][]string{{fmt.Sprint(r.ID), r.State}},
					bare: fmt.Sprintf("Round %d is running. Follow it with: roost round show %d", r.ID, r.ID)})
			}
			return a.followed(c.Context(), r)
		}}
	c.Flags().BoolVar(&later, "no-wait", false, "start it and do not follow it")
	c.Flags().StringVar(&notBefore, "not-before", "", "start by itself, not before \"2026-11-24 22:00\" UTC")
	c.Flags().BoolVar(&window, "in-window", false, "start by itself, while the windows of all its targets are open")
	return c
}

// schedule lets a round start by itself.
func (a *app) schedule(ctx context.Context, id int64, notBefore string, window bool) error {
	in := map[string]any{"in-window": window}
	if notBefore != "" {
		at, err := time.Parse("2006-01-02 15:04", notBefore)
		if err != nil {
			if at, err = time.Parse(time.RFC3339, notBefore); err != nil {
				return wrong{fmt.Errorf("--not-before %q: write it as \"2026-11-24 22:00\", in UTC", notBefore)}
			}
		}
		in["not-before"] = at
	}
	var r rounds.Round
	if err := a.send(ctx, http.MethodPost, fmt.Sprintf("/rounds/%d/schedule", id), in, &r); err != nil {
		return err
	}
	return a.show(r, table{head: []string{"round", "state"}, rows: [][]string{{fmt.Sprint(r.ID), r.State}}, bare: headline(r)})
}

func (a *app) stop() *cobra.Command {
	var because string
	c := &cobra.Command{Use: "stop ROUND", Short: "Stop a round: what is under way is finished, the rest is not tried",
		Args: cobra.ExactArgs(1),
		Long: "Stop a round at once. The batch under way on each target is finished and read back; all other steps are not tried. A " +
			"round that has not started is put away.",
		Example: "  roost stop 3 --because \"wrong list\"",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			var r rounds.Round
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/rounds/%d/stop", id), map[string]any{"because": because},
				&r); err != nil {
				return err
			}
			return a.show(r, table{head: []string{"round", "state"}, rows: [][]string{{fmt.Sprint(r.ID), r.State}}, bare: headline(r)})
		}}
	reasonFlag(c, &because)
	return c
}

func (a *app) undo() *cobra.Command {
	var because string
	c := &cobra.Command{Use: "undo ROUND", Short: "Draft the round that takes another back", Args: cobra.ExactArgs(1),
		Long: "Draft a round that brings back what the steps of another found before them, from the record. What cannot be brought " +
			"back is told. It is approved and run like any other.",
		Example: "  roost undo 3\n  roost undo 3 --because \"the merger was called off\"",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			var r rounds.Round
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/rounds/%d/undo", id), map[string]any{"because": because},
				&r); err != nil {
				return err
			}
			if r.ID == 0 {
				err := a.show(r, table{head: []string{"round"}, bare: fmt.Sprintf("Nothing of round %d can be taken back.", id)})
				a.lost(r.Lost)
				return err
			}
			if err := a.showDraft(c.Context(), r); err != nil {
				return err
			}
			a.held(r)
			return nil
		}}
	c.Flags().StringVar(&because, "because", "", "the reason; left out: undo of the round, with its own")
	return c
}

// followed waits for a round's end and shows its outcome.
func (a *app) followed(ctx context.Context, r rounds.Round) error {
	r, err := a.follow(ctx, r)
	if err != nil {
		return err
	}
	return a.outcome(ctx, r)
}

// follow shows how far a round is, and returns it when it has ended.
func (a *app) follow(ctx context.Context, r rounds.Round) (rounds.Round, error) {
	cl, err := a.client()
	if err != nil {
		return r, err
	}
	bar := progress{a, fmt.Sprintf("round %d", r.ID), r.Steps}
	err = cl.Events(ctx, fmt.Sprintf("/rounds/%d/events", r.ID), func(event string, data []byte) (bool, error) {
		if event == "problem" {
			var p api.Problem
			if err := json.Unmarshal(data, &p); err != nil {
				return true, err
			}
			if p.Status >= 500 {
				return false, errors.New(p.Detail)
			}
			return true, errors.New(p.Detail)
		}
		var now rounds.Round
		if err := json.Unmarshal(data, &now); err != nil {
			return true, err
		}
		r = now
		ended := 0
		for _, t := range r.Targets {
			ended += t.Ended
		}
		bar.at(ended, "steps")
		return r.EndedAt != nil || r.State != rounds.Running && r.State != rounds.Stopped, nil
	})
	bar.end()
	return r, err
}

// badMost is how many steps that did not succeed are told at the end of a round.
const badMost = 120

// unsuccessful shows steps that did not succeed, some of every target, so that every reason is told.
func (a *app) unsuccessful(ctx context.Context, r rounds.Round) error {
	bad := []string{"failed", "out-of-reach", "moved", "not-tried"}
	n, all := map[string]int{}, 0
	for _, t := range r.Targets {
		for _, o := range bad {
			if t.Outcomes[o] > 0 {
				n[t.Target] += t.Outcomes[o]
				all += t.Outcomes[o]
			}
		}
	}
	var shown []rounds.Step
	for _, t := range sortedKeys(n) {
		if len(shown) >= badMost {
			break
		}
		page, err := a.stepsPage(ctx, r.ID, some{outcomes: bad, target: t, size: max(3, badMost/len(n))})
		if err != nil {
			return err
		}
		shown = append(shown, page.Items...)
	}
	a.printSteps(shown, true)
	if more := all - len(shown); more > 0 {
		a.tell("\n… and %d more; all of them: roost round show %d --outcome %s", more, r.ID, strings.Join(bad, ","))
	}
	return exit{exitSteps}
}

// outcome shows how a round ended: per target, and the steps that did not succeed.
func (a *app) outcome(ctx context.Context, r rounds.Round) error {
	t := table{head: []string{"TARGET", "STEPS", "DONE", "ALREADY SO", "MOVED", "FAILED", "OUT OF REACH", "NOT TRIED"},
		right: []int{1, 2, 3, 4, 5, 6, 7}, about: headline(r)}
	for _, x := range r.Targets {
		o := x.Outcomes
		t.rows = append(t.rows, []string{x.Target, fmt.Sprint(x.Steps), figure(o["done"]), figure(o["already-so"]), figure(o["moved"]),
			figure(o["failed"]), figure(o["out-of-reach"]), figure(o["not-tried"])})
	}
	if err := a.show(r, t); err != nil {
		return err
	}
	if r.State != rounds.Incomplete && r.State != rounds.Stopped {
		return nil
	}
	if a.forPeople() && r.State == rounds.Incomplete {
		return a.unsuccessful(ctx, r)
	}
	return exit{exitSteps}
}

func (a *app) reconcile() *cobra.Command {
	var ch choice
	var because, first string
	c := &cobra.Command{Use: "reconcile", Short: "Survey, draft, run what needs nobody, verify", Args: cobra.NoArgs,
		Long: "Survey, draft a round from what differs and, unless it is held, approve it in your name, run it, and read everything " +
			"back.",
		Example: "  roost reconcile --because \"nightly\"\n  roost reconcile --target arctic-tern --because \"after the rebuild\"",
		RunE: func(c *cobra.Command, _ []string) error {
			body, err := draftBody(ch, because, first, nil)
			if err != nil {
				return err
			}
			var out rounds.Reconciled
			if err := a.send(c.Context(), http.MethodPost, "/reconcile", body, &out); err != nil {
				return err
			}
			silent := 0
			for _, s := range out.Surveys {
				if s.State != seen.Surveyed {
					silent++
					a.tell("%s", wrapped(s.Words, "  ", 100))
				}
			}
			if out.Round.ID == 0 && silent > 0 {
				a.tell("Nothing was drafted; %s of %d could not be read, and nothing is known there.",
					plural(silent, "target", "targets"), len(out.Surveys))
				return exit{exitFailed}
			}
			if out.Round.ID == 0 {
				return a.nothing(out.Round, len(ch.targets)+len(ch.users)+len(ch.kinds) > 0)
			}
			a.undecided(out.Round)
			if out.Round.State == rounds.OnHold {
				if err := a.showDraft(c.Context(), out.Round); err != nil {
					return err
				}
				a.held(out.Round)
				return exit{exitSteps}
			}
			return a.followed(c.Context(), out.Round)
		}}
	a.flags(&ch, c)
	firstFlag(c, &first)
	reasonFlag(c, &because)
	return c
}
