package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// Overview answers first: is everything as declared, and if not, where.
type Overview struct {
	Sentence  string             `json:"sentence"`
	Targets   []seen.Target      `json:"targets" doc:"those that need somebody first, as many as a page shows"`
	Total     int                `json:"total" doc:"targets in all"`
	Declared  int                `json:"declared" doc:"targets that are as declared"`
	Findings  int                `json:"findings"`
	Remedied  int                `json:"remedied" doc:"findings that a round can put right"`
	Suspended life.InForce       `json:"suspended"`
	Pending   int                `json:"pending" doc:"changes of guarded settings that wait for approval"`
	New       int                `json:"new" doc:"targets that nobody signs in to before they are approved"`
	Alone     []door.Entry       `json:"alone" doc:"of the last days, what an operator approved of their own, since nobody else could"`
	Revision  *declared.Revision `json:"revision,omitempty"`
	Rounds    []rounds.Round     `json:"rounds" doc:"rounds that wait for somebody, or run"`
	Happened  []door.Entry       `json:"happened"`
	CheckedAt time.Time          `json:"checked-at"`
}

// Overview returns what the first page shows: the same to everybody who asks at the same time.
func (s *Service) Overview(ctx context.Context, who door.Operator) (Overview, error) {
	if err := who.May(door.Look); err != nil {
		return Overview{}, err
	}
	return s.look.Get(ctx, func(ctx context.Context) (Overview, error) { return s.overview(ctx, who) })
}

func (s *Service) overview(ctx context.Context, who door.Operator) (Overview, error) {
	targets, err := s.AllTargets(ctx, who)
	if err != nil {
		return Overview{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Overview{}, err
	}
	made := c.Made()
	out := Overview{Total: len(targets), CheckedAt: s.Now(), Revision: &made}
	for _, t := range targets {
		out.Findings += t.Total
		out.Remedied += t.Total - t.Decide
		if t.AsDeclared() {
			out.Declared++
		}
	}
	out.Pending, _ = c.Waiting()
	for _, t := range targets {
		if t.State == seen.NotApproved {
			out.New++
		}
	}
	if out.Alone, err = s.ApprovedAlone(ctx); err != nil {
		return out, err
	}
	if out.Suspended, err = s.SuspendedNow(ctx); err != nil {
		return out, err
	}
	out.Targets = first(targets, overviewTargets)
	if out.Rounds, _, err = s.Rounds(ctx, who, []string{rounds.Drafted, rounds.OnHold, rounds.Approved, rounds.Running},
		door.Page{Size: 5}); err != nil {
		return out, err
	}
	// A round speaks for its steps, and a suspension for its accounts.
	happened, _, err := s.Store.Entries(ctx, store.EntryFilter{Without: []string{"step", "shut-out"}}, 8)
	for _, e := range happened {
		out.Happened = append(out.Happened, door.EntryOf(e))
	}
	out.Sentence = sentence(out)
	return out, err
}

const overviewTargets = 30

// first returns up to n targets: all of a small company by name, of a large one those that need somebody.
func first(targets []seen.Target, n int) []seen.Target {
	if len(targets) <= n {
		return targets
	}
	targets = slices.Clone(targets)
	slices.SortStableFunc(targets, func(a, b seen.Target) int {
		switch {
		case a.AsDeclared() == b.AsDeclared():
			return 0
		case b.AsDeclared():
			return -1
		default:
			return 1
		}
	})
	return targets[:n]
}

// sentence says in one breath how things stand.
func sentence(o Overview) string {
	n := o.Total
	if o.Suspended.Open > 0 {
		return door.Count(o.Suspended.Open, "suspended person is", "suspended people are") + " not shut out everywhere yet."
	}
	if o.New > 0 {
		return door.Count(o.New, "new target waits", "new targets wait") + " for approval: nobody signs in to them before it."
	}
	if n > 0 && o.Declared == n {
		return "Everything is as declared."
	}
	words := fmt.Sprintf("As declared on %d of %s.", o.Declared, door.Count(n, "target", "targets"))
	if o.Findings > 0 {
		words += " " + door.Count(o.Findings, "finding needs", "findings need") + " someone."
	}
	return words
}
