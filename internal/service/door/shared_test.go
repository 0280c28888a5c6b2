package door

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// Whoever asks is answered by what was begun after they asked, and many who ask
// at once by the same; who leaves does not keep others from their answer, and a
// panic is an error.
func TestShared(t *testing.T) {
	var s Shared[int64]
	var truth, done atomic.Int64
	do := func(context.Context) (int64, error) { done.Add(1); return truth.Load(), nil }
	var wg sync.WaitGroup
	for range 40 {
		wg.Go(func() {
			for range 200 {
				before := truth.Add(1)
				if got, err := s.Get(ctx, do); err != nil || got < before {
					t.Errorf("%d is older than %d, %v", got, before, err)
				}
			}
		})
	}
	wg.Wait()
	if n := done.Load(); n >= 40*200 {
		t.Errorf("it was done %d times", n)
	}
	gone, leave := context.WithCancel(ctx)
	hold := make(chan bool)
	var slow Shared[int64]
	wg.Go(func() {
		_, err := slow.Get(gone, func(ctx context.Context) (int64, error) { <-hold; return 1, ctx.Err() })
		if !errors.Is(err, context.Canceled) {
			t.Errorf("who left: %v", err)
		}
	})
	leave()
	wg.Wait()
	close(hold)
	var p Shared[int]
	if _, err := p.Get(ctx, func(context.Context) (int, error) { panic("oh") }); err == nil || !strings.Contains(err.Error(), "oh") {
		t.Errorf("a panic: %v", err)
	}
}
