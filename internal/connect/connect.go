// Package connect is the contract between Hen Roost and the systems it looks
// after. A kind of target is taught to Hen Roost by one package that owes
// little:
//
//	Schema   what such a target holds and what of it can be set, answered without a connection
//	Open     one connection, with the target's identity checked
//	Survey   every object it holds, streamed, so that 100,000 accounts need no 100,000 in memory
//	Apply    a batch of acts: each read again first, carried out, and read back
//
// A round trip is the unit of cost: each connector's package comment says how
// many a survey and a batch take. What is judged about an act is judged here
// (Judge), in the same way for every kind of target.
package connect

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Connector speaks to one kind of target. It is safe for concurrent use.
type Connector interface {
	// Schema is constant for the kind.
	Schema() model.Schema
	// Open connects and signs in. It refuses a target whose identity key is
	// not the accepted one with a *KeyError. The context bounds the opening only.
	Open(ctx context.Context, a Access) (Session, error)
}

// Session is one open connection. One goroutine uses it at a time.
type Session interface {
	// Survey hands every object on, in no particular order. An error from
	// found ends the survey and is returned. A survey that ends without an
	// error has seen everything.
	Survey(ctx context.Context, found func(model.Object) error) error
	// Apply carries out acts in the given order and returns an answer for each,
	// in the same order. It never returns fewer. An answer of Unsure means the
	// connection was lost when the act may have been carried out: open anew and
	// apply it again with Again set.
	Apply(ctx context.Context, acts []Act) []Answer
	// Close ends the connection; it does not wait for the target.
	Close() error
}

// Access is how to reach one target.
type Access struct {
	Target   string
	Address  string // host:port
	As       string
	Secret   []byte // a private key or a password, as the kind wants it; the connector does not keep it
	Settings map[string]string
	Key      string        // the accepted identity key, "" before the first acceptance
	Wait     time.Duration // how long any single answer may take; 0 means 20 s
}

// Patience is the longest wait for a single answer.
func (a Access) Patience() time.Duration {
	if a.Wait > 0 {
		return a.Wait
	}
	return 20 * time.Second
}

// Act is one step of a batch.
type Act struct {
	model.Act
	Stage int  // acts of a lower stage are finished before those of a higher one begin
	Again bool // tried before with an unknown end; found done now, it was ours
}

// Outcome is how a step ended.
type Outcome string

const (
	Done       Outcome = "done"
	AlreadySo  Outcome = "already-so"
	Moved      Outcome = "moved" // the target changed since the survey; not touched
	Failed     Outcome = "failed"
	OutOfReach Outcome = "out-of-reach"
	NotTried   Outcome = "not-tried"
	Unsure     Outcome = "unsure" // never stored: see Session.Apply
)

// Answer is what became of one act.
type Answer struct {
	Outcome Outcome
	Words   string        // for people: what happened and, when it failed, what to do
	Object  *model.Object // the account or group as read back, if it is there
}

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
		return fmt.Sprintf("%s: shows the key %s, which nobody has accepted yet; compare it on the target itself, then: roost target accept-key %s", e.Target, e.Print, e.Target)
	}
	return fmt.Sprintf("%s: REFUSED: the identity key has changed from %s to %s; it was rebuilt, or something else answers at its address. Nothing was sent to it. If it was rebuilt: roost target accept-key %s", e.Target, e.Was, e.Print, e.Target)
}

// Reached says whether the error came from a target that answered.
func Reached(err error) bool {
	var k *KeyError
	var r *Refused
	return errors.As(err, &k) || errors.As(err, &r)
}

// Refused says that the target answered and turned our login away.
type Refused struct{ Err error }

func (e *Refused) Error() string { return "the target refuses our login: " + e.Err.Error() }
func (e *Refused) Unwrap() error { return e.Err }

// Standing is where a target stands towards an act.
type Standing int

const (
	Ready   Standing = iota // as it was when the act was drafted
	So                      // already as the act would leave it
	Drifted                 // neither
)

// View is what has been read of a target: look an object up by kind and name.
type View func(kind model.ObjectKind, name string) *model.Object

