package seen

import (
	"container/list"
	"hash/maphash"
	"sync"

	"hen-roost/internal/core/drift"
)

// memoryMost is what is kept of comparisons, in bytes: enough for eight million accounts.
const memoryMost = 64 << 20

// memory keeps what comparisons of each target found right. It keeps within a
// bound: the target that was not compared for longest is forgotten first.
type memory struct {
	seed maphash.Seed
	most int // bytes

	mu    sync.Mutex
	bytes int
	at    map[string]*list.Element
	order list.List // of *remembered, the one compared last in front
}

type remembered struct {
	sync.Mutex // held during a comparison
	target     string
	known      *drift.Known
	bytes      int
	users      int
}

func newMemory(most int) *memory {
	return &memory{seed: maphash.MakeSeed(), most: most, at: map[string]*list.Element{}}
}

// of returns what is known of a target, for one comparison at a time. done gives it back.
func (m *memory) of(target string) (known *drift.Known, done func()) {
	m.mu.Lock()
	e := m.at[target]
	if e == nil {
		e = m.order.PushFront(&remembered{target: target, known: drift.NewKnown(m.seed)})
		m.at[target] = e
	}
	m.order.MoveToFront(e)
	r := e.Value.(*remembered)
	r.users++
	m.mu.Unlock()
	r.Lock()
	return r.known, func() {
		bytes := r.known.Bytes()
		r.Unlock()
		m.mu.Lock()
		defer m.mu.Unlock()
		r.users--
		m.bytes += bytes - r.bytes
		r.bytes = bytes
		m.fit()
	}
}

// fit forgets targets until the rest is within the bound. Those being compared stay.
func (m *memory) fit() {
	for e := m.order.Back(); e != nil && m.bytes > m.most; {
		before := e.Prev()
		m.forget(e)
		e = before
	}
}

func (m *memory) forget(e *list.Element) {
	if r := e.Value.(*remembered); r.users == 0 {
		m.bytes -= r.bytes
		delete(m.at, r.target)
		m.order.Remove(e)
	}
}

// keep forgets all targets but those that are still declared.
func (m *memory) keep(declared func(target string) bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for e := m.order.Front(); e != nil; {
		next := e.Next()
		if !declared(e.Value.(*remembered).target) {
			m.forget(e)
		}
		e = next
	}
}
