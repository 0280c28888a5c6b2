package life

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/secret"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// A secret with which Hen Roost itself signs in is rotated so that it never stands
// outside: the next one is sealed before any target has it, each target is given
// it and proves it, and only when all have is it the secret and the old one taken
// away. Until then both are tried. Whatever is cut off goes on when it is asked
// for again.

// RenewedSecret is how far the rotation of a secret is.
type RenewedSecret struct {
	Name    string          `json:"name"`
	Done    bool            `json:"done" doc:"every target has the new one, and the old one is let in nowhere"`
	Targets []RenewedTarget `json:"targets"`
	Words   string          `json:"words"`
}

// RenewedTarget is a target on which a secret is rotated.
type RenewedTarget struct {
	Target string `json:"target"`
	State  string `json:"state" enum:"proved,not proved,failed,old one still let in"`
	Words  string `json:"words,omitempty"`
}

const renewedAtOnce = 16 // targets

const (
	renewedProved = "proved"
	renewedNot    = "not proved"
	renewedFailed = "failed"
	renewedOld    = "old one still let in"
)

// RenewSecret rotates a secret that targets are signed in to with.
func (s *Life) RenewSecret(ctx context.Context, who door.Operator, name, because string) (RenewedSecret, error) {
	if err := who.May(door.Administer); err != nil {
		return RenewedSecret{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return RenewedSecret{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return RenewedSecret{}, err
	}
	targets, err := signedInWith(c, name)
	if err != nil {
		return RenewedSecret{}, err
	}
	held, err := work.TryHold(ctx, s.Store, "secret/"+name, s.Owner)
	if errors.Is(err, work.ErrHeld) {
		return RenewedSecret{}, door.Clashing("somebody else is rotating %s at this moment", name)
	}
	if err != nil {
		return RenewedSecret{}, err
	}
	defer held.Release()
	ctx = context.WithoutCancel(ctx) // what was begun is finished whoever waits for it
	r := renewal{Life: s, who: who, name: name, because: because, out: RenewedSecret{Name: name}}
	for _, t := range targets {
		r.out.Targets = append(r.out.Targets, RenewedTarget{Target: t})
	}
	err = r.run(ctx)
	return r.out, err
}

// signedInWith are the targets that a secret is for.
func signedInWith(c *declared.Current, name string) (out []string, err error) {
	used := map[string]bool{}
	for _, t := range door.KeysOf(c.Declared.Targets) {
		secret := c.Declared.Targets[t].Login.Secret
		if used[secret] = true; secret == name {
			out = append(out, t)
		}
	}
	if len(out) == 0 {
		delete(used, "")
		return nil, door.NotKnown("secret of a target", name, door.KeysOf(used))
	}
	return out, nil
}

// renewal is the rotation of one secret.
type renewal struct {
	*Life
	who           door.Operator
	name, because string
	out           RenewedSecret
}

func (r *renewal) run(ctx context.Context) error {
	old, err := r.kept(ctx, door.BeforeOf(r.name))
	if err != nil {
		return err
	}
	if old == nil { // else only the old one is still to be taken away
		if old, err = r.give(ctx); err != nil || old == nil {
			return err
		}
	}
	r.each(func(t *RenewedTarget) {
		t.State = renewedProved
		if err := r.retire(ctx, t.Target, old); err != nil {
			t.State, t.Words = renewedOld, err.Error()
		}
	})
	if n := r.count(renewedOld); n > 0 {
		r.out.Words = fmt.Sprintf("%s is rotated, and %s still let the old one in: ask for it again when they answer", r.name,
			door.Count(n, "target does", "targets do"))
		return nil
	}
	r.out.Done, r.out.Words = true, fmt.Sprintf("%s is rotated on %s, and the old one is let in nowhere", r.name,
		door.Count(len(r.out.Targets), "target", "targets"))
	return r.note(ctx, r.out.Words, func(tx *store.Tx) error { return tx.DropSecret(ctx, door.BeforeOf(r.name)) })
}

// kept is a secret, nil when there is none of that name.
func (r *renewal) kept(ctx context.Context, name string) ([]byte, error) {
	b, err := r.Secret(ctx, name)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	return b, err
}

func (r *renewal) note(ctx context.Context, words string, do func(*store.Tx) error) error {
	return r.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: r.Now(), Kind: "secret", Operator: r.who.Name, Because: r.because, Words: words}}, do(tx)
	})
}

func (r *renewal) count(state string) (n int) {
	for _, t := range r.out.Targets {
		if t.State == state {
			n++
		}
	}
	return n
}

