package host

import (
	"context"
	"encoding/hex"
	"errors"
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
	script := "cd " + sealing + " 2>/dev/null && for f in *.tar.gz; do [ ! -f \"$f\" ] || stat -c 'W:%s:%n' -- \"$f\"; done\n"
	err = s.ask(ctx, s.access.Patience(), script, func(line string) {
		f := strings.SplitN(line, ":", 3)
		if len(f) != 3 || f[0] != "W" || len(out) == filesMost {
			return
		}
		size, err := strconv.ParseInt(f[1], 10, 64)
		if m := archiveName.FindStringSubmatch(f[2]); m != nil && err == nil {
			out = append(out, connect.Archive{Name: f[2], Account: m[1], Number: m[2], Bytes: size})
		}
	})
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
	var from io.Reader
	if in != nil {
		from = alive
	}
	said := &clipped{most: complaintMost}
	return said.because(s.shell.Exec(ctx, command, from, alive, said))
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
		script := "urgent=1\n" + prelude(nil) + applyLib + removeLib + "back " + quoted(a.Account, a.Number) + "true\n"
		return s.ask(ctx, searchFor, script, func(line string) {
			if said, ok := strings.CutPrefix(line, "back:"); ok {
				words = connect.Printable(said)
			}
		})
	})
	return words, err
}
