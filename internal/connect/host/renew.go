package host

import (
	"context"
	_ "embed"
	"errors"
	"strings"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
)

//go:embed renew.sh
var renewLib string

// Renew implements connect.Offers: the public half of a private key goes beside the one that is there.
func (s *reached) Renew(ctx context.Context, fresh connect.Secret) error {
	return s.ownKey(ctx, "renew", fresh)
}

// Retire implements connect.Offers.
func (s *reached) Retire(ctx context.Context, old connect.Secret) error {
	return s.ownKey(ctx, "retire", old)
}

func (s *reached) ownKey(ctx context.Context, how string, secret connect.Secret) error {
	fail := func(err error) error {
		return &connect.Error{Target: s.access.Target, Op: how + " our own key", Err: err}
	}
	signer, err := ssh.ParsePrivateKey(secret.Reveal())
	if err != nil {
		return fail(errors.New("it is not a private key in PEM form without passphrase"))
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	_, blob, _ := strings.Cut(line, " ")
	refusal := ""
	err = s.ask(ctx, s.access.Patience(), lib+renewLib+"own_key "+quoted(how, line+" hen-roost", blob), func(line string) {
		if words, ok := strings.CutPrefix(line, "X:"); ok {
			refusal = connect.Printable(words)
		}
	})
	switch {
	case refusal != "":
		return fail(errors.New(refusal))
	case err != nil:
		return fail(err)
	}
	return nil
}
