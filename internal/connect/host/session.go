package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const maxAnswer = 512 << 20 // bytes of one exec's answer that we read before giving up on the host

type session struct {
	access connect.Access
	conn   net.Conn
	client *ssh.Client
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
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", a.Address)
	if err != nil {
		return fail("connect", err)
	}
	deadline, _ := ctx.Deadline()
	_ = raw.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { raw.Close() }) // a cancelled caller need not wait for the handshake
	var keyErr *connect.KeyError
	conf := &ssh.ClientConfig{
		User: a.As, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if keyErr = checkKey(a, key); keyErr != nil {
				return keyErr
			}
			return nil
		},
	}
	if algos := algorithmsOf(a.Key); algos != nil {
		conf.HostKeyAlgorithms = algos
	}
	c, chans, reqs, err := ssh.NewClientConn(&prompt{Conn: raw}, a.Address, conf)
	if !stop() || err != nil {
		raw.Close()
		switch {
		case keyErr != nil:
			return nil, keyErr
		case err == nil:
			return fail("connect", context.Cause(ctx))
		case strings.Contains(err.Error(), "unable to authenticate"):
			return fail("sign in as "+a.As, &connect.Refused{Err: err})
		case isTimeout(err) || ctx.Err() != nil:
			return fail("connect", fmt.Errorf("it took the connection but said nothing for %s", a.Patience()))
		}
		return fail("connect", err)
	}
	_ = raw.SetDeadline(time.Time{})
	return &session{access: a, conn: raw, client: ssh.NewClient(c, chans, reqs)}, nil
}

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout() || strings.Contains(err.Error(), "i/o timeout")
}

func checkKey(a connect.Access, key ssh.PublicKey) *connect.KeyError {
	offered := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	if offered == a.Key {
		return nil
	}
	e := &connect.KeyError{Target: a.Target, Offered: offered, Print: ssh.FingerprintSHA256(key), Accepted: a.Key}
	if was, _, _, _, err := ssh.ParseAuthorizedKey([]byte(a.Key)); err == nil {
		e.Was = ssh.FingerprintSHA256(was)
	}
	return e
}

// algorithmsOf asks the host for the kind of key that was accepted, so that a
// host with several is not mistaken for a changed one.
func algorithmsOf(accepted string) []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(accepted))
	if err != nil {
		return nil
	}
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}

func (s *session) Close() error { return s.client.Close() }

// exec runs one script; what it prints is handed to answer. The script goes in
// on standard input, so that no value ever stands in a process list.
func (s *session) exec(ctx context.Context, script string, limit time.Duration, answer func(io.Reader) error) error {
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
	run.Stdin = strings.NewReader(script)
	run.Stderr = &clipped{&complaint, 4096}
	out, err := run.StdoutPipe()
	if err != nil {
		return err
	}
	if err := run.Start("exec /bin/sh -s"); err != nil {
		return err
	}
	if err := answer(io.LimitReader(out, maxAnswer)); err != nil {
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

// Survey implements connect.Session in one exec.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	var r *reading
	err := s.exec(ctx, surveyScript(), s.access.Patience()*3, func(out io.Reader) (err error) {
		r, err = read(out, s.access.As)
		return err
	})
	if err == nil && !r.whole {
		err = errors.New("the answer was cut off")
	}
	if err != nil {
		return &connect.Error{Target: s.access.Target, Op: "survey", Err: err}
	}
	for _, list := range [][]model.Object{r.accounts, r.groups, {r.power.object()}} {
		for _, o := range list {
			if err := found(o); err != nil {
				return err
			}
		}
	}
	return nil
}

// Apply implements connect.Session in one exec.
func (s *session) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	var r *reading
	limit := s.access.Patience() + time.Duration(len(acts))*2*time.Second + time.Minute // the minute is for the lock
	err := s.exec(ctx, applyScript(acts), limit, func(out io.Reader) (err error) {
		r, err = read(out, s.access.As)
		return err
	})
	if r == nil {
		return connect.All(acts, connect.Unsure, fmt.Sprintf("%s: %v", s.access.Target, err))
	}
	if r.refusal != "" {
		return connect.All(acts, connect.Failed, s.access.Target+": "+r.refusal)
	}
	answers := make([]connect.Answer, len(acts))
	for i, a := range acts {
		answers[i] = r.answer(i, a, err)
	}
	return answers
}

// answer joins what the script said of a step with what was read back after all steps.
func (r *reading) answer(i int, a connect.Act, lost error) connect.Answer {
	res, said := r.results[i]
	switch {
	case !r.whole:
		words := "the connection was lost before the host answered"
		if lost != nil {
			words += ": " + lost.Error()
		}
		return connect.Answer{Outcome: connect.Unsure, Words: words}
	case !said:
		return connect.Answer{Outcome: connect.Failed, Words: "the host ended the batch before this step"}
	case res.did == "so":
		return connect.Found(a, connect.So, "", r.view)
	case res.did == "moved":
		return connect.Found(a, connect.Drifted, res.words, r.view)
	default:
		return connect.Verify(a, schema, r.view, res.words)
	}
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
