package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// observed is the large company's two million accounts in the database, made once.
type observed struct {
	store         *store.Store
	first, second time.Duration
	written       int // by the second survey
	worst         time.Duration
}

func (w *workbench) observedOf(ctx context.Context) (*observed, error) {
	if w.seen != nil {
		return w.seen, nil
	}
	e, err := w.engineOf()
	if err != nil {
		return nil, err
	}
	s, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	o := &observed{store: s}
	// A few targets at a time, as the service surveys them; what they hold is made beforehand.
	const side = 4
	for from := 0; from < companyTargets; from += side {
		var inputs []drift.Input
		for i := range side {
			inputs = append(inputs, holds(e.plan.Targets[fmt.Sprintf("target-%02d", from+i)]))
		}
		for turn, into := range []*time.Duration{&o.first, &o.second} {
			began := time.Now()
			var wg sync.WaitGroup
			errs, written := make([]error, side), make([]int, side)
			for i, in := range inputs {
				wg.Go(func() {
					written[i], errs[i] = survey(ctx, s, in.Desired.Target.Name, append(slices.Clone(in.Accounts), in.Others...))
				})
			}
			wg.Wait()
			*into += time.Since(began)
			if err := errors.Join(errs...); err != nil {
				return nil, err
			}
			for _, n := range written {
				o.written += n * turn
			}
		}
		for _, in := range inputs {
			found := drift.Compare(in)
			if err := s.Tx(ctx, func(tx *store.Tx) error {
				_, err := tx.PutFindings(ctx, in.Desired.Target.Name, found, time.Now())
				return err
			}); err != nil {
				return nil, err
			}
		}
	}
	w.seen = o
	return o, nil
}

// survey stores what a target was seen to hold, in portions as it comes.
func survey(ctx context.Context, s *store.Store, target string, objects []model.Object) (int, error) {
	g, err := s.Sight(ctx, target, time.Now())
	if err != nil {
		return 0, err
	}
	for part := range slices.Chunk(objects, 1000) {
		if err := g.Put(ctx, part); err != nil {
			return 0, err
		}
	}
	changed, err := g.Done(ctx)
	return len(changed), err
}

// observeFirst: two million accounts stored, against the thirty seconds they may take.
func observeFirst(ctx context.Context, w *workbench) (float64, float64, error) {
	o, err := w.observedOf(ctx)
	if err != nil {
		return 0, 0, err
	}
	return o.first.Seconds(), 30, nil
}

// observeAgain: the same, seen again; nothing is written.
func observeAgain(ctx context.Context, w *workbench) (float64, float64, error) {
	o, err := w.observedOf(ctx)
	if err == nil && o.written != 0 {
		err = fmt.Errorf("%d written though nothing changed", o.written)
	}
	if err != nil {
		return 0, 0, err
	}
	return o.second.Seconds(), 30, nil
}

// driftPage: the slowest of two hundred pages of a hundred findings, from the first to the last, against 50 ms.
func driftPage(ctx context.Context, w *workbench) (float64, float64, error) {
	o, err := w.observedOf(ctx)
	if err != nil {
		return 0, 0, err
	}
	for after, pages := "", 0; pages == 0 || after != ""; pages++ {
		began := time.Now()
		page, next, err := o.store.Findings(ctx, store.FindingFilter{Open: time.Now().Format(time.DateOnly)}, after, 100)
		if err != nil || len(page) == 0 {
			return 0, 0, fmt.Errorf("page %d: %d findings, %v", pages, len(page), err)
		}
		o.worst = max(o.worst, time.Since(began))
		after = next
	}
	return o.worst.Seconds() * 1000, 50, nil
}
