package store

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
)

type linkRow struct {
	Target string `db:"target"`
	User   string `db:"user"`
	Name   string `db:"name"`
	Unique string `db:"uniq"`
}

func (s *Store) links(ctx context.Context, where string, arg string) ([]model.Link, error) {
	var rows []linkRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT target, user, name, uniq FROM link WHERE `+where+` = ? ORDER BY target, user`, arg); err != nil {
		return nil, err
	}
	out := make([]model.Link, len(rows))
	for i, r := range rows {
		out[i] = model.Link(r)
	}
	return out, nil
}

// LinksOn returns whose the accounts of a target are.
func (s *Store) LinksOn(ctx context.Context, target string) ([]model.Link, error) {
	return s.links(ctx, "target", target)
}

// LinksOf returns a user's accounts on all targets.
func (s *Store) LinksOf(ctx context.Context, user string) ([]model.Link, error) {
	return s.links(ctx, "user", user)
}

// PutLink notes that an account is a user's.
func (tx *Tx) PutLink(ctx context.Context, l model.Link, round int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO link (target, user, name, uniq, round, since) VALUES (?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE name = VALUES(name), uniq = VALUES(uniq), round = VALUES(round)`, l.Target, l.User, l.Name, l.Unique, round, at)
	return err
}
