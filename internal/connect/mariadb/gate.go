package mariadb

import (
	"context"
	"errors"
	"strings"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
)

// Admits implements connect.Offers: the server is asked for each account how it would be made, which it answers out of what it
// lets people in by, not out of its tables.
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	out := connect.NotKnown(len(accounts), "")
	for i, n := range accounts {
		var made string
		err := s.conn.QueryRowContext(ctx, "SHOW CREATE USER "+account(n)).Scan(&made)
		var me *mysql.MySQLError
		switch {
		case errors.As(err, &me) && (me.Number == 1133 || me.Number == 1141 || me.Number == 1269):
			out[i] = connect.Admission{State: connect.KeptOut, Words: "there is no such account"}
		case err != nil:
			out[i].Words = s.fail("ask whether accounts are let in", said(err)).Error()
		case strings.Contains(made, " ACCOUNT LOCK"): // a quote in what stands before would be doubled
			out[i] = connect.Admission{State: connect.KeptOut, Words: "the server keeps it locked"}
		default:
			out[i] = connect.Admission{State: connect.LetIn, Words: "it is not locked"}
		}
	}
	return out
}
