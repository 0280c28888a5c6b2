package connect

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"syscall"
)

// A target may say so much in one session and no more, over all its connections together: what goes over ends the session
// with words. So no target takes the memory, or the time, of the others.

// SaysMost is how many bytes a target may say in one session, unless its connector bounds it further.
const SaysMost = 512 << 20

// TooMuch says that a target said more than it may.
type TooMuch struct{ Most int64 }

func (e *TooMuch) Error() string {
	return fmt.Sprintf("it said more than %d MB in one session, the most that is read", e.Most>>20)
}

// Budget counts what a target says.
type Budget struct {
	most int64
	said atomic.Int64
}

// NewBudget lets a target say so many bytes.
func NewBudget(most int64) *Budget { return &Budget{most: most} }

// Spend counts bytes; the error is a *TooMuch.
func (b *Budget) Spend(n int) error {
	if b != nil && b.said.Add(int64(n)) > b.most {
		return &TooMuch{b.most}
	}
	return nil
}

// Renew begins to count anew: for each batch of a session that lasts.
func (b *Budget) Renew() {
	if b != nil {
		b.said.Store(0)
	}
}

// Bounded is the access with at most so many bytes for what the target says; less stays less. It is called before anything was said.
func (a Access) Bounded(most int64) Access {
	switch {
	case a.Says == nil:
		a.Says = NewBudget(most)
	case a.Says.most > most:
		a.Says.most = most
	}
	return a
}

// counted is a connection whose bytes are counted.
type counted struct {
	net.Conn
	says *Budget
}

func (c counted) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if more := c.says.Spend(n); more != nil {
		c.Conn.Close()
		return 0, more
	}
	return n, err
}

// counting makes connections that count.
func (a Access) counting(dial Dial) Dial {
	if a.Says == nil {
		return dial
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return counted{c, a.Says}, nil
	}
}

// SyscallConn implements syscall.Conn, for who sets options of the connection.
func (c counted) SyscallConn() (syscall.RawConn, error) { return SocketOf(c.Conn) }

// SocketOf is the socket below a connection, through those that wrap it; errors.ErrUnsupported where there is none.
func SocketOf(c net.Conn) (syscall.RawConn, error) {
	if s, ok := c.(syscall.Conn); ok {
		return s.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}
