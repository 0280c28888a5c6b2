package service

import (
	"context"
	"maps"
	"slices"

	"hen-roost/internal/store"
)

// weighed is what a reading does to the findings of its targets.
type weighed struct {
	s    *Seen
	from *current // nil: nothing is declared yet
	read *reading

	list     []shift
	whole    []string // targets to be compared whole
	late     []string // and those that somebody compared meanwhile
	followed bool     // the findings follow from those of the revision before
}

// weighing works out what a reading does, made on a revision or on nothing (nil).
func (s *Seen) weighing(ctx context.Context, from *current, read *reading) (Weighed, error) {
	w := &weighed{s: s, from: from, read: read}
	if from == nil {
		w.from = &current{}
	}
	var err error
	w.list, w.whole, err = s.shifts(ctx, w.from, read)
	return w, err
}

func (w *weighed) Findings(ctx context.Context) (int, error) {
	n := 0 // those of targets that are no longer declared go, too
	if w.read.change != nil {
		// Of targets that are compared whole all findings count anew, of the others those in reach.
		all, err := w.s.Store.AllFindings(ctx)
		if err != nil {
			return 0, err
		}
		gone, err := w.s.Store.FindingsOn(ctx, w.whole)
		if err != nil {
			return 0, err
		}
		n = all - gone
	}
	for _, sh := range w.list {
		n += len(sh.is) - len(sh.was)
	}
	for _, name := range w.whole {
		x, err := w.s.differences(ctx, w.read.plan.Targets[name], nil)
		if err != nil {
			return 0, err
		}
		n += len(x.findings)
	}
	return n, nil
}

func (w *weighed) Keep(ctx context.Context, tx *store.Tx, revision int) (entries []*store.Entry, err error) {
	if w.followed = w.read.change != nil && revision == w.from.revision+1; w.followed {
		w.late, entries, err = w.s.apply(ctx, tx, w.list, w.whole, w.from.revision, revision, w.read.plan.Day)
	}
	return entries, err
}

func (w *weighed) Settle(ctx context.Context) error {
	if w.followed {
		return w.s.compareSome(ctx, append(w.whole, w.late...))
	}
	return w.s.compareAll(ctx)
}

// compareAll finds the drift of every surveyed target against the newest revision, without asking any.
func (s *Seen) compareAll(ctx context.Context) error {
	c, err := s.current(ctx)
	if err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(c.plan.Targets))
	err = s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.KeepFindingsOf(ctx, names) })
	if err != nil {
		return err
	}
	known, err := s.Store.Targets(ctx)
	if err != nil {
		return err
	}
	return s.compareSome(ctx, slices.DeleteFunc(names, func(name string) bool { return known[name].SurveyedAt == nil }))
}

func (s *Seen) compareSome(ctx context.Context, names []string) error {
	for _, name := range names {
		if _, _, err := s.compare(ctx, name); err != nil {
			return err
		}
	}
	return nil
}
