package host

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
)

var _ connect.Runner = (*session)(nil)

// Run implements connect.Runner in one exec, as superuser. What goes in on standard input is in no list of processes.
func (s *session) Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	run, err := s.client.NewSession()
	if err != nil {
		return "", 0, s.cannotRun(program, err)
	}
	defer context.AfterFunc(ctx, func() { run.Close() })() // others may lead through the same connection
	defer run.Close()
	mark := "hen-roost-" + rand.Text()
	out := &clipped{&bytes.Buffer{}, most + greetingMost}
	run.Stdout, run.Stdin = out, strings.NewReader(runScript(mark, program, input))
	if err := run.Run(s.shell()); err != nil && !errors.As(err, new(*ssh.ExitError)) || ctx.Err() != nil {
		return "", 0, s.cannotRun(program, errors.Join(err, ctx.Err()))
	}
	said, status, err = ran(out.to.String(), mark)
	if err != nil {
		return "", 0, s.cannotRun(program, err)
	}
	if len(said) > most {
		return "", 0, s.cannotRun(program, fmt.Errorf("it says more than %d bytes", most))
	}
	return said, status, nil
}

func (s *session) cannotRun(program []string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: "run " + connect.Printable(program[0]), Err: err}
}

// runScript has a shell print a mark, run a program, and print the mark again with its status.
func runScript(mark string, program []string, input string) string {
	return fmt.Sprintf("echo %s\nprintf %%s %s | %s 2>&1\necho \"%s $?\"\n", mark, quote(input), quoted(program...), mark)
}

// ran takes apart what that printed.
func ran(text, mark string) (said string, status int, err error) {
	_, after, began := strings.Cut(text, mark+"\n")
	at := strings.LastIndex(after, mark+" ")
	if !began || at < 0 {
		return "", 0, io.ErrUnexpectedEOF
	}
	status, err = strconv.Atoi(strings.TrimSpace(after[at+len(mark)+1:]))
	return after[:at], status, err
}

// shell is the command by which a shell reads a script from standard input as superuser.
func (s *session) shell() string {
	if s.access.As != "root" { // whose right to do what follows is sudo's to say
		return "exec sudo -n /bin/sh -s"
	}
	return "exec /bin/sh -s"
}
