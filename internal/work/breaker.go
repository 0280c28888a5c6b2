package work

import (
	"fmt"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/pause"
)

// breaker keeps rounds from waiting again and again for a target that does not
// answer: after a row of failures it is left alone for a while, each time longer.
type breaker struct {
	mu    sync.Mutex
	fails int
	until time.Time
	last  error
}

const breakAfter = 2 * tries

var breaks = pause.Growing{First: 20 * time.Second, Most: 5 * time.Minute}

func (r *Runner) breaker(target string) *breaker {
	b, _ := r.breakers.LoadOrStore(target, &breaker{})
	return b.(*breaker)
}

// closed returns an error while the target is to be left alone.
func (b *breaker) closed(now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if now.Before(b.until) {
		return fmt.Errorf("%w; it is left alone until %s", b.last, b.until.UTC().Format(time.TimeOnly))
	}
	return nil
}

// note counts how opening the target went. A target that answers and refuses is not out of reach.
func (b *breaker) note(err error, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err == nil || connect.Reached(err) {
		b.fails, b.until = 0, time.Time{}
		return
	}
	b.fails++
	b.last = err
	if b.fails >= breakAfter {
		b.until = now.Add(breaks.After(b.fails - breakAfter + 1))
	}
}
