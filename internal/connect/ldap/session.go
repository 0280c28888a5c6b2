package ldap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
)

type session struct {
	*flavour
	access      connect.Access
	read        *wire          // searches
	write       []*goldap.Conn // everything else; opened when first needed
	dial        func(context.Context) (net.Conn, error)
	proving     sync.Mutex // several sign-ins are proved at once, and look for their entries one by one
	placeholder string     // the member that keeps an otherwise empty groupOfNames legal
}

// Open implements connect.Connector. The secret is the password of the login.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	return posix.open(ctx, a)
}

func (f *flavour) open(ctx context.Context, a connect.Access) (connect.Session, error) {
	a = a.Bounded(saysMost)
	s := &session{flavour: f, access: a, placeholder: a.Settings["placeholder"]}
	if s.placeholder == "" {
		s.placeholder = "cn=nobody"
	}
	s.dial = func(ctx context.Context) (net.Conn, error) { return dial(ctx, a) }
	conn, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	s.read = newWire(conn, a.Patience())
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := s.read.bind(a.As, a.Secret); err != nil {
		conn.Close()
		var code *codeError
		if errors.As(err, &code) {
			err = &connect.Refused{Err: err}
		}
		return nil, s.fail("sign in as "+a.As, err)
	}
	return s, nil
}

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// saysMost is how many bytes a directory may say in one session: groups and their members are gathered before they are handed on.
const saysMost = 256 << 20

// dial opens a TLS connection to the directory whose authority was accepted, with a client certificate or without.
func dial(ctx context.Context, a connect.Access, as ...tls.Certificate) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	host, _, err := net.SplitHostPort(a.Address)
	if err != nil {
		return nil, &connect.Error{Target: a.Target, Op: "connect", Err: err}
	}
	conf, refused := connect.Pinned(a, host, as...)
	var conn *tls.Conn
	raw, err := a.Connect(ctx)
	if err == nil {
		conn = tls.Client(raw, conf)
		if err = conn.HandshakeContext(ctx); err != nil {
			raw.Close()
		}
	}
	if keyErr := refused(); keyErr != nil {
		return nil, keyErr
	}
	if err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("it took the connection but said nothing for %s", a.Patience())
		}
		return nil, &connect.Error{Target: a.Target, Op: "connect", Err: err}
	}
	return conn, nil
}

// writers returns connections for changes, signed in: one for a few changes, several for many.
func (s *session) writers(ctx context.Context, changes int) ([]*goldap.Conn, error) {
	s.write = slices.DeleteFunc(s.write, (*goldap.Conn).IsClosing)
	want := 1
	if changes > manyChanges {
		want = connections
	}
	for len(s.write) < want {
		c, err := s.writer(ctx)
		if err != nil && len(s.write) == 0 {
			return nil, err
		}
		if err != nil {
			break // a directory that grants us fewer connections gets on with those
		}
		s.write = append(s.write, c)
	}
	return s.write, nil
}

func (s *session) writer(ctx context.Context) (*goldap.Conn, error) {
	conn, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	c := goldap.NewConn(conn, true)
	c.SetTimeout(s.access.Patience())
	c.Start()
	if err := c.Bind(s.access.As, string(s.access.Secret)); err != nil {
		c.Close()
		return nil, s.fail("sign in as "+s.access.As, err)
	}
	return c, nil
}

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Prove: s.Prove, Admits: s.Admits, Renew: s.Renew, Since: s.Since}
}

// Close implements connect.Session.
func (s *session) Close() error {
	for _, c := range s.write {
		c.Close()
	}
	return s.read.conn.Close()
}
