package door

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// Shared does something once for all who ask for it at the same time. Nobody is
// answered by what was begun before they asked: who asks while it is done waits
// for the next time. What it returns is everybody's, and nobody may change it.
type Shared[T any] struct {
	mu      sync.Mutex
	running bool
	next    *turn[T]
}

type turn[T any] struct {
	done  chan struct{}
	value T
	err   error
}

// sharedFor bounds one time.
const sharedFor = time.Minute

// Get waits for the next time that do is done, or until ctx ends. do is given a
// context of its own, since others may wait for it; all who ask hand the same in.
func (s *Shared[T]) Get(ctx context.Context, do func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	t := s.next
	if t == nil {
		t = &turn[T]{done: make(chan struct{})}
		s.next = t
		if !s.running {
			s.running = true
			go s.run(context.WithoutCancel(ctx), do)
		}
	}
	s.mu.Unlock()
	select {
	case <-t.done:
		return t.value, t.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// run takes turns as long as somebody waits.
func (s *Shared[T]) run(ctx context.Context, do func(context.Context) (T, error)) {
	for {
		s.mu.Lock()
		t := s.next
		if s.next = nil; t == nil {
			s.running = false
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		t.take(ctx, do)
	}
}

func (t *turn[T]) take(ctx context.Context, do func(context.Context) (T, error)) {
	ctx, stop := context.WithTimeout(ctx, sharedFor)
	defer stop()
	defer close(t.done)
	defer func() {
		if p := recover(); p != nil { // it must not end all others
			t.err = fmt.Errorf("it panicked: %v", p)
		}
	}()
	t.value, t.err = do(ctx)
}
