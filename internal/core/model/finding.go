package model

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
)

// FindingKind says in what way a target differs from the declaration.
type FindingKind string

const (
	Missing    FindingKind = "missing"    // declared, not there
	Unexpected FindingKind = "unexpected" // there, not declared
	Different  FindingKind = "different"  // an owned value differs
	Unmatched  FindingKind = "unmatched"  // we cannot tell whose
	Contested  FindingKind = "contested"  // put right before, and changed back
	Beyond     FindingKind = "beyond"     // somebody may do more than declared

	// What a person should know, whatever is declared.
	NoPassword FindingKind = "passwordless" // nobody is asked for a password
	Shared     FindingKind = "shared-login" // several names, or people, open the same
	Factory    FindingKind = "factory"      // delivered with the target, and open
	Dormant    FindingKind = "dormant"      // open, and not used for long
	SeatsShort FindingKind = "short"        // a licence with fewer seats than are wanted
	UnusedSeat FindingKind = "unused-seat"  // a seat whose holder has not signed in for long
	StaleHome  FindingKind = "stale-home"   // a home that nobody has used for long
	WideOpen   FindingKind = "wide-open"    // can be signed in to from anywhere
	Weak       FindingKind = "weak-sign-in" // the way in is one that is easy to get past
	Shadowed   FindingKind = "shadowed"     // another account answers in its place at sign-in
	Uneven     FindingKind = "uneven"       // accounts of one login that may do different things
	RunningOut FindingKind = "running-out"  // a password whose last day is near, or has gone by
	WrongClock FindingKind = "clock-off"    // the target's clock is wrong
	Expiring   FindingKind = "expiring"     // a key whose last day is near, or has gone by
	OddObject  FindingKind = "odd"          // there in a form that cannot be looked after
)

// FindingKinds lists them in the order people read them.
var FindingKinds = []FindingKind{Missing, Unexpected, Different, Unmatched, Contested, Beyond, NoPassword, Shared, Factory, Dormant,
	SeatsShort, UnusedSeat, StaleHome, WideOpen, Weak, Shadowed, Uneven, RunningOut, WrongClock, Expiring, OddObject}

// CanWait says of a kind that nobody can do harm by it today.
func (k FindingKind) CanWait() bool {
	return k == Dormant || k == UnusedSeat || k == StaleHome || k == RunningOut
}

// Verb says what a step does.
type Verb string

const (
	Create   Verb = "create"
	Modify   Verb = "change"
	Disable  Verb = "disable"
	Enable   Verb = "enable"
	Remove   Verb = "remove"
	AdoptIt  Verb = "adopt"
	JoinIt   Verb = "join"  // a set: a group, a right, a licence, elevation
	LeaveIt  Verb = "leave" // it
	SetRule  Verb = "set policy"
	NoRemedy Verb = "" // a person decides
)

// Change is one attribute before and after.
type Change struct {
	Attribute string   `json:"attribute"`
	Before    []string `json:"before"`
	After     []string `json:"after"`
	Sealed    string   `json:"sealed,omitempty"` // in place of After: the id of a sealed value, which nothing but the target ever sees
	Why       Why      `json:"why"`
}

// Why is an Origin, for people to read.
type Why struct {
	Role string   `json:"role,omitempty"`
	At   Location `json:"at"`
}

// Act is one change to one object on one target. A finding proposes it, a
// step of a round carries it out; both are described by the same value, so
// that what is shown and what is done cannot part.
type Act struct {
	Target     string     `json:"target"`
	Verb       Verb       `json:"verb"`
	Object     ObjectKind `json:"object"`                // of one that joins or leaves a set: the set's
	Name       string     `json:"name"`                  // of the object
	Member     string     `json:"member,omitempty"`      // who joins or leaves
	MemberKind ObjectKind `json:"member-kind,omitempty"` // account or group
	User       string     `json:"user,omitempty"`        // whose it is, where known
	Changes    []Change   `json:"changes,omitempty"`
}

// Moves says whether the act brings a member into a set, or out of it.
func (a Act) Moves() bool { return a.Verb == JoinIt || a.Verb == LeaveIt }

// Formerly is the name of the set that becomes the one an act makes; "" where it is made of nothing.
func (a Act) Formerly() string {
	if a.Verb != Create {
		return ""
	}
	return a.Before().One(Formerly)
}

// Of is the object that the act changes: of one that joins or leaves the set.
func (a Act) Of() Named { return Named{a.Object, a.Name} }

// Entering is the change of one that joins a set, or else leaves it.
func Entering(in bool) []Change {
	if in {
		return []Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"}}}
	}
	return []Change{{Attribute: "member", Before: []string{"yes"}, After: []string{"no"}}}
}

// Account is the name of the account the act concerns, "" for a group's own.
func (a Act) Account() string {
	if a.Object == Account {
		return a.Name
	}
	if a.MemberKind == Account {
		return a.Member
	}
	return ""
}

// Before returns the values that the changes expect to find.
func (a Act) Before() Attributes { return a.side(func(c Change) []string { return c.Before }) }

// After returns the values that the changes leave behind.
func (a Act) After() Attributes { return a.side(func(c Change) []string { return c.After }) }

func (a Act) side(pick func(Change) []string) Attributes {
	var out Attributes
	for _, c := range a.Changes {
		out = out.With(c.Attribute, pick(c)...)
	}
	return out
}

// Finding is one difference between desired and observed.
type Finding struct {
	Kind FindingKind `json:"kind"`
	Act
	Note       string   `json:"note,omitempty"`       // what a person should know or decide
	Candidates []string `json:"candidates,omitempty"` // accounts or users it could be
	Times      int      `json:"times,omitempty"`      // of a contested one: how often it was put right before
}

// Key identifies the same difference over surveys, so that its first-seen day
// can be kept. It is hexadecimal and 32 characters long.
func (f Finding) Key() string { return key(string(f.Kind), f.Act) }

// Key identifies an act whatever kind of finding proposes it, so that what was
// put right is known when it comes back.
func (a Act) Key() string {
	kind := ""
	if a.Verb == Modify {
		for _, c := range a.Changes {
			kind += c.Attribute + " "
		}
	}
	return key(kind, a)
}

// Parts are the single changes of an act: one for each attribute that it changes.
func (a Act) Parts() []Act {
	if a.Verb != Modify || len(a.Changes) < 2 {
		return []Act{a}
	}
	out := make([]Act, len(a.Changes))
	for i := range a.Changes {
		out[i] = a
		out[i].Changes = a.Changes[i : i+1]
	}
	return out
}

func key(kind string, a Act) string {
	h := sha256.New()
	object, verb := a.Object.String(), string(a.Verb)
	if a.Moves() && a.Object == GroupKind { // as they were called when the first keys were given
		object, verb = "membership", verb+" group"
	}
	for _, s := range []string{a.Target, kind, object, a.Name, verb, a.Member, a.MemberKind.String(), a.User} {
		h.Write([]byte(s))
		h.Write([]byte{0})
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// SameSet says whether two value lists hold the same values in any order.
// fold compares without regard to case.
func SameSet(a, b []string, fold func(string) string) bool {
	if len(a) != len(b) {
		return false
	}
	if len(a) == 1 {
		return fold(a[0]) == fold(b[0])
	}
	x, y := make([]string, len(a)), make([]string, len(b))
	for i := range a {
		x[i], y[i] = fold(a[i]), fold(b[i])
	}
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}
