package main

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver, for the bare program

	"hen-roost/internal/dbserver"
	"hen-roost/internal/store"
)

const entries = 10_000

func (w *workbench) database(ctx context.Context) (string, error) {
	db, err := dbserver.Start(ctx, dbserver.Options{Dir: filepath.Join(w.dir, "db")}) // with full durability
	if err != nil {
		return "", err
	}
	w.later(db.Stop)
	return db.Create(ctx)
}

// recordPromise: ten thousand entries written in groups of a hundred, each group
// durable when it is written, against the second they may take.
func recordPromise(ctx context.Context, w *workbench) (float64, float64, error) {
	ours, _, err := record(ctx, w)
	return ours, 1, err
}

// recordBare: the same against bare rows in statements of a hundred, without chain, head or keys.
func recordBare(ctx context.Context, w *workbench) (float64, float64, error) { return record(ctx, w) }

func record(ctx context.Context, w *workbench) (float64, float64, error) {
	dsn, err := w.database(ctx)
	if err != nil {
		return 0, 0, err
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return 0, 0, err
	}
	w.later(func() { s.Close() })
	db, err := sql.Open("mysql", dsn+"?interpolateParams=true")
	if err != nil {
		return 0, 0, err
	}
	w.later(func() { db.Close() })
	if _, err := db.ExecContext(ctx, `CREATE TABLE bare (seq BIGINT AUTO_INCREMENT PRIMARY KEY, at DATETIME(6), words VARCHAR(2000), body BLOB)`); err != nil {
		return 0, 0, err
	}
	body := []byte(`{"step":17,"outcome":"done","before":{"shell":["/bin/sh"]},"after":{"shell":["/bin/bash"]}}`)
	return pair(5, func(int) error {
		for from := 0; from < entries; from += 100 {
			group := make([]*store.Entry, 100)
			for i := range group {
				group[i] = &store.Entry{At: time.Now(), Kind: "step", Operator: "odd.strand", Target: "arctic-tern", User: "marit.fell",
					Round: 7, Because: "spring deck crew", Words: fmt.Sprintf("change account marit.fell: done %d", from+i), Body: body}
			}
			if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.Append(ctx, group...) }); err != nil {
				return err
			}
		}
		return nil
	}, func(int) error {
		for from := 0; from < entries; from += 100 {
			args := []any{}
			for i := range 100 {
				args = append(args, time.Now(), fmt.Sprintf("change account marit.fell: done %d", from+i), body)
			}
			if _, err := db.ExecContext(ctx, `INSERT INTO bare (at, words, body) VALUES (?,?,?)`+strings.Repeat(",(?,?,?)", 99),
				args...); err != nil {
				return err
			}
		}
		return nil
	})
}
