package host

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// session does on a host all that needs no more than a shell there.
type session struct {
	access connect.Access
	shell  Shell
}

// On returns a session with a host whose shell is sh; closing it closes that. It offers what needs no more than a shell: a connector
// that can try sign-ins or change its own login adds these to its Offers.
func On(a connect.Access, sh Shell) connect.Session { return &session{a, sh} }

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Admits: s.Admits, Sessions: s.Sessions, End: s.End, Dial: s.Dial, Run: s.Run, Homes: s.Homes, Archives: s}
}

func (s *session) Close() error { return s.shell.Close() }

// Survey implements connect.Session in one exec.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	limit := s.access.Patience() * 3
	if s.access.Homes {
		limit += searchFor
	}
	r, err := s.told(ctx, limit, surveyScript(s.access.Settings, s.access.Homes))
	if err != nil {
		return &connect.Error{Target: s.access.Target, Op: "survey", Err: err}
	}
	r.mark()
	for _, list := range [][]model.Object{r.accounts, r.groups, r.folders(), {r.power.object(), r.system}} {
		for _, o := range list {
			if o.Kind == 0 {
				continue // a host that told nothing of itself
			}
			if err := found(o); err != nil {
				return err
			}
		}
	}
	return nil
}
