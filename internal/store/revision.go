package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"hen-roost/internal/core/declare"
)

// Revision is one stored version of the declaration.
type Revision struct {
	Number   int       `db:"number"`
	Packed   []byte    `db:"files"`
	Operator string    `db:"operator"`
	Because  string    `db:"because"`
	MadeAt   time.Time `db:"made_at"`
}

// Files unpacks the revision's files.
func (r Revision) Files() ([]declare.File, error) {
	z, err := gzip.NewReader(bytes.NewReader(r.Packed))
	if err != nil {
		return nil, fmt.Errorf("revision %d cannot be unpacked: %w", r.Number, err)
	}
	var files []declare.File
	if err := json.NewDecoder(z).Decode(&files); err != nil {
		return nil, fmt.Errorf("revision %d cannot be unpacked: %w", r.Number, err)
	}
	return files, nil
}

// AddRevision stores files as the next revision and returns its number.
func (tx *Tx) AddRevision(ctx context.Context, files []declare.File, operator, because string, at time.Time) (int, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(files); err != nil {
		return 0, err
	}
	if err := z.Close(); err != nil {
		return 0, err
	}
	var last int
	if err := tx.GetContext(ctx, &last, `SELECT COALESCE(MAX(number), 0) FROM revision FOR UPDATE`); err != nil {
		return 0, err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO revision (number, files, operator, because, made_at) VALUES (?, ?, ?, ?, ?)`, last+1, b.Bytes(), operator, because, at)
	return last + 1, err
}

// LastRevision returns the newest revision with its files, or ErrNone.
func (s *Store) LastRevision(ctx context.Context) (Revision, error) {
	var r Revision
	err := s.db.GetContext(ctx, &r, `SELECT number, files, operator, because, made_at FROM revision ORDER BY number DESC LIMIT 1`)
	return r, err
}

// RevisionOf returns one revision with its files, or ErrNone.
func (s *Store) RevisionOf(ctx context.Context, number int) (Revision, error) {
	var r Revision
	err := s.db.GetContext(ctx, &r, `SELECT number, files, operator, because, made_at FROM revision WHERE number = ?`, number)
	return r, err
}

// RevisionAt returns the revision that was the newest at a moment, or ErrNone.
func (s *Store) RevisionAt(ctx context.Context, at time.Time) (Revision, error) {
	var r Revision
	err := s.db.GetContext(ctx, &r, `SELECT number, files, operator, because, made_at FROM revision WHERE made_at <= ? ORDER BY number DESC LIMIT 1`, at)
	return r, err
}

// Revisions returns one page of revisions without their files, newest first, and how many there are.
func (s *Store) Revisions(ctx context.Context, p Page) (out []Revision, total int, err error) {
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM revision`); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &out, `SELECT number, operator, because, made_at FROM revision ORDER BY number DESC LIMIT ? OFFSET ?`, p.Size, p.From)
	return out, total, err
}

// LastRevisionNumber returns the newest revision's number, 0 before the first.
func (s *Store) LastRevisionNumber(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COALESCE(MAX(number), 0) FROM revision`)
	return n, err
}
