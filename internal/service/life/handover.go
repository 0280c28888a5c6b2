package life

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"

	"hen-roost/internal/core/exchange"
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
	State  string     `json:"state" enum:"waiting,proved,set,unsure,not set" doc:"set: nobody could try whether it signs in; unsure: the connection was lost while it was set, and it is set anew"`
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
		return door.Clashing("handover %d was collected by %s, and is gone; roost rotate %s makes a new one", h.ID, h.EndedBy, h.User)
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
	return &door.Problem{Kind: door.Unknown, Words: "nothing waits behind this link: it was collected, has expired or was withdrawn, or " +
		"the " +
		"link is not whole; whoever gave it to you can make a new one"}
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

// Sheets shows the credentials of a batch that wait, to be printed: a sheet for each person.
func (s *Life) Sheets(ctx context.Context, who door.Operator, batch string) ([]Shown, error) {
	ids, err := s.waitingIn(ctx, who, batch)
	if err != nil {
		return nil, err
	}
	return s.show(ctx, who, ids, "printed by %s")
}

// waitingIn are the handovers of a batch that wait to be collected.
func (s *Life) waitingIn(ctx context.Context, who door.Operator, batch string) ([]int64, error) {
	if err := who.May(door.Credential); err != nil {
		return nil, err
	}
	if batch == "" {
		return nil, door.Wrong("batch", "say which batch")
	}
	rows, err := s.Store.Handovers(ctx, store.HandoverFilter{Batch: batch, State: ToCollect}, shownAtOnce)
	if err == nil && len(rows) == 0 {
		err = door.Clashing("nothing of a batch %q waits to be collected; roost handover list --batch %q shows it", batch, batch)
	}
	ids := make([]int64, len(rows))
	for i, h := range rows {
		ids[len(rows)-1-i] = h.ID
	}
	return ids, err
}

// show ends handovers by showing them to an operator, all or none.
func (s *Life) show(ctx context.Context, who door.Operator, ids []int64, how string) ([]Shown, error) {
	if err := who.May(door.Credential); err != nil {
		return nil, err
	}
	var out []Shown
	by := fmt.Sprintf(how, who.Name)
	err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
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
			out = append(out, x)
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: h.Because,
				Words: fmt.Sprintf("handover %d was %s", id, by)})
			if err := tx.EndHandover(ctx, h, Collected, by, s.Now()); err != nil {
				return nil, err
			}
		}
		return entries, nil
	})
	if err != nil {
		return nil, asProblem(err)
	}
	at, err := s.handoversByID(ctx, ids)
	for i := range out {
		out[i].place(at[out[i].Handover])
	}
	return out, err
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

// BatchFile is the handovers of a batch in one file, which only its recipients can open.
type BatchFile struct {
	ID     int64  `json:"id"`
	Batch  string `json:"batch"`
	People int    `json:"people"`
	Text   string `json:"text" doc:"an age file, armoured: a table of user, name, accounts and credential"`
}

// recipientsMost bounds for how many one file is sealed.
const recipientsMost = 20

// SealBatch seals the handovers of a batch that wait into one file for given
// recipients: age or SSH public keys. They count as collected. The file itself is
// kept, since nobody but they can open it, and can be fetched again.
func (s *Life) SealBatch(ctx context.Context, who door.Operator, batch string, to []string) (BatchFile, error) {
	recipients, err := recipientsOf(to)
	if err != nil {
		return BatchFile{}, err
	}
	ids, err := s.waitingIn(ctx, who, batch)
	if err != nil {
		return BatchFile{}, err
	}
	at, err := s.handoversByID(ctx, ids)
	if err != nil {
		return BatchFile{}, err
	}
	out := BatchFile{Batch: batch, People: len(ids)}
	by := fmt.Sprintf("a file that %s had sealed", who.Name)
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		var list []Shown
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
			list = append(list, x)
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: who.Name, User: h.User, Because: h.Because,
				Words: fmt.Sprintf("handover %d went into a file of batch %s, sealed for %s", id, batch,
					door.Count(len(to), "recipient", "recipients"))})
			if err := tx.EndHandover(ctx, h, Collected, by, s.Now()); err != nil {
				return nil, err
			}
		}
		if out.Text, err = sealTable(list, recipients); err != nil {
			return nil, err
		}
		out.ID, err = tx.AddHandoverFile(ctx, store.HandoverFile{Batch: batch, Operator: who.Name, MadeAt: s.Now(), People: len(ids),
			Recipients: door.ClipTo(strings.Join(to, "\n"), 2000), Body: []byte(out.Text)})
		return entries, err
	})
	if err != nil {
		return BatchFile{}, asProblem(err)
	}
	return out, nil
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

// BatchFileByID fetches a sealed file again.
func (s *Life) BatchFileByID(ctx context.Context, who door.Operator, id int64) (BatchFile, error) {
	if err := who.May(door.Credential); err != nil {
		return BatchFile{}, err
	}
	f, err := s.Store.HandoverFile(ctx, id)
	if errors.Is(err, store.ErrNone) {
		err = &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no file %d of handovers", id)}
	}
	return BatchFile{ID: f.ID, Batch: f.Batch, People: f.People, Text: string(f.Body)}, err
}

// recipientsOf reads public keys of age or SSH.
func recipientsOf(keys []string) (out []age.Recipient, err error) {
	if len(keys) == 0 || len(keys) > recipientsMost {
		return nil, door.Wrong("to", "%d recipients; a file is sealed for between 1 and %d", len(keys), recipientsMost)
	}
	for _, k := range keys {
		k = strings.TrimSpace(k)
		var r age.Recipient
		if strings.HasPrefix(k, "age1") {
			r, err = age.ParseX25519Recipient(k)
		} else {
			r, err = agessh.ParseRecipient(k)
		}
		if err != nil {
			return nil, door.Wrong("to", "%q is no public key of age (age1…) or SSH (ssh-ed25519 …): %v", door.ClipTo(k, 60), err)
		}
		out = append(out, r)
	}
	return out, nil
}

// sealTable seals a table of credentials.
func sealTable(list []Shown, to []age.Recipient) (string, error) {
	var b bytes.Buffer
	a := armor.NewWriter(&b)
	w, err := age.Encrypt(a, to...)
	if err != nil {
		return "", err
	}
	if err := writeTable(w, list); err != nil {
		return "", err
	}
	if err := errors.Join(w.Close(), a.Close()); err != nil {
		return "", err
	}
	return b.String(), nil
}

func writeTable(w io.Writer, list []Shown) error {
	t := csv.NewWriter(w)
	t.UseCRLF = true
	rows := [][]string{{"user", "name", "accounts", "what", "value"}}
	for _, x := range list {
		var accounts []string
		for _, a := range x.Accounts {
			accounts = append(accounts, a.Name+" on "+a.Target)
		}
		rows = append(rows, []string{x.User, exchange.Defuse(x.Name), exchange.Defuse(strings.Join(accounts, "; ")), x.What, x.Value})
	}
	return t.WriteAll(rows)
}
