package connecttest

import (
	"context"
	"errors"
	"net"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// closed has everything that is opened closed again, on the line and in the target's own list of who is signed in: after a survey,
// one that was cancelled, acts, proofs, openings that failed, and a network that went.
func (x suite) closed() {
	ours := x.signedIn()
	lines := &lines{dial: x.Access.Dial}
	a := x.Access
	a.Dial = lines.open
	with := func(a connect.Access, do func(connect.Session)) {
		x.Helper()
		s, err := x.Connector.Open(context.Background(), a)
		if err == nil {
			do(s)
			s.Close()
		}
	}
	errEnough := errors.New("enough")
	for range 3 {
		with(a, func(s connect.Session) {
			_ = s.Survey(context.Background(), func(model.Object) error { return nil })
			_, _ = connect.Watch(context.Background(), s)
			_, _ = connect.Prove(context.Background(), s, x.name, connect.Seal([]byte("never-was-7731")))
			_ = connect.Admits(context.Background(), s, []string{x.name})
			adopt := x.account(model.AdoptIt, x.name, fromTo(model.Owner, "nobody", "suite"))
			_ = connect.Apply(context.Background(), s, []connect.Act{{Act: adopt}})
		})
		with(a, func(s connect.Session) {
			_ = s.Survey(context.Background(), func(model.Object) error { return errEnough })
		})
		with(a, func(s connect.Session) {
			ctx, cancel := context.WithCancel(context.Background())
			_ = s.Survey(ctx, func(model.Object) error { cancel(); return nil })
			cancel()
		})
		with(a, func(s connect.Session) {
			lines.cut()
			_ = s.Survey(context.Background(), func(model.Object) error { return nil })
		})
		wrong := a
		wrong.Key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGq3kq0n7cPZqkqL0g9jV7kB5dL4W2Vd2m1o1b0T8mYf"
		with(wrong, func(connect.Session) { x.Error("a wrong key is taken") })
		wrong = a
		wrong.As = "suite.nobody"
		with(wrong, func(connect.Session) {})
		wrong.As, wrong.Secret = a.As, []byte("never-was-7731")
		with(wrong, func(connect.Session) {})
	}
	if n := lines.left(); n > 0 {
		x.Errorf("%d of %d lines are left open", n, len(lines.all))
	}
	for range 50 { // a server notices a little later
		if x.signedIn() <= ours {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	x.Errorf("the target lists %d sessions of ours, %d before", x.signedIn(), ours)
}

// signedIn is how many sessions of our login the target lists, beside the one that asks; 0 where it does not tell.
func (x suite) signedIn() (n int) {
	s, err := x.Connector.Open(context.Background(), x.Access)
	if err != nil {
		x.Fatal(err)
	}
	defer s.Close()
	list, err := connect.Watch(context.Background(), s)
	if err != nil && !errors.Is(err, errors.ErrUnsupported) {
		x.Error(err)
	}
	for _, o := range list {
		if login, _ := x.schema.Account().Login(o.Attributes.One(model.HeldBy)); login == x.Access.As {
			n++
		}
	}
	return n
}

// lines counts connections that are open.
type lines struct {
	dial connect.Dial
	mu   sync.Mutex
	all  []*line
}

type line struct {
	net.Conn
	shut sync.Once
	done chan struct{}
}

func (l *line) Close() error {
	l.shut.Do(func() { close(l.done) })
	return l.Conn.Close()
}

func (l *lines) open(ctx context.Context, network, address string) (net.Conn, error) {
	dial := l.dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	c, err := dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, &line{Conn: c, done: make(chan struct{})})
	return l.all[len(l.all)-1], nil
}

// cut breaks all that is open, as a network does that goes.
func (l *lines) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.all {
		_ = c.Conn.Close()
	}
}

// left counts those that nobody closes within a few seconds.
func (l *lines) left() (n int) {
	late, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.all {
		select {
		case <-c.done:
		case <-late.Done():
			n++
		}
	}
	return n
}
