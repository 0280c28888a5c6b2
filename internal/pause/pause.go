// Package pause says how long to wait before something is tried again: twice as long each time, and several who wait do not come back at
// once.
package pause

import (
	"context"
	"math/rand/v2"
	"time"
)

// Growing are pauses that double from First to Most.
type Growing struct{ First, Most time.Duration }

// After is the pause after so many tries, counted from 1: between half of it and the whole, by chance.
func (g Growing) After(tries int) time.Duration {
	d := g.First
	for range tries - 1 {
		if d = min(2*d, g.Most); d == g.Most {
			break
		}
	}
	return d/2 + rand.N(d/2+1)
}

// Wait waits after so many tries. It returns the context's error when that ends before.
func (g Growing) Wait(ctx context.Context, tries int) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(g.After(tries)):
		return nil
	}
}

// Retry does something, and again as long as do says so, with pauses between. It returns the last error of do, or the context's when that
// ends before.
func (g Growing) Retry(ctx context.Context, do func(try int) (again bool, err error)) error {
	for try := 1; ; try++ {
		again, err := do(try)
		if !again {
			return err
		}
		if err := g.Wait(ctx, try); err != nil {
			return err
		}
	}
}
