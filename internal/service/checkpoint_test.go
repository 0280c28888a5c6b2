package service

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Whoever has the whole database in hand can rewrite the record so that its
// chain holds; against a checkpoint it does not.
func TestCheckpoints(t *testing.T) {
	s, _ := surveyed(t, declaration)
	c, err := s.Checkpoint(ctx, odd)
	if err != nil || !c.Signed() {
		t.Fatalf("%+v %v", c, err)
	}
	v, err := s.VerifyRecord(ctx, odd, false)
	if err != nil || !v.Holds || v.Checkpoints != 1 || v.Head == nil || v.Head.Seq != c.Seq {
		t.Fatalf("%+v %v", v, err)
	}
	h, err := s.RecordHead(ctx, odd, c.Seq)
	if err != nil || !bytes.Equal(h.Then, c.Hash) || !h.Signed() {
		t.Errorf("%+v %v", h, err)
	}
	var out bytes.Buffer
	if err := s.ExportRecord(ctx, odd, &out); err != nil {
		t.Fatal(err)
	}
	if got, err := chain.Verify(bytes.NewReader(out.Bytes()), c.Key); err != nil || got.Head.Seq != c.Seq || got.Checkpoints != 1 {
		t.Errorf("the export does not hold: %+v %v", got, err)
	}
	mode, err := os.Stat(strings.Replace(s.KeyFile, "seal.key", "sign.key", 1))
	if err != nil || mode.Mode().Perm() != 0o600 {
		t.Errorf("the signing key: %v %v", mode, err)
	}
	// The tail is cut off, with the head.
	rewind(t, s, c.Seq-2)
	for range 2 {
		if _, err := s.Checkpoint(ctx, odd); err == nil || !strings.Contains(err.Error(), "its tail was cut off; nothing was signed") {
			t.Errorf("%v", err)
		}
	}
	v, err = s.VerifyRecord(ctx, odd, false)
	if err != nil || v.Holds || !strings.Contains(v.Words, "its tail was cut off") {
		t.Errorf("%+v %v", v, err)
	}
	if e, err := s.Record(ctx, odd, door.RecordFilter{Kind: "intrusion"}, 10); err != nil || len(e.Items) != 1 {
		t.Errorf("it is told %d times (%v)", len(e.Items), err)
	}
	// The chain grows on, computed anew from there.
	for range 4 {
		if _, err := s.Comment(ctx, odd, 1, "hello"); err != nil {
			t.Fatal(err)
		}
	}
	v, err = s.VerifyRecord(ctx, odd, false)
	if err != nil || v.Holds || v.Broken != c.Seq || !strings.Contains(v.Words, "the record was written anew") {
		t.Errorf("%+v %v", v, err)
	}
}

// rewind does what the database's owner could.
func rewind(t *testing.T, s *Service, seq int64) {
	t.Helper()
	e, err := s.Store.Entry(ctx, seq)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.Tx(ctx, func(tx *store.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM record WHERE seq > ?`, seq); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE record_head SET seq = ?, hash = ?`, seq, e.Hash)
		return err
	}); err != nil {
		t.Fatal(err)
	}
}
