package door

import (
	"errors"
	"fmt"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/store"
)

// Kind says what kind of problem kept something from being done. It is also
// the stable code that programs may rely on.
type Kind string

const (
	Unknown        Kind = "unknown-name"       // nothing of that name; the nearest is given
	Invalid        Kind = "invalid"            // what was sent cannot be taken
	Faulty         Kind = "faulty-declaration" // with all its faults
	Conflict       Kind = "conflict"           // it is not in a state for this
	NotYet         Kind = "nothing-declared"   // before the first revision
	Forbidden      Kind = "duty-missing"       // the operator lacks the duty
	SignedOut      Kind = "not-signed-in"      // nobody is signed in, or wrongly
	PasswordNeeded Kind = "password-needed"    // again, of who is signed in
	TooOften       Kind = "too-often"          // slowed down after failed sign-ins
	Away           Kind = "database-away"      // try again soon
	Unexpected     Kind = "internal"           // our fault
)

// Problem is why something was not done, for people.
type Problem struct {
	Kind    Kind
	Words   string
	Field   string // of what was sent, where one is to blame
	Nearest string
	Faults  declare.Faults
	Clashes []declare.Clash // what two people changed in different ways
	Retry   int             // seconds to wait, for TooOften and Away
	Err     error
}

func (p *Problem) Error() string { return p.Words }
func (p *Problem) Unwrap() error { return p.Err }

// Wrong is a problem with what was given in a field.
func Wrong(field, format string, args ...any) *Problem {
	return &Problem{Kind: Invalid, Field: field, Words: fmt.Sprintf(format, args...)}
}

// Clashing is a problem with how things stand.
func Clashing(format string, args ...any) *Problem {
	return &Problem{Kind: Conflict, Words: fmt.Sprintf(format, args...)}
}

// NotKnown is a problem with a name that nothing has. It names the nearest known name.
func NotKnown(what, name string, known []string) *Problem {
	return &Problem{Kind: Unknown, Nearest: declare.Nearest(name, known),
		Words: declare.Meant(fmt.Sprintf("no %s is called %q", what, name), name, known)}
}

// ProblemOf makes a Problem of any error: its own, or what the error means to whoever asked.
func ProblemOf(err error) *Problem {
	var p *Problem
	var faults declare.Faults
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &faults):
		return &Problem{Kind: Faulty, Words: Count(len(faults), "fault", "faults") + " in the declaration; nothing was stored",
			Faults: faults, Err: err}
	case store.Away(err):
		return &Problem{Kind: Away, Words: "the database does not answer; nothing was changed, try again in a moment", Retry: 2, Err: err}
	default:
		return &Problem{Kind: Unexpected, Words: "something went wrong inside Hen Roost; its log says what", Err: err}
	}
}
