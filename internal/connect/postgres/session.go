package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"hen-roost/internal/connect"
)

type session struct {
	access  connect.Access // with the address that the session is at
	home    *pgconn.PgConn
	mu      sync.Mutex                // what Close may take away meanwhile
	others  map[string]*pgconn.PgConn // by database; opened when first needed
	closed  bool
	own     string // the role that our login is taken for
	version int    // as 150004
	super   bool   // our login is superuser
	shut    string // why it takes no changes, in words; "" when it does
}

// Open implements connect.Connector. The secret is the password of the login.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	return connect.Several(ctx, a.Bounded(saysMost), a.Settings[alsoAt], open, func(s *session) *string { return &s.shut })
}

func open(ctx context.Context, a connect.Access) (*session, error) {
	s := &session{access: a, others: map[string]*pgconn.PgConn{}}
	var err error
	if s.home, err = dial(ctx, a, a.As, a.Secret, s.homeName()); err != nil {
		return nil, s.opening(ctx, err)
	}
	rows, err := s.ask(ctx, s.home, "SELECT current_user, current_setting('server_version_num'), pg_is_in_recovery(), "+
		"current_setting('default_transaction_read_only'), current_setting('is_superuser')")
	if err == nil && (len(rows) != 1 || len(rows[0]) != 1) {
		err = errors.New("it does not say what it is")
	}
	if err != nil {
		s.Close()
		return nil, s.opening(ctx, err)
	}
	row := rows[0][0]
	s.own, s.super = row[0], row[4] == "on"
	_, _ = fmt.Sscan(row[1], &s.version)
	switch {
	case row[2] == "t":
		s.shut = "the server at " + s.access.Address + " is a replica, which takes no changes"
	case row[3] == "on":
		s.shut = "the server at " + s.access.Address + " is read-only"
	}
	return s, nil
}

func (s *session) homeName() string {
	if n := s.access.Settings[database]; n != "" {
		return n
	}
	return "postgres"
}

// opening says what went wrong while a session was opened.
func (s *session) opening(ctx context.Context, err error) error {
	var k *connect.KeyError
	if errors.As(err, &k) {
		return k
	}
	if turnedAway(err) {
		return s.fail("sign in as "+s.access.As, &connect.Refused{Err: said(err)})
	}
	if ctx.Err() != nil || errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("it took the connection but said nothing for %s", s.access.Patience())
	}
	return s.fail("connect to "+s.access.Address, said(err))
}

// turnedAway says whether a login was not let in (PostgreSQL appendix A): wrong password, or not one that may sign in.
func turnedAway(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && (pe.Code == "28P01" || pe.Code == "28000")
}

// dial signs in to a database. The connection is TLS to the server whose key was accepted, before anything is said on it.
func dial(ctx context.Context, a connect.Access, as string, secret []byte, db string) (*pgconn.PgConn, error) {
	host, port, err := net.SplitHostPort(a.Address)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	c, err := pgconn.ParseConfig("sslmode=require") // no setting comes from the surroundings: each is set below
	if err != nil {
		return nil, err
	}
	c.Host, c.User, c.Password, c.Database = host, as, string(secret), db
	if _, err := fmt.Sscan(port, &c.Port); err != nil {
		return nil, err
	}
	conf, refused := connect.Pinned(a, host)
	c.TLSConfig, c.Fallbacks, c.ConnectTimeout = conf, nil, a.Patience()
	c.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) { return a.Connect(ctx) }
	c.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	c.RuntimeParams = map[string]string{"application_name": "hen-roost", "client_encoding": "UTF8", "DateStyle": "ISO", "TimeZone": "UTC",
		"standard_conforming_strings": "on", "search_path": "pg_catalog", "jit": "off"}
	c.ValidateConnect, c.AfterConnect = nil, nil
	c.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(r, w)
		f.SetMaxBodyLen(messageMost)
		return f
	}
	conn, err := pgconn.ConnectConfig(ctx, c)
	if k := refused(); k != nil {
		return nil, k
	}
	return conn, err
}

// What a server may say: in one session, since much of it is gathered before it is handed on, and in one message.
const (
	saysMost    = 96 << 20
	messageMost = 16 << 20
)

