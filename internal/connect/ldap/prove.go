package ldap

import (
	"context"
	"errors"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

var _ connect.Prover = (*session)(nil)

// invalidCredentials is what a directory says of a wrong name or password (RFC 4511 appendix A.2).
const invalidCredentials = goldap.LDAPResultInvalidCredentials

// Prove implements connect.Prover with a simple bind on a connection of its own.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	if len(secret.Reveal()) == 0 {
		return false, s.fail("try to sign in as "+as, errors.New("a bind without a password is no sign-in (RFC 4513 §5.1.2)"))
	}
	t, err := s.lookup([]connect.Act{{Act: model.Act{Object: model.Account, Name: as}}})
	if err != nil {
		return false, err
	}
	v := t.entry(model.Named{Kind: model.Account, Name: as})
	if v == nil {
		return false, nil
	}
	conn, err := s.dial(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	err = newWire(conn, s.access.Patience()).bind(v.dn, secret.Reveal())
	var code *codeError
	switch {
	case err == nil:
		return true, nil
	case errors.As(err, &code) && code.code == invalidCredentials:
		return false, nil
	}
	return false, s.fail("try to sign in as "+as, err)
}
