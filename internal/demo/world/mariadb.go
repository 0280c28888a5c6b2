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
	"strconv"
	"strings"
	"syscall"
)

// MariaDB is a running MariaDB server, with TLS.
type MariaDB struct {
	Address  string // host:port
	Password string // of DatabaseLogin
	dir      string
	options  []string
	server
}

// DatabaseLogin is the login that Hen Roost has on sample databases.
const DatabaseLogin = "hen-roost"

// StartMariaDB makes and starts a server at an address of loopback; the text in SQL is carried out by its own root. More
// options are handed to the server.
func StartMariaDB(ctx context.Context, dir, ip, text string, options ...string) (*MariaDB, error) {
	port, err := freePort(ip)
	if err != nil {
		return nil, err
	}
	m := &MariaDB{Address: net.JoinHostPort(ip, strconv.Itoa(port)), Password: rand.Text(), dir: dir, options: options}
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "tmp"), 0o700); err != nil {
		return nil, err
	}
	if err := certify(dir, "stores.ternsound.example", ip); err != nil {
		return nil, err
	}
	out, err := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+filepath.Join(dir, "data"),
		"--tmpdir="+filepath.Join(dir, "tmp"), // in a shared folder it would delete the temporary tables of others
		"--auth-root-authentication-method=socket", "--auth-root-socket-user="+me(), "--skip-test-db", "--skip-name-resolve",
		"--innodb-log-file-size=8M",
		"--user="+me()).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("mariadb-install-db (Debian: apt-get install mariadb-server): %w: %s", err, tail(string(out)))
	}
	if err := m.Start(ctx); err != nil {
		return nil, err
	}
	own := fmt.Sprintf("CREATE USER '%[1]s'@'127.0.0.1' IDENTIFIED VIA ed25519 USING PASSWORD('%[2]s'); GRANT ALL ON *.* TO "+
		"'%[1]s'@'127.0.0.1' WITH GRANT OPTION;",
		DatabaseLogin, m.Password)
	if err := m.Run(own + text); err != nil {
		m.Stop()
		return nil, err
	}
	return m, nil
}

func me() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "root"
}

// Start starts the server on what it holds.
func (m *MariaDB) Start(ctx context.Context) error {
	host, port, err := net.SplitHostPort(m.Address)
	if err != nil {
		return err
	}
	at := func(name string) string { return filepath.Join(m.dir, name) }
	cmd := exec.Command("mariadbd", append([]string{"--no-defaults", "--datadir=" + at("data"), "--tmpdir=" + at("tmp"), "--socket=" +
		at("s"),
		"--pid-file=" + at("pid"), "--bind-address=" + host, "--port=" + port, "--skip-name-resolve", "--skip-log-bin", "--user=" + me(),
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--innodb-log-file-size=8M", "--innodb-buffer-pool-size=16M",
		"--performance-schema=OFF", "--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync", "--innodb-doublewrite=0",
		"--innodb-fast-shutdown=2", "--ssl-cert=" + at("srv.pem"), "--ssl-key=" + at("srv.key"), "--ssl-ca=" + at("ca.pem"),
		"--plugin-load-add=auth_ed25519"}, m.options...)...)
	return m.run(ctx, cmd, m.LogFile(), m.Address, func() error { return m.Run("SELECT 1") })
}

// Again stops the server and starts it on what it holds.
func (m *MariaDB) Again(ctx context.Context) error {
	m.Stop()
	return m.Start(ctx)
}

// Run carries out statements as the server's own root, past our connector.
func (m *MariaDB) Run(text string) error {
	_, err := m.Ask(text)
	return err
}

// Ask carries out statements as the server's own root, and returns what they answer: lines, with tabs between the columns.
func (m *MariaDB) Ask(text string) (string, error) {
	cmd := exec.Command("mariadb", "--no-defaults", "--default-character-set=utf8mb4", "-N", "-B", "-r", "-u"+me(), "-S",
		filepath.Join(m.dir, "s"))
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("mariadb: %w: %s", err, tail(string(out)))
	}
	return strings.TrimSpace(string(out)), nil
}

// LogFile is what the server says of itself.
func (m *MariaDB) LogFile() string { return filepath.Join(m.dir, "log") }

// Stop ends the server and waits until it is gone.
func (m *MariaDB) Stop() { m.end(syscall.SIGTERM) }

// Lend gives a server the certificate of another at the same machine, so that both are known by one authority, and the same
// password of our login.
func (m *MariaDB) Lend(from *MariaDB) error {
	m.Password = from.Password
	err := m.Run(fmt.Sprintf("ALTER USER '%s'@'127.0.0.1' IDENTIFIED VIA ed25519 USING PASSWORD('%s')", DatabaseLogin, m.Password))
	m.Stop()
	host, _, _ := net.SplitHostPort(m.Address)
	return errors.Join(err, certifyBy(m.dir, from.dir, "stores.ternsound.example", host), m.Start(context.Background()))
}