// in is a connection to a database, "" for the one that was signed in to.
func (s *session) in(ctx context.Context, db string) (*pgconn.PgConn, error) {
	if db == "" || db == s.homeName() {
		return s.home, nil
	}
	s.mu.Lock()
	conn, closed := s.others[db], s.closed
	s.mu.Unlock()
	if closed {
		return nil, net.ErrClosed
	}
	if conn != nil && !conn.IsClosed() {
		return conn, nil
	}
	conn, err := dial(ctx, s.access, s.access.As, s.access.Secret, db)
	if err != nil {
		return nil, fmt.Errorf("database %s: %w", connect.Printable(db), said(err))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		_ = conn.Conn().Close()
		return nil, net.ErrClosed
	}
	s.others[db] = conn
	return conn, nil
}

// ask carries out statements in one request, as one transaction, and returns the rows of each.
func (s *session) ask(ctx context.Context, conn *pgconn.PgConn, sql string) ([][][]string, error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	var out [][][]string
	answers := conn.Exec(ctx, sql)
	for answers.NextResult() {
		r := answers.ResultReader()
		var rows [][]string
		for r.NextRow() {
			values := r.Values()
			row := make([]string, len(values))
			for i, v := range values {
				row[i] = string(v)
			}
			rows = append(rows, row)
		}
		if _, err := r.Close(); err != nil {
			_ = answers.Close()
			return nil, err
		}
		out = append(out, rows)
	}
	return out, answers.Close()
}

// posed are queries that a server is working on.
type posed struct {
	conn    *pgconn.PgConn
	answers *pgconn.MultiResultReader
	queries []query
	end     context.CancelFunc
}

// pose poses queries in one request. They are to be read, or dropped, before anything else is asked there.
func (s *session) pose(ctx context.Context, conn *pgconn.PgConn, queries []query) *posed {
	ctx, end := context.WithTimeout(ctx, 10*s.access.Patience()) // a survey of many may take its time
	texts := make([]string, len(queries))
	for i, q := range queries {
		texts[i] = q.text
	}
	return &posed{conn, conn.Exec(ctx, strings.Join(texts, ";")), queries, end}
}

// read hands the rows on.
func (p *posed) read() error {
	defer p.end()
	count := 0
	for n := 0; p.answers.NextResult(); n++ {
		r := p.answers.ResultReader()
		for r.NextRow() {
			if count++; count > most {
				_ = p.conn.Conn().Close()
				return fmt.Errorf("there is more than %d lines of it", most)
			}
			p.queries[min(n, len(p.queries)-1)].take(r.Values())
		}
		if _, err := r.Close(); err != nil {
			_ = p.answers.Close()
			return err
		}
	}
	return p.answers.Close()
}

// drop ends queries whose answers nobody wants any more, and the connection with them.
func (p *posed) drop() {
	if p != nil {
		p.end()
		_ = p.answers.Close()
	}
}

// most bounds what is read of one server.
const most = 5_000_000

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// said is an error of the server without what could do harm where it is shown.
func said(err error) error {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) {
		return err
	}
	words := sealedForm.ReplaceAllString(pe.Message, "(sealed)")
	for _, more := range []string{pe.Detail, pe.Hint} {
		if more != "" {
			words += "; " + strings.ReplaceAll(more, "\n", ", ")
		}
	}
	return &told{connect.Printable(fmt.Sprintf("%s (error %s)", words, pe.Code)), err}
}

// sealedForm is how a password is kept, which nobody is to read.
var sealedForm = regexp.MustCompile(`SCRAM-SHA-256\$[^\s'"]*|md5[0-9a-f]{32}`)

type told struct {
	words string
	err   error
}

func (t *told) Error() string { return t.words }
func (t *told) Unwrap() error { return t.err }

// lost says whether an error tells nothing of what became of a statement: the connection broke, or the server went (class
// 57P), or it is not known whether a transaction holds (08007, 40003).
func lost(err error) bool {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) {
		return err != nil
	}
	return strings.HasPrefix(pe.Code, "57P") || pe.Code == "08007" || pe.Code == "40003"
}

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Prove: s.Prove, Admits: s.Admits, Renew: s.Renew, Sessions: s.Sessions, End: s.End, Keep: s.Keep}
}

// Close implements connect.Session.
func (s *session) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	for _, c := range s.others {
		_ = c.Conn().Close()
	}
	return s.home.Conn().Close()
}
