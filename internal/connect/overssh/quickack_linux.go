package overssh

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// prompt is a connection that acknowledges what it reads at once. sshd writes
// small packets and waits; a delayed acknowledgement costs 40 ms a connection.
// The kernel forgets the wish after each segment, so it is renewed at each read.
type prompt struct {
	net.Conn
	raw syscall.RawConn
}

func (p *prompt) Read(b []byte) (int, error) {
	if p.raw == nil {
		if sc, ok := p.Conn.(syscall.Conn); ok {
			p.raw, _ = sc.SyscallConn()
		}
	}
	if p.raw != nil {
		_ = p.raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1) })
	}
	return p.Conn.Read(b)
}
