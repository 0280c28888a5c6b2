// Package connect is the contract between Hen Roost and the systems it looks
// after. A kind of target is taught to Hen Roost by one package that owes
// little:
//
//	Schema   what such a target holds and what of it can be set, answered without a connection
//	Open     one connection, with the target's identity checked
//	Survey   every object it holds, streamed, so that 100,000 accounts need no 100,000 in memory
//	Begin    a batch of acts: what they speak of, how one stage of them is carried out, and read back; the loop is Apply
//
// What more a session can do is a value of functions that may be nil, its Offers, and what more a connector can tell is its
// Knows: each is asked for in one place, with what is done instead beside the question.
//
// A round trip is the unit of cost: each connector's package comment says how
// many a survey and a batch take. What is judged about an act is judged here
// (Judge, Verify), in the same way for every kind of target.
//
// Everything that a target tells is cleaned and bounded once, by the connector,
// where it comes in: see Printable. An object that is odd is told of as one,
// with model.Odd; it never ends a survey.
package connect

import (
	"context"
	"errors"
	"net"
	"time"

	"hen-roost/internal/core/model"
)

// Connector speaks to one kind of target. It is safe for concurrent use.
type Connector interface {
	// Schema is constant for the kind.
	Schema() model.Schema
	// Open connects and signs in. It refuses a target whose identity key is not
	// the accepted one with a *KeyError, and says with a *Refused that the target
	// turned our login away. The context bounds the opening only: the session
	// outlives it. The connector keeps nothing of a after the session is closed.
	Open(ctx context.Context, a Access) (Session, error)
	// Knows is what it can tell beside.
	Knows() Knows
}

// Session is one open connection. One goroutine uses it at a time, but for
// Close, which another may call to end whatever is under way.
type Session interface {
	// Survey hands every object on, in no particular order, each name of a kind
	// once. An error from found ends the survey and is returned as it is. When ctx
	// ends, Survey returns soon, and the session can do nothing more than Close. A
	// survey that ends without an error has seen everything. What is handed on
	// belongs to found.
	Survey(ctx context.Context, found func(model.Object) error) error
	// Begin reads what acts speak of, and returns what carries them out. Its error is a *Declined where the target takes
	// none now; any other says that nothing is known. What it returns is read back (Carrier.ReadBack) before anything else is
	// done with the session. See Apply.
	Begin(ctx context.Context, acts []Act) (Carrier, error)
	// Offers is what it can do beside.
	Offers() Offers
	// Close ends the connection. It does not wait for the target, may be called
	// while something is under way, which then ends with an error or Unsure, and
	// more than once.
	Close() error
}

// Access is how to reach one target.
type Access struct {
	Target   string
	Address  string // host:port
	As       string
	Secret   []byte // a private key or a password, as the kind wants it; the connector does not keep it
	Next     []byte // while the secret is being rotated, the one that takes its place; see Open
	Settings map[string]string
	Key      string        // the accepted identity key, "" before the first acceptance
	Wait     time.Duration // how long any single answer may take; 0 means 20 s
	Homes    bool          // surveys look at homes too, which is a look at every file in them
	Dial     Dial          `json:"-"` // how to come to the address; nil: directly
	Host     OpenHost      `json:"-"` // for targets that are run on a host: that one
	Says     *Budget       `json:"-"` // how much the target may say; nil: Open bounds it
	Words    string        // why something is changed, for a history of the target's own: the round and its reason
	Urgent   bool          // acts wait for no batch of ours that is under way: each must be whole by itself
}

// Open opens a session with the secret of an access or, where a target turns that
// away while it is being rotated, with the next one. Its errors hold neither.
func Open(ctx context.Context, c Connector, a Access) (Session, error) {
	a = a.Bounded(SaysMost)
	s, err := c.Open(ctx, a)
	var refused *Refused
	if err == nil {
		return s, nil
	}
	strikes := a.Strikes()
	if len(a.Next) == 0 || !errors.As(err, &refused) {
		return nil, strikes.Error(err)
	}
	a.Secret, a.Next = a.Next, nil
	if next, again := c.Open(ctx, a); again == nil {
		return next, nil
	}
	return nil, strikes.Error(err)
}

// Dial opens a connection to an address.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// OpenHost comes to the host on which a target is run.
type OpenHost func(ctx context.Context) (Host, error)

// Host is where programs can be run. Several goroutines may run some at once; Close ends what is under way.
type Host interface {
	Runner
	Close() error
}

// Connect opens a connection to the address, the way that the access says.
func (a Access) Connect(ctx context.Context) (net.Conn, error) {
	dial := a.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	return a.counting(dial)(ctx, "tcp", a.Address)
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
	Stage   int               // acts of a lower stage are finished before those of a higher one begin
	Again   bool              // tried before with an unknown end; found done now, it was ours
	Secrets map[string]Secret // by attribute: the values of changes that are sealed; an empty one ends its act failed
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
	Words   string         // for people: what happened and, when it failed, what to do
	Object  *model.Object  // the object as read back, if it is there; of a set perhaps without its members
	Proof   Proof          // of a password that was set, where it was tried; the runner fills it in
	In      *bool          // of an act that moves somebody: whether they are in the set, where that was read
	Made    []model.Object // other objects that came with it, as read back: a group of an account's own
	Gone    []model.Named  // other objects that went with it
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

// Knows is what the connector of a kind can tell; of a kind that is not there nothing.
func (k Kinds) Knows(kind string) Knows {
	if c := k[kind]; c != nil {
		return c.Knows()
	}
	return Knows{}
}

// Schemas returns the schema of every kind.
func (k Kinds) Schemas() map[string]model.Schema {
	out := map[string]model.Schema{}
	for name, c := range k {
		out[name] = c.Schema()
	}
	return out
}
