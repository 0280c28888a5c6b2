// Package store keeps what Hen Roost must not forget in MariaDB. It is the only
// place with SQL. Every function takes a context; those that only read use the
// pool, those that must all happen or none take a *Tx.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"hen-roost/internal/pause"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNone says that there is no such row.
var ErrNone = sql.ErrNoRows

// Store is a pool of connections. It is safe for concurrent use.
type Store struct {
	db   *sqlx.DB
	conf *mysql.Config // of its connections
}

// Tx is one transaction. Functions on it are called from the one function it is given to.
type Tx struct{ *sqlx.Tx }

// Open connects and brings the tables up to date. dsn is in the driver's form,
// user:password@tcp(host:port)/database.
func Open(ctx context.Context, dsn string) (*Store, error) {
	conf, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	conf.ParseTime = true
	conf.Loc = time.UTC
	conf.InterpolateParams = true // one round trip a statement instead of three
	conf.ClientFoundRows = true   // an update that changes nothing still found its row
	conf.Timeout, conf.ReadTimeout, conf.WriteTimeout = 5*time.Second, time.Minute, time.Minute
	conf.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'",
		"collation_connection": "'" + collation + "'"}
	// A time finer than a column keeps it is compared row by row, not found by an index.
	if err := conf.Apply(mysql.Charset("utf8mb4", ""), mysql.TimeTruncate(time.Microsecond)); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	conf.Logger = quiet{} // what the driver would say it says in its errors too
	db, err := pool(conf)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if clustered(ctx, db) { // what another node has committed is read, and not what was there before
		db.Close()
		conf.Params["wsrep_sync_wait"] = "1"
		if db, err = pool(conf); err != nil {
			return nil, fmt.Errorf("database: %w", err)
		}
	}
	long := conf.Clone()
	long.ReadTimeout = migrateFor
	for _, step := range []func(context.Context, *sqlx.DB) error{able, inAPool(long, migrate), told} {
		if err := step(ctx, db); err != nil {
			db.Close()
			return nil, err
		}
	}
	return &Store{db, conf}, nil
}

// migrateFor is how long one statement that brings a table up to date may take: it goes through all rows.
const migrateFor = 6 * time.Hour

// inAPool takes a step in connections of its own.
func inAPool(conf *mysql.Config, step func(context.Context, *sqlx.DB) error) func(context.Context, *sqlx.DB) error {
	return func(ctx context.Context, _ *sqlx.DB) error {
		db, err := pool(conf)
		if err != nil {
			return fmt.Errorf("database: %w", err)
		}
		defer db.Close()
		return step(ctx, db)
	}
}

// collation tells texts apart by every byte, spaces at their ends included, and
// orders them as Go does: comparing relies on both.
const collation = "utf8mb4_nopad_bin"

// able refuses a server that cannot tell names apart as they must be.
func able(ctx context.Context, db *sqlx.DB) error {
	var n int
	if err := db.GetContext(ctx, &n, `SELECT COUNT(*) FROM information_schema.collations WHERE collation_name = ?`, collation); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n == 0 {
		return fmt.Errorf("the database server has no collation %s, which tells names apart by case and by spaces at their ends; MariaDB "+
			"has it from version 10.2 on", collation)
	}
	return nil
}

// told refuses tables that somebody has given another collation.
func told(ctx context.Context, db *sqlx.DB) error {
	var wrong []string
	err := db.SelectContext(ctx, &wrong, `SELECT CONCAT(table_name, '.', column_name) FROM information_schema.columns
		WHERE table_schema = DATABASE() AND collation_name IS NOT NULL AND collation_name <> ? AND table_name NOT LIKE 'goose%'
				ORDER BY 1 LIMIT 5`, collation)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("the database compares %s otherwise than by every byte, so that names would be taken for each other; convert "+
			"its tables to %s", strings.Join(wrong, ", "), collation)
	}
	return nil
}

func pool(conf *mysql.Config) (*sqlx.DB, error) {
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return nil, err
	}
	db := sqlx.NewDb(sql.OpenDB(connector), "mysql")
	db.SetMaxOpenConns(24)
	db.SetMaxIdleConns(8)
	db.SetConnMaxLifetime(5 * time.Minute)
	return db, nil
}

