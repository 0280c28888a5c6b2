package seen

import (
	"context"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/store"
)

// weighed is what a reading does to the findings of its targets.
type weighed struct {
	s    *Seen
	from *declared.Current // nil: nothing is declared yet
	read *declared.Reading

	list     []shift
	whole    []string         // targets to be compared whole
	standing map[string]int64 // comparisons so far of those
	late     []string         // and those that somebody compared meanwhile
	followed bool             // the findings follow from those of the revision before
}

// found is what a comparison of a whole target found before the reading was declared.
type found struct {
	outcome
	standing int64 // comparisons of the target until then
}

// foundMost is how many findings on one target are kept until the reading is declared.
const foundMost = 20_000

// weighing works out what a reading does, made on a revision or on nothing (nil).
func (s *Seen) weighing(ctx context.Context, from *declared.Current, read *declared.Reading) (declared.Weighed, error) {
	w := &weighed{s: s, from: from, read: read}
	if from == nil {
		w.from = &declared.Current{}
	}
	if read.Aside == nil { // one that nobody has looked at
		read.Aside = &sync.Map{}
	}
	var err error
	w.list, w.whole, w.standing, err = s.shifts(ctx, w.from, read)
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
	var mu sync.Mutex
	err := sideBySide(w.whole, func(name string) error {
		x, err := w.compare(ctx, name)
		mu.Lock()
		defer mu.Unlock()
		n += len(x.Findings)
		return err
	})
	return n, err
}

// compare finds what a whole target would differ in, or returns what was found when the same reading was looked at.
func (w *weighed) compare(ctx context.Context, name string) (outcome, error) {
	if x, ok := w.before(name); ok && x.standing == w.standing[name] {
		return x.outcome, nil
	}
	x, err := w.s.Differences(ctx, w.read.Plan.Targets[name], nil)
	if err == nil && len(x.Findings) <= foundMost {
		w.read.Aside.Store(name, found{x, w.standing[name]})
	}
	return x, err
}

func (w *weighed) before(name string) (x found, ok bool) {
	v, ok := w.read.Aside.Load(name)
	if ok {
		x = v.(found)
	}
	return x, ok
}

func (w *weighed) Keep(ctx context.Context, tx *store.Tx, revision int) (entries []*store.Entry, err error) {
	if w.followed = w.read.Change != nil && revision == w.from.Revision+1; w.followed {
		w.late, entries, err = w.s.apply(ctx, tx, w.list, w.whole, w.from.Revision, revision, w.read.Plan.Day)
	}
	return entries, err
}

func (w *weighed) Settle(ctx context.Context) error {
	// What was shown is what is stored, of targets that nobody has compared since.
	shown := shown{plan: w.read.Plan, on: map[string]found{}}
	for _, name := range w.whole {
		if x, ok := w.before(name); ok {
			if w.followed { // then Keep has counted one up
				x.standing++
			}
			shown.on[name] = x
		}
	}
	if w.followed {
		return w.s.compareSome(ctx, append(w.whole, w.late...), shown)
	}
	return w.s.compareAll(ctx, shown)
}

// shown is what was found of targets against a plan before that was declared.
type shown struct {
	plan *resolve.Plan
	on   map[string]found
}

// of is what was found of a target, as long as it still stands as it did.
func (w shown) of(c *declared.Current, row store.Target) (outcome, bool) {
	x, ok := w.on[row.Name]
	return x.outcome, ok && c.Plan == w.plan && x.standing == row.Comparisons
}

// CompareAll finds the drift of every surveyed target against the newest revision, without asking any.
func (s *Seen) CompareAll(ctx context.Context) error { return s.compareAll(ctx, shown{}) }

func (s *Seen) compareAll(ctx context.Context, before shown) error {
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
	return s.compareSome(ctx, slices.DeleteFunc(names, func(name string) bool { return known[name].SurveyedAt == nil }), before)
}

// compareSome compares targets side by side.
func (s *Seen) compareSome(ctx context.Context, names []string, before shown) error {
	return sideBySide(names, func(name string) error {
		_, _, err := s.compare(ctx, name, before)
		return err
	})
}

// comparedAtOnce bounds the memory that comparisons take: each holds all accounts of its target.
const comparedAtOnce = 4

// sideBySide does something for some targets, several at once. After an error it begins no further one, and returns the first.
func sideBySide(names []string, do func(name string) error) error {
	var g errgroup.Group
	var failed atomic.Bool
	g.SetLimit(min(comparedAtOnce, runtime.GOMAXPROCS(0)))
	for _, name := range names {
		g.Go(func() error {
			if failed.Load() {
				return nil
			}
			err := do(name)
			if err != nil {
				failed.Store(true)
			}
			return err
		})
	}
	return g.Wait()
}
