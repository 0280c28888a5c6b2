package host

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"

	"hen-roost/internal/connect"
)

// Run implements connect.Runner in one exec, as superuser. What goes in on standard input is in no list of processes.
func (s *session) Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	mark := "hen-roost-" + rand.Text()
	out := &clipped{most: most + greetingMost}
	// It is hung up on when its time is over; the connection stays, since others may lead through it.
	err = s.shell.Exec(ctx, "", strings.NewReader(runScript(mark, program, input)), out, io.Discard)
	if err == nil || errors.As(err, new(Ended)) {
		said, status, err = ran(out.String(), mark)
	}
	if err == nil && len(said) > most {
		err = fmt.Errorf("it says more than %d bytes", most)
	}
	if err != nil {
		return "", 0, &connect.Error{Target: s.access.Target, Op: "run " + connect.Printable(program[0]), Err: err}
	}
	return said, status, nil
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

// Dial implements connect.Offers.
func (s *session) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := s.shell.Dial(ctx, network, address)
	if err != nil {
		return nil, &connect.Error{Target: s.access.Target, Op: "connect to " + address + " from there", Err: err}
	}
	return c, nil
}
