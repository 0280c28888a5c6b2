package connect

import (
	"errors"
	"fmt"
	"net"
	"syscall"
)

// Error says what was tried on which target and why it did not work.
type Error struct {
	Target string
	Op     string // "connect", "sign in", "survey", …
	Err    error
}

// Error says it in our words where it is of the network, and in brackets as the system has it.
func (e *Error) Error() string {
	if words := ofNetwork(e.Err); words != "" {
		return fmt.Sprintf("%s: %s: %s (%v)", e.Target, e.Op, words, e.Err)
	}
	return fmt.Sprintf("%s: %s: %v", e.Target, e.Op, e.Err)
}

// ofNetwork is what an error of the network means; "" for others.
func ofNetwork(err error) string {
	var op *net.OpError
	var name *net.DNSError
	var timeout net.Error
	switch {
	case errors.As(err, &name) && name.IsNotFound:
		return "the name of its address is not known"
	case errors.As(err, &name):
		return "the name of its address could not be looked up"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nobody answers at its address"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no network leads to its address"
	case errors.As(err, &op) && errors.As(err, &timeout) && timeout.Timeout():
		return "it does not answer in time"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "it broke the connection off"
	}
	return ""
}

func (e *Error) Unwrap() error { return e.Err }

// KeyError says that a target's identity key is not the accepted one. Accepted
// is empty for a key never seen before.
type KeyError struct {
	Target   string
	Offered  string // the key in the form that acceptance stores
	Print    string // its fingerprint, for people to compare
	Accepted string
	Was      string // fingerprint of the accepted key
}

func (e *KeyError) Error() string {
	if e.Accepted == "" {
		return fmt.Sprintf("%s: shows the key %s, which nobody has accepted yet; compare it on the target itself, then: roost target "+
			"accept-key %s",
			e.Target, e.Print, e.Target)
	}
	return fmt.Sprintf("%s: REFUSED: the identity key has changed from %s to %s; it was rebuilt, or something else answers at its "+
		"address. "+
		"Nothing was sent to it. If it was rebuilt: roost target accept-key %s", e.Target, e.Was, e.Print, e.Target)
}

// Refused says that the target answered and turned our login away.
type Refused struct{ Err error }

func (e *Refused) Error() string { return "the target refuses our login: " + e.Err.Error() }
func (e *Refused) Unwrap() error { return e.Err }

// Reached says whether the error came from a target that answered.
func Reached(err error) bool {
	var k *KeyError
	var r *Refused
	return errors.As(err, &k) || errors.As(err, &r)
}

// ErrVoid says that a mark from which a target was to be surveyed is worth
// nothing any more: a whole survey is due.
var ErrVoid = errors.New("the mark of the last survey is void")
