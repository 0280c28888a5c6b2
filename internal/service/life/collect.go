package life

import (
	"context"
	"crypto/hmac"
	"errors"
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Pending is what stands behind a link, for whoever has it.
type Pending struct {
	What      string    `json:"what" enum:"password,hash,key,certificate"`
	ExpiresAt time.Time `json:"expires-at"`
}

// Shown is a credential, once.
type Shown struct {
	Handover int64             `json:"handover"`
	User     string            `json:"user"`
	Name     string            `json:"name"`
	What     string            `json:"what" enum:"password,hash,key,certificate"`
	Value    string            `json:"value"`
	Accounts []HandoverAccount `json:"accounts" doc:"where it signs in"`
	Change   bool              `json:"change" doc:"it must be changed at the first sign-in, where the target asks for that"`
}

// nothingThere is said of every link behind which nothing can be collected: what
// it was is nobody's business who has the link alone.
func nothingThere() error {
	return &door.Problem{Kind: door.Unknown, Words: "nothing waits behind this link: it was collected, has expired or was withdrawn, " +
		"or the link is not whole; whoever gave it to you can make a new one"}
}

// Behind says what waits behind a link. It shows nothing of it, and changes nothing.
func (s *Life) Behind(ctx context.Context, token string) (Pending, error) {
	h, err := s.Store.HandoverByLink(ctx, s.Mark("link", token))
	if errors.Is(err, store.ErrNone) || err == nil && (h.State != ToCollect || h.ExpiresAt.Before(s.Now())) {
		if err == nil && h.State == Made {
			return Pending{}, notYet()
		}
		return Pending{}, nothingThere()
	}
	if err != nil {
		return Pending{}, err
	}
	return Pending{h.What, *h.ExpiresAt}, nil
}

func notYet() error {
	return door.Clashing("it is not ready yet: your accounts are still being made; try again later with the same link")
}

// Collect shows a credential to whoever has the link and the code, once. from is
// the address they ask from.
func (s *Life) Collect(ctx context.Context, token, code, from string) (Shown, error) {
	var out Shown
	var wrongly error
	if _, err := s.Behind(ctx, token); err != nil { // whoever guesses at links locks nothing
		return out, err
	}
	err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		out, wrongly = Shown{}, nil
		h, err := tx.LockHandoverByLink(ctx, s.Mark("link", token))
		switch {
		case errors.Is(err, store.ErrNone):
			return nil, &store.Refusal{Err: nothingThere()}
		case err != nil:
			return nil, err
		case h.State == Made:
			return nil, &store.Refusal{Err: notYet()}
		case h.State != ToCollect || h.ExpiresAt.Before(s.Now()):
			return nil, &store.Refusal{Err: nothingThere()}
		}
		entry := &store.Entry{At: s.Now(), Kind: "handover", Operator: door.Itself.Name, User: h.User, Because: h.Because}
		if !hmac.Equal(h.Code, s.Mark("code", strings.TrimSpace(code))) {
			left := triesMost - h.Tries - 1
			entry.Words = fmt.Sprintf("handover %d was asked for with a wrong code, from %s", h.ID, from)
			wrongly = door.Wrong("code", "that is not the code; %s left", door.Count(left, "try is", "tries are"))
			if err := tx.CountTry(ctx, h.ID); err != nil || left > 0 {
				return []*store.Entry{entry}, err
			}
			entry.Words += "; that was once too often, and it is withdrawn"
			wrongly = nothingThere()
			return []*store.Entry{entry}, tx.EndHandover(ctx, h, Withdrawn, "too many wrong codes", s.Now())
		}
		entry.Words = fmt.Sprintf("handover %d was collected over its link, from %s", h.ID, from)
		out, err = s.shown(ctx, tx, h)
		if err != nil {
			return nil, err
		}
		return []*store.Entry{entry}, tx.EndHandover(ctx, h, Collected, "its link, from "+from, s.Now())
	})
	if err != nil {
		return Shown{}, asProblem(err)
	}
	if wrongly != nil {
		return Shown{}, wrongly
	}
	h, err := s.HandoverByID(ctx, door.Itself, out.Handover)
	out.place(h)
	return out, err
}

// CollectFor shows a credential to an operator, once, who is named in the record.
func (s *Life) CollectFor(ctx context.Context, who door.Operator, id int64) (Shown, error) {
	list, err := s.show(ctx, who, []int64{id}, "shown to %s")
	if err != nil {
		return Shown{}, err
	}
	return list[0], nil
}

// show shows handovers to an operator.
func (s *Life) show(ctx context.Context, who door.Operator, ids []int64, how string) ([]Shown, error) {
	by := fmt.Sprintf(how, who.Name)
	return s.giveOut(ctx, who, ids, by, by, func(*store.Tx, []Shown) error { return nil })
}

// giveOut ends handovers by giving what is in them to somebody, all or none: words
// are what the record says of each, and by who has them. with is called in the same
// transaction.
func (s *Life) giveOut(ctx context.Context, who door.Operator, ids []int64, words, by string,
	with func(*store.Tx, []Shown) error) ([]Shown, error) {
	if err := who.May(door.Credential); err != nil {
		return nil, err
	}
	at, err := s.handoversByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []Shown
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		out = out[:0]
		var entries []*store.Entry
		for _, id := range ids {
			h, err := locked(ctx, tx, id)
			if err != nil {
				return nil, err
			}
			if h.State != ToCollect {
				return nil, &store.Refusal{Err: over(h)}
			}
			x, err := s.shown(ctx, tx, h)
			if err != nil {
				return nil, err
			}
			x.place(at[id])
			out = append(out, x)
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: h.Because,
				Words: fmt.Sprintf("handover %d was %s", id, words)})
			if err := tx.EndHandover(ctx, h, Collected, by, s.Now()); err != nil {
				return nil, err
			}
		}
		return entries, with(tx, out)
	})
	if err != nil { // what is still in the record is not given out besides
		return nil, asProblem(err)
	}
	return out, nil
}

// shown opens what is in a handover.
func (s *Life) shown(ctx context.Context, tx *store.Tx, h store.Handover) (Shown, error) {
	body, err := tx.SealedIn(ctx, h.Sealed)
	if err != nil {
		return Shown{}, fmt.Errorf("what is in handover %d: %w", h.ID, err)
	}
	plain, err := s.Open(body)
	return Shown{Handover: h.ID, User: h.User, What: h.What, Value: string(plain), Change: !h.Keeps && h.What == passwordKind}, err
}

// place says whose a credential is, and where it signs in.
func (x *Shown) place(h Handover) {
	x.Name, x.Accounts = h.Name, []HandoverAccount{}
	for _, a := range h.Accounts {
		if a.State != NotSet {
			x.Accounts = append(x.Accounts, a)
		}
	}
}
