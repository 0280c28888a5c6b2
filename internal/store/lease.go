package store

import (
	"context"
	"time"
)

// Lease takes or renews the sole right to work on something for a while. The
// database's clock decides, so that processes need not agree on theirs.
// It says whether the right was given.
func (s *Store) Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error) {
	_, err := s.exec(ctx, `INSERT INTO lease (what, owner, until) VALUES (?, ?, NOW(6) + INTERVAL ? MICROSECOND)
		ON DUPLICATE KEY UPDATE owner = IF(owner = VALUES(owner) OR until < NOW(6), VALUES(owner), owner),
		until = IF(owner = VALUES(owner), VALUES(until), until)`, what, owner, during.Microseconds())
	if err != nil {
		return false, err
	}
	var holder string
	err = s.db.GetContext(ctx, &holder, `SELECT owner FROM lease WHERE what = ?`, what)
	return holder == owner, err
}

// Release gives a lease back.
func (s *Store) Release(ctx context.Context, what, owner string) error {
	_, err := s.exec(ctx, `DELETE FROM lease WHERE what = ? AND owner = ?`, what, owner)
	return err
}

// Held returns what is leased now and begins with a prefix, without the prefix.
func (s *Store) Held(ctx context.Context, prefix string) (map[string]bool, error) {
	var names []string
	if err := s.db.SelectContext(ctx, &names, `SELECT what FROM lease WHERE what LIKE ? AND until >= NOW(6)`, escapeLike(prefix)+
		"%"); err != nil {
		return nil, err
	}
	out := make(map[string]bool, len(names))
	for _, n := range names {
		out[n[len(prefix):]] = true
	}
	return out, nil
}
