package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5/pgconn"

	"hen-roost/internal/connect"
)

// Prove implements connect.Offers: it signs in from here. That a rule of the server's keeps it out from here, or whatever its
// password is, proves nothing.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	op := "try to sign in as " + as
	if secret.Empty() {
		return false, s.fail(op, errors.New("a sign-in without a password proves nothing"))
	}
	conn, err := dial(ctx, s.access, as, secret.Reveal(), s.homeName())
	var pe *pgconn.PgError
	switch {
	case err == nil:
		return true, conn.Close(ctx)
	case errors.As(err, &pe) && (pe.Code == "42501" || pe.Code == "53300"): // let in, but not to that database, or not now
		return true, nil
	case errors.As(err, &pe) && (pe.Code == "28P01" || pe.Code == "28000" && pe.Routine == "InitializeSessionUserId"):
		return false, nil
	}
	return false, s.fail(op, said(err))
}

// Renew implements connect.Offers: a role has one password, so that the old one is gone with it.
func (s *session) Renew(ctx context.Context, fresh connect.Secret) error {
	const op = "set our own password"
	if fresh.Empty() {
		return s.fail(op, errors.New("a password of no letters is none"))
	}
	if s.shut != "" {
		return s.fail(op, errors.New(s.shut))
	}
	v, err := verifier(fresh.Reveal())
	if err == nil {
		_, err = s.ask(ctx, s.home, "ALTER ROLE "+name(s.own)+" PASSWORD "+text(v))
	}
	if err != nil {
		return s.fail(op, said(err))
	}
	return nil
}
