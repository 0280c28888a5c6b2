package work

import (
	"context"
	"crypto/rand"
	"errors"
	"time"
)

const (
	leaseFor   = 6 * time.Second
	renewEvery = 2 * time.Second
)

// Leases gives the sole right to work on something, for a time.
type Leases interface {
	// Lease takes or renews it.
	Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error)
	Release(ctx context.Context, what, owner string) error
}

// Lease is the right of one holder to work on something.
type Lease struct{ What, Owner string }

// ErrHeld says that somebody else has the lease.
var ErrHeld = errors.New("somebody else works on it")

// Held is a lease that is kept until Release. The context ends early if it is lost.
type Held struct {
	context.Context
	Lease
	release func()
}

// Release gives the lease back.
func (h *Held) Release() { h.release() }

// TryHold takes a lease and keeps it; it returns ErrHeld when somebody else has
// it. Each call is a holder of its own, so two of one owner take turns too.
func TryHold(ctx context.Context, j Leases, what, owner string) (*Held, error) {
	return Hold(ctx, j, what, owner, 0)
}

// Hold is TryHold, and waits so long for whoever has it.
func Hold(ctx context.Context, j Leases, what, owner string, patience time.Duration) (*Held, error) {
	l := Lease{what, owner + "/" + rand.Text()[:12]}
	until := time.Now().Add(patience)
	for {
		ok, err := j.Lease(ctx, l.What, l.Owner, leaseFor)
		if ok && err == nil {
			break
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if time.Now().After(until) {
			return nil, errors.Join(ErrHeld, err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	held, cancel := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	go func() {
		defer close(done)
		keep(held, j, l, cancel)
	}()
	return &Held{held, l, func() {
		cancel()
		<-done
		end, stop := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer stop()
		_ = j.Release(end, l.What, l.Owner) // if it fails, the lease ends by itself
	}}, nil
}

// keep renews a lease until held ends, and calls lost when somebody else has it, or may have by now.
func keep(held context.Context, j Leases, l Lease, lost func()) {
	until := time.Now().Add(leaseFor)
	for {
		select {
		case <-held.Done():
			return
		case <-time.After(renewEvery):
		}
		asked := time.Now()
		ok, err := j.Lease(held, l.What, l.Owner, leaseFor)
		switch {
		case ok && err == nil:
			until = asked.Add(leaseFor)
		case err == nil, time.Now().After(until):
			lost()
			return
		}
	}
}
