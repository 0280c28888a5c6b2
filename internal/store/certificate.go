package store

import (
	"context"
	"time"
)

// Certificate is a client certificate of our own authority.
type Certificate struct {
	Serial      string     `db:"serial"` // decimal
	Handover    int64      `db:"handover"`
	User        string     `db:"user"`
	Until       time.Time  `db:"until"`
	WithdrawnAt *time.Time `db:"withdrawn_at"`
	Held        bool       `db:"held"` // for the time of a suspension only
}

const certificateColumns = `serial, handover, user, until, withdrawn_at, held`

// AddCertificate notes one.
func (tx *Tx) AddCertificate(ctx context.Context, c Certificate) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO certificate (serial, handover, user, until) VALUES (:serial, :handover, :user, :until)`, c)
	return err
}

// WithdrawCertificates withdraws those of a user's that were made before a
// handover, 0 for all, for good or for the time of a suspension. It returns how many.
func (tx *Tx) WithdrawCertificates(ctx context.Context, user string, before int64, held bool, at time.Time) (int64, error) {
	res, err := tx.ExecContext(ctx, `UPDATE certificate SET withdrawn_at = ?, held = ? WHERE user = ? AND until > ? AND withdrawn_at IS NULL
		AND (? = 0 OR handover < ?)`, at, held, user, at, before, before)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// ReleaseCertificates lets those in again that were withdrawn for the time of a
// suspension, or withdraws them for good.
func (s *Store) ReleaseCertificates(ctx context.Context, user string, again bool) error {
	what := `held = 0`
	if again {
		what = `held = 0, withdrawn_at = NULL`
	}
	_, err := s.exec(ctx, `UPDATE certificate SET `+what+` WHERE user = ? AND held = 1`, user)
	return err
}

// WithdrawnCertificates are those that have not ended and are let in no more.
func (s *Store) WithdrawnCertificates(ctx context.Context, at time.Time) (out []Certificate, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+certificateColumns+` FROM certificate WHERE withdrawn_at IS NOT NULL AND until > ?
		ORDER BY withdrawn_at, serial`, at)
	return out, err
}

// CertificatesEnding are those let in that end from one moment to another, at most so many.
func (s *Store) CertificatesEnding(ctx context.Context, from, to time.Time, most int) (out []Certificate, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+certificateColumns+` FROM certificate WHERE until >= ? AND until < ? AND withdrawn_at IS NULL
		ORDER BY until, serial LIMIT ?`, from, to, most)
	return out, err
}
