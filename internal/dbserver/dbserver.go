// Package dbserver keeps a private MariaDB server in a folder: made when
// there is none, started, and stopped with its owner. It listens on loopback
// and on a socket in its folder.
package dbserver

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// Options say how to run the server.
type Options struct {
	Dir       string // its folder; short, since socket paths are limited to 107 bytes
	Throwaway bool   // for tests and the demo's data: nothing need outlive a power cut
}

// Server is a running server.
type Server struct {
	dir  string
	held *os.File // the folder's lock, while we own it

	mu       sync.Mutex
	cmd      *exec.Cmd
	gone     chan struct{}
	stopping bool
}

const schema = "roost"

// Start makes the folder if need be and starts the server in it. The process
// that holds the folder's lock owns the server; others use it as it is.
func Start(ctx context.Context, o Options) (*Server, error) {
	s := &Server{dir: o.Dir}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, err
	}
	owner, err := s.lock()
	if err != nil {
		return nil, err
	}
	if !owner {
		return s, s.ready(ctx)
	}
	if err := s.outlive(ctx); err != nil {
		return nil, err
	}
	if err := s.make(ctx); err != nil {
		return nil, err
	}
	if err := s.start(o.Throwaway); err != nil {
		return nil, err
	}
	if err := s.ready(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// lock takes the folder for this process; the kernel gives it back when the process ends, however it ends.
func (s *Server) lock() (bool, error) {
	f, err := os.OpenFile(filepath.Join(s.dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return false, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return false, nil
	}
	s.held = f
	return true, nil
}

// What an owner that was killed has left running is on its way out; if it hangs,
// as it may when it was hit while it started, it is ended.
const (
	leaveFor = 10 * time.Second // to end by itself
	termFor  = 5 * time.Second  // after it was asked to
)

// outlive waits until no server runs in the folder any more, and ends one that does not go.
func (s *Server) outlive(ctx context.Context) error {
	began, asked := time.Now(), map[int]time.Time{}
	for {
		left := s.running()
		if len(left) == 0 {
			return s.sweep()
		}
		for _, pid := range left {
			at, told := asked[pid]
			switch {
			case !told && time.Since(began) > leaveFor:
				slog.Warn("a database server of an earlier start hangs; it is ended", "folder", s.dir, "process", pid)
				asked[pid] = time.Now()
				_ = syscall.Kill(pid, syscall.SIGTERM)
			case told && time.Since(at) > termFor:
				_ = syscall.Kill(pid, syscall.SIGKILL) // InnoDB recovers from that as from a power cut
			}
		}
		if time.Since(began) > leaveFor+6*termFor {
			return fmt.Errorf("another MariaDB still runs in %s (process %d) and cannot be ended", s.dir, left[0])
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// running finds the servers that work on data in our folder. The lock of the
// folder is ours, so they are nobody's any more.
func (s *Server) running() (pids []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		b, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		args := strings.Split(string(b), "\x00")
		if !strings.HasPrefix(filepath.Base(args[0]), "mariadb") {
			continue
		}
		for _, arg := range args {
			if dir, ok := strings.CutPrefix(arg, "--datadir="); ok && (dir == s.data() || strings.HasPrefix(dir, s.data()+".")) {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
				pids = append(pids, pid)
				break
			}
		}
	}
	return pids
}

// sweep takes away what starts that were killed have left.
func (s *Server) sweep() error {
	drafts, err := filepath.Glob(s.data() + ".*")
	if err != nil {
		return err
	}
	for _, d := range drafts {
		if err := os.RemoveAll(d); err != nil {
			return err
		}
	}
	for _, file := range []string{s.socket(), filepath.Join(s.dir, "pid")} {
		if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

func (s *Server) socket() string { return filepath.Join(s.dir, "s") }

// tmp is a folder of the server's own for its temporary tables: at its start a
// server deletes those it finds, and in a shared folder they may be another's.
func (s *Server) tmp() string { return filepath.Join(s.dir, "tmp") }

// DSN is the address of the database for the driver.
func (s *Server) DSN() string { return "root@unix(" + s.socket() + ")/" + schema }

// asUser are the options that tell MariaDB's programs to run as root, which they otherwise refuse.
func asUser() []string {
	if u, err := user.Current(); err == nil && u.Uid == "0" {
		return []string{"--user=root"}
	}
	return nil
}

// make installs the system tables beside their place and moves them there, so that a broken attempt leaves nothing.
func (s *Server) make(ctx context.Context) error {
	data := s.data()
	if _, err := os.Stat(data); err == nil {
		return os.MkdirAll(s.tmp(), 0o700)
	}
	if len(s.socket()) > 100 {
		return fmt.Errorf("the folder %s has too long a name for a socket in it; 90 letters are the most", s.dir)
	}
	if err := os.MkdirAll(s.tmp(), 0o700); err != nil {
		return err
	}
	draft := data + "." + rand.Text()[:6]
	defer os.RemoveAll(draft)
	cmd := exec.CommandContext(ctx, "mariadb-install-db",
		append([]string{"--no-defaults", "--datadir=" + draft, "--tmpdir=" + s.tmp(), "--auth-root-authentication-method=normal",
			"--skip-test-db", "--skip-name-resolve", "--innodb-log-file-size=32M", undoFiles}, asUser()...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if out, err := cmd.CombinedOutput(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return errors.New("MariaDB's server is not installed (Debian: apt-get install mariadb-server), and no database is configured")
		}
		return fmt.Errorf("mariadb-install-db: %w: %s", err, tail(string(out)))
	}
	return os.Rename(draft, data)
}

// undoFiles keeps what transactions would take back in files of their own, which can
// be cut when a large one is over. A server that was made without goes on so.
const undoFiles = "--innodb-undo-tablespaces=2"

func (s *Server) start(throwaway bool) error {
	args := append([]string{"--no-defaults", "--datadir=" + s.data(), "--tmpdir=" + s.tmp(), "--socket=" + s.socket(), "--pid-file=" +
		filepath.Join(s.dir, "pid"),
		"--skip-networking", "--skip-name-resolve", "--skip-log-bin", "--character-set-server=utf8mb4",
		"--collation-server=utf8mb4_nopad_bin",
		"--performance-schema=OFF", "--max-allowed-packet=64M", "--wait-timeout=600", undoFiles, "--innodb-undo-log-truncate=ON",
		"--innodb-max-undo-log-size=32M"}, asUser()...)
	if throwaway {
		args = append(args, "--innodb-log-file-size=32M", "--innodb-buffer-pool-size=128M", "--innodb-flush-log-at-trx-commit=0",
			"--innodb-flush-method=nosync", "--innodb-doublewrite=0", "--innodb-fast-shutdown=2")
	} else { // room for surveys of large targets: a small log makes every page be written at once
		args = append(args, "--innodb-log-file-size=256M", "--innodb-buffer-pool-size=512M")
	}
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command("mariadbd", args...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	// A terminal's interrupt goes to the owner, who stops us in order; if the owner is killed, so are we.
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("mariadbd: %w", err)
	}
	s.gone = make(chan struct{})
	go func(cmd *exec.Cmd, gone chan struct{}) {
		_ = cmd.Wait()
		close(gone)
		s.again(throwaway)
	}(s.cmd, s.gone)
	return nil
}

// again starts a server anew that ended by itself.
func (s *Server) again(throwaway bool) {
	time.Sleep(500 * time.Millisecond)
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.stopping {
		_ = s.start(throwaway) // if it cannot be started, those who ask it are told that it does not answer
	}
}

func (s *Server) ready(ctx context.Context) error {
	db, err := sql.Open("mysql", "root@unix("+s.socket()+")/")
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		if _, err = db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS "+schema); err == nil {
			return nil
		}
		select {
		case <-s.gone: // nil, so never, when another process owns the server
			b, _ := os.ReadFile(filepath.Join(s.dir, "log"))
			return fmt.Errorf("mariadbd ended at once: %s", tail(string(b)))
		case <-ctx.Done():
			return fmt.Errorf("mariadbd did not become ready: %w", err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Stop ends the server if this process started it, and waits until it is gone.
func (s *Server) Stop() {
	if s.held == nil {
		return
	}
	defer s.held.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopping = true
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.gone:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.gone
	}
}

// Create makes one more database on the server and returns its address, for tests.
func (s *Server) Create(ctx context.Context) (dsn string, err error) {
	db, err := sql.Open("mysql", "root@unix("+s.socket()+")/")
	if err != nil {
		return "", err
	}
	defer db.Close()
	name := "t_" + strings.ToLower(rand.Text()[:10])
	_, err = db.ExecContext(ctx, "CREATE DATABASE "+name)
	return "root@unix(" + s.socket() + ")/" + name, err
}

// tail is what matters of a long complaint: its errors, or else its end.
func tail(s string) string {
	var errs []string
	lines := strings.Split(strings.TrimSpace(s), "\n")
	for _, l := range lines {
		if strings.Contains(l, "ERROR") {
			errs = append(errs, l)
		}
	}
	if errs != nil {
		return strings.Join(errs[:min(5, len(errs))], " / ")
	}
	return strings.Join(lines[max(0, len(lines)-5):], " / ")
}
