package store

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/chain"
)

// The record grows for ever. Its newest entries are rows; what lies further back is
// kept in sealed parts, a tenth as large, with a note of what is spoken of in each.

// Whats that are noted of a part's entries.
const (
	noteKind = 1 + iota
	noteOperator
	noteTarget
	noteUser
	noteRound
	noteAbout
)

// notes are what an entry speaks of.
func notes(e *chain.Entry) map[int]string {
	out := map[int]string{noteKind: e.Kind, noteOperator: e.Operator, noteTarget: e.Target, noteUser: e.User}
	if e.Round != 0 {
		out[noteRound] = strconv.FormatInt(e.Round, 10)
	}
	if e.About != 0 {
		out[noteAbout] = strconv.FormatInt(e.About, 10)
	}
	return out
}

// partBytes bounds what the entries of a part hold: it is one value of one row, and is unpacked whole.
const partBytes = 4 << 20

// SealPart makes a part of the oldest entries that are rows, so many or fewer large
// ones, when as many and more than keep stay as rows. It says whether there were
// as many. pack checks and seals them.
func (s *Store) SealPart(ctx context.Context, size, keep int64,
	pack func(chain.Head, []chain.Entry) (*chain.Part, error)) (sealed bool, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		sealed = false
		from, err := tx.sealed(ctx)
		if err != nil {
			return err
		}
		var head int64
		if err := tx.GetContext(ctx, &head, `SELECT seq FROM record_head WHERE one = 1`); err != nil || head-from.Seq < size+keep {
			return err
		}
		entries, err := tx.oldest(ctx, from.Seq, size)
		if err != nil {
			return err
		}
		p, err := pack(from, entries)
		if err != nil {
			return &Refusal{Err: err}
		}
		if err := tx.AddPart(ctx, p, entries); err != nil {
			return err
		}
		sealed = true
		_, err = tx.ExecContext(ctx, `DELETE FROM record WHERE seq > ? AND seq <= ?`, from.Seq, p.Last)
		return err
	})
	return sealed, err
}

// oldest are the first entries behind one that are rows: so many, or as many as a part can hold, but one at least.
func (tx *Tx) oldest(ctx context.Context, after, most int64) (out []chain.Entry, err error) {
	rows, err := tx.QueryxContext(ctx, `SELECT `+entryColumns+` FROM record WHERE seq > ? ORDER BY seq LIMIT ?`, after, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for bytes := 0; rows.Next(); {
		var e Entry
		if err := rows.StructScan(&e); err != nil {
			return nil, err
		}
		if bytes += len(e.Words) + len(e.Body); bytes > partBytes && len(out) > 0 {
			break
		}
		out = append(out, e.Chained())
	}
	return out, errors.Join(rows.Err(), rows.Close())
}

// sealed is how far the sealed parts go, kept from others until the transaction ends.
func (tx *Tx) sealed(ctx context.Context) (chain.Head, error) {
	var e Entry
	err := tx.GetContext(ctx, &e, `SELECT last AS seq, hash FROM record_part ORDER BY last DESC LIMIT 1 FOR UPDATE`)
	if errors.Is(err, ErrNone) {
		return chain.Start(), nil
	}
	return chain.Head{Seq: e.Seq, Hash: e.Hash}, err
}

// AddPart stores a part, and notes of what its entries speak.
func (tx *Tx) AddPart(ctx context.Context, p *chain.Part, entries []chain.Entry) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO record_part (first, last, before_it, hash, body, sign_key, signature)
		VALUES (?, ?, ?, ?, ?, ?, ?)`, p.First, p.Last, p.Before, p.Hash, p.Body, p.Key, p.Signature); err != nil {
		return err
	}
	type note struct {
		what  int
		value string
	}
	seen := map[note]bool{}
	var args []any
	for i := range entries {
		for what, value := range notes(&entries[i]) {
			if n := (note{what, value}); value != "" && !seen[n] {
				seen[n] = true
				args = append(args, what, value, p.First)
			}
		}
	}
	for from, to := range groups(len(args)/3, 1000) {
		if _, err := tx.ExecContext(ctx, `INSERT INTO record_note (what, value, part) VALUES `+rows(to-from, 3), args[3*from:3*to]...); err != nil {
			return err
		}
	}
	return nil
}

// SealedTo is the last entry that stands in a sealed part; 0: none does.
func (s *Store) SealedTo(ctx context.Context) (last int64, err error) {
	err = s.db.GetContext(ctx, &last, `SELECT COALESCE(MAX(last), 0) FROM record_part`)
	return last, err
}

// Unsealed is how many entries are still rows.
func (s *Store) Unsealed(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT (SELECT seq FROM record_head WHERE one = 1) - (SELECT COALESCE(MAX(last), 0) FROM record_part)`)
	return n, err
}

type partRow struct {
	First     int64  `db:"first"`
	Last      int64  `db:"last"`
	Before    []byte `db:"before_it"`
	Hash      []byte `db:"hash"`
	Body      []byte `db:"body"`
	Key       []byte `db:"sign_key"`
	Signature []byte `db:"signature"`
}

