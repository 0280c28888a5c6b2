package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strings"
	"time"
)

// Entry is one line of the team record. Entries are only ever added.
type Entry struct {
	Seq      int64     `db:"seq"`
	At       time.Time `db:"at"`
	Kind     string    `db:"kind"`
	Operator string    `db:"operator"`
	Target   string    `db:"target"`
	User     string    `db:"user"`
	Round    int64     `db:"round"`
	About    int64     `db:"about"`
	Because  string    `db:"because"`
	Words    string    `db:"words"`
	Body     []byte    `db:"body"`
	Before   []byte    `db:"before_it"`
	Hash     []byte    `db:"hash"`
}

const entryColumns = `seq, at, kind, operator, target, user, round, about, because, words, body, before_it, hash`

// seal computes the entry's hash: SHA-256 over the hash before it and every
// field, each with its length in front, so that no two entries read alike.
func (e *Entry) seal() []byte {
	h := sha256.New()
	var n [8]byte
	field := func(b []byte) {
		binary.BigEndian.PutUint64(n[:], uint64(len(b)))
		h.Write(n[:])
		h.Write(b)
	}
	number := func(i int64) {
		binary.BigEndian.PutUint64(n[:], uint64(i))
		h.Write(n[:])
	}
	field(e.Before)
	number(e.Seq)
	number(e.At.UnixMicro())
	for _, s := range []string{e.Kind, e.Operator, e.Target, e.User} {
		field([]byte(s))
	}
	number(e.Round)
	number(e.About)
	field([]byte(e.Because))
	field([]byte(e.Words))
	field(e.Body)
	return h.Sum(nil)
}

// Append adds entries to the record, in order, many in one statement. It fills
// in their numbers and hashes. The head row is locked until the transaction
// ends, so the chain has one writer at a time however many processes there are.
func (tx *Tx) Append(ctx context.Context, entries ...*Entry) error {
	if len(entries) == 0 {
		return nil
	}
	var head Entry
	if err := tx.GetContext(ctx, &head, `SELECT seq, hash FROM record_head WHERE one = 1 FOR UPDATE`); err != nil {
		return fmt.Errorf("record: %w", err)
	}
	for _, e := range entries {
		e.Seq, e.Before = head.Seq+1, head.Hash
		e.At = e.At.UTC().Truncate(time.Microsecond)
		e.Words, e.Because = clip(e.Words, 2000), clip(e.Because, 500)
		if e.Body == nil {
			e.Body = []byte{}
		}
		e.Hash = e.seal()
		head.Seq, head.Hash = e.Seq, e.Hash
	}
	for from, to := range groups(len(entries), 100) {
		args := make([]any, 0, 13*(to-from))
		for _, e := range entries[from:to] {
			args = append(args, e.Seq, e.At, e.Kind, e.Operator, e.Target, e.User, e.Round, e.About, e.Because, e.Words, e.Body, e.Before, e.Hash)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO record (`+entryColumns+`) VALUES `+rows(to-from, 13), args...); err != nil {
			return fmt.Errorf("record: %w", err)
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE record_head SET seq = ?, hash = ? WHERE one = 1`, head.Seq, head.Hash)
	return err
}

// EntryFilter chooses entries; zero fields choose all.
type EntryFilter struct {
	Kind, Operator, Target, User, Text string
	Round, About                       int64
	Before                             int64  // only entries with a smaller number
	Without                            string // no entries of this kind
}

// Entries returns up to size entries, newest first.
func (s *Store) Entries(ctx context.Context, f EntryFilter, size int) ([]Entry, error) {
	var parts []string
	var args []any
	for _, c := range []struct {
		column, value string
	}{{"kind", f.Kind}, {"operator", f.Operator}, {"target", f.Target}, {"user", f.User}} {
		if c.value != "" {
			parts = append(parts, c.column+" = ?")
			args = append(args, c.value)
		}
	}
	for _, c := range []struct {
		clause string
		value  int64
	}{{"round = ?", f.Round}, {"about = ?", f.About}, {"seq < ?", f.Before}} {
		if c.value != 0 {
			parts = append(parts, c.clause)
			args = append(args, c.value)
		}
	}
	if f.Without != "" {
		parts = append(parts, "kind <> ?")
		args = append(args, f.Without)
	}
	if f.Text != "" {
		parts = append(parts, "(words LIKE ? OR because LIKE ?)")
		like := "%" + escapeLike(f.Text) + "%"
		args = append(args, like, like)
	}
	where := ""
	if parts != nil {
		where = " WHERE " + strings.Join(parts, " AND ")
	}
	var out []Entry
	err := s.db.SelectContext(ctx, &out, `SELECT `+entryColumns+` FROM record`+where+` ORDER BY seq DESC LIMIT ?`, append(args, size)...)
	return out, err
}

// Entry returns one entry, or ErrNone.
func (s *Store) Entry(ctx context.Context, seq int64) (Entry, error) {
	var e Entry
	err := s.db.GetContext(ctx, &e, `SELECT `+entryColumns+` FROM record WHERE seq = ?`, seq)
	return e, err
}

// Broken is the first place where the chain does not hold.
type Broken struct {
	Seq   int64
	Words string
}

// VerifyRecord walks the whole chain. It returns how many entries hold, and
// where it first breaks, nil when it holds to the end.
func (s *Store) VerifyRecord(ctx context.Context) (int64, *Broken, error) {
	var head Entry
	if err := s.db.GetContext(ctx, &head, `SELECT seq, hash FROM record_head WHERE one = 1`); err != nil {
		return 0, nil, err
	}
	last, held := make([]byte, 32), int64(0)
	rows, err := s.db.QueryxContext(ctx, `SELECT `+entryColumns+` FROM record WHERE seq <= ? ORDER BY seq`, head.Seq)
	if err != nil {
		return 0, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var e Entry
		if err := rows.StructScan(&e); err != nil {
			return held, nil, err
		}
		switch {
		case e.Seq != held+1:
			return held, &Broken{held + 1, fmt.Sprintf("entry %d is missing", held+1)}, nil
		case !bytes.Equal(e.Before, last):
			return held, &Broken{e.Seq, fmt.Sprintf("entry %d does not follow from entry %d", e.Seq, held)}, nil
		case !bytes.Equal(e.seal(), e.Hash):
			return held, &Broken{e.Seq, fmt.Sprintf("entry %d has been altered", e.Seq)}, nil
		}
		last, held = e.Hash, e.Seq
	}
	if err := rows.Err(); err != nil {
		return held, nil, err
	}
	if held != head.Seq || !bytes.Equal(last, head.Hash) {
		return held, &Broken{held + 1, fmt.Sprintf("entry %d is missing: the record ends before its head", held+1)}, nil
	}
	return held, nil, nil
}
