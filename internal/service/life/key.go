package life

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// A key pair is made for a person: the private half is sealed and handed over once,
// the public half is declared and brought to the targets by a round. When somebody
// has signed in with it everywhere, the keys that Hen Roost made for them before
// are withdrawn from the declaration, and from the targets.

// KeyRequest asks for a key pair.
type KeyRequest struct {
	User    string
	Until   string // its last day, told as a finding when it is near; "" none
	Alone   bool   // all other keys of theirs are withdrawn at once
	Lasts   time.Duration
	Because string
}

// RotateKey makes a person a key pair.
func (s *Life) RotateKey(ctx context.Context, who door.Operator, q KeyRequest) (Rotated, error) {
	if day, err := dayOr("until", q.Until, s.Now().AddDate(1, 0, 0)); err != nil || day.Before(s.Now()) {
		return Rotated{}, door.Wrong("until", "%q is not a day to come; write it as 2027-12-31", q.Until)
	}
	c, err := s.forOne(ctx, who, q.User)
	if err != nil {
		return Rotated{}, err
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return Rotated{}, err
	}
	lasts, err := lasting(q.Lasts)
	if err != nil {
		return Rotated{}, err
	}
	accounts, found, err := s.keyed(ctx, c, q.User)
	if err != nil {
		return Rotated{}, err
	}
	if len(accounts) == 0 {
		return Rotated{}, door.Clashing("%s has no account that keys open; declare one, or adopt the one there", q.User)
	}
	if c.Declared.Users[q.User].Keys == nil && !q.Alone && !alike(found, len(accounts)) {
		return Rotated{}, door.Clashing("nobody declared the keys of %s, and they differ from target to target: a declared one takes the "+
			"place of all. Declare those that are theirs first, or withdraw the others with it (--alone)", q.User)
	}
	id, public, err := s.keyPair(ctx, who, q, because, lasts)
	if err != nil {
		return Rotated{}, err
	}
	out := Rotated{Left: []LeftOut{}}
	done := context.WithoutCancel(ctx) // its private half is kept: what follows is done whoever waits for it
	if out.Round, err = s.declareKey(done, who, c, q, public, door.KeysOf(found), because); err != nil {
		return out, err
	}
	for i := range accounts {
		accounts[i].Handover, accounts[i].Round, accounts[i].State = id, out.Round.ID, store.HandedWaiting
	}
	if err := s.Store.Tx(done, func(tx *store.Tx) error { return tx.AddHandoverAccounts(done, accounts) }); err != nil {
		return out, err
	}
	s.enliven()
	l, err := s.LinkTo(done, who, id)
	out.Handovers, out.Links = []Handover{l.Handover}, []Linked{l}
	out.Words = fmt.Sprintf("round %d brings it to the targets", out.Round.ID)
	if out.Round.State == rounds.OnHold {
		out.Words = fmt.Sprintf("round %d brings it to the targets, once somebody else has approved it: it is held", out.Round.ID)
	}
	return out, err
}

// keyed are the accounts of a person that keys open, and the keys found on them: each with on how many.
func (s *Life) keyed(ctx context.Context, c *declared.Current, user string) (accounts []store.HandoverAccount, found map[string]int,
	err error) {
	found = map[string]int{}
	links, err := s.Store.LinksOf(ctx, user)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range links {
		d := c.Plan.Targets[l.Target]
		if d == nil {
			continue
		}
		if _, has := d.Schema.Find(model.Account, model.Keys); !has {
			continue
		}
		o, err := s.Store.Object(ctx, l.Target, model.Account, l.Name)
		if errors.Is(err, store.ErrNone) || err == nil && o.Attributes.One(model.Disabled) == "yes" {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		accounts = append(accounts, store.HandoverAccount{Target: l.Target, Name: l.Name})
		for _, k := range o.Attributes.Get(model.Keys) {
			found[k]++
		}
	}
	return accounts, found, nil
}

// alike says whether each key was found on all accounts.
func alike(found map[string]int, accounts int) bool {
	for _, n := range found {
		if n < accounts {
			return false
		}
	}
	return true
}

// keyPair makes and seals a key pair, and returns its handover and its public half.
func (s *Life) keyPair(ctx context.Context, who door.Operator, q KeyRequest, because string, lasts time.Duration) (id int64, public string,
	err error) {
	now := s.Now()
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		sealed := rand.Text()
		if id, err = tx.AddHandover(ctx, store.Handover{User: q.User, What: keyKind, State: Made, Keeps: true, Sealed: sealed,
			Operator: who.Name, Because: because, MadeAt: now, Lasts: int(lasts / time.Second)}); err != nil {
			return nil, err
		}
		comment := fmt.Sprintf("%s%d", model.KeyMark, id)
		if q.Until != "" {
			comment += " until=" + q.Until
		}
		private, line, err := newKey(comment)
		if err != nil {
			return nil, err
		}
		seal, err := s.Sealed(private)
		if err != nil {
			return nil, err
		}
		seal.ID, public = sealed, line
		return []*store.Entry{{At: now, Kind: "handover", Operator: who.Name, User: q.User, Because: because,
			Words: fmt.Sprintf("made handover %d: a key for %s", id, q.User)}}, tx.PutSealings(ctx, []store.Sealing{seal}, now)
	})
	return id, public, err
}

