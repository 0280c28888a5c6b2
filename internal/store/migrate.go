package store

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/jmoiron/sqlx"

	"hen-roost/internal/core/model"
)

// takeMembersOut is the migration that takes the members of sets out of what
// else is known of them, into pieces (migrations/00006_sets.sql). What sets had
// as members in the past stays where it is, and is read there.
func takeMembersOut(ctx context.Context, raw *sql.Tx) error {
	tx := &Tx{&sqlx.Tx{Tx: raw, Mapper: sqlx.NewDb(nil, "mysql").Mapper}}
	var sets []struct {
		Target string `db:"target"`
		Name   string `db:"name"`
	}
	if err := tx.SelectContext(ctx, &sets, `SELECT target, name FROM observed WHERE kind = 'group'`); err != nil {
		return err
	}
	for _, set := range sets {
		var row observedRow
		err := tx.QueryRowContext(ctx, `SELECT uniq, belongs, body, since FROM observed WHERE target = ? AND kind = 'group' AND name = ?`,
			set.Target, set.Name).
			Scan(&row.Unique, &row.Flags, &row.Body, &row.Since)
		if err != nil {
			return err
		}
		o := model.Object{Kind: model.GroupKind}
		if err := fill(&o, []byte(set.Name), []byte(row.Unique), row.Body); err != nil {
			return fmt.Errorf("group %s on %s: %w", set.Name, set.Target, err)
		}
		rest, pieces, has := unset(o)
		if !has {
			continue
		}
		if err := tx.insertPieces(ctx, set.Target, pieces, row.Since); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE observed SET body = ? WHERE target = ? AND kind = 'group' AND name = ?`,
			[]byte(rest.Attributes), set.Target, set.Name); err != nil {
			return err
		}
	}
	return nil
}
