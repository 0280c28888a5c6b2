package scim

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"hen-roost/internal/connect"
)

// Prove implements connect.Offers: SCIM has no sign-in, so that it is asked of the token endpoint that the target's settings
// name (RFC 6749 §4.3). The token is thrown away.
func (s *session) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	const op = "sign in as somebody"
	path := s.access.Settings[proveAt]
	switch {
	case path == "":
		return false, s.fail(op, errors.New("nothing says where a user's password can be tried (setting "+proveAt+")"))
	case secret.Empty():
		return false, s.fail(op, errors.New("a sign-in without a password proves nothing"))
	}
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	defer context.AfterFunc(s.ctx, cancel)()
	var got struct {
		Token string `json:"access_token"`
		Error string `json:"error"`
	}
	status, err := s.grant(ctx, path, url.Values{"grant_type": {"password"}, "username": {as}, "password": {string(secret.Reveal())}}, &got)
	switch {
	case err != nil:
		return false, s.fail(op, err)
	case status == http.StatusOK && got.Token != "":
		return true, nil
	case status == http.StatusBadRequest && got.Error == "invalid_grant": // §5.2: every other error is about us, or the endpoint
		return false, nil
	}
	return false, s.fail(op, fmt.Errorf("the token endpoint tells nothing of the password (status %d %s)", status,
		connect.Printable(got.Error)))
}
