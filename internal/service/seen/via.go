package seen

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"sync"
	"sync/atomic"

	"hen-roost/internal/connect"
)

// paths are sessions with targets through which others are reached: one for as many connections as lead through it
// at the same time.
type paths struct {
	mu   sync.Mutex
	open map[string]*path
}

// path is one of them, with how many connections lead through it.
type path struct {
	ready   chan struct{} // closed when session or err is known
	session connect.Session
	err     error
	users   int
}

// through dials a target by way of another one.
func (s *Seen) through(target, via string) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		p, err := s.paths.take(ctx, via, s.opening(via))
		if err != nil {
			return nil, onTheWay(target+" is reached via "+via, err)
		}
		c, err := connect.Lead(ctx, p.session, network, address)
		if err != nil {
			s.paths.give(via, p, true) // it may have broken: the next one opens it anew
			return nil, fmt.Errorf("%s is reached via %s: %w", target, via, err)
		}
		return &ledConn{Conn: c, done: sync.OnceFunc(func() { s.paths.give(via, p, false) })}, nil
	}
}

func (s *Seen) opening(via string) func(context.Context) (connect.Session, error) {
	return func(ctx context.Context) (connect.Session, error) {
		connector, access, err := s.Reach(ctx, via)
		if err != nil {
			return nil, err
		}
		access.Says = connect.NewBudget(math.MaxInt64) // what others say through it is counted as theirs
		return connect.Open(ctx, connector, access)
	}
}

// onTheWay says what keeps a target from being reached. That the key or the login of another is not taken is no key and no login of
// its own.
func onTheWay(words string, err error) error {
	if errors.As(err, new(*connect.KeyError)) || errors.As(err, new(*connect.Refused)) {
		return fmt.Errorf("%s: %v", words, err)
	}
	return fmt.Errorf("%s: %w", words, err)
}

// hostOf opens the host on which a target is run.
func (s *Seen) hostOf(target, via string) connect.OpenHost {
	return func(ctx context.Context) (connect.Host, error) {
		p, err := s.paths.take(ctx, via, s.opening(via))
		if err != nil {
			return nil, onTheWay(target+" is run on "+via, err)
		}
		runner, err := connect.RunOn(p.session)
		if err != nil {
			s.paths.give(via, p, false)
			return nil, fmt.Errorf("%s is run on %s: %w", target, via, err)
		}
		h := &ledHost{Runner: runner}
		h.done = sync.OnceFunc(func() { s.paths.give(via, p, h.broken.Load()) })
		return h, nil
	}
}

// ledHost runs programs over a path.
type ledHost struct {
	connect.Runner
	broken atomic.Bool
	done   func()
}

// Run implements connect.Runner. A path on which nothing is known of a program is taken no more.
func (h *ledHost) Run(ctx context.Context, program []string, input string, most int) (string, int, error) {
	said, status, err := h.Runner.Run(ctx, program, input, most)
	if err != nil {
		h.broken.Store(true)
	}
	return said, status, err
}

func (h *ledHost) Close() error {
	h.done()
	return nil
}

// take returns an open path, opened by whoever comes first.
func (x *paths) take(ctx context.Context, via string, open func(context.Context) (connect.Session, error)) (*path, error) {
	x.mu.Lock()
	p, there := x.open[via]
	if !there {
		p = &path{ready: make(chan struct{})}
		if x.open == nil {
			x.open = map[string]*path{}
		}
		x.open[via] = p
	}
	p.users++
	x.mu.Unlock()
	if !there {
		p.session, p.err = open(ctx)
		close(p.ready)
	}
	select {
	case <-p.ready:
	case <-ctx.Done():
		x.give(via, p, false)
		return nil, ctx.Err()
	}
	if p.err != nil {
		x.give(via, p, true)
		return nil, p.err
	}
	return p, nil
}

// give is called once for each take. The last one closes the path; one that is broken is not taken again.
func (x *paths) give(via string, p *path, broken bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	p.users--
	if (broken || p.users == 0) && x.open[via] == p {
		delete(x.open, via)
	}
	if p.users > 0 {
		return
	}
	go func() { // whoever gave up waiting for it does not wait longer
		<-p.ready
		if p.session != nil {
			p.session.Close()
		}
	}()
}

// ledConn is a connection over a path.
type ledConn struct {
	net.Conn
	done func()
}

func (c *ledConn) Close() error {
	defer c.done()
	return c.Conn.Close()
}
