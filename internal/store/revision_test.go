package store_test

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/store"
)

func piece(text string) declare.Piece {
	return declare.Piece{Sum: sha256.Sum256([]byte(text)), Text: text}
}

// Revisions share the pieces that they have in common, and come back as they were.
func TestRevisions(t *testing.T) {
	s, _ := open(t)
	if n, err := s.LastRevisionNumber(ctx); n != 0 || err != nil {
		t.Error(n, err)
	}
	long := strings.Repeat("users: å\n", 10_000)
	files := []declare.Pieces{{Name: "a.yaml", Pieces: []declare.Piece{piece(long), piece("b"), piece(long)}},
		{Name: "empty.yaml", Pieces: []declare.Piece{piece("")}}}
	var wg sync.WaitGroup
	for range 5 {
		wg.Go(func() {
			if err := s.Tx(ctx, func(tx *store.Tx) error {
				_, err := tx.AddRevision(ctx, files, -1, "odd", "why",
					now)
				return err
			}); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	want := []declare.File{{Name: "a.yaml", Text: long + "b" + long}, {Name: "empty.yaml", Text: ""}}
	r, err := s.LastRevision(ctx)
	if err != nil || r.Number != 5 || !r.InPieces() {
		t.Fatal(r.Number, err)
	}
	if back, err := s.Files(ctx, r); err != nil || !slices.Equal(back, want) {
		t.Errorf("the files came back changed: %v", err)
	}
	// Of the next one only what is new is written.
	files[0].Pieces = []declare.Piece{piece(long), piece("c")}
	add := func(after int) error {
		return s.Tx(ctx, func(tx *store.Tx) error { _, err := tx.AddRevision(ctx, files, after, "odd", "why", now); return err })
	}
	if err := add(4); !errors.Is(err, store.ErrNotLast) {
		t.Errorf("a revision made from one that is not the last: %v", err)
	}
	if err := add(5); err != nil {
		t.Fatal(err)
	}
	next, err := s.LastRevision(ctx)
	if err != nil || next.Number != 6 {
		t.Fatal(next.Number, err)
	}
	if back, err := s.Files(ctx, next); err != nil || back[0].Text != long+"c" {
		t.Errorf("%v", err)
	}
	next.Packed = bytes.Replace(next.Packed, []byte("sums"), []byte("s\u0075ms"), 1)
	if _, err := s.Files(ctx, next); err != nil {
		t.Error(err)
	}
	r.Packed = r.Packed[:20]
	if _, err := s.Files(ctx, r); err == nil || !strings.Contains(err.Error(), "revision 5 cannot be unpacked") {
		t.Error(err)
	}
}

// A revision of an earlier version, packed whole, still reads, and the next one is stored on it in pieces.
func TestWholeRevision(t *testing.T) {
	s, db := open(t)
	want := []declare.File{{Name: "a.yaml", Text: "roost: 1\n"}}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(want); err != nil {
		t.Fatal(err)
	}
	z.Close()
	r := store.Revision{Number: 1, Packed: b.Bytes()}
	if got, err := s.Files(ctx, r); err != nil || !slices.Equal(got, want) || r.InPieces() {
		t.Errorf("%v %v", got, err)
	}
	if _, err := db.ExecContext(ctx, `INSERT INTO revision (number, files, operator, because, made_at) VALUES (1, ?, 'odd', 'why', ?)`,
		r.Packed, now); err != nil {
		t.Fatal(err)
	}
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.AddRevision(ctx, []declare.Pieces{{Name: "a.yaml", Pieces: []declare.Piece{piece("roost: 1\n")}}}, 1, "odd", "why",
			now)
		return err
	})
	if next, err := s.LastRevision(ctx); err != nil || next.Number != 2 {
		t.Error(next.Number, err)
	} else if got, err := s.Files(ctx, next); err != nil || !slices.Equal(got, want) {
		t.Errorf("%v %v", got, err)
	}
	r.Packed = r.Packed[:9]
	if _, err := s.Files(ctx, r); err == nil {
		t.Error("half a revision reads")
	}
}
