package store

import (
	"context"
	"time"
)

// KeepRemoved keeps what makes accounts again that steps of a round are about to remove, by step, sealed. What was kept for a step
// before stays: the account may be gone by now.
func (s *Store) KeepRemoved(ctx context.Context, round int64, sealed map[int][]byte, at time.Time) error {
	if len(sealed) == 0 {
		return nil
	}
	var args []any
	for seq, body := range sealed {
		args = append(args, round, seq, body, at)
	}
	_, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO removed (round, seq, body, at) VALUES `+rows(len(sealed), 4), args...)
	return err
}

// Removed returns what was kept of a round, by step.
func (s *Store) Removed(ctx context.Context, round int64) (map[int][]byte, error) {
	var list []struct {
		Seq  int    `db:"seq"`
		Body []byte `db:"body"`
	}
	err := s.db.SelectContext(ctx, &list, `SELECT seq, body FROM removed WHERE round = ?`, round)
	out := make(map[int][]byte, len(list))
	for _, r := range list {
		out[r.Seq] = r.Body
	}
	return out, err
}

// RemovedBy returns what was kept for one step, or ErrNone.
func (s *Store) RemovedBy(ctx context.Context, round int64, seq int) (body []byte, err error) {
	err = s.db.GetContext(ctx, &body, `SELECT body FROM removed WHERE round = ? AND seq = ?`, round, seq)
	return body, err
}

// ForgetRemoved forgets what was kept before a time.
func (s *Store) ForgetRemoved(ctx context.Context, before time.Time) error {
	_, err := s.exec(ctx, `DELETE FROM removed WHERE at < ?`, before)
	return err
}
