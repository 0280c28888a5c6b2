// Package work runs surveys and rounds: several targets at once, one worker a
// target, under leases, with a journal written before anything is tried. What
// it needs to remember goes through the Journal, which its user provides.
package work

import (
	"context"
	"sync"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Survey reads a whole target and hands its objects on in portions, so that
// they can be stored while more come. It returns how many accounts it saw that
// are people's rather than the target's own.
func Survey(ctx context.Context, c connect.Connector, a connect.Access, put func([]model.Object) error) (accounts int, err error) {
	s, err := c.Open(ctx, a)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	const portion = 1000
	batch := make([]model.Object, 0, portion)
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := put(batch)
		batch = batch[:0]
		return err
	}
	err = s.Survey(ctx, func(o model.Object) error {
		if o.Kind == model.Account && !o.System {
			accounts++
		}
		if batch = append(batch, o); len(batch) == portion {
			return flush()
		}
		return nil
	})
	if err == nil {
		err = flush()
	}
	return accounts, err
}

// Each calls do for every item, at most width at once, and waits for all.
func Each[T any](ctx context.Context, items []T, width int, do func(context.Context, T)) {
	var wg sync.WaitGroup
	queue := make(chan T)
	for range min(width, len(items)) {
		wg.Go(func() {
			for item := range queue {
				do(ctx, item)
			}
		})
	}
	for _, item := range items {
		queue <- item
	}
	close(queue)
	wg.Wait()
}