// each does something for all targets, several at once.
func (r *renewal) each(do func(*RenewedTarget)) {
	var wg sync.WaitGroup
	turn := make(chan struct{}, renewedAtOnce)
	for i := range r.out.Targets {
		turn <- struct{}{}
		wg.Go(func() {
			defer func() { <-turn }()
			do(&r.out.Targets[i])
		})
	}
	wg.Wait()
}

// give gives all targets the next secret and makes it the secret when each has
// proved it. It returns the old one then, and nil while some have not.
func (r *renewal) give(ctx context.Context) (old []byte, err error) {
	if old, err = r.kept(ctx, r.name); err != nil {
		return nil, err
	}
	if old == nil {
		return nil, door.Clashing("no secret %q is set; set it with: roost secret set %s", r.name, r.name)
	}
	next, err := r.kept(ctx, door.NextOf(r.name))
	if err != nil {
		return nil, err
	}
	if next == nil {
		if next, err = sameSort(old); err != nil {
			return nil, err
		}
		if err := r.note(ctx, "began to rotate the secret "+r.name, func(tx *store.Tx) error {
			return r.PutSecret(ctx, tx, r.who, door.NextOf(r.name), next)
		}); err != nil {
			return nil, err
		}
	}
	r.each(func(t *RenewedTarget) { r.giveTo(ctx, t, next) })
	if n := len(r.out.Targets) - r.count(renewedProved); n > 0 {
		r.out.Words = fmt.Sprintf("%s has not proved the new one; both are let in meanwhile, and nothing is taken away: ask for it again",
			door.Count(n, "target", "targets"))
		return nil, nil
	}
	return old, r.note(ctx, "every target has proved the new secret "+r.name, func(tx *store.Tx) error {
		if err := r.PutSecret(ctx, tx, r.who, r.name, next); err != nil {
			return err
		}
		if err := r.PutSecret(ctx, tx, r.who, door.BeforeOf(r.name), old); err != nil {
			return err
		}
		return tx.DropSecret(ctx, door.NextOf(r.name))
	})
}

// giveTo gives one target the next secret, and signs in with it.
func (r *renewal) giveTo(ctx context.Context, t *RenewedTarget, next []byte) {
	strikes := r.Strikes(ctx, t.Target, next)
	fail := func(state string, err error) { t.State, t.Words = state, strikes.Text(err.Error()) }
	session, err := r.SessionOn(ctx, t.Target)
	if err != nil {
		fail(renewedFailed, err)
		return
	}
	err = connect.Renew(ctx, session, connect.Seal(next))
	session.Close()
	if err != nil {
		fail(renewedFailed, err)
		return
	}
	if err := r.signIn(ctx, t.Target, next); err != nil {
		fail(renewedNot, err)
		return
	}
	t.State = renewedProved
}

// signIn signs in to a target with one secret and no other.
func (r *renewal) signIn(ctx context.Context, target string, with []byte) error {
	connector, access, err := r.Reach(ctx, target)
	if err != nil {
		return err
	}
	access.Secret, access.Next = with, nil
	session, err := connector.Open(ctx, access)
	if err != nil {
		return err
	}
	return session.Close()
}

// retire has a target let the old secret in no more.
func (r *renewal) retire(ctx context.Context, target string, old []byte) error {
	session, err := r.SessionOn(ctx, target)
	if err != nil {
		return err
	}
	defer session.Close()
	if err := connect.Retire(ctx, session, connect.Seal(old)); err != nil {
		return err
	}
	var refused *connect.Refused
	switch err := r.signIn(ctx, target, old); {
	case err == nil:
		return fmt.Errorf("%s: took the old one away, and lets it in still", target)
	case !errors.As(err, &refused):
		return fmt.Errorf("%s: whether the old one is let in cannot be tried: %w", target, err)
	}
	return nil
}

// sameSort makes a secret of the same sort: a private key, or a password.
func sameSort(old []byte) ([]byte, error) {
	if _, err := ssh.ParsePrivateKey(old); err == nil {
		private, _, err := newKey("hen-roost")
		return private, err
	}
	p, err := secret.Make(rand.Reader, secret.Rule{Length: 30}, nil)
	return []byte(p), err
}

// newKey makes a key pair: the private half in PEM, and the public one as a line of authorized keys.
func newKey(comment string) (private []byte, public string, err error) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, "", err
	}
	block, err := ssh.MarshalPrivateKey(key, comment)
	if err != nil {
		return nil, "", err
	}
	line, err := ssh.NewPublicKey(pub)
	if err != nil {
		return nil, "", err
	}
	return pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(line))) + " " + comment, nil
}