// declareKey declares a key beside those that there are: keys that nobody declared
// become declared with it, since what is declared is all there is to be.
func (s *Life) declareKey(ctx context.Context, who door.Operator, c *declared.Current, q KeyRequest, public string, found []string,
	because string) (rounds.Round, error) {
	edit := declare.Edit{Section: "users", Name: q.User, Key: "keys", Do: declare.Add, Value: public}
	switch {
	case q.Alone:
		edit.Do, edit.Value = declare.Set, []any{public}
	case c.Declared.Users[q.User].Keys == nil:
		all := []any{}
		for _, k := range append(found, public) {
			all = append(all, k)
		}
		edit.Do, edit.Value = declare.Set, all
	}
	return s.editAndFollow(ctx, who, q.User, []declare.Edit{edit}, because)
}

// editAndFollow declares edits, and brings what they mean for a person to the targets.
func (s *Life) editAndFollow(ctx context.Context, who door.Operator, user string, edits []declare.Edit, because string) (rounds.Round,
	error) {
	before, err := s.keysOf(ctx, user)
	if err != nil {
		return rounds.Round{}, err
	}
	if _, err := s.Edit(ctx, acting(who), 0, edits, because); err != nil {
		return rounds.Round{}, err
	}
	fresh, err := s.freshSince(ctx, user, before)
	if err != nil || len(fresh) == 0 {
		return rounds.Round{}, err
	}
	r, _, err := s.follow(ctx, acting(who), rounds.DraftRequest{Findings: fresh}, because)
	return r, err
}

// provedAtOnce is how many targets are signed in to at once: one that does not answer makes nobody wait.
const provedAtOnce = 16

// proveKeys signs in with keys whose round has ended, and with certificates, on each of their accounts,
// and withdraws the ones before when all let it in.
func (s *Life) proveKeys(ctx context.Context) error {
	waiting, err := s.Store.KeysToProve(ctx, settledAtOnce)
	if err != nil {
		return err
	}
	for i := 0; i < len(waiting); {
		id, from := waiting[i].Handover, i
		for i < len(waiting) && waiting[i].Handover == id {
			i++
		}
		if err := s.proveKey(ctx, id, waiting[from:i]); err != nil {
			return err
		}
	}
	return nil
}

func (s *Life) proveKey(ctx context.Context, id int64, accounts []store.HandoverAccount) error {
	rows, err := s.Store.Handovers(ctx, store.HandoverFilter{IDs: []int64{id}}, 1)
	if err != nil || len(rows) == 0 {
		return err
	}
	h := rows[0]
	private, err := s.Unseal(ctx, h.Sealed)
	if err != nil {
		return err
	}
	var tries errgroup.Group
	tries.SetLimit(provedAtOnce)
	for i := range accounts {
		tries.Go(func() error {
			a := &accounts[i]
			a.State, a.Words = s.tryKey(ctx, a.Target, a.Name, private)
			return s.Store.SetHanded(ctx, *a, s.Now())
		})
	}
	err = tries.Wait()
	s.settleSoon()
	switch {
	case err != nil:
		return err
	case slices.ContainsFunc(accounts, func(a store.HandoverAccount) bool { return a.State != store.HandedProved }):
		return nil
	case h.What == certificateKind:
		return s.certificateProved(ctx, h)
	}
	return s.withdrawKeys(ctx, h)
}

// tryKey signs in with a key.
func (s *Life) tryKey(ctx context.Context, target, account string, private connect.Secret) (state, words string) {
	session, err := s.SessionOn(ctx, target)
	if err != nil {
		return store.NotHanded, err.Error()
	}
	defer session.Close()
	switch p, words := connect.Prove(ctx, session, account, private); p {
	case connect.Proved:
		return store.HandedProved, string(p)
	case connect.Disproved:
		return store.NotHanded, string(p)
	default:
		words = s.Strikes(ctx, target, private.Reveal()).Text(words)
		return store.Handed, strings.TrimSuffix(string(p)+": "+words, ": ")
	}
}

// withdrawKeys takes the keys that were made for a person before out of the declaration, and off the targets.
func (s *Life) withdrawKeys(ctx context.Context, h store.Handover) error {
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	u := c.Declared.Users[h.User]
	if u == nil {
		return nil
	}
	var edits []declare.Edit
	for _, k := range u.Keys {
		if strings.Contains(k.Raw, " "+model.KeyMark) && !slices.Contains(strings.Fields(k.Raw), fmt.Sprintf("%s%d", model.KeyMark, h.ID)) {
			edits = append(edits, declare.Edit{Section: "users", Name: h.User, Key: "keys", Do: declare.Take, Value: k.Raw})
		}
	}
	if len(edits) == 0 {
		return nil
	}
	_, err = s.editAndFollow(ctx, door.Operator{Name: h.Operator}, h.User, edits, h.Because+" (the key before is withdrawn)")
	return err
}
