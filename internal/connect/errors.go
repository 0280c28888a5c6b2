package connect

import (
	"errors"
	"fmt"
)

// Error says what was tried on which target and why it did not work.
type Error struct {
	Target string
	Op     string // "connect", "sign in", "survey", …
	Err    error
}

func (e *Error) Error() string { return fmt.Sprintf("%s: %s: %v", e.Target, e.Op, e.Err) }
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
