package ldap

import (
	"context"
	"errors"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
)

// Renew implements connect.Offers: a directory keeps one password for an entry, so that the old one is gone with it.
func (s *session) Renew(ctx context.Context, fresh connect.Secret) error {
	if len(fresh.Reveal()) == 0 {
		return s.fail("set our own password", errors.New("a password of no letters is none: the directory would make up one that nobody "+
			"knows"))
	}
	conn, err := s.writer(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = conn.PasswordModify(goldap.NewPasswordModifyRequest(s.access.As, "", string(fresh.Reveal())))
	if err != nil {
		return s.fail("set our own password", err)
	}
	return nil
}
