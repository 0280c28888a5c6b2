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
	"sync"
	"time"

	"hen-roost/internal/connect"
)

// Shell carries out commands on a host. SSH is one way to do so.
type Shell interface {
	// Exec has the host's /bin/sh carry out a command as superuser: in is its standard input, out and said are its standard output
	// and error. The command "" carries out the script that is read from in.
	//
	// It returns an Ended when the command ends with another status than 0, and the context's error, at once, when that is over: the
	// command is ended too then, and may still write for a moment.
	Exec(ctx context.Context, command string, in io.Reader, out, said io.Writer) error

	// Dial connects to an address from the host.
	Dial(ctx context.Context, network, address string) (net.Conn, error)

	// Close ends what is under way.
	Close() error
}

// Ended is the status with which a command ended, where it is not 0.
type Ended int

func (e Ended) Error() string { return fmt.Sprintf("it ended with status %d", int(e)) }

const maxAnswer = 512 << 20 // bytes of one exec's answer that we read before giving up on the host

// exec runs a shell; what it prints is handed to talk, and what talk writes it carries out. Scripts go in on standard input, so that
// no value ever stands in a process list. A host that does not end in time is given up, with all else that is under way on it.
func (s *session) exec(ctx context.Context, limit time.Duration, talk func(in io.WriteCloser, out io.Reader) error) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	defer context.AfterFunc(ctx, func() { s.shell.Close() })()
	run, hangUp := context.WithCancel(ctx)
	defer hangUp()
	script, in := io.Pipe()
	out, answer := io.Pipe()
	defer in.Close()
	defer out.Close()
	said, ended := &clipped{most: complaintMost}, make(chan error, 1)
	go func() {
		err := s.shell.Exec(run, "", script, answer, said)
		answer.Close()
		script.Close()
		ended <- err
	}()
	mark := "hen-roost-" + rand.Text()
	if err := talk(&marked{in, "echo " + mark + "\n"}, &greeted{bufio.NewReader(io.LimitReader(out, maxAnswer)), mark}); err != nil {
		return err
	}
	err := <-ended
	if ctx.Err() != nil {
		return fmt.Errorf("no answer within %s: %w", limit, ctx.Err())
	}
	return said.because(err)
}

// ask has a script carried out, and hands the lines that it prints to line; an answer that is not whole is an error.
func (s *session) ask(ctx context.Context, limit time.Duration, script string, line func(string)) error {
	whole := false
	err := s.exec(ctx, limit, func(in io.WriteCloser, from io.Reader) error {
		say(in, script+"echo Z:\n", true)
		a := newAnswer(from, s.access.As)
		for a.Scan() {
			if whole = whole || a.Text() == "Z:"; !whole {
				line(a.Text())
			}
		}
		return a.Err()
	})
	if err == nil && !whole {
		return errCutOff
	}
	return err
}

// told has a script carried out that tells of objects, and returns what it told.
func (s *session) told(ctx context.Context, limit time.Duration, script string) (r *reading, err error) {
	err = s.exec(ctx, limit, func(in io.WriteCloser, out io.Reader) (err error) {
		say(in, script, true)
		r, err = newAnswer(out, s.access.As).read()
		return err
	})
	if err == nil && !r.whole {
		err = errCutOff
	}
	return r, err
}

var errCutOff = errors.New("the answer was cut off")

// say hands a script to a shell while its answers are read.
func say(in io.WriteCloser, script string, last bool) {
	go func() {
		_, _ = io.WriteString(in, script) // if it fails, the answer is cut off, and that is seen
		if last {
			in.Close()
		}
	}()
}

// complaintMost is how many bytes of what a command complains of are kept.
const complaintMost = 4096

// clipped keeps the first bytes that are written to it and swallows the rest. A command that was given up may write to it still.
type clipped struct {
	most int
	mu   sync.Mutex
	kept bytes.Buffer
}

func (c *clipped) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if room := c.most - c.kept.Len(); room > 0 {
		c.kept.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

func (c *clipped) String() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.kept.String()
}

// because adds what a command complained of to the error with which it ended.
func (c *clipped) because(err error) error {
	if words := connect.Printable(strings.TrimSpace(c.String())); err != nil && words != "" {
		return fmt.Errorf("%w: %s", err, words)
	}
	return err
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
