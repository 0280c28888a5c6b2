package store

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
)

// Decision is what a person said of an account that could be somebody's.
type Decision struct {
	Target   string    `db:"target"`
	Name     string    `db:"name"`
	User     string    `db:"user"`
	Theirs   bool      `db:"theirs"`
	Operator string    `db:"operator"`
	Because  string    `db:"because"`
	MadeAt   time.Time `db:"made_at"`
}

// Plain is the decision without who made it.
func (d Decision) Plain() model.Decision {
	return model.Decision{Target: d.Target, Name: d.Name, User: d.User, Theirs: d.Theirs}
}

// PutDecision remembers what a person said. That an account is one user's
// takes the place of its being another's.
func (tx *Tx) PutDecision(ctx context.Context, d Decision) error {
	if d.Theirs {
		if _, err := tx.ExecContext(ctx, `DELETE FROM decision WHERE target = ? AND theirs = 1 AND (name = ? OR user = ?)`, d.Target,
			d.Name, d.User); err != nil {
			return err
		}
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO decision (target, name, user, theirs, operator, because, made_at)
			VALUES (:target, :name, :user, :theirs, :operator, :because, :made_at)
		ON DUPLICATE KEY UPDATE theirs = VALUES(theirs),
			operator = VALUES(operator), because = VALUES(because), made_at = VALUES(made_at)`, d)
	return err
}

// DropDecision forgets what a person said. It says whether there was anything to forget.
func (tx *Tx) DropDecision(ctx context.Context, target, name, user string) (bool, error) {
	res, err := tx.ExecContext(ctx, `DELETE FROM decision WHERE target = ? AND name = ? AND user = ?`, target, name, user)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// Decisions returns what people said of a target's accounts, or of all targets' where the name is empty.
func (s *Store) Decisions(ctx context.Context, target string) ([]Decision, error) {
	var out []Decision
	err := s.db.SelectContext(ctx, &out, `SELECT target, name, user, theirs, operator, because, made_at FROM decision WHERE target = ?
			OR ? = '' ORDER BY target, name, user`, target, target)
	return out, err
}
