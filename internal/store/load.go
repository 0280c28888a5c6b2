package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"
)

// Many rows go to the server by LOAD DATA LOCAL, which takes half the time of an
// INSERT: no statement is parsed. Where a server does not allow it they are inserted.

const (
	loadFrom   = 200  // rows that are worth it
	rowsAtOnce = 1000 // rows of one statement
)

var (
	loads   atomic.Int64
	noLoads atomic.Bool // a server does not allow it
)

// tsv is rows as LOAD DATA reads them: a line each, a tab between fields.
type tsv struct{ bytes.Buffer }

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
	if n < loadFrom || noLoads.Load() {
		return false, nil
	}
	var data tsv
	rows(&data)
	name := fmt.Sprintf("rows-%d", loads.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return bytes.NewReader(data.Bytes()) })
	defer mysql.DeregisterReaderHandler(name)
	_, err := tx.ExecContext(ctx, `LOAD DATA LOCAL INFILE 'Reader::`+name+`' REPLACE INTO TABLE `+table+` CHARACTER SET binary
		(`+columns+`) SET `+set, args...)
	var e *mysql.MySQLError
	if errors.As(err, &e) && (e.Number == 1148 || e.Number == 4166) {
		noLoads.Store(true)
		return false, nil
	}
	return err == nil, err
}
