package host

import (
	"context"
	_ "embed"
	"errors"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
)

//go:embed renew.sh
var renewLib string

// Renew implements connect.Offers: the public half of a private key goes beside the one that is there.
func (s *session) Renew(ctx context.Context, fresh connect.Secret) error {
	return s.ownKey(ctx, "renew", fresh)
}

// Retire implements connect.Offers.
func (s *session) Retire(ctx context.Context, old connect.Secret) error {
	return s.ownKey(ctx, "retire", old)
}

func (s *session) ownKey(ctx context.Context, how string, secret connect.Secret) error {
	fail := func(err error) error {
		return &connect.Error{Target: s.access.Target, Op: how + " our own key", Err: err}
	}
	signer, err := ssh.ParsePrivateKey(secret.Reveal())
	if err != nil {
		return fail(errors.New("it is not a private key in PEM form without passphrase"))
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	_, blob, _ := strings.Cut(line, " ")
	refusal, whole := "", false
	err = s.exec(ctx, s.access.Patience(), func(in io.WriteCloser, from io.Reader) error {
		say(in, lib+renewLib+"own_key "+quoted(how, line+" hen-roost", blob), true)
		a := newAnswer(from, s.access.As)
		for a.Scan() {
			if words, ok := strings.CutPrefix(a.Text(), "X:"); ok {
				refusal = connect.Printable(words)
			}
			whole = whole || a.Text() == "Z:"
		}
		return a.Err()
	})
	switch {
	case err != nil:
		return fail(err)
	case refusal != "":
		return fail(errors.New(refusal))
	case !whole:
		return fail(errors.New("the answer was cut off"))
	}
	return nil
}
