package life

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/secret"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// A handover is a new credential that waits to be collected once. What is in it is
// sealed from the moment it is made, is set on the targets from there, and is gone
// once it was shown. Its person needs a link and a code, which come to them in two
// ways; the link holds its secret behind a #, which no browser sends and no log
// keeps, and opening it shows nothing.

// States of a handover.
const (
	Made      = "made"    // and on no account yet
	ToCollect = "waiting" // to be collected
	Collected = "collected"
	Expired   = "expired"
	Withdrawn = "withdrawn"
	NotSet    = "not set" // no account took it
)

// Handover is a new credential that waits for its person, without what is in it.
type Handover struct {
	ID        int64             `json:"id"`
	User      string            `json:"user"`
	Name      string            `json:"name,omitempty" doc:"the person's full name"`
	What      string            `json:"what" enum:"password,hash,key,certificate"`
	State     string            `json:"state" enum:"made,waiting,collected,expired,withdrawn,not set"`
	Batch     string            `json:"batch,omitempty"`
	Operator  string            `json:"operator"`
	Because   string            `json:"because"`
	MadeAt    time.Time         `json:"made-at"`
	ExpiresAt *time.Time        `json:"expires-at,omitempty"`
	Linked    bool              `json:"linked" doc:"there is a link to it"`
	Tries     int               `json:"tries" doc:"with a wrong code"`
	EndedAt   *time.Time        `json:"ended-at,omitempty"`
	EndedBy   string            `json:"ended-by,omitempty" doc:"who collected or withdrew it, or why it ended"`
	Accounts  []HandoverAccount `json:"accounts"`
}

// HandoverAccount is an account that a handover's credential is for.
type HandoverAccount struct {
	Target string     `json:"target"`
	Name   string     `json:"name"`
	State  string     `json:"state" enum:"waiting,proved,set,unsure,not set" doc:"set: nobody could try it; unsure: the connection was lost, and it is set anew"`
	Words  string     `json:"words,omitempty"`
	Round  int64      `json:"round,omitempty"`
	At     *time.Time `json:"at,omitempty"`
}

const (
	triesMost   = 5 // with a wrong code, before a handover is withdrawn
	codeDigits  = 6
	lastsUsual  = 72 * time.Hour
	lastsLeast  = time.Minute
	lastsMost   = 90 * 24 * time.Hour
	shownAtOnce = 1000
)

func toldHandover(c *declared.Current, h store.Handover) Handover {
	return Handover{ID: h.ID, User: h.User, Name: c.FullName(h.User), What: h.What, State: h.State, Batch: h.Batch, Operator: h.Operator,
		Because: h.Because, MadeAt: h.MadeAt, ExpiresAt: h.ExpiresAt, Linked: h.Code != nil, Tries: h.Tries, EndedAt: h.EndedAt,
		EndedBy: h.EndedBy, Accounts: []HandoverAccount{}}
}

// HandoverChoice chooses handovers; zero fields choose all.
type HandoverChoice struct {
	User, Batch, State string
	Before             int64
	Size               int
}

// Handovers are some, the newest first. Next is what the page behind begins before.
type Handovers struct {
	Items []Handover `json:"items"`
	Next  int64      `json:"next,omitempty" doc:"the page behind: before=NEXT"`
}

// ListHandovers returns the chosen ones, a page of them.
func (s *Life) ListHandovers(ctx context.Context, who door.Operator, q HandoverChoice) (Handovers, error) {
	if err := who.May(door.Look); err != nil {
		return Handovers{}, err
	}
	size := door.Page{Size: q.Size}.Bounded().Size
	list, err := s.handovers(ctx, store.HandoverFilter{User: q.User, Batch: q.Batch, State: q.State, Before: q.Before}, size+1)
	if err != nil {
		return Handovers{}, err
	}
	out := Handovers{Items: list}
	if len(list) > size {
		out.Items = list[:size]
		out.Next = list[size-1].ID
	}
	return out, nil
}

// HandoverByID returns one.
func (s *Life) HandoverByID(ctx context.Context, who door.Operator, id int64) (Handover, error) {
	if err := who.May(door.Look); err != nil {
		return Handover{}, err
	}
	list, err := s.handovers(ctx, store.HandoverFilter{IDs: []int64{id}}, 1)
	if err == nil && len(list) == 0 {
		err = noHandover(id)
	}
	if err != nil {
		return Handover{}, err
	}
	return list[0], nil
}

func noHandover(id int64) error {
	return &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no handover %d; roost handover list shows them", id)}
}

func (s *Life) handovers(ctx context.Context, f store.HandoverFilter, most int) ([]Handover, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Handovers(ctx, f, most)
	if err != nil {
		return nil, err
	}
	out, at, ids := make([]Handover, len(rows)), map[int64]*Handover{}, make([]int64, len(rows))
	for i, h := range rows {
		out[i] = toldHandover(c, h)
		at[h.ID], ids[i] = &out[i], h.ID
	}
	accounts, err := s.Store.HandoverAccounts(ctx, ids)
	for _, a := range accounts {
		h := at[a.Handover]
		h.Accounts = append(h.Accounts, HandoverAccount{Target: a.Target, Name: a.Name, State: a.State, Words: a.Words, Round: a.Round,
			At: a.At})
	}
	return out, err
}