const partColumns = `first, last, before_it, hash, body, sign_key, signature`

func (r partRow) part() *chain.Part { p := chain.Part(r); return &p }

// EachPart hands on the sealed parts behind an entry, in order.
func (s *Store) EachPart(ctx context.Context, after int64, each func(*chain.Part) error) error {
	for {
		var r partRow
		err := s.db.GetContext(ctx, &r, `SELECT `+partColumns+` FROM record_part WHERE last > ? ORDER BY last LIMIT 1`, after)
		if errors.Is(err, ErrNone) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := each(r.part()); err != nil {
			return err
		}
		after = r.Last
	}
}

// partOf is the sealed part that an entry stands in, or ErrNone.
func (s *Store) partOf(ctx context.Context, seq int64) (*chain.Part, error) {
	var r partRow
	err := s.db.GetContext(ctx, &r, `SELECT `+partColumns+` FROM record_part WHERE first <= ? AND last >= ? ORDER BY first DESC LIMIT 1`,
		seq, seq)
	return r.part(), err
}

// fits says whether an entry is among those chosen.
func (f *EntryFilter) fits(e *chain.Entry) bool {
	for _, c := range [][2]string{{f.Kind, e.Kind}, {f.Operator, e.Operator}, {f.Target, e.Target}} {
		if c[0] != "" && c[0] != c[1] {
			return false
		}
	}
	if f.User != "" && f.User != e.User && !slices.Contains(f.Also, e.User) {
		return false
	}
	return (f.Round == 0 || f.Round == e.Round) && (f.About == 0 || f.About == e.About) && (f.Before == 0 || e.Seq < f.Before) &&
		!slices.Contains(f.Without, e.Kind) &&
		(f.Text == "" || strings.Contains(e.Words, f.Text) || strings.Contains(e.Because, f.Text))
}

// parts finds the first entries of the parts that may hold chosen entries, the newest first, at most so many.
func (s *Store) parts(ctx context.Context, f *EntryFilter, before int64, most int) (firsts []int64, err error) {
	var from string
	var where []string
	var args []any
	for what, value := range notes(&chain.Entry{Kind: f.Kind, Operator: f.Operator, Target: f.Target, User: f.User, Round: f.Round,
		About: f.About}) {
		if value == "" {
			continue
		}
		name := "n" + strconv.Itoa(what)
		if from == "" {
			from = `SELECT DISTINCT ` + name + `.part FROM record_note ` + name
			where = append(where, name+`.part < ?`)
			args = append(args, before)
		} else {
			from += ` JOIN record_note ` + name + ` USING (part)`
		}
		values := []string{value}
		if what == noteUser {
			values = append(values, f.Also...)
		}
		where = append(where, name+`.what = ? AND `+name+`.value IN `+oneOf(len(values)))
		args = append(append(args, what), texts(values)...)
	}
	if from == "" {
		err = s.db.SelectContext(ctx, &firsts, `SELECT first FROM record_part WHERE first < ? ORDER BY first DESC LIMIT ?`, before, most)
		return firsts, err
	}
	err = s.db.SelectContext(ctx, &firsts, from+` WHERE `+strings.Join(where, " AND ")+` ORDER BY part DESC LIMIT ?`, append(args, most)...)
	return firsts, err
}

// partsAtOnce is how many parts are looked through for one page.
const partsAtOnce = 400

// sealedEntries adds chosen entries of sealed parts, newest first, until there are
// size. When parts are left that it did not look through, it says before which
// entry they are.
func (s *Store) sealedEntries(ctx context.Context, f *EntryFilter, out []Entry, size int) (_ []Entry, left int64, err error) {
	before := f.Before
	if before == 0 {
		before = 1<<63 - 1
	}
	firsts, err := s.parts(ctx, f, before, partsAtOnce+1)
	for i, first := range firsts {
		if i == partsAtOnce {
			return out, firsts[i-1], nil
		}
		p, err := s.partOf(ctx, first)
		if err != nil {
			return out, 0, err
		}
		var some []Entry
		if err := p.Each(func(e *chain.Entry) error {
			if f.fits(e) {
				some = append(some, unchained(e))
			}
			return nil
		}); err != nil {
			return out, 0, err
		}
		for j := len(some) - 1; j >= 0 && len(out) < size; j-- {
			out = append(out, some[j])
		}
		if len(out) == size {
			return out, 0, nil
		}
	}
	return out, 0, err
}

// unchained is the entry as it is stored.
func unchained(e *chain.Entry) Entry {
	return Entry{Seq: e.Seq, At: e.At.UTC().Truncate(time.Microsecond), Kind: e.Kind, Operator: e.Operator, Target: e.Target, User: e.User,
		Round: e.Round, About: e.About, Because: e.Because, Words: e.Words, Body: e.Body, Before: e.Before, Hash: e.Hash}
}
