// Package seen is the service's room for what targets hold: surveys, their
// comparison with what is declared, findings and their care, and the views of
// users and targets that follow from both.
package seen

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Config is what a Seen is made of.
type Config struct {
	Kinds connect.Kinds
	Teach connect.Teach // nil: nobody can be taught
	Wait  time.Duration // patience with targets; 0: the connectors' own
	Width int           // targets at once
	Owner string        // by which name this process holds targets while it works on them
}

// Seen knows what targets were seen to hold, and how that differs from what is declared.
type Seen struct {
	*declared.Declared
	Config
	kinds atomic.Pointer[connect.Kinds]
	known *memory // what comparisons found right
	all   door.Shared[[]Target]
	paths paths
	slots *work.Slots // of surveys
}

// New makes the room, and has declaring tell it.
func New(d *declared.Declared, c Config) *Seen {
	s := &Seen{Declared: d, Config: c, known: newMemory(memoryMost), slots: work.NewSlots(c.Width, nil)}
	s.kinds.Store(&c.Kinds)
	d.Weigh = s.weighing
	return s
}

// Kinds are the connectors that there are now, by kind of target.
func (s *Seen) Kinds() connect.Kinds { return *s.kinds.Load() }

// errUnapproved keeps the secret of a target from going anywhere.
var errUnapproved = errors.New("how it is signed in to waits for approval, and nobody does before: roost revision pending")

// errNoSecret keeps us from a target whose secret nobody has set.
var errNoSecret = errors.New("is not set")

// PlaceOf is a hash of what a target is and where, and of the way there: an accepted key counts for that alone.
func PlaceOf(d *resolve.Desired) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %q", d.Target.Kind, d.Address, d.Target.Via.Name))
	return hex.EncodeToString(sum[:16])
}

// Strikes strikes the secrets that a target was told out of what it says: ours, and more.
func (s *Seen) Strikes(ctx context.Context, target string, more ...[]byte) *connect.Striker {
	_, access, err := s.Reach(ctx, target)
	if err != nil { // then it was told none of ours
		access = connect.Access{Target: target}
	}
	return access.Strikes(more...)
}

// Reach says how to reach a target, its secret unsealed.
func (s *Seen) Reach(ctx context.Context, name string) (connect.Connector, connect.Access, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return nil, connect.Access{}, err
	}
	t := c.Plan.Targets[name]
	if t == nil {
		return nil, connect.Access{}, fmt.Errorf("%s: is no longer declared", name)
	}
	row, err := s.Store.Target(ctx, name)
	if err != nil {
		return nil, connect.Access{}, err
	}
	if c.Unapproved(name) {
		return nil, connect.Access{}, fmt.Errorf("%s: %w", name, errUnapproved)
	}
	a := connect.Access{Target: name, Address: t.Address, As: t.Login, Settings: t.Settings, Wait: s.Wait}
	if row.For == PlaceOf(t) { // a key is accepted for one place, and one way of coming there
		a.Key = row.Accepted
	}
	if via := t.Target.Via.Name; via != "" {
		a.Dial, a.Host = s.through(name, via), s.hostOf(name, via)
	}
	if secret := t.Target.Login.Secret; secret != "" {
		a.Secret, err = s.Secret(ctx, secret)
		if err == store.ErrNone {
			return nil, a, &connect.Error{Target: name, Op: "sign in", Err: fmt.Errorf(
				"the secret %q %w: nobody went there; roost secret set %s --for %s", secret, errNoSecret, secret, name)}
		}
		if err != nil {
			return nil, a, err
		}
		if a.Next, err = s.Secret(ctx, door.NextOf(secret)); err != nil && err != store.ErrNone {
			return nil, a, err
		}
	}
	return s.Kinds()[t.Target.Kind], a, nil
}
