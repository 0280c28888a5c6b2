package store

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"time"
)

// Archive is a home of somebody who was removed, kept here.
type Archive struct {
	ID      int64      `db:"id"`
	Target  string     `db:"target"`
	File    string     `db:"file"`
	Account string     `db:"account"`
	Number  string     `db:"number"`
	User    string     `db:"user"`
	Bytes   int64      `db:"bytes"`
	Sum     []byte     `db:"sum"`
	State   string     `db:"state"`
	Words   string     `db:"words"`
	At      time.Time  `db:"at"`
	Until   *time.Time `db:"until"`
}

// States of an archive.
const (
	ArchiveAwaited  = "awaited"
	ArchiveFetched  = "fetched" // all of it is stored, and it is not yet taken away where it came from
	ArchiveKept     = "kept"
	ArchiveReturned = "returned"
)

const archiveColumns = `id, target, file, account, number, user, bytes, sum, state, words, at, until`

// AwaitArchives notes homes that wait on a target to be fetched.
func (tx *Tx) AwaitArchives(ctx context.Context, list []Archive) error {
	for _, a := range list {
		if _, err := tx.ExecContext(ctx, `INSERT INTO archive (target, file, account, number, user, state, at) VALUES (?, '', ?, ?, ?, ?, ?)`,
			a.Target, a.Account, a.Number, a.User, ArchiveAwaited, a.At); err != nil {
			return err
		}
	}
	return nil
}

// AwaitedArchives are the targets on which homes wait to be fetched.
func (s *Store) AwaitedArchives(ctx context.Context) (targets []string, err error) {
	err = s.db.SelectContext(ctx, &targets, `SELECT DISTINCT target FROM archive WHERE state IN (?, ?) ORDER BY target`, ArchiveAwaited, ArchiveFetched)
	return targets, err
}

// ArchivesOn are the archives of a target, or of all with "", newest first, behind one of a number where that is not 0.
func (s *Store) ArchivesOn(ctx context.Context, target string, before int64, most int) (out []Archive, err error) {
	query, args := `SELECT `+archiveColumns+` FROM archive WHERE (? = 0 OR id < ?)`, []any{before, before}
	if target != "" {
		query, args = query+` AND target = ?`, append(args, target)
	}
	err = s.db.SelectContext(ctx, &out, query+` ORDER BY id DESC LIMIT ?`, append(args, most)...)
	return out, err
}

// OpenArchives are those of a target that are not yet kept, oldest first.
func (s *Store) OpenArchives(ctx context.Context, target string) (out []Archive, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+archiveColumns+` FROM archive WHERE state IN (?, ?) AND target = ? ORDER BY id`, ArchiveAwaited,
		ArchiveFetched, target)
	return out, err
}

// DropArchive forgets one that there is nothing of.
func (tx *Tx) DropArchive(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM archive WHERE id = ?`, id)
	return err
}

// ArchiveByID returns one, or ErrNone.
func (s *Store) ArchiveByID(ctx context.Context, id int64) (a Archive, err error) {
	err = s.db.GetContext(ctx, &a, `SELECT `+archiveColumns+` FROM archive WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return a, err
}

// ArchiveWaits says why an archive is still awaited.
func (s *Store) ArchiveWaits(ctx context.Context, target, words string) error {
	_, err := s.exec(ctx, `UPDATE archive SET words = ? WHERE target = ? AND state IN (?, ?)`, words, target, ArchiveAwaited, ArchiveFetched)
	return err
}

// ArchivePiece is how many bytes are stored in one piece.
const ArchivePiece = 1 << 20

// ArchiveWriter stores what is written to it piece by piece, beside an archive that nobody counts on yet.
type ArchiveWriter struct {
	s    *Store
	ctx  context.Context
	id   int64
	seq  int
	room []byte
}

// FillArchive begins anew with what is in an archive.
func (s *Store) FillArchive(ctx context.Context, id int64) (*ArchiveWriter, error) {
	_, err := s.exec(ctx, `DELETE FROM archive_piece WHERE archive = ?`, id)
	return &ArchiveWriter{s: s, ctx: ctx, id: id, room: make([]byte, 0, ArchivePiece)}, err
}

// Write implements io.Writer.
func (w *ArchiveWriter) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		k := min(len(p), ArchivePiece-len(w.room))
		w.room, p = append(w.room, p[:k]...), p[k:]
		if len(w.room) == ArchivePiece {
			if err := w.flush(); err != nil {
				return n - len(p), err
			}
		}
	}
	return n, nil
}

func (w *ArchiveWriter) flush() error {
	if len(w.room) == 0 {
		return nil
	}
	w.seq++
	_, err := w.s.exec(w.ctx, `INSERT INTO archive_piece (archive, seq, body) VALUES (?, ?, ?)`, w.id, w.seq, w.room)
	w.room = w.room[:0]
	return err
}

// Close stores what is left.
func (w *ArchiveWriter) Close() error { return w.flush() }

// ArchiveReader reads what was stored.
type ArchiveReader struct {
	s    *Store
	ctx  context.Context
	id   int64
	seq  int
	rest []byte
}

// ReadArchive reads the sealed file of an archive from its beginning.
func (s *Store) ReadArchive(ctx context.Context, id int64) *ArchiveReader {
	return &ArchiveReader{s: s, ctx: ctx, id: id}
}

// Read implements io.Reader.
func (r *ArchiveReader) Read(p []byte) (int, error) {
	if len(r.rest) == 0 {
		r.seq++
		err := r.s.db.GetContext(r.ctx, &r.rest, `SELECT body FROM archive_piece WHERE archive = ? AND seq = ?`, r.id, r.seq)
		if errors.Is(err, sql.ErrNoRows) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// KeepArchive says that all of an archive is stored, and in what state it is with that.
func (tx *Tx) KeepArchive(ctx context.Context, a Archive) error {
	_, err := tx.ExecContext(ctx, `UPDATE archive SET file = ?, bytes = ?, sum = ?, state = ?, words = '', until = ? WHERE id = ?`, a.File, a.Bytes, a.Sum,
		a.State, a.Until, a.ID)
	return err
}

// ReturnArchive says that an archive is on its target again. What is here stays until its last day.
func (tx *Tx) ReturnArchive(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `UPDATE archive SET state = ? WHERE id = ?`, ArchiveReturned, id)
	return err
}

// ForgetArchives takes archives away whose last day has gone by, and returns them.
func (tx *Tx) ForgetArchives(ctx context.Context, at time.Time, most int) (out []Archive, err error) {
	if err = tx.SelectContext(ctx, &out, `SELECT `+archiveColumns+` FROM archive WHERE until < ? ORDER BY until LIMIT ? FOR UPDATE`, at, most); err != nil {
		return nil, err
	}
	for _, a := range out {
		for _, query := range []string{`DELETE FROM archive_piece WHERE archive = ?`, `DELETE FROM archive WHERE id = ?`} {
			if _, err := tx.ExecContext(ctx, query, a.ID); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}
