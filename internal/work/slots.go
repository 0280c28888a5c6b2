package work

import (
	"context"
	"net"
	"slices"
	"sync"
	"syscall"
	"time"

	"hen-roost/internal/connect"
)

// Slots bound how many targets are worked on at once, in all and of each kind. A target that says nothing has none:
// whoever waits for it gives the slot back until it answers, and then comes before those who have not begun. So a
// sleeping part of a fleet costs those that are awake next to nothing.
type Slots struct {
	mu     sync.Mutex
	all    int
	tires  time.Duration  // see slotFor
	most   map[string]int // of a kind, where fewer
	used   map[string]int
	n      int
	silent int
	slow   int          // targets that are worked on without a slot, since they had theirs for long
	queues [2][]*waiter // who has been answered, who has not begun
}

type waiter struct {
	kind string
	turn chan struct{} // closed when the slot is theirs
}

const (
	silence    = 10 * time.Millisecond // after which a slot is given back
	silentMost = 1000                  // targets that say nothing, and are waited for at once
	slowMost   = 32                    // targets that go on without a slot at once
)

// slotFor is for how long a target has its slot while others wait: then they come, and it goes on beside them. So whoever waits
// for a slot is served within a bound, however long others drip.
const slotFor = 30 * time.Second

const (
	answered = iota // in Slots.queues
	fresh
)

// NewSlots makes slots for so many targets, and fewer of some kinds.
func NewSlots(all int, most map[string]int) *Slots {
	return &Slots{all: all, tires: slotFor, most: most, used: map[string]int{}}
}

// Slot is one of them, taken for a target.
type Slot struct {
	of    *Slots
	kind  string
	given func() // called when it is given back for a time; nil: nobody is told

	mu    sync.Mutex
	held  bool
	quiet bool // it was given back
	slow  bool // it goes on without one
	tires *time.Timer
}

// Take waits for a slot.
func (s *Slots) Take(ctx context.Context, kind string) (*Slot, error) {
	if err := s.wait(ctx, kind, fresh); err != nil {
		return nil, err
	}
	x := &Slot{of: s, kind: kind, held: true}
	x.tires = time.AfterFunc(s.tires, x.tire)
	return x, nil
}

// tire gives the slot to those who wait, and lets its target go on without.
func (x *Slot) tire() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.held {
		return
	}
	x.of.mu.Lock()
	waits := len(x.of.queues[answered])+len(x.of.queues[fresh]) > 0
	goesOn := waits && x.of.slow < slowMost
	if goesOn {
		x.of.slow++
	}
	x.of.mu.Unlock()
	if !goesOn {
		x.tires.Reset(x.of.tires)
		return
	}
	x.held, x.slow = false, true
	x.of.give(x.kind, 0)
}

// Try takes a slot if one is free; nil when none is. given is called whenever it is given back for a time.
func (s *Slots) Try(kind string, given func()) *Slot {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.queues[answered]) > 0 || !s.room(kind, fresh) {
		return nil
	}
	s.n++
	s.used[kind]++
	return &Slot{of: s, kind: kind, given: given, held: true}
}

// room says whether one more of a kind may begin.
func (s *Slots) room(kind string, queue int) bool {
	most, bounded := s.most[kind]
	return s.n < s.all && (!bounded || s.used[kind] < most) && (queue == answered || s.silent < silentMost)
}

func (s *Slots) wait(ctx context.Context, kind string, queue int) error {
	s.mu.Lock()
	w := &waiter{kind, make(chan struct{})}
	s.queues[queue] = append(s.queues[queue], w)
	s.next()
	s.mu.Unlock()
	select {
	case <-w.turn:
		return nil
	case <-ctx.Done():
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.Index(s.queues[queue], w); i >= 0 {
		s.queues[queue] = slices.Delete(s.queues[queue], i, i+1)
	} else { // it was theirs just now
		s.n--
		s.used[kind]--
		s.next()
	}
	return ctx.Err()
}

// next gives free slots to who waits, in order; one whose kind has no room lets others past.
func (s *Slots) next() {
	for queue := range s.queues {
		for i := 0; i < len(s.queues[queue]) && s.n < s.all; {
			w := s.queues[queue][i]
			if !s.room(w.kind, queue) {
				i++
				continue
			}
			s.n++
			s.used[w.kind]++
			s.queues[queue] = slices.Delete(s.queues[queue], i, i+1)
			close(w.turn)
		}
	}
}

// give gives a slot back, for a time or for good.
func (s *Slots) give(kind string, silent int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.n--
	s.used[kind]--
	s.silent += silent
	s.next()
}

// Leave gives the slot back for good. More than once does no harm.
func (x *Slot) Leave() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.heard()
	if x.tires != nil {
		x.tires.Stop()
	}
	if x.slow {
		x.slow = false
		x.of.mu.Lock()
		x.of.slow--
		x.of.mu.Unlock()
	}
	if x.held {
		x.held = false
		x.of.give(x.kind, 0)
	}
}

// heard notes that the target is no longer silent.
func (x *Slot) heard() {
	if x.quiet {
		x.quiet = false
		x.of.mu.Lock()
		x.of.silent--
		x.of.next()
		x.of.mu.Unlock()
	}
}

// lend gives the slot back until the target answers.
func (x *Slot) lend() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.held {
		return
	}
	x.held, x.quiet = false, true
	x.of.give(x.kind, 1)
	if x.given != nil {
		x.given()
	}
}

// Work waits until the slot is held again, if it was given back.
func (x *Slot) Work(ctx context.Context) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.heard()
	if x.held || x.slow {
		return nil
	}
	err := x.of.wait(ctx, x.kind, answered)
	x.held = err == nil
	return err
}

// Through has an access connect so that the slot is given back while the target says nothing.
func (x *Slot) Through(a connect.Access) connect.Access {
	dial := a.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	a.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
		timer := time.AfterFunc(silence, x.lend)
		c, err := dial(ctx, network, address)
		if err != nil {
			timer.Stop()
			return nil, err
		}
		return &firstByte{Conn: c, slot: x, timer: timer}, nil
	}
	return a
}

// firstByte is a connection over which nothing has come yet.
type firstByte struct {
	net.Conn
	slot  *Slot
	timer *time.Timer
	once  sync.Once
}

// Read takes the slot again before the first that comes is handed on.
func (l *firstByte) Read(b []byte) (int, error) {
	n, err := l.Conn.Read(b)
	l.once.Do(func() {
		l.timer.Stop()
		if n > 0 {
			_ = l.slot.Work(context.Background()) // whoever waits too long for it closes the connection
		}
	})
	return n, err
}

// SyscallConn implements syscall.Conn, for who sets options of the connection.
func (l *firstByte) SyscallConn() (syscall.RawConn, error) { return connect.SocketOf(l.Conn) }

// Close ends the connection.
func (l *firstByte) Close() error {
	l.timer.Stop()
	return l.Conn.Close()
}
