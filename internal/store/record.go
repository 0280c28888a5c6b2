package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"
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
	for from, to := range portions(len(entries), rowsAtOnce, func(i int) int { return len(entries[i].Words) + len(entries[i].Body) }) {
		part := entries[from:to]
		done, err := tx.loadNew(ctx, len(part), "record", entryColumns, func(t *tsv) {
			for _, e := range part {
				t.line(strconv.FormatInt(e.Seq, 10), e.At.UTC().Format("2006-01-02 15:04:05.999999"), e.Kind, e.Operator, e.Target, e.User,
					strconv.FormatInt(e.Round, 10), strconv.FormatInt(e.About, 10), e.Because, e.Words, string(e.Body), string(e.Before),
					string(e.Hash))
			}
		}, "")
		if err != nil {
			return err
		}
		if done {
			continue
		}
		args := make([]any, 0, 13*(to-from))
		for _, e := range part {
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
	Also                               []string // further names of the user
	Round, About                       int64
	Before                             int64    // only entries with a smaller number
	Without                            []string // no entries of these kinds
	After                              int64    // only entries with a larger number, the oldest first; -1: from the first on
}

// within leaves out rows behind the head, and those where sealed parts are:
// whatever stands there is no entry.
const within = `seq <= (SELECT seq FROM record_head WHERE one = 1) AND seq > ?`

// Entries returns up to size entries, newest first. When it has not looked at all
// that could be among them, because words are searched for that lie far back, it
// says before which entry it stopped.
func (s *Store) Entries(ctx context.Context, f EntryFilter, size int) (out []Entry, left int64, err error) {
	for {
		sealed, err := s.SealedTo(ctx)
		if err != nil {
			return nil, 0, err
		}
		if f.After != 0 {
			out, err = s.entriesAfter(ctx, f, sealed, size)
		} else {
			out, left, err = s.entriesBack(ctx, f, sealed, size)
		}
		if err != nil {
			return nil, 0, err
		}
		// Entries that went from rows into a part while both were read could have been passed over.
		if now, err := s.SealedTo(ctx); err != nil || now == sealed {
			return out, left, err
		}
	}
}

// entriesBack returns entries, the newest first: those that are rows, then those in parts.
func (s *Store) entriesBack(ctx context.Context, f EntryFilter, sealed int64, size int) (out []Entry, left int64, err error) {
	if f.Before == 0 || f.Before > sealed+1 {
		if out, err = s.entryRows(ctx, f, sealed, ` ORDER BY seq DESC LIMIT ?`, size); err != nil {
			return nil, 0, err
		}
	}
	if len(out) == size || sealed == 0 {
		return out, 0, nil
	}
	return s.sealedEntries(ctx, &f, out, size)
}

// errEnough ends a walk over parts.
var errEnough = errors.New("enough")

// entriesAfter returns entries with a larger number, the oldest first.
func (s *Store) entriesAfter(ctx context.Context, f EntryFilter, sealed int64, size int) (out []Entry, err error) {
	if f.After < sealed {
		err := s.EachPart(ctx, max(0, f.After), func(p *chain.Part) error {
			return p.Each(func(e *chain.Entry) error {
				if e.Seq > f.After && f.fits(e) {
					out = append(out, unchained(e))
				}
				if len(out) == size {
					return errEnough
				}
				return nil
			})
		})
		if errors.Is(err, errEnough) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
	}
	rows, err := s.entryRows(ctx, f, sealed, ` ORDER BY seq LIMIT ?`, size-len(out))
	return append(out, rows...), err
}

// entryRows reads those that are rows.
func (s *Store) entryRows(ctx context.Context, f EntryFilter, sealed int64, order string, size int) (out []Entry, err error) {
	var c clause
	for _, x := range []struct{ column, value string }{{"kind", f.Kind}, {"operator", f.Operator}, {"target", f.Target}} {
		if x.value != "" {
			c.and(x.column+" = ?", x.value)
		}
	}
	if f.User != "" {
		c.and("user IN "+oneOf(1+len(f.Also)), texts(append([]string{f.User}, f.Also...))...)
	}
	for _, x := range []struct {
		part  string
		value int64
	}{{"round = ?", f.Round}, {"about = ?", f.About}, {"seq < ?", f.Before}, {"seq > ?", f.After}} {
		if x.value != 0 {
			c.and(x.part, x.value)
		}
	}
	if len(f.Without) > 0 {
		c.and("kind NOT IN "+oneOf(len(f.Without)), texts(f.Without)...)
	}
	if f.Text != "" {
		like := "%" + escapeLike(f.Text) + "%"
		c.and("(words LIKE ? OR because LIKE ?)", like, like)
	}
	c.and(within, sealed)
	err = s.db.SelectContext(ctx, &out, `SELECT `+entryColumns+` FROM record`+c.where()+order, append(c.args, size)...)
	return out, err
}

// Entry returns one entry, or ErrNone.
func (s *Store) Entry(ctx context.Context, seq int64) (out Entry, err error) {
	p, err := s.partOf(ctx, seq)
	if errors.Is(err, ErrNone) {
		err = s.db.GetContext(ctx, &out, `SELECT `+entryColumns+` FROM record WHERE seq = ?
			AND seq <= (SELECT seq FROM record_head WHERE one = 1)`, seq)
		return out, err
	}
	if err != nil {
		return out, err
	}
	return out, p.Each(func(e *chain.Entry) error {
		if e.Seq == seq {
			out = unchained(e)
		}
		return nil
	})
}

// EachEntry hands on all entries up to and with one, in order, read in portions
// so that however many there are nothing waits for them.
func (s *Store) EachEntry(ctx context.Context, upTo int64, each func(*chain.Entry) error) error {
	for from := int64(0); from < upTo; {
		err := s.EachPart(ctx, from, func(p *chain.Part) error {
			if p.First > upTo {
				return errEnough
			}
			from = p.Last
			return p.Each(func(e *chain.Entry) error {
				if e.Seq > upTo {
					return nil
				}
				return each(e)
			})
		})
		if err != nil && !errors.Is(err, errEnough) {
			return err
		}
		next, again, err := s.EachRow(ctx, from, upTo, each)
		if err != nil || next == from && !again {
			return err
		}
		from = next
	}
	return nil
}

// EachRow hands on a portion of the entries behind one that are rows, up to and
// with another, and returns the last. Where they have meanwhile gone into a part
// it hands on nothing, and says so: the part is to be looked at again.
func (s *Store) EachRow(ctx context.Context, from, upTo int64, each func(*chain.Entry) error) (last int64, again bool, err error) {
	const portion = 10_000
	rows, err := s.db.QueryxContext(ctx, `SELECT `+entryColumns+` FROM record WHERE seq > ? AND seq <= ? ORDER BY seq LIMIT ?`, from, upTo,
		portion)
	if err != nil {
		return from, false, err
	}
	defer rows.Close()
	gone := func() (bool, error) { // into a part
		sealed, err := s.SealedTo(ctx)
		return sealed > from, err
	}
	for last = from; rows.Next(); {
		var e chain.Entry
		if err := rows.Scan(&e.Seq, &e.At, &e.Kind, &e.Operator, &e.Target, &e.User, &e.Round, &e.About, &e.Because, &e.Words, &e.Body,
			&e.Before, &e.Hash); err != nil {
			return last, false, err
		}
		if last == from && e.Seq != from+1 {
			if again, err := gone(); err != nil || again {
				return last, again, err
			}
		}
		if err := each(&e); err != nil {
			return last, false, err
		}
		last = e.Seq
	}
	if err := rows.Err(); err != nil || last > from {
		return last, false, err
	}
	again, err = gone()
	return last, again, err
}

// BehindHead counts the rows that nobody wrote by our ways: behind the record's
// head, or where a sealed part is.
func (s *Store) BehindHead(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT (SELECT COUNT(*) FROM record WHERE seq > (SELECT seq FROM record_head WHERE one = 1))
		+ (SELECT COUNT(*) FROM record WHERE seq <= (SELECT COALESCE(MAX(last), 0) FROM record_part))`)
	return n, err
}
