package mariadb

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
)

// Prove implements connect.Offers: it signs in from here, and the server must take it for that very account. From where the
// account's origin does not let us come nothing can be proved.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	op := "try to sign in as " + as
	login, origin := parts(as)
	switch {
	case secret.Empty():
		return false, s.fail(op, errors.New("a sign-in without a password proves nothing"))
	case !fits(origin, s.host):
		return false, s.fail(op, fmt.Errorf("it may come from %s alone, and we come from %s", origin, s.host))
	}
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	db := database(s.access, login, secret.Reveal())
	defer db.Close()
	var who string
	err := db.QueryRowContext(ctx, "SELECT CURRENT_USER()").Scan(&who)
	var me *mysql.MySQLError
	switch {
	case err == nil && who != as:
		return false, s.fail(op, fmt.Errorf("the server takes it for %s, which answers from %s in its place", connect.Printable(who),
			s.host))
	case err == nil:
		return true, nil
	case errors.As(err, &me) && (me.Number == 1820 || me.Number == 1862): // let in to change the password, which has expired
		return true, nil
	case errors.As(err, &me) && turnedAway(me):
		return false, nil
	}
	return false, s.fail(op, said(err))
}