// clustered says whether the server is a node of a Galera cluster.
func clustered(ctx context.Context, db *sqlx.DB) bool {
	var name, on string
	return db.QueryRowContext(ctx, `SHOW GLOBAL VARIABLES LIKE 'wsrep_on'`).Scan(&name, &on) == nil && on == "ON"
}

type quiet struct{}

func (quiet) Print(...any) {}

func migrate(ctx context.Context, db *sqlx.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db.DB, files,
		goose.WithGoMigrations(goose.NewGoMigration(7, &goose.GoFunc{RunTx: takeMembersOut}, nil)))
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// exec runs one statement that is a transaction of its own.
func (s *Store) exec(ctx context.Context, query string, args ...any) (res sql.Result, err error) {
	err = again(ctx, func() error {
		res, err = s.db.ExecContext(ctx, query, args...)
		return err
	})
	return res, err
}

// Tx runs fn in a transaction. fn may run more than once, after a deadlock or
// when a cluster refuses a commit, so it touches nothing but the database and
// stops at its first error. A connection that saw an error is thrown away: a
// server without a majority may keep its transaction open.
func (s *Store) Tx(ctx context.Context, fn func(*Tx) error) error {
	return again(ctx, func() error { return s.once(ctx, fn) })
}

// snapshot runs fn on what there was at one moment, however long it takes.
func (s *Store) snapshot(ctx context.Context, fn func(*Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	return fn(&Tx{tx})
}

// again does what surely did not happen once more, and waits longer each time:
// on a cluster all who write to the record meet in one row.
func again(ctx context.Context, do func() error) error {
	return pauses.Retry(ctx, func(try int) (bool, error) {
		err := do()
		return err != nil && try < triesMost && retryable(err), err
	})
}

var pauses = pause.Growing{First: 20 * time.Millisecond, Most: 500 * time.Millisecond}

const triesMost = 13

func (s *Store) once(ctx context.Context, fn func(*Tx) error) error {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	tx, err := conn.BeginTxx(ctx, nil)
	if err == nil {
		if err = fn(&Tx{tx}); err == nil {
			err = tx.Commit()
		} else {
			_ = tx.Rollback()
		}
	}
	var refused *Refusal
	if err != nil && !errors.Is(err, ErrNone) && !errors.As(err, &refused) {
		_ = conn.Raw(func(any) error { return driver.ErrBadConn })
	}
	return err
}

// Refusal is an error of our own inside a transaction, not of the database.
type Refusal struct{ Err error }

func (r *Refusal) Error() string { return r.Err.Error() }
func (r *Refusal) Unwrap() error { return r.Err }

// retryable errors surely did not commit.
func retryable(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205 || e.Number == 1047)
}

// Away says whether the error means that the database could not be asked,
// rather than that it said no.
func Away(err error) bool {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number == 1047 || e.Number == 1053 || e.Number == 1152 || e.Number == 1927
	}
	return err != nil && !errors.Is(err, ErrNone) && !errors.Is(err, context.Canceled)
}

// groups cuts n rows into runs of at most size.
func groups(n, size int) func(func(from, to int) bool) {
	return func(yield func(int, int) bool) {
		for from := 0; from < n; from += size {
			if !yield(from, min(from+size, n)) {
				return
			}
		}
	}
}

// statementMost bounds the bytes of one statement: a server takes no more than its max_allowed_packet, 16 MB unless it is set otherwise.
const statementMost = 4 << 20

// portions is groups for rows of very different sizes: a run ends where its bytes would be too many.
func portions(n, most int, size func(i int) int) func(func(from, to int) bool) {
	return func(yield func(int, int) bool) {
		for from := 0; from < n; {
			to, bytes := from, 0
			for to < n && to-from < most && (to == from || bytes+size(to) <= statementMost) {
				bytes += size(to)
				to++
			}
			if !yield(from, to) {
				return
			}
			from = to
		}
	}
}

// Page is a part of a longer list.
type Page struct {
	From, Size int
}

// oneOf is the right side of an IN for n placeholders: of none, nothing is one.
func oneOf(n int) string {
	if n == 0 {
		return "(SELECT NULL FROM DUAL WHERE FALSE)"
	}
	return "(?" + strings.Repeat(", ?", n-1) + ")"
}

// rows is the VALUES of an INSERT for n rows of so many columns. The driver's
// named parameters cost more time in reflection than the database takes.
func rows(n, columns int) string {
	one := oneOf(columns)
	return one + strings.Repeat(", "+one, n-1)
}
