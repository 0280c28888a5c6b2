package scim

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Admits implements connect.Offers: SCIM has no sign-in, so that it is read whether the application tells of an account that it
// is active (RFC 7643 §4.1.1).
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	acts := make([]connect.Act, len(accounts))
	for i, n := range accounts {
		acts[i] = connect.Act{Act: model.Act{Object: model.Account, Name: n}}
	}
	v, err := s.lookup(ctx, acts)
	if err != nil {
		return connect.NotKnown(len(accounts), s.fail("read", err).Error())
	}
	out := make([]connect.Admission, len(accounts))
	for i, a := range acts {
		u, doubt := v.one(a.Name), v.doubt(a)
		switch {
		case doubt != "":
			out[i] = connect.Admission{State: connect.NotTold, Words: doubt}
		case u == nil:
			out[i] = connect.Admission{State: connect.KeptOut, Words: "there is no such account"}
		case u.Active != nil && !*u.Active:
			out[i] = connect.Admission{State: connect.KeptOut, Words: "the application tells that it is not active"}
		default:
			out[i] = connect.Admission{State: connect.LetIn, Words: "the application tells that it is active"}
		}
	}
	return out
}
