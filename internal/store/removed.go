package store

import (
	"context"
	"strings"
)

// KeepRemoved keeps what makes accounts again that steps of a round are about to remove, by step, sealed. What was kept for a step
// before stays: the account may be gone by now.
func (s *Store) KeepRemoved(ctx context.Context, round int64, sealed map[int][]byte) error {
	if len(sealed) == 0 {
		return nil
	}
	var args []any
	for seq, body := range sealed {
		args = append(args, round, seq, body)
	}
	_, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO removed (round, seq, body) VALUES `+
		strings.TrimSuffix(strings.Repeat("(?, ?, ?), ", len(sealed)), ", "), args...)
	return err
}

// Removed returns what was kept of a round, by step.
func (s *Store) Removed(ctx context.Context, round int64) (map[int][]byte, error) {
	var rows []struct {
		Seq  int    `db:"seq"`
		Body []byte `db:"body"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT seq, body FROM removed WHERE round = ?`, round)
	out := make(map[int][]byte, len(rows))
	for _, r := range rows {
		out[r.Seq] = r.Body
	}
	return out, err
}
