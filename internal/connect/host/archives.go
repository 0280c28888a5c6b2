package host

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
)

const (
	sealing   = "/var/backups/homes/sealing"
	archived  = "/var/backups/homes"
	fetchFor  = 12 * time.Hour // the longest that one archive may take, as long as something comes
	filesMost = 10_000
)

// archiveName is how remove.sh calls archives: NAME-NUMBER-DAY, and a number more where there was one of that day.
var archiveName = regexp.MustCompile(`^([A-Za-z0-9_.][A-Za-z0-9_.-]*)-([0-9]+)-[0-9]+(?:_[0-9]+)?\.tar\.gz$`)

// Waiting implements connect.Archiver in one exec.
func (s *session) Waiting(ctx context.Context) (out []connect.Archive, err error) {
	whole := false
	err = s.exec(ctx, s.access.Patience(), func(in io.WriteCloser, from io.Reader) error {
		say(in, "cd "+sealing+" 2>/dev/null && for f in *.tar.gz; do [ ! -f \"$f\" ] || stat -c 'W:%s:%n' -- \"$f\"; done\necho Z:\n", true)
		a := newAnswer(from, s.access.As)
		for a.Scan() {
			whole = whole || a.Text() == "Z:"
			f := strings.SplitN(a.Text(), ":", 3)
			if len(f) != 3 || f[0] != "W" || len(out) == filesMost {
				continue
			}
			size, err := strconv.ParseInt(f[1], 10, 64)
			if m := archiveName.FindStringSubmatch(f[2]); m != nil && err == nil {
				out = append(out, connect.Archive{Name: f[2], Account: m[1], Number: m[2], Bytes: size})
			}
		}
		return a.Err()
	})
	if err == nil && !whole {
		err = errors.New("the answer was cut off")
	}
	if err != nil {
		return nil, &connect.Error{Target: s.access.Target, Op: "list archives of homes", Err: err}
	}
	return out, nil
}

// raw runs a command on a host that is handed bytes as they are, or prints such. When for some time none go either way it
// is given up.
func (s *session) raw(ctx context.Context, command string, idle time.Duration, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithTimeout(ctx, fetchFor)
	defer cancel()
	alive := &moving{timer: time.AfterFunc(idle, cancel), idle: idle, from: in, to: out}
	defer alive.timer.Stop()
	run, err := s.client.NewSession()
	if err != nil {
		return err
	}
	defer run.Close()
	defer context.AfterFunc(ctx, func() { run.Close() })()
	var said bytes.Buffer
	run.Stdout, run.Stderr = alive, &clipped{&said, 4096}
	if in != nil {
		run.Stdin = alive
	}
	if s.access.As != "root" {
		command = "sudo -n /bin/sh -c " + quote(command)
	}
	if err := run.Run(command); err != nil {
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return fmt.Errorf("%w: %s", err, connect.Printable(strings.TrimSpace(said.String())))
	}
	return nil
}

// moving passes bytes on, and notes that they move.
type moving struct {
	timer *time.Timer
	idle  time.Duration
	from  io.Reader
	to    io.Writer
}

func (m *moving) Read(b []byte) (int, error) {
	m.timer.Reset(m.idle)
	return m.from.Read(b)
}

func (m *moving) Write(b []byte) (int, error) {
	m.timer.Reset(m.idle)
	return m.to.Write(b)
}

func (s *session) archive(op, name string, do func() error) error {
	err := errors.New("that is no name of an archive")
	if archiveName.MatchString(name) {
		err = do()
	}
	if err != nil {
		return &connect.Error{Target: s.access.Target, Op: op + " " + name, Err: err}
	}
	return nil
}

// Fetch implements connect.Archiver.
func (s *session) Fetch(ctx context.Context, name string, to io.Writer) error {
	return s.archive("fetch", name, func() error { return s.raw(ctx, "exec cat "+sealing+"/"+name, s.access.Patience(), nil, to) })
}

// Fetched implements connect.Archiver.
func (s *session) Fetched(ctx context.Context, name string, sum []byte) error {
	return s.archive("take away", name, func() error {
		return s.raw(ctx, "cd "+sealing+" && [ -e "+name+" ] || exit 0; set -- $(sha256sum "+name+") && if [ \"$1\" = "+
			""+hex.EncodeToString(sum)+" ]; then rm -f "+name+
			"; else echo 'it was written to meanwhile' >&2; exit 1; fi", searchFor, nil, io.Discard)
	})
}

// Return implements connect.Archiver.
func (s *session) Return(ctx context.Context, a connect.Archive, from io.Reader) (words string, err error) {
	err = s.archive("return", a.Name, func() error {
		if err := s.raw(ctx, "umask 077; mkdir -p "+archived+" && cat >"+archived+"/"+a.Name+".new && mv -f "+archived+"/"+a.Name+".new "+
			archived+"/"+a.Name, s.access.Patience(), from, io.Discard); err != nil {
			return err
		}
		words = "it is in " + archived + "/" + a.Name
		return s.exec(ctx, searchFor, func(in io.WriteCloser, out io.Reader) error {
			say(in, "urgent=1\n"+prelude(nil)+applyLib+removeLib+"back "+quoted(a.Account, a.Number)+"true\n", true)
			x := newAnswer(out, s.access.As)
			for x.Scan() {
				if said, ok := strings.CutPrefix(x.Text(), "back:"); ok {
					words = connect.Printable(said)
				}
			}
			return x.Err()
		})
	})
	return words, err
}