// Linked is a link to a handover, and the code that is told beside it. Neither is kept.
type Linked struct {
	Handover Handover `json:"handover"`
	Link     string   `json:"link" doc:"behind the service's address; what stands after # never leaves the browser"`
	Code     string   `json:"code" doc:"told to the person in another way than the link"`
}

// LinkTo makes a new link and code to a handover, in place of those before.
func (s *Life) LinkTo(ctx context.Context, who door.Operator, id int64) (Linked, error) {
	if err := who.May(door.Credential); err != nil {
		return Linked{}, err
	}
	token := rand.Text()
	code, err := secret.Code(rand.Reader, codeDigits)
	if err != nil {
		return Linked{}, err
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		h, err := locked(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		if h.State != Made && h.State != ToCollect {
			return nil, &store.Refusal{Err: over(h)}
		}
		return []*store.Entry{{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: h.Because,
			Words: fmt.Sprintf("made a link to handover %d", id)}}, tx.LinkHandover(ctx, id, s.Mark("link", token), s.Mark("code", code))
	})
	if err != nil {
		return Linked{}, asProblem(err)
	}
	h, err := s.HandoverByID(ctx, door.Itself, id)
	return Linked{h, "/handover#" + token, code}, err
}

// locked is a handover that nobody else ends until the transaction does.
func locked(ctx context.Context, tx *store.Tx, id int64) (store.Handover, error) {
	h, err := tx.LockHandover(ctx, id)
	if errors.Is(err, store.ErrNone) {
		err = &store.Refusal{Err: noHandover(id)}
	}
	return h, err
}

// over says why nothing can be collected.
func over(h store.Handover) error {
	switch h.State {
	case Made:
		return door.Clashing("handover %d is on no account yet: the round that sets it has not ended", h.ID)
	case Collected:
		return door.Clashing("handover %d was collected (%s), and is gone; roost rotate %s makes a new one", h.ID, h.EndedBy, h.User)
	case Expired:
		return door.Clashing("handover %d has expired, and is gone; roost rotate %s makes a new one", h.ID, h.User)
	case NotSet:
		return door.Clashing("handover %d was taken by no account, and is gone; roost rotate %s makes a new one", h.ID, h.User)
	}
	return door.Clashing("handover %d was withdrawn: %s; roost rotate %s makes a new one", h.ID, h.EndedBy, h.User)
}

// asProblem is the problem that a transaction was refused with, or the error as it is.
func asProblem(err error) error {
	var p *door.Problem
	if errors.As(err, &p) {
		return p
	}
	return err
}

// WithdrawHandover ends one that waits: nobody can collect it any more.
func (s *Life) WithdrawHandover(ctx context.Context, who door.Operator, id int64, because string) (Handover, error) {
	if err := who.May(door.Credential); err != nil {
		return Handover{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Handover{}, err
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		h, err := locked(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		if h.State != Made && h.State != ToCollect {
			return nil, &store.Refusal{Err: over(h)}
		}
		return []*store.Entry{{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: because,
			Words: fmt.Sprintf("withdrew handover %d", id)}}, tx.EndHandover(ctx, h, Withdrawn, who.Name+", "+because, s.Now())
	})
	if err != nil {
		return Handover{}, asProblem(err)
	}
	return s.HandoverByID(ctx, door.Itself, id)
}

// abandon withdraws handovers that no round sets, since what they were made for did not come to pass.
func (s *Life) abandon(ctx context.Context, who door.Operator, ids []int64, why string) error {
	at, err := s.handoversByID(ctx, ids)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		for _, id := range ids {
			h, err := tx.LockHandover(ctx, id)
			if err != nil {
				return nil, err
			}
			if h.State != Made || len(at[id].Accounts) > 0 {
				continue // an earlier one of theirs, or somebody was quicker
			}
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: h.Because,
				Words: fmt.Sprintf("withdrew handover %d: %s", id, why)})
			if err := tx.EndHandover(ctx, h, Withdrawn, why, s.Now()); err != nil {
				return nil, err
			}
		}
		return entries, nil
	})
}

// handoversByID returns some, by their numbers.
func (s *Life) handoversByID(ctx context.Context, ids []int64) (map[int64]Handover, error) {
	out := map[int64]Handover{}
	for part := range slices.Chunk(ids, shownAtOnce) {
		list, err := s.handovers(ctx, store.HandoverFilter{IDs: part}, len(part))
		if err != nil {
			return nil, err
		}
		for _, h := range list {
			out[h.ID] = h
		}
	}
	return out, nil
}
