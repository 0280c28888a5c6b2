package seen

import (
	"context"
	"maps"
	"slices"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/store"
)

// weighed is what a reading does to the findings of its targets.
type weighed struct {
	s    *Seen
	from *declared.Current // nil: nothing is declared yet
	read *declared.Reading

	list     []shift
	whole    []string // targets to be compared whole
	late     []string // and those that somebody compared meanwhile
	followed bool     // the findings follow from those of the revision before
}

// weighing works out what a reading does, made on a revision or on nothing (nil).
func (s *Seen) weighing(ctx context.Context, from *declared.Current, read *declared.Reading) (declared.Weighed, error) {
	w := &weighed{s: s, from: from, read: read}
	if from == nil {
		w.from = &declared.Current{}
	}
	var err error
	w.list, w.whole, err = s.shifts(ctx, w.from, read)
	return w, err
}

func (w *weighed) Findings(ctx context.Context) (int, error) {
	n := 0 // those of targets that are no longer declared go, too
	if w.read.Change != nil {
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
		x, err := w.s.Differences(ctx, w.read.Plan.Targets[name], nil)
		if err != nil {
			return 0, err
		}
		n += len(x.Findings)
	}
	return n, nil
}

func (w *weighed) Keep(ctx context.Context, tx *store.Tx, revision int) (entries []*store.Entry, err error) {
	if w.followed = w.read.Change != nil && revision == w.from.Revision+1; w.followed {
		w.late, entries, err = w.s.apply(ctx, tx, w.list, w.whole, w.from.Revision, revision, w.read.Plan.Day)
	}
	return entries, err
}

func (w *weighed) Settle(ctx context.Context) error {
	if w.followed {
		return w.s.compareSome(ctx, append(w.whole, w.late...))
	}
	return w.s.CompareAll(ctx)
}

// CompareAll finds the drift of every surveyed target against the newest revision, without asking any.
func (s *Seen) CompareAll(ctx context.Context) error {
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(c.Plan.Targets))
	err = s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.KeepFindingsOf(ctx, names) })
	if err != nil {
		return err
	}
	s.known.keep(func(target string) bool { return c.Plan.Targets[target] != nil })
	known, err := s.Store.Targets(ctx)
	if err != nil {
		return err
	}
	return s.compareSome(ctx, slices.DeleteFunc(names, func(name string) bool { return known[name].SurveyedAt == nil }))
}

func (s *Seen) compareSome(ctx context.Context, names []string) error {
	for _, name := range names {
		if _, _, err := s.Compare(ctx, name); err != nil {
			return err
		}
	}
	return nil
}
