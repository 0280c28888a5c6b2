package postgres

import (
	"context"

	"hen-roost/internal/connect"
)

// Admits implements connect.Offers: what the server keeps of a role is what it lets people in by. By which rules of the server's
// else somebody is kept out, from somewhere, is not looked at.
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	out := connect.NotKnown(len(accounts), "")
	rows, err := s.ask(ctx, s.home, "SELECT rolname, rolcanlogin FROM pg_roles WHERE rolname = ANY("+nameList(accounts)+")")
	may := map[string]string{}
	for _, r := range rows {
		for _, row := range r {
			may[row[0]] = row[1]
		}
	}
	for i, n := range accounts {
		switch {
		case err != nil:
			out[i].Words = s.fail("ask whether accounts are let in", said(err)).Error()
		case may[n] == "":
			out[i] = connect.Admission{State: connect.KeptOut, Words: "there is no such account"}
		case may[n] == "f":
			out[i] = connect.Admission{State: connect.KeptOut, Words: "the server lets nobody in by that name (NOLOGIN)"}
		default:
			out[i] = connect.Admission{State: connect.LetIn, Words: "the server lets it in (LOGIN)"}
		}
	}
	return out
}
