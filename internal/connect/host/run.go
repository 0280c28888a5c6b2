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

// Run implements connect.Runner in one exec, as superuser. What goes in on standard input is in no list of processes.
func (s *session) Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	mark := "hen-roost-" + rand.Text()
	type end struct {
		text string
		err  error
	}
	ended := make(chan end, 1)
	go func() { // not to be waited for: others may lead through the same connection, which therefore stays
		text, err := s.shellOnce(ctx, runScript(mark, program, input), most+greetingMost)
		ended <- end{text, err}
	}()
	select {
	case <-ctx.Done():
		err = ctx.Err()
	case e := <-ended:
		if err = e.err; err == nil {
			said, status, err = ran(e.text, mark)
		}
	}
	if err == nil && len(said) > most {
		err = fmt.Errorf("it says more than %d bytes", most)
	}
	if err != nil {
		return "", 0, &connect.Error{Target: s.access.Target, Op: "run " + connect.Printable(program[0]), Err: err}
	}
	return said, status, nil
}

// shellOnce has a shell carry out a script, and returns the first bytes of what it prints. When the context ends it is hung up on.
func (s *session) shellOnce(ctx context.Context, script string, most int) (string, error) {
	run, err := s.client.NewSession()
	if err != nil {
		return "", err
	}
	defer run.Close()
	defer context.AfterFunc(ctx, func() { run.Close() })()
	out := &clipped{&bytes.Buffer{}, most}
	run.Stdout, run.Stdin = out, strings.NewReader(script)
	if err := run.Run(s.shell()); err != nil && !errors.As(err, new(*ssh.ExitError)) {
		return "", err
	}
	return out.to.String(), nil
}

// runScript has a shell print a mark, run a program, and print the mark again with its status.
func runScript(mark string, program []string, input string) string {
	return fmt.Sprintf("echo %s\nprintf %%s %s | %s 2>&1\necho \"%s $?\"\n", mark, quote(input),
		strings.TrimSuffix(quoted(program...), "\n"), mark)
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
