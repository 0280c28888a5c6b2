package life

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/secret"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// hashForm is how crypt(5) writes hashes.
var hashForm = regexp.MustCompile(`^\$[0-9a-z]{1,4}\$[!-9;-~]{10,300}$`)

// RotateRequest asks for new passwords.
type RotateRequest struct {
	Users    []string
	Where    string        // CEL over user, day and params, in place of users
	Targets  []string      // only there; empty: wherever they have an account that has a password
	Accounts []string      // only accounts of these names, where somebody has several; empty: all
	Aloud    bool          // easy to read out on a telephone
	Keeps    bool          // it need not be changed at the first sign-in
	Given    string        // of one person: a password that they chose; "": one is made
	Hash     string        // of one person: the hash of a password that they have, as crypt(5) writes it
	Batch    string        // what they are handed over as
	Lasts    time.Duration // how long they wait to be collected; 0: three days
	Because  string
}

// Rotate gives people new passwords: sealed as they are made, set by a round that
// signs in with each, and handed over once. A round that is held waits for
// somebody else's approval, as does one for an account with superuser rights.
func (s *Life) Rotate(ctx context.Context, who door.Operator, q RotateRequest) (Rotated, error) {
	if err := who.May(door.Credential); err != nil {
		return Rotated{}, err
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return Rotated{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Rotated{}, err
	}
	users, err := chosen(c, SuspendRequest{Users: q.Users, Where: q.Where})
	if err != nil {
		return Rotated{}, err
	}
	if err := c.Check(declared.Choice{Targets: q.Targets}); err != nil {
		return Rotated{}, err
	}
	if q.Hash != "" && (q.Given != "" || !hashForm.MatchString(q.Hash)) {
		return Rotated{}, door.Wrong("hash", "it is no hash as crypt(5) writes them ($y$…, $6$…), or a password is given beside it")
	}
	if q.Given+q.Hash != "" && len(users) != 1 {
		return Rotated{}, door.Wrong("password", "one password for %s: name one of them", door.Count(len(users), "person", "people"))
	}
	lasts, err := lasting(q.Lasts)
	if err != nil {
		return Rotated{}, err
	}
	if q.Batch == "" && len(users) > linksMost {
		q.Batch = "rotated-" + day(s.Now())
	}
	x := rotation{Life: s, c: c, q: q, hashed: q.Hash != ""}
	if err := x.look(ctx, users); err != nil {
		return Rotated{}, err
	}
	out := Rotated{Handovers: []Handover{}, Left: x.left}
	if len(x.acts) == 0 {
		out.Words = "nothing is to be set"
		return out, nil
	}
	if err := x.make(ctx); err != nil {
		return Rotated{}, err
	}
	if err := x.store(ctx, who, because, lasts); err != nil {
		return Rotated{}, err
	}
	if out.Round, err = s.carryOut(ctx, acting(who), x.acts, because); err != nil {
		return out, errors.Join(err, s.abandon(context.WithoutCancel(ctx), who, x.ids, "no round was made that sets it"))
	}
	s.enliven()
	if out.Handovers, out.Links, err = s.linkedTo(ctx, who, x.ids, q.Given+q.Hash == "" && q.Batch == ""); err != nil {
		return out, err
	}
	out.Words = fmt.Sprintf("round %d sets them", out.Round.ID)
	if out.Round.State == rounds.OnHold {
		out.Words = fmt.Sprintf("round %d sets them, once somebody else has approved it: it is held", out.Round.ID)
	}
	return out, nil
}

// rotation is new passwords for people, as they are made.
type rotation struct {
	*Life
	c      *declared.Current
	q      RotateRequest
	acts   []model.Act
	left   []LeftOut
	hashed bool     // what is set is a hash
	users  []string // who get one
	seals  []store.Sealing
	ids    []int64 // of their handovers
}

// look finds the accounts that get a new password.
func (x *rotation) look(ctx context.Context, users []string) error {
	x.left = []LeftOut{}
	cut, err := x.Store.SuspendedAmong(ctx, users)
	if err != nil {
		return err
	}
	for _, user := range users {
		if cut[user] {
			x.left = append(x.left, LeftOut{User: user, Words: "is suspended; end that first: roost restore " + user})
			continue
		}
		links, err := x.Store.LinksOf(ctx, user)
		if err != nil {
			return err
		}
		n, others := len(x.left), []string{}
		any := false
		for _, l := range links {
			if len(x.q.Targets) > 0 && !slices.Contains(x.q.Targets, l.Target) {
				continue
			}
			if others = append(others, l.Name); len(x.q.Accounts) > 0 && !slices.Contains(x.q.Accounts, l.Name) {
				continue
			}
			act, why, err := x.act(ctx, l)
			if err != nil {
				return err
			}
			if why != "" {
				x.left = append(x.left, LeftOut{user, l.Target, l.Name, why})
				continue
			}
			x.acts, any = append(x.acts, act), true
		}
		switch {
		case any:
			x.users = append(x.users, user)
		case len(x.left) == n && len(others) > 0:
			x.left = append(x.left, LeftOut{User: user, Words: declare.Meant("has no account "+strings.Join(x.q.Accounts, ", ")+" there",
				x.q.Accounts[0], others)})
		case len(x.left) == n:
			x.left = append(x.left, LeftOut{User: user, Words: "has no account there that we know of; declare it, or adopt the one there"})
		}
	}
	return nil
}

// act sets a new password on an account, or says why none can be.
func (x *rotation) act(ctx context.Context, l model.Link) (a model.Act, why string, err error) {
	a = model.Act{Target: l.Target, Verb: model.Modify, Object: model.Account, Name: l.Name, User: l.User}
	d := x.c.Plan.Targets[l.Target]
	if d == nil {
		return a, "the target is no longer declared", nil
	}
	attribute := model.Password
	if x.hashed {
		attribute = model.PasswordHash
	}
	if p, ok := d.Schema.Find(model.Account, attribute); !ok || !p.Sealed {
		return a, "accounts there have no " + model.Called(attribute) + " that can be set", nil
	}
	o, err := x.Store.Object(ctx, l.Target, model.Account, l.Name)
	switch {
	case errors.Is(err, store.ErrNone):
		return a, "it was not there when the target was last surveyed", nil
	case err != nil:
		return a, "", err
	case o.Attributes.One(model.Disabled) == "yes":
		return a, "the account is shut", nil
	}
	a.Changes = []model.Change{{Attribute: attribute}}
	if x.asks(l.Target, l.User) {
		a.Changes = append(a.Changes, mustChange())
	}
	return a, "", nil
}

// asks says whether a person is asked for another password at the first sign-in: where
// the target can, and they are no service, which nobody could ask.
func (x *rotation) asks(target, user string) bool {
	_, has := x.c.Plan.Targets[target].Schema.Find(model.Account, model.MustChange)
	u := x.c.Declared.Users[user]
	return has && !x.q.Keeps && (u == nil || !u.Service)
}

// mustChange asks for another password. Whether one is asked for is known only to the
// target: whoever has signed in since it was last seen has changed theirs.
func mustChange() model.Change {
	return model.Change{Attribute: model.MustChange, After: []string{"yes"}}
}

// make makes each person's password, and seals it.
func (x *rotation) make(ctx context.Context) error {
	from := 0
	for range x.users {
		to := from
		for to < len(x.acts) && x.acts[to].User == x.acts[from].User {
			to++
		}
		sealing, err := x.sealed(ctx, x.acts[from:to])
		if err != nil {
			return err
		}
		for i := from; i < to; i++ {
			if first := &x.acts[i].Changes[0]; first.Attribute == model.Password || first.Attribute == model.PasswordHash {
				first.Sealed = sealing.ID
			}
		}
		x.seals, from = append(x.seals, sealing), to
	}
	return nil
}

// sealed is what is set on the accounts that acts speak of.
func (x *rotation) sealed(ctx context.Context, acts []model.Act) (store.Sealing, error) {
	if x.q.Hash != "" {
		return x.Sealed([]byte(x.q.Hash))
	}
	return x.password(ctx, x.c, acts, x.q.Aloud, x.q.Given)
}

// password makes one for all accounts of a person that acts speak of, or takes the one given, and seals it.
func (s *Life) password(ctx context.Context, c *declared.Current, acts []model.Act, aloud bool, given string) (store.Sealing, error) {
	targets := make([]string, len(acts))
	for i, a := range acts {
		targets[i] = a.Target
	}
	screen := screenFor(c, acts[0].User, targets)
	plain := given
	var err error
	if given != "" {
		err = s.take(ctx, screen, acts[0].User, given)
	} else {
		plain, err = secret.Make(rand.Reader, screen.rule.Strictest(secret.Rule{Aloud: aloud}), screen.Built)
	}
	if err != nil {
		return store.Sealing{}, err
	}
	return s.Sealed([]byte(plain))
}

// store keeps the handovers with what is in them, before any of it is set: a
// password that is on an account and nowhere else is one that nobody has.
func (x *rotation) store(ctx context.Context, who door.Operator, because string, lasts time.Duration) error {
	now := x.Now()
	return x.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		x.ids = x.ids[:0]
		var entries []*store.Entry
		for i, user := range x.users {
			what := passwordKind
			if x.hashed {
				what = hashKind
			}
			id, err := tx.AddHandover(ctx, store.Handover{User: user, What: what, State: Made, Batch: x.q.Batch,
				Aloud: x.q.Aloud, Given: x.q.Given+x.q.Hash != "",
				Keeps: x.q.Keeps, Sealed: x.seals[i].ID, Operator: who.Name, Because: because, MadeAt: now,
				Lasts: int(lasts / time.Second)})
			if err != nil {
				return nil, err
			}
			x.ids = append(x.ids, id)
			entries = append(entries, &store.Entry{At: now, Kind: "handover", Operator: who.Name, User: user, Because: because,
				Words: fmt.Sprintf("made handover %d: a new password for %s", id, user)})
		}
		return entries, tx.PutSealings(ctx, x.seals, now)
	})
}
