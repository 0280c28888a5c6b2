package store

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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

// manifest names the pieces that a file is made of.
type manifest struct {
	Name string `json:"name"`
	Sums []byte `json:"sums"` // one after the other
}

const sumSize = 32

// InPieces says whether the revision's text is stored in pieces; early ones have it whole.
func (r Revision) InPieces() bool { return len(r.Packed) > 0 && r.Packed[0] == '[' }

// Files returns the files of a revision.
func (s *Store) Files(ctx context.Context, r Revision) ([]declare.File, error) {
	files, err := s.files(ctx, r)
	if err != nil {
		return nil, fmt.Errorf("revision %d cannot be unpacked: %w", r.Number, err)
	}
	return files, nil
}

func (s *Store) files(ctx context.Context, r Revision) ([]declare.File, error) {
	var files []declare.File
	if !r.InPieces() {
		z, err := gzip.NewReader(bytes.NewReader(r.Packed))
		if err != nil {
			return nil, err
		}
		return files, json.NewDecoder(z).Decode(&files)
	}
	var list []manifest
	if err := json.Unmarshal(r.Packed, &list); err != nil {
		return nil, err
	}
	files = make([]declare.File, len(list))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, m := range list {
		group.Go(func() error {
			text, err := s.textOf(ctx, m)
			files[i] = declare.File{Name: m.Name, Text: text}
			return err
		})
	}
	return files, group.Wait()
}

// textOf puts the pieces of a file together.
func (s *Store) textOf(ctx context.Context, m manifest) (string, error) {
	texts := map[string]string{}
	for from, to := range groups(len(m.Sums)/sumSize, 500) {
		if err := s.pieces(ctx, m.Sums[from*sumSize:to*sumSize], texts); err != nil {
			return "", err
		}
	}
	var b strings.Builder
	for at := 0; at < len(m.Sums); at += sumSize {
		text, ok := texts[string(m.Sums[at:at+sumSize])]
		if !ok {
			return "", fmt.Errorf("a piece of %s is missing", m.Name)
		}
		b.WriteString(text)
	}
	return b.String(), nil
}

func (s *Store) pieces(ctx context.Context, sums []byte, into map[string]string) error {
	args := []any{}
	for at := 0; at < len(sums); at += sumSize {
		args = append(args, sums[at:at+sumSize])
	}
	rows, err := s.db.QueryxContext(ctx, `SELECT sum, text FROM piece WHERE sum IN `+oneOf(len(args)), args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var sum, packed []byte
		if err := rows.Scan(&sum, &packed); err != nil {
			return err
		}
		text, err := io.ReadAll(flate.NewReader(bytes.NewReader(packed)))
		if err != nil {
			return err
		}
		into[string(sum)] = string(text)
	}
	return rows.Err()
}

// ErrNotLast says that another revision came in between.
var ErrNotLast = errors.New("another revision was declared in the meantime")

// AddRevision stores files as the next revision and returns its number. Of
// their pieces those are written that are not stored yet. after is the revision that these files were made from, and must
// still be the newest; -1 when they were made from none.
func (tx *Tx) AddRevision(ctx context.Context, files []declare.Pieces, after int, operator, because string, at time.Time) (int, error) {
	var last int
	if err := tx.GetContext(ctx, &last, `SELECT COALESCE(MAX(number), 0) FROM revision FOR UPDATE`); err != nil {
		return 0, err
	}
	if after >= 0 && last != after {
		return 0, &Refusal{Err: ErrNotLast}
	}
	kept, err := tx.stored(ctx, files)
	if err != nil {
		return 0, err
	}
	list := []manifest{}
	var fresh []declare.Piece
	for _, f := range files {
		m := manifest{Name: f.Name}
		for _, p := range f.Pieces {
			m.Sums = append(m.Sums, p.Sum[:]...)
			if !kept[p.Sum] {
				fresh = append(fresh, p)
			}
		}
		list = append(list, m)
	}
	if err := tx.addPieces(ctx, fresh); err != nil {
		return 0, err
	}
	packed, err := json.Marshal(list)
	if err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO revision (number, files, operator, because, made_at) VALUES (?, ?, ?, ?, ?)`, last+1,
		packed, operator, because, at)
	return last + 1, err
}

// stored says which of the pieces of files are stored already.
func (tx *Tx) stored(ctx context.Context, files []declare.Pieces) (map[[sumSize]byte]bool, error) {
	out := map[[sumSize]byte]bool{}
	var sums []any
	for _, f := range files {
		for _, p := range f.Pieces {
			sums = append(sums, p.Sum[:])
		}
	}
	for some := range slices.Chunk(sums, 1000) {
		var have [][]byte
		if err := tx.SelectContext(ctx, &have, `SELECT sum FROM piece WHERE sum IN `+oneOf(len(some)), some...); err != nil {
			return nil, err
		}
		for _, sum := range have {
			out[[sumSize]byte(sum)] = true
		}
	}
	return out, nil
}

var packers = sync.Pool{New: func() any { w, _ := flate.NewWriter(nil, flate.BestSpeed); return w }}

func pack(text string) ([]byte, error) {
	var b bytes.Buffer
	w := packers.Get().(*flate.Writer)
	defer packers.Put(w)
	w.Reset(&b)
	if _, err := io.WriteString(w, text); err != nil {
		return nil, err
	}
	err := w.Close()
	return b.Bytes(), err
}

// addPieces writes pieces, few megabytes in one statement.
func (tx *Tx) addPieces(ctx context.Context, list []declare.Piece) error {
	const most = 4 << 20
	var args []any
	size := 0
	flush := func() error {
		if len(args) == 0 {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO piece (sum, text) VALUES `+rows(len(args)/2,
			2)+` ON DUPLICATE KEY UPDATE sum = VALUES(sum)`, args...)
		args, size = nil, 0
		return err
	}
	for _, p := range list {
		packed, err := pack(p.Text)
		if err != nil {
			return err
		}
		args, size = append(args, p.Sum[:], packed), size+len(packed)
		if size > most || len(args) >= 1000 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
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
	err := s.db.GetContext(ctx, &r, `SELECT number, files, operator, because, made_at FROM revision WHERE made_at <= ?
			ORDER BY number DESC LIMIT 1`, at)
	return r, err
}

// Revisions returns one page of revisions without their files, newest first, and how many there are.
func (s *Store) Revisions(ctx context.Context, p Page) (out []Revision, total int, err error) {
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM revision`); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &out, `SELECT number, operator, because, made_at FROM revision ORDER BY number DESC LIMIT ? OFFSET ?`,
		p.Size, p.From)
	return out, total, err
}

// LastRevisionNumber returns the newest revision's number, 0 before the first.
func (s *Store) LastRevisionNumber(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COALESCE(MAX(number), 0) FROM revision`)
	return n, err
}
