package store

import (
	"context"
	"time"
)

// Secret is a sealed secret. What is in it only its key file's holder can read.
type Secret struct {
	Name   string    `db:"name"`
	Sealed []byte    `db:"sealed"`
	SetAt  time.Time `db:"set_at"`
	SetBy  string    `db:"set_by"`
}

// PutSecret keeps a secret, in place of the one of that name if there is one.
func (tx *Tx) PutSecret(ctx context.Context, s Secret) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO secret (name, sealed, set_at, set_by) VALUES (:name, :sealed, :set_at, :set_by)
		ON DUPLICATE KEY UPDATE sealed = VALUES(sealed), set_at = VALUES(set_at), set_by = VALUES(set_by)`, s)
	return err
}

// AddSecret keeps a secret unless there is one of that name.
func (tx *Tx) AddSecret(ctx context.Context, s Secret) error {
	_, err := tx.NamedExecContext(ctx, `INSERT IGNORE INTO secret (name, sealed, set_at, set_by) VALUES (:name, :sealed, :set_at, :set_by)`, s)
	return err
}

// DropSecret forgets a secret; one that is not there is well.
func (tx *Tx) DropSecret(ctx context.Context, name string) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE name = ?`, name)
	return err
}

// Secret returns one secret, or ErrNone.
func (s *Store) Secret(ctx context.Context, name string) (Secret, error) {
	var out Secret
	err := s.db.GetContext(ctx, &out, `SELECT name, sealed, set_at, set_by FROM secret WHERE name = ?`, name)
	return out, err
}

// Sealed returns a sealed value, or ErrNone.
func (s *Store) Sealed(ctx context.Context, id string) (body []byte, err error) {
	err = s.db.GetContext(ctx, &body, `SELECT body FROM sealed WHERE id = ?`, id)
	return body, err
}

// Secrets lists the secrets without what is in them.
func (s *Store) Secrets(ctx context.Context) ([]Secret, error) {
	var out []Secret
	err := s.db.SelectContext(ctx, &out, `SELECT name, set_at, set_by FROM secret ORDER BY name`)
	return out, err
}
