// Package dialect speaks to systems that are run by typing at them, each kind of which a file teaches (package dialect of the
// house): over SSH, a command each or one conversation, or a conversation over TCP.
//
// A survey takes one command for each listing of the file. A batch takes the listings of the kinds that it speaks of before it
// and after it, and between them a command for each change, or for many where the file says so; where the system has a candidate,
// the whole batch is one candidate, on trial until our own login has been let in anew.
package dialect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/candidate"
	"hen-roost/internal/connect/overssh"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// Connector speaks one dialect.
type Connector struct {
	File   *language.File
	lesson connect.Lesson
	digest string // of the file
}

// Schema implements connect.Connector.
func (c Connector) Schema() model.Schema {
	s := c.File.Schema()
	s.Digest = c.digest
	return s
}

// session is a signed-in connection. It is a connect.Session.
type session struct {
	file   *language.File
	access connect.Access
	conn   io.Closer
	client *ssh.Client    // nil: over TCP, or on a host
	host   connect.Host   // where commands are run that are typed nowhere else
	talk   *language.Talk // nil: a command each
	mu     sync.Mutex
	closed bool
}

// Open implements connect.Connector.
func (c Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	s, err := c.signIn(ctx, a, a.As, a.Secret)
	var key *connect.KeyError
	switch {
	case errors.As(err, &key):
		return nil, key
	case errors.As(err, new(*connect.Refused)):
		return nil, &connect.Error{Target: a.Target, Op: "sign in as " + a.As, Err: err}
	case err != nil:
		return nil, &connect.Error{Target: a.Target, Op: "connect", Err: err}
	}
	return s, nil
}

// signIn signs in as somebody. Its error is a *connect.Refused when the login is turned away.
func (c Connector) signIn(ctx context.Context, a connect.Access, login string, secret []byte) (*session, error) {
	s := &session{file: c.File, access: a}
	var line io.ReadWriter
	switch c.File.Reach.Over {
	case "host", "here":
		open := a.Host
		if c.File.Reach.Over == "here" {
			open = openHere
		}
		if open == nil {
			return nil, errors.New("it is run on a host, and nothing says on which (via)")
		}
		host, err := open(ctx)
		if err != nil {
			return nil, err
		}
		s.conn, s.host = host, host
		return s, nil
	case "tcp":
		conn, err := c.dial(ctx, a)
		if err != nil {
			return nil, err
		}
		s.conn, line = conn, conn
	default:
		client, err := overssh.Dial(ctx, a, login, ways(secret), nil)
		if err != nil {
			return nil, err
		}
		s.conn, s.client = client, client
		if c.File.Reach.As == "exec" {
			return s, nil
		}
		if line, err = shell(client); err != nil {
			client.Close()
			return nil, err
		}
	}
	s.talk = language.NewTalk(c.File, line, a.Patience())
	if err := s.talk.SignIn(ctx, login, secret); err != nil {
		s.Close()
		var r *language.Refusal
		if errors.As(err, &r) {
			return nil, &connect.Refused{Err: errors.New(connect.Printable(r.Error()))}
		}
		return nil, err
	}
	return s, nil
}

// ways are the ways to show a secret: a private key, or a password.
func ways(secret []byte) []ssh.AuthMethod {
	if signer, err := ssh.ParsePrivateKey(secret); err == nil {
		return []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	word := string(secret)
	return []ssh.AuthMethod{ssh.Password(word), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range answers {
			answers[i] = word
		}
		return answers, nil
	})}
}

// nothingProves is what stands for the identity of a system over TCP: an operator accepts once that nothing proves it.
const nothingProves = "none: over plain TCP nothing proves who answers at "

func (c Connector) dial(ctx context.Context, a connect.Access) (net.Conn, error) {
	if key := nothingProves + a.Address; a.Key != key {
		return nil, &connect.KeyError{Target: a.Target, Offered: key, Print: key, Accepted: a.Key, Was: a.Key}
	}
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	return a.Connect(ctx)
}

// pipe is a shell's two ends.
type pipe struct {
	io.Reader
	io.Writer
}

// shell asks for a conversation.
func shell(client *ssh.Client) (io.ReadWriter, error) {
	run, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err1 := run.StdinPipe()
	out, err2 := run.StdoutPipe()
	if err := errors.Join(err1, err2, run.RequestPty("dumb", 500, 500, ssh.TerminalModes{ssh.ECHO: 0}), run.Shell()); err != nil {
		return nil, fmt.Errorf("it gives no shell: %w", err)
	}
	return pipe{out, in}, nil
}

