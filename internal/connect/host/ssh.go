package host

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/overssh"
)

// reached is a session with a host over SSH: it can also try sign-ins, and change the key of our own login.
type reached struct {
	session
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
	client, err := overssh.Dial(ctx, a, a.As, []ssh.AuthMethod{ssh.PublicKeys(signer)}, signed)
	var key *connect.KeyError
	switch {
	case errors.As(err, &key):
		return nil, key
	case errors.As(err, new(*connect.Refused)):
		return fail("sign in as "+a.As, err)
	case err != nil:
		return fail("connect", err)
	}
	return &reached{session{a, &sshShell{client, a.As}}, signed}, nil
}

// Offers implements connect.Session.
func (s *reached) Offers() connect.Offers {
	o := s.session.Offers()
	o.Prove, o.ProveElevation, o.Renew, o.Retire = s.Prove, s.ProveElevation, s.Renew, s.Retire
	return o
}

// sshShell is a Shell over SSH.
type sshShell struct {
	client *ssh.Client
	as     string // our login: whether it is not root, sudo says what it may
}

// Exec implements Shell in two round trips.
func (s *sshShell) Exec(ctx context.Context, command string, in io.Reader, out, said io.Writer) error {
	switch {
	case command == "" && s.as == "root":
		command = "exec /bin/sh -s"
	case command == "":
		command = "exec sudo -n /bin/sh -s"
	case s.as != "root":
		command = "exec sudo -n /bin/sh -c " + quote(command)
	}
	ended := make(chan error, 1)
	go func() { ended <- s.run(ctx, command, in, out, said) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done(): // the connection may be dead, so that nothing ends on it
		return ctx.Err()
	}
}

func (s *sshShell) run(ctx context.Context, command string, in io.Reader, out, said io.Writer) error {
	run, err := s.client.NewSession()
	if err != nil {
		return err
	}
	defer run.Close()
	defer context.AfterFunc(ctx, func() { run.Close() })()
	run.Stdout, run.Stderr = out, said
	to, err := run.StdinPipe()
	if err != nil {
		return err
	}
	if err := run.Start(command); err != nil {
		return err
	}
	go func() { // the command need not read all of it
		if in != nil {
			_, _ = io.Copy(to, in)
		}
		to.Close()
	}()
	err = run.Wait()
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		return Ended(exit.ExitStatus())
	}
	return err
}

// Dial implements Shell: the host's ssh server connects, which it may have been told not to.
func (s *sshShell) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := s.client.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return led{c}, nil
}

// Close implements Shell. It closes the connection beneath, and waits for nothing that a host says.
func (s *sshShell) Close() error { return s.client.Close() }

// led is a connection through a host, which knows of no deadlines: who wants one closes it.
type led struct{ net.Conn }

func (led) SetDeadline(time.Time) error      { return nil }
func (led) SetReadDeadline(time.Time) error  { return nil }
func (led) SetWriteDeadline(time.Time) error { return nil }
