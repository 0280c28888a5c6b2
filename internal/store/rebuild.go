package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/go-sql-driver/mysql"
)

// What is deleted leaves room in its table's file that nothing else can use. A
// table that is mostly such room is written anew, while others read and write it.

const (
	spareLeast = 32 << 20 // bytes that are worth it
	spareWait  = 2        // seconds that it may wait for a moment alone; longer, and all who came later would wait behind it
	spareFor   = time.Hour
)

// Spare are the tables whose files are mostly room that was left.
func (s *Store) Spare(ctx context.Context) (tables []string, err error) {
	err = s.db.SelectContext(ctx, &tables, `SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()
		AND engine = 'InnoDB' AND data_free > ? AND data_free > data_length + index_length`, spareLeast)
	return tables, err
}

// Rebuild writes a table anew, so that its room is given back. On a cluster, where
// all would wait for it, it does nothing.
func (s *Store) Rebuild(ctx context.Context, table string) error {
	if clustered(ctx, s.db) {
		return nil
	}
	conf := s.conf.Clone()
	conf.ReadTimeout = spareFor // it answers when it is done
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	_, err = db.ExecContext(ctx, `SET STATEMENT lock_wait_timeout = ? FOR ALTER TABLE `+quoted(table)+` FORCE, ALGORITHM = INPLACE, LOCK = NONE`,
		spareWait)
	return err
}

// quoted is a name of ours as an identifier.
func quoted(name string) string {
	out := []byte{'`'}
	for i := range len(name) {
		if name[i] == '`' {
			out = append(out, '`')
		}
		out = append(out, name[i])
	}
	return string(append(out, '`'))
}
