package store_test

import (
	"errors"
	"fmt"
	"sync"
	"testing"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/store"
)

func entries(n int) []*store.Entry {
	out := make([]*store.Entry, n)
	for i := range out {
		out[i] = &store.Entry{At: now, Kind: "step", Operator: "odd.strand", Target: "arctic-tern", User: "marit.fell", Round: 7,
			Because: "spring", Words: fmt.Sprintf("step %d: o'neil; “quoted” %%", i), Body: []byte(`{"a":1}`)}
	}
	return out
}

// verify walks the chain. It returns how many entries hold and what is wrong after them.
func verify(s *store.Store) (int64, string, error) {
	end, err := s.Head(ctx)
	if err != nil {
		return 0, "", err
	}
	at := chain.Start()
	err = s.EachEntry(ctx, end.Seq, func(e *chain.Entry) (err error) {
		at, err = at.Follow(e)
		return err
	})
	var broken *chain.BrokenError
	switch {
	case errors.As(err, &broken):
		return at.Seq, broken.Words, nil
	case err == nil && at.Seq != end.Seq:
		return at.Seq, fmt.Sprintf("entry %d is missing", at.Seq+1), nil
	}
	return at.Seq, "", err
}

// The chain holds over many appenders at once, and any change from outside is found where it is.
func TestRecord(t *testing.T) {
	s, db := open(t)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 10 {
				if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.Append(ctx, entries(7)...) }); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if n, broken, err := verify(s); n != 560 || broken != "" || err != nil {
		t.Fatalf("%d %v %v", n, broken, err)
	}
	refused := errors.New("no")
	if err := s.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.Append(ctx, entries(1)...); err != nil {
			return err
		}
		return &store.Refusal{Err: refused}
	}); !errors.Is(err, refused) {
		t.Error(err)
	}
	for _, c := range []struct{ change, back, want string }{
		{"UPDATE record SET words = 'nothing happened' WHERE seq = 100",
			"UPDATE record SET words = (SELECT words FROM (SELECT words FROM record WHERE seq = 107) x) WHERE seq = 100",
			"entry 100 has been altered"},
		{"UPDATE record SET operator = 'somebody' WHERE seq = 3", "UPDATE record SET operator = 'odd.strand' WHERE seq = 3",
			"entry 3 has been altered"},
		{"UPDATE record SET at = at - INTERVAL 1 DAY WHERE seq = 560", "UPDATE record SET at = at + INTERVAL 1 DAY WHERE seq = 560",
			"entry 560 has been altered"},
		{"UPDATE record SET body = '{}' WHERE seq = 1", "UPDATE record SET body = '{\"a\":1}' WHERE seq = 1", "entry 1 has been altered"},
		{"UPDATE record SET target = 'arctic', user = '-ternmarit.fell' WHERE seq = 9",
			"UPDATE record SET target = 'arctic-tern', user = 'marit.fell' WHERE seq = 9", "entry 9 has been altered"},
		{"UPDATE record_head SET seq = 561", "UPDATE record_head SET seq = 560", "entry 561 is missing"},
	} {
		if _, err := db.Exec(c.change); err != nil {
			t.Fatal(err)
		}
		_, broken, err := verify(s)
		if err != nil || broken != c.want {
			t.Errorf("%s: %v %v, want %s", c.change, broken, err, c.want)
		}
		if _, err := db.Exec(c.back); err != nil {
			t.Fatal(err)
		}
		if _, broken, _ := verify(s); broken != "" && c.want != "entry 100 has been altered" {
			t.Errorf("put back, and still %s", broken)
		}
	}
	if _, err := db.Exec("DELETE FROM record WHERE seq = 50"); err != nil {
		t.Fatal(err)
	}
	if _, broken, _ := verify(s); broken != "entry 50 is missing" {
		t.Errorf("%v", broken)
	}
}

// A row that somebody puts behind the head is no entry, and keeps nobody from writing.
func TestIntruders(t *testing.T) {
	for _, many := range []int{2, 300} { // few are inserted, many are loaded
		intruders(t, many)
	}
}

func intruders(t *testing.T, many int) {
	s, db := open(t)
	tx(t, s, func(tx *store.Tx) error { return tx.Append(ctx, entries(3)...) })
	for _, seq := range []int{4, 9} {
		if _, err := db.Exec(`INSERT INTO record
				SELECT ?, at, kind, operator, target, user, round, about, because, 'forged', body, before_it, hash FROM record
				WHERE seq = 3`, seq); err != nil {
			t.Fatal(err)
		}
	}
	if got, _, err := s.Entries(ctx, store.EntryFilter{}, 10); err != nil || len(got) != 3 || got[0].Seq != 3 {
		t.Errorf("%d entries %v", len(got), err)
	}
	if _, err := s.Entry(ctx, 4); err != store.ErrNone {
		t.Errorf("a row behind the head is read: %v", err)
	}
	if n, err := s.BehindHead(ctx); n != 2 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	tx(t, s, func(tx *store.Tx) error { return tx.Append(ctx, entries(many)...) })
	got, _, err := s.Entries(ctx, store.EntryFilter{}, 1000)
	if err != nil || len(got) != 4+many || got[0].Kind != "intrusion" ||
		got[0].Words != "2 entries that no service wrote stood behind entry 3; they were set aside and do not count" {
		t.Errorf("%d entries, the last %+v %v", len(got), got[0], err)
	}
	if n, broken, err := verify(s); n != int64(4+many) || broken != "" || err != nil {
		t.Errorf("%d %s %v", n, broken, err)
	}
}
