package mariadb

import (
	"context"
	"crypto/tls"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
)

type session struct {
	access  connect.Access // with the address that the session is at
	db      *sql.DB
	conn    *sql.Conn
	own     string   // the account that our login is taken for
	host    string   // where we come from, as the server tells it
	bits    int      // privileges that the server knows
	columns []string // of mysql.db, whose columns are not the same with every version: those that stand for a privilege
	plugin  string   // the way in which passwords are kept that are set from here
	shut    string   // why it takes no changes, in words; "" when it does
	closing sync.Once
	wire    wire
}

// saysMost is how many bytes a server may say in one session: much of it is gathered before it is handed on.
const saysMost = 96 << 20

// asks is how every session is set: a quote is ended by a quote alone; nobody is made by being given something; and no
// statement waits longer than we do.
const asks = "'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,NO_AUTO_CREATE_USER,STRICT_ALL_TABLES'"

// Open implements connect.Connector. The secret is the password of the login.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	return connect.Several(ctx, a.Bounded(saysMost), a.Settings[alsoAt], open, func(s *session) *string { return &s.shut })
}

func open(ctx context.Context, a connect.Access) (*session, error) {
	s := &session{access: a}
	a.Dial = s.wire.through(a.Dial)
	s.db = database(a, a.As, a.Secret)
	s.db.SetMaxOpenConns(1)
	var err error
	if s.conn, err = s.db.Conn(ctx); err == nil {
		err = s.begin(ctx)
	}
	if err != nil {
		s.Close()
		return nil, s.opening(ctx, err)
	}
	return s, nil
}

// opening says what went wrong while a session was opened.
func (s *session) opening(ctx context.Context, err error) error {
	var k *connect.KeyError
	var me *mysql.MySQLError
	switch {
	case errors.As(err, &k):
		return k
	case errors.As(err, &me) && turnedAway(me):
		return s.fail("sign in as "+s.access.As, &connect.Refused{Err: said(err)})
	case ctx.Err() != nil:
		err = fmt.Errorf("it took the connection but said nothing for %s", s.access.Patience())
	case errors.Is(err, mysql.ErrNoTLS):
		err = errors.New("it offers no TLS, without which nobody signs in; give the server a certificate (ssl_cert, ssl_key)")
	}
	return s.fail("connect to "+s.access.Address, said(err))
}

// turnedAway says whether a login was not let in: 1045 access denied, 1698 without a password, 1130 from that host,
// 4151 account locked, 1862 and 1820 password expired.
func turnedAway(me *mysql.MySQLError) bool {
	switch me.Number {
	case 1045, 1698, 1130, 4151, 1862, 1820:
		return true
	}
	return false
}

// database reaches a server as somebody. Every connection is TLS to the server whose key was accepted, before anything is
// said on it.
func database(a connect.Access, as string, secret []byte, more ...tls.Certificate) *sql.DB {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr = as, string(secret), "tcp", a.Address
	c.Timeout, c.ReadTimeout, c.WriteTimeout = a.Patience(), a.Patience(), a.Patience()
	c.MultiStatements, c.AllowNativePasswords, c.CheckConnLiveness = true, true, false
	c.Logger = quiet{}
	c.Collation = "utf8mb4_bin"
	c.Params = map[string]string{"sql_mode": asks}
	c.MaxAllowedPacket = 16 << 20
	return sql.OpenDB(&dialer{a, c, more})
}

// dialer makes each connection with TLS settings of its own, so that it can be told whose key was shown.
type dialer struct {
	access connect.Access
	config *mysql.Config
	more   []tls.Certificate
}

func (d *dialer) Driver() driver.Driver { return mysql.MySQLDriver{} }

func (d *dialer) Connect(ctx context.Context) (driver.Conn, error) {
	host, _, err := net.SplitHostPort(d.access.Address)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, d.access.Patience())
	defer cancel()
	conf, refused := connect.Pinned(d.access, host, d.more...)
	c := d.config.Clone()
	c.TLS = conf
	c.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) { return d.access.Connect(ctx) }
	by, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	conn, err := by.Connect(ctx)
	for range 3 { // the driver takes a challenge of ed25519 that ends with a zero, as one in 256 does, for one that is too short
		if !errors.Is(err, mysql.ErrMalformPkt) {
			break
		}
		conn, err = by.Connect(ctx)
	}
	if k := refused(); k != nil {
		return nil, k
	}
	return conn, err
}

