package store

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"
)

// Many rows go to the server by LOAD DATA LOCAL, which takes half the time of an
// INSERT: no statement is parsed. Where a server does not allow it they are inserted.

const (
	loadFrom   = 200  // rows that are worth it
	rowsAtOnce = 1000 // rows of one statement
	loadBytes  = 64 << 10
)

var (
	noLoads atomic.Bool // a server does not allow it
)

// tsv is rows as LOAD DATA reads them: a line each, a tab between fields.
type tsv struct{ *bufio.Writer }

var escapes = [256]byte{0: '0', '\t': '\t', '\n': '\n', '\\': '\\'}

// line adds a row.
func (t *tsv) line(fields ...string) {
	for i, v := range fields {
		if i > 0 {
			t.WriteByte('\t')
		}
		for i := range len(v) {
			if c := v[i]; escapes[c] != 0 {
				t.WriteByte('\\')
				t.WriteByte(escapes[c])
			} else {
				t.WriteByte(c)
			}
		}
	}
	t.WriteByte('\n')
}

// load writes n rows into some columns of a table, in place of those with the
// same keys; set gives all rows what they have in common. It returns false, with
// nothing done, when they are few, or the server does not allow it. What does not
// fit is an error: it is REPLACE that keeps it from being a warning (LOCAL alone
// ignores).
func (tx *Tx) load(ctx context.Context, n int, table, columns string, rows func(*tsv), set string, args ...any) (bool, error) {
	done, _, err := tx.loadOver(ctx, n, table, columns, rows, set, args...)
	return done, err
}

// loadNew is load of rows whose keys nobody has. Where somebody has one it does nothing, and returns false.
func (tx *Tx) loadNew(ctx context.Context, n int, table, columns string, rows func(*tsv), set string, args ...any) (bool, error) {
	if n < loadFrom || noLoads.Load() {
		return false, nil
	}
	if _, err := tx.ExecContext(ctx, `SAVEPOINT untouched`); err != nil {
		return false, err
	}
	done, over, err := tx.loadOver(ctx, n, table, columns, rows, set, args...)
	if err == nil && over > 0 {
		_, err = tx.ExecContext(ctx, `ROLLBACK TO SAVEPOINT untouched`)
		return false, err
	}
	return done, err
}

// loadOver is load, and says how many rows it replaced.
func (tx *Tx) loadOver(ctx context.Context, n int, table, columns string, rows func(*tsv), set string,
	args ...any) (done bool, over int, err error) {
	if n < loadFrom || noLoads.Load() {
		return false, 0, nil
	}
	name := "rows-" + rand.Text()                        // which nobody can guess: all servers of this process could ask for it
	mysql.RegisterReaderHandler(name, func() io.Reader { // the server takes some while others are made
		from, into := io.Pipe()
		go func() {
			t := tsv{bufio.NewWriterSize(into, loadBytes)}
			rows(&t)
			into.CloseWithError(t.Flush())
		}()
		return from
	})
	defer mysql.DeregisterReaderHandler(name)
	if set != "" {
		set = " SET " + set
	}
	res, err := tx.ExecContext(ctx, `LOAD DATA LOCAL INFILE 'Reader::`+name+`' REPLACE INTO TABLE `+table+` CHARACTER SET binary
		(`+columns+`)`+set, args...)
	var e *mysql.MySQLError
	if errors.As(err, &e) && (e.Number == 1148 || e.Number == 4166) {
		noLoads.Store(true)
		return false, 0, nil
	}
	if err != nil {
		return false, 0, err
	}
	affected, err := res.RowsAffected() // two for one that is in place of another
	return true, int(affected) - n, err
}
