// Package life is the service's room for what happens to people, everywhere at
// once: they come, move and go, are suspended and restored, and get new credentials.
package life

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/service/rounds"
)

// Life cuts people off and lets them in again.
type Life struct {
	*rounds.Carrier
	going sync.WaitGroup
	shut  chan struct{} // somebody is to be shut out
	say   chan struct{} // and the declaration is to say so
	hand  chan struct{} // handovers may have changed
	prove chan struct{} // and keys may be there to be proved

	lively atomic.Int64 // until when handovers are looked after often, in nanoseconds
}

// New makes the room. It does nothing of its own accord until Begin.
func New(below *rounds.Carrier) *Life {
	s := &Life{Carrier: below, shut: make(chan struct{}, 1), say: make(chan struct{}, 1),
		hand: make(chan struct{}, 1), prove: make(chan struct{}, 1)}
	below.Equip, below.Fit = s.equip, s.fitOperator
	return s
}

// Begin does what is to be done until the service's life ends.
func (s *Life) Begin() {
	s.Carrier.Begin()
	s.going.Go(s.keepShutting)
	s.going.Go(s.keepDeclaring)
	s.going.Go(s.keepHandovers)
	s.going.Go(s.keepProving)
	s.going.Go(s.keepHouse)
	s.going.Go(s.keepArchives)
}

// Drain returns when what is under way has ended.
func (s *Life) Drain() {
	s.going.Wait()
	s.Carrier.Drain()
}

// lookEvery is how often is looked for accounts whose time has come.
const lookEvery = time.Second

// nudge has both look at once.
func (s *Life) nudge() {
	for _, wake := range []chan struct{}{s.shut, s.say} {
		select {
		case wake <- struct{}{}:
		default:
		}
	}
}

// during calls do now and then, and when it is woken, until the service ends.
func (s *Life) during(wake <-chan struct{}, what string, do func(context.Context) error) {
	for {
		if err := do(s.Life); err != nil && s.Life.Err() == nil {
			s.Log.Warn("not looked at", "what", what, "error", err)
		}
		select {
		case <-s.Life.Done():
			return
		case <-wake:
		case <-time.After(lookEvery):
		}
	}
}
