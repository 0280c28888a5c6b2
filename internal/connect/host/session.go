package host

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/overssh"
	"hen-roost/internal/core/model"
)

const maxAnswer = 512 << 20 // bytes of one exec's answer that we read before giving up on the host

type session struct {
	access connect.Access
	conn   net.Conn
	client *ssh.Client
	signed func(ssh.PublicKey) error // checks identity keys where those of hosts are signed; nil: the one that was accepted is it
}

// Open implements connect.Connector. The secret is a private key in PEM.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	fail := func(op string, err error) (connect.Session, error) {
		return nil, &connect.Error{Target: a.Target, Op: op, Err: err}
	}
	signer, err := ssh.ParsePrivateKey(a.Secret)
	if err != nil {
		return fail("sign in", errors.New("its secret is not a private key in PEM form without passphrase"))
	}
	signed, err := signedBy(a)
	if err != nil {
		return fail("connect", err)
	}
	client, raw, err := overssh.Dial(ctx, a, a.As, []ssh.AuthMethod{ssh.PublicKeys(signer)}, signed)
	var key *connect.KeyError
	switch {
	case errors.As(err, &key):
		return nil, key
	case errors.As(err, new(*connect.Refused)):
		return fail("sign in as "+a.As, err)
	case err != nil:
		return fail("connect", err)
	}
	return &session{access: a, conn: raw, client: client, signed: signed}, nil
}

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Prove: s.Prove, ProveElevation: s.ProveElevation, Admits: s.Admits, Renew: s.Renew, Retire: s.Retire,
		Sessions: s.Sessions, End: s.End, Dial: s.Dial, Run: s.Run, Homes: s.Homes, Archives: s}
}

func (s *session) Close() error { return s.client.Close() }

// exec runs a shell; what it prints is handed to talk, and what talk writes it
// carries out. Scripts go in on standard input, so that no value ever stands in
// a process list.
func (s *session) exec(ctx context.Context, limit time.Duration, talk func(in io.WriteCloser, out io.Reader) error) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { s.conn.Close() })
	defer stop()
	run, err := s.client.NewSession()
	if err != nil {
		return err
	}
	defer run.Close()
	var complaint bytes.Buffer
	in, err := run.StdinPipe()
	if err != nil {
		return err
	}
	run.Stderr = &clipped{&complaint, 4096}
	out, err := run.StdoutPipe()
	if err != nil {
		return err
	}
	if err := run.Start(s.shell()); err != nil {
		return err
	}
	mark := "hen-roost-" + rand.Text()
	if err := talk(&marked{in, "echo " + mark + "\n"}, &greeted{bufio.NewReader(io.LimitReader(out, maxAnswer)), mark}); err != nil {
		return err
	}
	err = run.Wait()
	if ctx.Err() != nil {
		return fmt.Errorf("no answer within %s: %w", limit, ctx.Err())
	}
	if err != nil && complaint.Len() > 0 {
		return fmt.Errorf("%w: %s", err, connect.Printable(strings.TrimSpace(complaint.String())))
	}
	return err
}

// say hands a script to a shell while its answers are read.
func say(in io.WriteCloser, script string, last bool) {
	go func() {
		_, _ = io.WriteString(in, script) // if it fails, the answer is cut off, and that is seen
		if last {
			in.Close()
		}
	}()
}

// Survey implements connect.Session in one exec.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	var r *reading
	limit := s.access.Patience() * 3
	if s.access.Homes {
		limit += searchFor
	}
	err := s.exec(ctx, limit, func(in io.WriteCloser, out io.Reader) (err error) {
		say(in, surveyScript(s.access.Settings, s.access.Homes), true)
		r, err = newAnswer(out, s.access.As).read()
		return err
	})
	if err == nil && !r.whole {
		err = errors.New("the answer was cut off")
	}
	if err != nil {
		return &connect.Error{Target: s.access.Target, Op: "survey", Err: err}
	}
	r.mark()
	for _, list := range [][]model.Object{r.accounts, r.groups, r.folders(), {r.power.object(), r.system}} {
		for _, o := range list {
			if o.Kind == 0 {
				continue // a host that told nothing of itself
			}
			if err := found(o); err != nil {
				return err
			}
		}
	}
	return nil
}

// clipped keeps the first n bytes and swallows the rest.
type clipped struct {
	to *bytes.Buffer
	n  int
}

func (c *clipped) Write(p []byte) (int, error) {
	if room := c.n - c.to.Len(); room > 0 {
		c.to.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// greetingMost is how many bytes a host may print before the shell of ours is heard.
const greetingMost = 1 << 20

var errGreeting = fmt.Errorf("the host printed more than %d bytes before it did what it was asked", greetingMost)

// marked has the shell print a word of ours before all else.
type marked struct {
	io.WriteCloser
	first string
}

func (m *marked) Write(p []byte) (int, error) {
	if m.first != "" {
		first := m.first
		m.first = ""
		if _, err := io.WriteString(m.WriteCloser, first); err != nil {
			return 0, err
		}
	}
	return m.WriteCloser.Write(p)
}

// greeted passes over what a login's own start-up files print before that word: nothing of it can pass for an answer.
type greeted struct {
	from *bufio.Reader
	mark string
}

func (g *greeted) Read(p []byte) (int, error) {
	for room := greetingMost; g.mark != ""; {
		line, err := g.from.ReadSlice('\n')
		if room -= len(line); room < 0 {
			return 0, errGreeting
		}
		switch {
		case strings.HasSuffix(strings.TrimSuffix(string(line), "\n"), g.mark):
			g.mark = ""
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return 0, err
		}
	}
	return g.from.Read(p)
}
