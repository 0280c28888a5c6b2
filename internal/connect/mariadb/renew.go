package mariadb

import (
	"context"
	"errors"

	"hen-roost/internal/connect"
)

// Renew implements connect.Offers: a server keeps one password for an account, so that the old one is gone with it. Other
// ways in stay.
func (s *session) Renew(ctx context.Context, fresh connect.Secret) error {
	const op = "set our own password"
	if fresh.Empty() {
		return s.fail(op, errors.New("a password of no letters is none"))
	}
	login, origin := parts(s.own)
	st, err := s.read(ctx, &wanted{entries: &names{[]string{login}, []string{origin}}})
	if err != nil {
		return s.fail(op, err)
	}
	e := st.accounts[s.own]
	if e == nil {
		return s.fail(op, errors.New("our own account "+s.own+" is not to be seen"))
	}
	if s.shut != "" {
		return s.fail(op, errors.New(s.shut))
	}
	_, err = s.conn.ExecContext(ctx, "ALTER USER "+account(s.own)+identified(withPassword(e.priv.ways(), s.plugin,
		hashed(s.plugin, fresh.Reveal()))))
	if err != nil {
		return s.fail(op, said(err))
	}
	return nil
}
