// Package overssh connects to targets over SSH, for the connectors of those that are reached so: a target is known by its identity
// key, which is accepted once.
package overssh

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
)

// Dial signs in to a target as somebody. signed checks the identity key in place of the accepted one, nil: it must be that.
// Errors are a *connect.KeyError; what signed says, as an *Unsigned; a *connect.Refused when the login is turned away; or that the
// target cannot be reached.
func Dial(ctx context.Context, a connect.Access, as string, auth []ssh.AuthMethod, signed func(ssh.PublicKey) error) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	raw, err := a.Connect(ctx)
	if err != nil {
		return nil, err
	}
	deadline, _ := ctx.Deadline()
	_ = raw.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { raw.Close() }) // a cancelled caller need not wait for the handshake
	var keyErr *connect.KeyError
	var unsigned error
	conf := &ssh.ClientConfig{User: as, Auth: auth, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if signed != nil {
			unsigned = signed(key)
			return unsigned
		}
		if keyErr = checkKey(a, key); keyErr != nil {
			return keyErr
		}
		return nil
	}}
	if algos := algorithmsOf(a.Key); algos != nil && signed == nil {
		conf.HostKeyAlgorithms = algos
	}
	c, chans, reqs, err := ssh.NewClientConn(&prompt{Conn: raw}, a.Address, conf)
	if !stop() || err != nil {
		raw.Close()
		switch {
		case keyErr != nil:
			return nil, keyErr
		case unsigned != nil:
			return nil, &Unsigned{unsigned}
		case err == nil:
			return nil, context.Cause(ctx)
		case strings.Contains(err.Error(), "unable to authenticate"):
			return nil, &connect.Refused{Err: err}
		case isTimeout(err) || ctx.Err() != nil:
			return nil, fmt.Errorf("it took the connection but said nothing for %s", a.Patience())
		}
		return nil, err
	}
	_ = raw.SetDeadline(time.Time{})
	return ssh.NewClient(c, chans, reqs), nil
}

// Unsigned says why an identity key is not signed by whom it should be.
type Unsigned struct{ Err error }

func (u *Unsigned) Error() string { return u.Err.Error() }
func (u *Unsigned) Unwrap() error { return u.Err }

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout() || strings.Contains(err.Error(), "i/o timeout")
}

func checkKey(a connect.Access, key ssh.PublicKey) *connect.KeyError {
	offered := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	if offered == a.Key {
		return nil
	}
	e := &connect.KeyError{Target: a.Target, Offered: offered, Print: ssh.FingerprintSHA256(key), Accepted: a.Key}
	if was, _, _, _, err := ssh.ParseAuthorizedKey([]byte(a.Key)); err == nil {
		e.Was = ssh.FingerprintSHA256(was)
	}
	return e
}

// algorithmsOf asks the target for the kind of key that was accepted, so that one with several is not mistaken for a changed one.
func algorithmsOf(accepted string) []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(accepted))
	if err != nil {
		return nil
	}
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}