// Judge says where the target stands towards an act, and in words how it
// differs when it has drifted. Only attributes that the act changes are looked at.
func Judge(act model.Act, schema model.Schema, view View) (Standing, string) {
	if act.Object == model.Membership {
		return judgeMembership(act, view)
	}
	o := view(act.Object, act.Name)
	switch {
	case act.Verb == model.AdoptIt && o != nil:
		return Ready, ""
	case act.Verb == model.Create && o == nil:
		return Ready, ""
	case o == nil:
		return Drifted, fmt.Sprintf("%s %s is not there", act.Object, act.Name)
	}
	so, ready := true, true
	var words []string
	for _, c := range act.Changes {
		s, _ := schema.Find(act.Object, c.Attribute)
		fold := func(v string) string { return v }
		if s.Fold {
			fold = strings.ToLower
		}
		found := o.Attributes.Get(c.Attribute)
		if !model.SameSet(found, c.After, fold) {
			so = false
		} else {
			continue // half done before: the rest can still be done
		}
		if !model.SameSet(found, c.Before, fold) {
			ready = false
			words = append(words, fmt.Sprintf("%s is %s", c.Attribute, quoted(found)))
		}
	}
	switch {
	case so:
		return So, ""
	case act.Verb == model.Create:
		return Drifted, fmt.Sprintf("%s %s is there already and differs: %s", act.Object, act.Name, strings.Join(words, ", "))
	case ready:
		return Ready, ""
	default:
		return Drifted, strings.Join(words, ", ")
	}
}

func judgeMembership(act model.Act, view View) (Standing, string) {
	g := view(model.GroupKind, act.Name)
	if g == nil {
		return Drifted, fmt.Sprintf("group %s is not there", act.Name)
	}
	set := model.Members
	if act.MemberKind == model.GroupKind {
		set = model.MemberGroups
	}
	in := slices.Contains(g.Attributes.Get(set), act.Member)
	if in == (act.Verb == model.JoinIt) {
		return So, ""
	}
	return Ready, ""
}

func quoted(v []string) string {
	if len(v) == 0 {
		return "empty"
	}
	return strings.Join(v, " ")
}

// Verify turns what was read back into an answer: done only if the target
// shows it. trouble is what the target said when it was asked, if it complained.
func Verify(act Act, schema model.Schema, view View, trouble string) Answer {
	a := Answer{Object: view(ObjectOf(act), act.Name)}
	standing, words := Judge(act.Act, schema, view)
	switch {
	case standing == So || act.Verb == model.AdoptIt && standing == Ready:
		a.Outcome, a.Words = Done, trouble
	case trouble != "":
		a.Outcome, a.Words = Failed, trouble
	default:
		a.Outcome, a.Words = Failed, "the target took the change but does not show it"
		if words != "" {
			a.Words += ": " + words
		}
		if kept := otherwise(act.Act, a.Object); kept != "" {
			a.Words = "the target stores it otherwise than it was asked for: " + kept + "; declare it as the target stores it"
		}
	}
	return a
}

// otherwise says which values a target took, and keeps in a form of its own: a
// space is trimmed, a character that it does not know is dropped.
func otherwise(act model.Act, o *model.Object) string {
	var parts []string
	for _, c := range act.Changes {
		if o == nil || len(c.After) != 1 {
			continue
		}
		found := o.Attributes.Get(c.Attribute)
		if len(found) == 1 && found[0] != c.After[0] && !slices.Equal(found, c.Before) {
			parts = append(parts, fmt.Sprintf("%s is %q where %q was asked for", c.Attribute, found[0], c.After[0]))
		}
	}
	return strings.Join(parts, ", ")
}

// ObjectOf is the kind of the object that shows an act: of a membership the group.
func ObjectOf(act Act) model.ObjectKind {
	if act.Object == model.Membership {
		return model.GroupKind
	}
	return act.Object
}

// Found answers an act whose target was found standing as so or drifted before it was touched.
func Found(act Act, standing Standing, words string, view View) Answer {
	a := Answer{Outcome: Moved, Words: words, Object: view(ObjectOf(act), act.Name)}
	if standing == So {
		a.Outcome = AlreadySo
		if act.Again {
			a.Outcome, a.Words = Done, "was carried out before the connection or the service was lost; read back now"
		}
	}
	return a
}

// All answers every act alike.
func All(acts []Act, o Outcome, words string) []Answer {
	out := make([]Answer, len(acts))
	for i := range out {
		out[i] = Answer{Outcome: o, Words: words}
	}
	return out
}

// Kinds is the table of connectors, by kind of target.
type Kinds map[string]Connector

// Schemas returns the schema of every kind.
func (k Kinds) Schemas() map[string]model.Schema {
	out := map[string]model.Schema{}
	for name, c := range k {
		out[name] = c.Schema()
	}
	return out
}
