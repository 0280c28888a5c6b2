package world

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Postgres is a running PostgreSQL server, with TLS.
type Postgres struct {
	Address  string // host:port
	Password string // of DatabaseLogin
	dir, bin string
	server
}

// StartPostgres makes and starts a server at an address of loopback; the text in SQL is carried out by its own superuser. It
// does not run as root, and so not in folders that are root's alone: it has a temporary one, which goes with Remove.
func StartPostgres(ctx context.Context, ip, text string) (*Postgres, error) {
	port, err := freePort(ip)
	if err != nil {
		return nil, err
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return nil, errors.New("PostgreSQL is not installed (Debian: apt-get install postgresql)")
	}
	dir, err := os.MkdirTemp("", "hen-roost-postgres-")
	if err != nil {
		return nil, err
	}
	p := &Postgres{Address: net.JoinHostPort(ip, strconv.Itoa(port)), Password: rand.Text(), dir: dir,
		bin: filepath.Dir(slices.Max(found))}
	if err := p.begin(ctx, ip, text); err != nil {
		p.Remove()
		return nil, err
	}
	return p, nil
}

func (p *Postgres) begin(ctx context.Context, ip, text string) error {
	dir := p.dir
	if err := certify(dir, "rota.ternsound.example", ip); err != nil {
		return err
	}
	for _, file := range []string{"srv.key", "srv.pem", "ca.pem"} { // the server does not run as root, and reads its own alone
		if err := p.own(filepath.Join(dir, file)); err != nil {
			return err
		}
	}
	if err := p.own(dir); err != nil {
		return err
	}
	data := filepath.Join(dir, "data")
	if out, err := p.command(ctx, "initdb", "-D", data, "-U", "postgres", "--auth-local=trust", "--auth-host=scram-sha-256", "-E", "UTF8",
		"--locale=C.UTF-8", "--no-sync").CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, tail(string(out)))
	}
	if err := p.Start(ctx); err != nil {
		return err
	}
	if err := p.Run("postgres", fmt.Sprintf(`CREATE ROLE "%s" LOGIN SUPERUSER PASSWORD '%s';`, DatabaseLogin, p.Password)+text); err != nil {
		return err
	}
	return nil
}

// who is whom the server runs as: it refuses to run as root.
func (p *Postgres) who() *user.User {
	if os.Geteuid() != 0 {
		return nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil
	}
	return u
}

func (p *Postgres) own(path string) error {
	u := p.who()
	if u == nil {
		return nil
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return os.Chown(path, uid, gid)
}

func (p *Postgres) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(p.bin, name), args...)
	cmd.Dir = p.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGQUIT}
	if u := p.who(); u != nil {
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	return cmd
}

// Start starts the server on what it holds.
func (p *Postgres) Start(ctx context.Context) error {
	host, port, err := net.SplitHostPort(p.Address)
	if err != nil {
		return err
	}
	at := func(name string) string { return filepath.Join(p.dir, name) }
	cmd := p.command(context.Background(), "postgres", "-D", at("data"), "-h", host, "-p", port, "-k", p.dir, "-c", "fsync=off", "-c",
		"synchronous_commit=off", "-c", "full_page_writes=off", "-c", "shared_buffers=32MB", "-c", "ssl=on", "-c",
		"ssl_cert_file="+at("srv.pem"),
		"-c", "ssl_key_file="+at("srv.key"), "-c", "ssl_ca_file="+at("ca.pem"))
	return p.run(ctx, cmd, p.LogFile(), p.Address, func() error { return p.Run("postgres", "SELECT 1") })
}

// Run carries out statements as the server's own superuser, past our connector; \c changes the database.
func (p *Postgres) Run(database, text string) error {
	_, err := p.Ask(database, text)
	return err
}

// Ask carries out statements and returns what they answer: lines, with tabs between the columns.
func (p *Postgres) Ask(database, text string) (string, error) {
	_, port, _ := net.SplitHostPort(p.Address)
	cmd := exec.Command(filepath.Join(p.bin, "psql"), "-X", "-q", "-A", "-t", "-F", "\t", "-v", "ON_ERROR_STOP=1", "-h", p.dir, "-p",
		port, "-U",
		"postgres", database)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("psql: %w: %s", err, tail(string(out)))
	}
	return strings.TrimSpace(string(out)), nil
}

// LogFile is what the server says of itself.
func (p *Postgres) LogFile() string { return filepath.Join(p.dir, "log") }

// Stop ends the server and what is signed in to it, and waits until it is gone. What was committed stays.
func (p *Postgres) Stop() { p.end(syscall.SIGINT) }

// Remove stops the server and forgets what it held.
func (p *Postgres) Remove() {
	p.Stop()
	_ = os.RemoveAll(p.dir)
}