// say types a line, and returns what is answered. An error means that the conversation is over, but for a failure that exec
// tells by its status.
func (s *session) say(ctx context.Context, line string, ask []language.Exchange, vars language.Vars, input string) (string, error) {
	if s.talk != nil {
		return s.talk.Say(ctx, line, ask, vars)
	}
	return s.exec(ctx, line, input)
}

// answerMost bounds what a command may answer.
const answerMost = 64 << 20

func (s *session) exec(ctx context.Context, line, input string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	if s.host != nil {
		text, status, err := s.host.Run(ctx, s.file.Quote.Words(line), input, answerMost)
		if ctx.Err() != nil {
			err = fmt.Errorf("%w within %s", language.ErrSilent, s.access.Patience())
		}
		return s.ended(text, status, err)
	}
	run, err := s.client.NewSession()
	if err != nil {
		return "", err
	}
	defer run.Close()
	defer context.AfterFunc(ctx, func() { s.conn.Close() })()
	out, complaint := &bounded{most: answerMost}, &bounded{most: 64 << 10}
	run.Stdout, run.Stderr = out, complaint
	in, err := run.StdinPipe()
	if err != nil {
		return "", err
	}
	if err := run.Start(line); err != nil {
		return "", err
	}
	go func() {
		_, _ = io.WriteString(in, input)
		in.Close()
	}()
	err = run.Wait()
	var status *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return "", fmt.Errorf("%w within %s", language.ErrSilent, s.access.Patience())
	case out.over:
		return "", fmt.Errorf("it answers with more than %d MB", answerMost>>20)
	case errors.As(err, &status):
		return s.ended(string(out.text)+string(complaint.text), status.ExitStatus(), nil)
	}
	return string(out.text) + string(complaint.text), err
}

// ended is what a command answered that ended with a status: other than 0 is a failure, unless the file knows to say which.
func (s *session) ended(text string, status int, err error) (string, error) {
	if err == nil && status != 0 && s.file.Failure(text) == "" {
		err = failed(fmt.Sprintf("it ended with status %d: %s", status, connect.Printable(text)))
	}
	return text, err
}

func failed(words string) error { return &language.Failed{Said: words} }

// bounded keeps what is written to it, up to so many bytes, and takes no more.
type bounded struct {
	mu   sync.Mutex
	text []byte
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if room := b.most - len(b.text); len(p) > room {
		b.text, b.over = append(b.text, p[:room]...), true
		return room, io.ErrShortWrite
	}
	b.text = append(b.text, p...)
	return len(p), nil
}

// vars are what all expressions can see.
func (s *session) vars() language.Vars {
	settings := map[string]any{}
	for k, v := range s.access.Settings {
		settings[language.Key(k)] = v
	}
	return language.Vars{"login": s.access.As, "settings": settings}
}

// Offers implements connect.Session: what the file tells how to do.
func (s *session) Offers() connect.Offers {
	var o connect.Offers
	if s.host == nil { // whatever the password, a program would run
		o.Prove = s.Prove
	}
	if s.file.LetsIn != nil {
		o.Admits = s.Admits
	}
	if in := s.file.Signed; in != nil && in.List != nil {
		o.Sessions = s.Sessions
		if len(in.End) > 0 {
			o.End = s.End
		}
	}
	if s.file.Draft != nil {
		o.Trial = candidate.Trial(draft{s})
		o.Preview = func(ctx context.Context, acts []connect.Act) ([]string, error) {
			return candidate.Preview(ctx, draft{s}, acts)
		}
	}
	return o
}

// Close implements connect.Session.
func (s *session) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil
	}
	s.closed = true
	if s.talk != nil {
		s.talk.End()
	}
	return s.conn.Close()
}

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// Prove implements connect.Offers: somebody is let in whom the system greets, where it is a conversation with its prompt.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	other, err := Connector{File: s.file}.signIn(ctx, s.access, as, secret.Reveal())
	var refused *connect.Refused
	if errors.As(err, &refused) {
		return false, nil
	}
	if err != nil {
		return false, s.fail("try to sign in as "+as, err)
	}
	return true, other.Close()
}

// Typist is somebody signed in who types lines.
type Typist struct{ *session }

// Typing signs in, for lines that are typed as they are: to look at a system, and to record what it says.
func Typing(ctx context.Context, c Connector, a connect.Access) (Typist, error) {
	s, err := c.signIn(ctx, a, a.As, a.Secret)
	return Typist{s}, err
}

// Type types a line, and returns what is answered.
func (t Typist) Type(ctx context.Context, line string) (string, error) {
	return t.say(ctx, line, nil, t.vars(), "")
}
