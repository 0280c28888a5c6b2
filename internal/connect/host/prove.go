package host

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/overssh"
)

// Prove implements connect.Offers: with a private key in PEM, or else a password.
// Nothing is run as that account.
func (s *reached) Prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	client, in, err := s.signIn(ctx, as, secret)
	if client != nil {
		client.Close()
	}
	return in, err
}

// ProveElevation implements connect.Offers: sudo is asked to run what tells who it runs as. Whom sudo asks for a
// password is not elevated by a key alone, and is proved with the password.
func (s *reached) ProveElevation(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	client, in, err := s.signIn(ctx, as, secret)
	if err != nil || !in {
		return false, err
	}
	defer client.Close()
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	run, err := client.NewSession()
	if err != nil {
		return false, &connect.Error{Target: s.access.Target, Op: "try to become superuser as " + as, Err: err}
	}
	defer run.Close()
	run.Stdin = strings.NewReader(string(secret.Reveal()) + "\n")
	out, said := &clipped{most: complaintMost}, &clipped{most: complaintMost}
	run.Stdout, run.Stderr = out, said
	mark := "superuser-" + rand.Text()
	err = run.Run("sudo -k -S -p '' -- /bin/sh -c 'echo " + mark + " $(id -u)'")
	switch words := connect.Printable(strings.TrimSpace(said.String())); {
	case ctx.Err() != nil:
		return false, &connect.Error{Target: s.access.Target, Op: "try to become superuser as " + as, Err: ctx.Err()}
	case strings.Contains(out.String(), mark+" 0"):
		return true, nil
	case err != nil && strings.Contains(words, "not found"):
		return false, &connect.Error{Target: s.access.Target, Op: "try to become superuser as " + as, Err: errors.New(words)}
	}
	return false, nil
}

// signIn signs in as somebody on a connection of its own. in says whether the host let them; an error that it cannot be known.
func (s *reached) signIn(ctx context.Context, as string, secret connect.Secret) (client *ssh.Client, in bool, err error) {
	method := "publickey"
	var auth []ssh.AuthMethod
	if signer, err := ssh.ParsePrivateKey(secret.Reveal()); err == nil {
		auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	} else {
		method = "password"
		word, tried := string(secret.Reveal()), false
		auth = []ssh.AuthMethod{ssh.PasswordCallback(func() (string, error) { tried = true; return word, nil }),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
				if tried { // a host that has refused the word once only takes its time before it does again
					return nil, errTried
				}
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = word
				}
				return answers, nil
			})}
	}
	client, err = overssh.Dial(ctx, s.access, as, auth, s.signed)
	switch refused := errors.As(err, new(*connect.Refused)); {
	case err == nil:
		return client, true, nil
	case errors.Is(err, errTried), refused && offered(err, method):
		return nil, false, nil
	case refused:
		err = errors.New("the host takes no sign-in by " + method)
	}
	return nil, false, &connect.Error{Target: s.access.Target, Op: "try to sign in as " + as, Err: err}
}

var errTried = errors.New("refused before")

// offered says whether the host let a way of signing in be tried at all.
func offered(err error, method string) bool {
	_, tried, _ := strings.Cut(err.Error(), "attempted methods [")
	tried, _, _ = strings.Cut(tried, "]")
	return strings.Contains(tried, method) || method == "password" && strings.Contains(tried, "keyboard-interactive")
}
