package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/core/chain"
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

// Chained is the entry as the chain knows it.
func (e *Entry) Chained() chain.Entry {
	return chain.Entry{Seq: e.Seq, At: e.At, Kind: e.Kind, Operator: e.Operator, Target: e.Target, User: e.User, Round: e.Round,
		About:   e.About,
		Because: e.Because, Words: e.Words, Body: e.Body, Before: e.Before, Hash: e.Hash}
}

// follow puts the entry behind a head, and returns the next head.
func (e *Entry) follow(h chain.Head) chain.Head {
	e.Seq, e.Before = h.Seq+1, h.Hash
	e.At = e.At.UTC().Truncate(time.Microsecond)
	e.Words, e.Because = clip(e.Words, 2000), clip(e.Because, 500)
	if e.Body == nil {
		e.Body = []byte{}
	}
	c := e.Chained()
	e.Hash = c.Seal()
	return chain.Head{Seq: e.Seq, Hash: e.Hash}
}

// Append adds entries to the record, in order, many in one statement. It fills
// in their numbers and hashes. The head row is locked until the transaction
// ends, so the chain has one writer at a time however many processes there are.
// Rows that stand where the entries go, though nobody wrote them by this way,
// are set aside, which is an entry of its own.
func (tx *Tx) Append(ctx context.Context, entries ...*Entry) error {
	if len(entries) == 0 {
		return nil
	}
	head, err := tx.head(ctx)
	if err != nil {
		return err
	}
	last := head
	for _, e := range entries {
		last = e.follow(last)
	}
	err = tx.insertEntries(ctx, entries)
	if taken(err) {
		n, aside := tx.setAside(ctx, head.Seq)
		if aside != nil {
			return fmt.Errorf("record: %w", aside)
		}
		told := &Entry{At: entries[0].At, Kind: "intrusion", Operator: "hen-roost",
			Words: fmt.Sprintf("%d entries that no service wrote stood behind entry %d; they were set aside and do not count", n, head.Seq)}
		last = told.follow(last)
		entries = append(entries[:len(entries):len(entries)], told)
		err = tx.insertEntries(ctx, entries)
	}
	if err != nil {
		return fmt.Errorf("record: %w", err)
	}
	_, err = tx.ExecContext(ctx, `UPDATE record_head SET seq = ?, hash = ? WHERE one = 1`, last.Seq, last.Hash)
	return err
}

// taken says whether a row was not written because its key is there already.
func taken(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && e.Number == 1062
}

// head is the record's head, kept from others until the transaction ends.
func (tx *Tx) head(ctx context.Context) (chain.Head, error) {
	var e Entry
	if err := tx.GetContext(ctx, &e, `SELECT seq, hash FROM record_head WHERE one = 1 FOR UPDATE`); err != nil {
		return chain.Head{}, fmt.Errorf("record: %w", err)
	}
	return chain.Head{Seq: e.Seq, Hash: e.Hash}, nil
}

func (tx *Tx) insertEntries(ctx context.Context, entries []*Entry) error {
	for from, to := range portions(len(entries), 500, func(i int) int { return len(entries[i].Words) + len(entries[i].Body) }) {
		args := make([]any, 0, 13*(to-from))
		for _, e := range entries[from:to] {
			args = append(args, e.Seq, e.At, e.Kind, e.Operator, e.Target, e.User, e.Round, e.About, e.Because, e.Words, e.Body, e.Before,
				e.Hash)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO record (`+entryColumns+`) VALUES `+rows(to-from, 13), args...); err != nil {
			return err
		}
	}
	return nil
}

// setAside takes away the rows behind a head. What the same transaction has put
// there goes too, and is put there again by its caller.
func (tx *Tx) setAside(ctx context.Context, head int64) (int64, error) {
	if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO record_aside (found_at, seq, at, kind, operator, words, body)
		SELECT NOW(6), seq, at, kind, operator, words, body FROM record WHERE seq > ?`, head); err != nil {
		return 0, err
	}
	res, err := tx.ExecContext(ctx, `DELETE FROM record WHERE seq > ?`, head)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// Head is how far the record goes.
func (s *Store) Head(ctx context.Context) (chain.Head, error) {
	var e Entry
	err := s.db.GetContext(ctx, &e, `SELECT seq, hash FROM record_head WHERE one = 1`)
	return chain.Head{Seq: e.Seq, Hash: e.Hash}, err
}

// EntryFilter chooses entries; zero fields choose all.
type EntryFilter struct {
	Kind, Operator, Target, User, Text string
	Round, About                       int64
	Before                             int64  // only entries with a smaller number
	Without                            string // no entries of this kind
	After                              int64  // only entries with a larger number, the oldest first; -1: from the first on
}

// withinHead leaves out rows behind the head: whatever stands there is no entry.
const withinHead = `seq <= (SELECT seq FROM record_head WHERE one = 1)`

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
	}{{"round = ?", f.Round}, {"about = ?", f.About}, {"seq < ?", f.Before}, {"seq > ?", f.After}} {
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
	where := " WHERE " + strings.Join(append(parts, withinHead), " AND ")
	order := ` ORDER BY seq DESC LIMIT ?`
	if f.After != 0 {
		order = ` ORDER BY seq LIMIT ?`
	}
	var out []Entry
	err := s.db.SelectContext(ctx, &out, `SELECT `+entryColumns+` FROM record`+where+order, append(args, size)...)
	return out, err
}

// Entry returns one entry, or ErrNone.
func (s *Store) Entry(ctx context.Context, seq int64) (Entry, error) {
	var e Entry
	err := s.db.GetContext(ctx, &e, `SELECT `+entryColumns+` FROM record WHERE seq = ? AND `+withinHead, seq)
	return e, err
}

// EachEntry hands on all entries up to and with one, in order, read in portions
// so that however many there are nothing waits for them.
func (s *Store) EachEntry(ctx context.Context, upTo int64, each func(*chain.Entry) error) error {
	const portion = 10_000
	for from := int64(0); from < upTo; {
		rows, err := s.db.QueryxContext(ctx, `SELECT `+entryColumns+` FROM record WHERE seq > ? AND seq <= ? ORDER BY seq LIMIT ?`, from,
			upTo, portion)
		if err != nil {
			return err
		}
		last := from
		for rows.Next() {
			var e chain.Entry
			err := rows.Scan(&e.Seq, &e.At, &e.Kind, &e.Operator, &e.Target, &e.User, &e.Round, &e.About, &e.Because, &e.Words, &e.Body,
				&e.Before, &e.Hash)
			if err == nil {
				last, err = e.Seq, each(&e)
			}
			if err != nil {
				rows.Close()
				return err
			}
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return err
		}
		if last == from {
			return nil
		}
		from = last
	}
	return nil
}

// BehindHead counts the rows behind the record's head, which nobody wrote by our ways.
func (s *Store) BehindHead(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM record WHERE seq > (SELECT seq FROM record_head WHERE one = 1)`)
	return n, err
}
