package door

import (
	"crypto/ed25519"
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/store"
)

// What lies far back is checked once and sealed. Whoever alters, exchanges, takes
// away or seals anew what the database holds of it is found out.
func TestSealedRecord(t *testing.T) {
	s := start(t)
	admin := Operator{Name: "odd.strand", Duties: []Duty{Look}}
	for i := range 60 {
		if err := s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
			return []*store.Entry{{At: s.Now(), Kind: "step", Operator: admin.Name, Words: fmt.Sprint("step ", i)}}, nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.sealRecord(ctx, 10, 15); err != nil {
		t.Fatal(err)
	}
	check := func(every bool) Verified {
		t.Helper()
		v, err := s.VerifyRecord(ctx, admin, every)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := check(false); !v.Holds || v.Checked != 60 || v.Sealed != 40 {
		t.Fatalf("%+v", v)
	}
	if v := check(true); !v.Holds || v.Checked != 60 || v.Sealed != 0 {
		t.Fatalf("%+v", v)
	}
	page, err := s.Record(ctx, admin, RecordFilter{Before: 33}, 20)
	if err != nil || len(page.Items) != 20 || page.Items[0].Seq != 32 || page.Next != 13 {
		t.Errorf("%d entries from %d, next %d, %v", len(page.Items), page.Items[0].Seq, page.Next, err)
	}
	exec := func(query string, args ...any) {
		t.Helper()
		if err := s.Store.Tx(ctx, func(tx *store.Tx) error { _, err := tx.ExecContext(ctx, query, args...); return err }); err != nil {
			t.Fatal(err)
		}
	}
	exec(`CREATE TABLE kept AS SELECT * FROM record_part`)
	forged := resealed(t, s)
	for _, c := range []struct {
		what, do, words string
		args            []any
	}{
		{"its body is another's", `UPDATE record_part SET body = (SELECT body FROM kept WHERE first = 11) WHERE first = 21`, "altered", nil},
		{"one is gone", `DELETE FROM record_part WHERE first = 21`, "entry 21 is missing", nil},
		{"sealed anew by somebody else", `UPDATE record_part SET hash = ?, body = ?, sign_key = ?, signature = ? WHERE first = 21`,
			"entry 31 does not follow from entry 30", []any{forged.Hash, forged.Body, forged.Key, forged.Signature}},
		{"the seal is not ours", `UPDATE record_part SET signature = REPEAT('x', 64) WHERE first = 21`, "", nil},
	} {
		exec(c.do, c.args...)
		if v := check(false); v.Holds != (c.words == "") || !strings.Contains(v.Words, c.words) {
			t.Errorf("%s: %s", c.what, v.Words)
		}
		exec(`DELETE FROM record_part`)
		exec(`INSERT INTO record_part SELECT * FROM kept`)
	}
	// What was signed before and altered since is not sealed.
	if _, err := s.Checkpoint(ctx, admin); err != nil {
		t.Fatal(err)
	}
	at := chain.Start()
	if err := s.Store.EachEntry(ctx, 60, func(e *chain.Entry) (err error) {
		if e.Seq == 60 {
			e.Words, e.Before = "forged", at.Hash
			e.Hash = e.Seal()
			exec(`UPDATE record SET words = 'forged', hash = ? WHERE seq = 60`, e.Hash)
			exec(`UPDATE record_head SET hash = ?`, e.Hash)
		}
		at, err = at.Follow(e)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if err := s.sealRecord(ctx, 20, 0); err == nil || !strings.Contains(err.Error(), "written anew") {
		t.Errorf("it is sealed: %v", err)
	}
	for range 2 { // told once
		s.notSealed(ctx, &chain.BrokenError{Seq: 60, Words: "entry 60 is another"})
	}
	told, err := s.Record(ctx, admin, RecordFilter{Kind: "intrusion"}, 10)
	if due, _, _ := s.SealDue(ctx); err != nil || due || len(told.Items) != 1 ||
		told.Items[0].Words != "entry 60 is another; nothing is sealed from there on" {
		t.Errorf("%v %+v %v", due, told.Items, err)
	}
}

// resealed is the third part with other words in it, as somebody with another key would make it.
func resealed(t *testing.T, s *Door) *chain.Part {
	t.Helper()
	var list []chain.Entry
	from := chain.Start()
	at := from
	if err := s.Store.EachEntry(ctx, 30, func(e *chain.Entry) (err error) {
		if e.Seq == 20 {
			from = chain.Head{Seq: 20, Hash: e.Hash}
			at = from
		}
		if e.Seq > 20 {
			e.Words, e.Before = "nothing happened", at.Hash
			e.Hash = e.Seal()
			at, list = chain.Head{Seq: e.Seq, Hash: e.Hash}, append(list, *e)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	p, err := chain.Pack(from, list, ed25519.NewKeyFromSeed(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	return p
}
