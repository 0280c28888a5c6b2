package store

import (
	"context"
	"time"
)

// Guess counts failed sign-ins under a name, from an address, or both; those
// that are just being looked at count too.
type Guess struct {
	Name   string    `db:"name"`
	Origin string    `db:"origin"`
	N      int       `db:"n"`
	Until  time.Time `db:"until"` // no more before then
	Print  []byte    `db:"print"` // of the last wrong password
}

// Guesses returns what is counted under some names and addresses, in their
// order, new counts where there are none, and keeps others from counting there
// until the transaction ends.
func (tx *Tx) Guesses(ctx context.Context, at time.Time, keys ...[2]string) ([]Guess, error) {
	out := make([]Guess, len(keys))
	for i, k := range keys {
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO guess (name, origin, n, until, print) VALUES (?, ?, 0, ?, '')`, k[0], k[1],
			at); err != nil {
			return nil, err
		}
		if err := tx.GetContext(ctx, &out[i], `SELECT name, origin, n, until, print FROM guess WHERE name = ? AND origin = ? FOR UPDATE`,
			k[0], k[1]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PutGuess stores a count.
func (tx *Tx) PutGuess(ctx context.Context, g Guess) error {
	_, err := tx.ExecContext(ctx, `UPDATE guess SET n = ?, until = ?, print = ? WHERE name = ? AND origin = ?`, g.N, g.Until, g.Print,
		g.Name, g.Origin)
	return err
}

// NotePrint notes the last wrong password of a name from an address.
func (tx *Tx) NotePrint(ctx context.Context, name, origin string, print []byte) error {
	_, err := tx.ExecContext(ctx, `UPDATE guess SET print = ? WHERE name = ? AND origin = ?`, print, name, origin)
	return err
}

// ForgetGuesses forgets counts whose wait ended before a moment, some at a time.
func (tx *Tx) ForgetGuesses(ctx context.Context, before time.Time) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM guess WHERE until < ? LIMIT 1000`, before)
	return err
}

// KnownOrigin says whether an operator has signed in from an address since a moment.
func (s *Store) KnownOrigin(ctx context.Context, name, origin string, since time.Time) (bool, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM known_origin WHERE name = ? AND origin = ? AND at >= ?`, name, origin, since)
	return n > 0, err
}

// NoteOrigin notes that an operator has signed in from an address.
func (tx *Tx) NoteOrigin(ctx context.Context, name, origin string, at time.Time) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO known_origin (name, origin, at) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE at = VALUES(at)`,
		name, origin, at)
	return err
}
