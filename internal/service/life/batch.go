package life

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"

	"hen-roost/internal/core/exchange"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Sheets shows the credentials of a batch that wait, to be printed: a sheet for each
// person. more says that others of the batch wait behind them.
func (s *Life) Sheets(ctx context.Context, who door.Operator, batch string) (list []Shown, more bool, err error) {
	ids, more, err := s.waitingIn(ctx, who, batch)
	if err != nil {
		return nil, false, err
	}
	list, err = s.show(ctx, who, ids, "printed by %s")
	return list, more, err
}

// waitingIn are the handovers of a batch that wait to be collected, as many as are
// given out at once, and whether there are more.
func (s *Life) waitingIn(ctx context.Context, who door.Operator, batch string) (ids []int64, more bool, err error) {
	if err := who.May(door.Credential); err != nil {
		return nil, false, err
	}
	if batch == "" {
		return nil, false, door.Wrong("batch", "say which batch")
	}
	rows, err := s.Store.Handovers(ctx, store.HandoverFilter{Batch: batch, State: ToCollect}, shownAtOnce+1)
	if err == nil && len(rows) == 0 {
		err = door.Clashing("nothing of a batch %q waits to be collected; roost handover list --batch %q shows it", batch, batch)
	}
	more = len(rows) > shownAtOnce
	for _, h := range slices.Backward(rows[:min(len(rows), shownAtOnce)]) {
		ids = append(ids, h.ID)
	}
	return ids, more, err
}

// BatchFile is the handovers of a batch in one file, which only its recipients can open.
type BatchFile struct {
	ID     int64  `json:"id"`
	Batch  string `json:"batch"`
	People int    `json:"people"`
	More   bool   `json:"more,omitempty" doc:"others of the batch wait: they go into another file"`
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
	ids, more, err := s.waitingIn(ctx, who, batch)
	if err != nil {
		return BatchFile{}, err
	}
	out := BatchFile{Batch: batch, People: len(ids), More: more}
	words := fmt.Sprintf("put into a file of batch %s, sealed for %s", batch, door.Count(len(to), "recipient", "recipients"))
	_, err = s.giveOut(ctx, who, ids, words, fmt.Sprintf("a file that %s had sealed", who.Name), func(tx *store.Tx, list []Shown) error {
		var err error
		if out.Text, err = sealTable(list, recipients); err != nil {
			return err
		}
		out.ID, err = tx.AddHandoverFile(ctx, store.HandoverFile{Batch: batch, Operator: who.Name, MadeAt: s.Now(), People: len(ids),
			Recipients: door.ClipTo(strings.Join(to, "\n"), 2000), Body: []byte(out.Text)})
		return err
	})
	if err != nil {
		return BatchFile{}, err
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
