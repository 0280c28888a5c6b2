package ldap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// invalidCredentials is what a directory says of a wrong name or password (RFC 4511 appendix A.2).
const invalidCredentials = goldap.LDAPResultInvalidCredentials

// Prove implements connect.Offers with a simple bind on a connection of its own or,
// where the secret is a client certificate with its key in PEM, with SASL EXTERNAL
// (RFC 4513 §5.2.3): the directory must take it for the account itself.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	if len(secret.Reveal()) == 0 {
		return false, s.fail("try to sign in as "+as, errors.New("a bind without a password is no sign-in (RFC 4513 §5.1.2)"))
	}
	s.proving.Lock()
	t, err := s.lookup([]connect.Act{{Act: model.Act{Object: model.Account, Name: as}}})
	s.proving.Unlock()
	if err != nil {
		return false, err
	}
	v := t.entry(model.Named{Kind: model.Account, Name: as})
	if v == nil {
		return false, nil
	}
	if c, err := tls.X509KeyPair(secret.Reveal(), secret.Reveal()); err == nil {
		return s.proveCertificate(ctx, as, v.dn, c)
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

// proveCertificate signs in with a client certificate.
func (s *session) proveCertificate(ctx context.Context, as, dn string, c tls.Certificate) (bool, error) {
	fail := func(err error) (bool, error) {
		return false, s.fail("try to sign in as "+as+" with a certificate", err)
	}
	raw, err := dial(ctx, s.access, c)
	if err != nil {
		return fail(err)
	}
	defer raw.Close()
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	conn := goldap.NewConn(raw, true)
	conn.SetTimeout(s.access.Patience())
	conn.Start()
	defer conn.Close()
	if err := conn.ExternalBind(); err != nil {
		if goldap.IsErrorAnyOf(err, goldap.LDAPResultAuthMethodNotSupported, goldap.LDAPResultInappropriateAuthentication,
			goldap.LDAPResultStrongAuthRequired) {
			return fail(fmt.Errorf("the directory takes no client certificate: %w", err))
		}
		if goldap.IsErrorWithCode(err, goldap.LDAPResultInvalidCredentials) {
			return false, nil
		}
		return fail(err)
	}
	who, err := conn.WhoAmI(nil)
	if err != nil {
		return fail(err)
	}
	if got := strings.TrimPrefix(who.AuthzID, "dn:"); normal(got) != normal(dn) {
		return fail(fmt.Errorf("the directory takes it for %q; map certificates to entries (authz-regexp)", connect.Printable(got)))
	}
	return true, nil
}