// quiet keeps the driver from writing to standard error: what it has to say is in its errors.
type quiet struct{}

func (quiet) Print(v ...any) { slog.Debug("mariadb driver", "says", fmt.Sprint(v...)) }

// begin asks what must be known before anything else.
func (s *session) begin(ctx context.Context) error {
	rows, err := s.conn.QueryContext(ctx, `SELECT CURRENT_USER(), USER(), @@version, @@global.read_only, @@wsrep_on;
		SELECT PLUGIN_NAME FROM information_schema.PLUGINS WHERE PLUGIN_TYPE = 'AUTHENTICATION' AND PLUGIN_STATUS = 'ACTIVE';
		SELECT * FROM mysql.db LIMIT 0`)
	if err != nil {
		return err
	}
	defer rows.Close()
	var user, version string
	var readOnly, cluster int
	if rows.Next() {
		if err := rows.Scan(&s.own, &user, &version, &readOnly, &cluster); err != nil {
			return err
		}
	}
	_, s.host = parts(user)
	s.bits = oldBits
	if later(version, 11, 3) {
		s.bits = len(bits)
	}
	if readOnly != 0 {
		s.shut = s.readOnlyWords()
	}
	rows.NextResultSet()
	var has []string
	for rows.Next() {
		var plugin string
		if err := rows.Scan(&plugin); err != nil {
			return err
		}
		has = append(has, plugin)
	}
	if rows.NextResultSet() {
		columns, err := rows.Columns()
		if err != nil {
			return err
		}
		s.columns = slices.DeleteFunc(columns, func(c string) bool { return ofDatabase[c] == "" })
	}
	if err := rows.Err(); err != nil {
		return err
	}
	s.plugin, err = preferred(has, s.access.Settings[passwordsAs])
	return err
}

func (s *session) readOnlyWords() string {
	return "the server at " + s.access.Address + " is read-only"
}

// later says whether a version, as 10.11.9-MariaDB, is at least that.
func later(version string, major, minor int) bool {
	var a, b int
	if _, err := fmt.Sscanf(version, "%d.%d", &a, &b); err != nil {
		return false
	}
	return a > major || a == major && b >= minor
}

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// said is an error of the server without what could do harm where it is shown.
func said(err error) error {
	var me *mysql.MySQLError
	if errors.As(err, &me) {
		words := me.Message
		if at := strings.Index(words, " near '"); me.Number == 1064 && at >= 0 { // it repeats the statement, and what was sealed with it
			words = words[:at]
		}
		return &told{fmt.Sprintf("%s (error %d)", connect.Printable(words), me.Number), err}
	}
	return err
}

type told struct {
	words string
	err   error
}

func (t *told) Error() string { return t.words }
func (t *told) Unwrap() error { return t.err }

// lost says whether an error tells nothing of what became of a statement: the connection broke, or the server went.
func lost(err error) bool {
	var me *mysql.MySQLError
	if errors.As(err, &me) { // shutting down, killed, not ready in a cluster
		return me.Number == 1053 || me.Number == 1927 || me.Number == 1047 || me.Number == 1180
	}
	var ne net.Error
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, context.Canceled) ||
		errors.Is(err, context.DeadlineExceeded) || errors.As(err, &ne)
}

// quitFor is how long a server may take to hear that we go, before the line is cut.
const quitFor = 200 * time.Millisecond

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Prove: s.Prove, Admits: s.Admits, Renew: s.Renew, Sessions: s.Sessions, End: s.End, Keep: s.Keep}
}

// Close implements connect.Session. A pool leaves the connections open that are in use, and ours is in use as long as the
// session is: it is given back here, so that the server hears of it and lists us no longer.
func (s *session) Close() (err error) {
	s.closing.Do(func() {
		err = s.db.Close()
		if s.conn == nil {
			return
		}
		left := make(chan struct{})
		go func() { defer close(left); s.conn.Close() }()
		select {
		case <-left:
		case <-time.After(quitFor): // it waits for an answer that is under way
			s.wire.cut()
			<-left
		}
	})
	return err
}

// wire is the line of a session's connection.
type wire struct {
	mu   sync.Mutex
	conn net.Conn
}

// through keeps hold of the line that is opened.
func (w *wire) through(dial connect.Dial) connect.Dial {
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		w.mu.Lock()
		defer w.mu.Unlock()
		w.conn = c
		return c, err
	}
}

func (w *wire) cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.conn != nil {
		w.conn.Close()
	}
}
