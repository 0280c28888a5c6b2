package store_test

import (
	"crypto/ed25519"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/store"
)

// TestRecordFilters: what is asked for is found, in rows and in sealed parts alike.
func TestRecordFilters(t *testing.T) {
	s, _ := open(t)
	list := entries(5)
	list[1].Kind, list[2].Target, list[3].User, list[4].Round = "survey", "sooty-tern", "o'neil", 8
	list[0].Words = "100% sure_thing"
	tx(t, s, func(tx *store.Tx) error { return tx.Append(ctx, list...) })
	for sealed := range 3 { // all are rows; the oldest are in a part; nearly all are in parts
		if sealed > 0 && !seal(t, s, 2) {
			t.Fatal("nothing was sealed")
		}
		filters(t, s)
	}
	if n, broken, err := verify(s); n != 5 || broken != "" || err != nil {
		t.Errorf("%d %s %v", n, broken, err)
	}
}

// seal puts the oldest entries that are rows into a part.
func seal(t *testing.T, s *store.Store, size int64) bool {
	t.Helper()
	done, err := s.SealPart(ctx, size, 0, func(from chain.Head, list []chain.Entry) (*chain.Part, error) {
		return chain.Pack(from, list, sealer)
	})
	if err != nil {
		t.Fatal(err)
	}
	return done
}

var sealer = ed25519.NewKeyFromSeed(make([]byte, 32))

func filters(t *testing.T, s *store.Store) {
	t.Helper()
	for _, c := range []struct {
		f    store.EntryFilter
		want []int64
	}{
		{store.EntryFilter{}, []int64{5, 4, 3, 2, 1}}, {store.EntryFilter{Kind: "survey"}, []int64{2}},
		{store.EntryFilter{Without: []string{"step"}}, []int64{2}},
		{store.EntryFilter{Target: "sooty-tern"}, []int64{3}}, {store.EntryFilter{User: "o'neil"}, []int64{4}},
		{store.EntryFilter{Round: 8}, []int64{5}},
		{store.EntryFilter{Before: 3}, []int64{2, 1}}, {store.EntryFilter{Text: "100% sure_"}, []int64{1}},
		{store.EntryFilter{Kind: "step", Target: "arctic-tern", Round: 7}, []int64{4, 1}}, {store.EntryFilter{After: 3}, []int64{4, 5}},
		{store.EntryFilter{After: -1}, []int64{1, 2, 3, 4, 5}}, {store.EntryFilter{After: 1, Kind: "step"}, []int64{3, 4, 5}},
		{store.EntryFilter{Text: "100_"}, nil}, {store.EntryFilter{Operator: "nobody"}, nil},
	} {
		got, _, err := s.Entries(ctx, c.f, 100)
		var seqs []int64
		for _, e := range got {
			seqs = append(seqs, e.Seq)
		}
		if err != nil || !slices.Equal(seqs, c.want) {
			t.Errorf("%+v: %v %v, want %v", c.f, seqs, err, c.want)
		}
	}
	if e, err := s.Entry(ctx, 4); err != nil || e.User != "o'neil" || !e.At.Equal(now) {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := s.Entry(ctx, 99); !errors.Is(err, store.ErrNone) {
		t.Error(err)
	}
}

// TestSealing: while entries are added and go into parts, whoever follows them
// sees each once, in order, and the chain holds at every look.
func TestSealing(t *testing.T) {
	s, db := open(t)
	const all = 400
	var wg sync.WaitGroup
	defer wg.Wait()
	wg.Go(func() {
		for range all / 8 {
			if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.Append(ctx, entries(8)...) }); err != nil {
				t.Error(err)
			}
		}
	})
	wg.Go(func() {
		for parts := 0; parts < all/25 && !t.Failed(); {
			if seal(t, s, 25) {
				parts++
			}
		}
	})
	at := int64(-1)
	for next := int64(1); next <= all && !t.Failed(); {
		got, _, err := s.Entries(ctx, store.EntryFilter{After: at}, 7)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range got {
			if e.Seq != next {
				t.Fatalf("entry %d comes where %d should", e.Seq, next)
			}
			at, next = e.Seq, next+1
		}
		if n, broken, err := verify(s); broken != "" || err != nil {
			t.Fatalf("%d hold, then %s %v", n, broken, err)
		}
	}
	wg.Wait()
	if back, _, err := s.Entries(ctx, store.EntryFilter{Before: 300}, 250); err != nil || len(back) != 250 || back[249].Seq != 50 {
		t.Errorf("%d entries, %v", len(back), err)
	}
	// What somebody puts where a part is does not count, and a part that is altered is found.
	if _, err := db.Exec(`INSERT INTO record SELECT 7, NOW(6), 'step', 'x', 'y', 'z', 0, 0, '', 'forged', '', before_it, hash
		FROM record_part LIMIT 1`); err != nil {
		t.Fatal(err)
	}
	if n, err := s.BehindHead(ctx); n != 1 || err != nil {
		t.Errorf("%d rows are noticed, %v", n, err)
	}
	if e, err := s.Entry(ctx, 7); err != nil || e.Words == "forged" {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := db.Exec(`UPDATE record_part SET body = (SELECT body FROM (SELECT body FROM record_part WHERE first = 1) x)
		WHERE first = 101`); err != nil {
		t.Fatal(err)
	}
	if n, broken, err := verify(s); n < 100 || n > 125 || !strings.Contains(broken, "altered") || err != nil {
		t.Errorf("%d hold, then %q %v", n, broken, err)
	}
}

// A part takes few large entries rather than more than a server takes in one value.
func TestLargeEntries(t *testing.T) {
	s, _ := open(t)
	list := entries(9)
	for i := range list {
		list[i].Body = make([]byte, 3<<20)
	}
	for _, e := range list {
		tx(t, s, func(tx *store.Tx) error { return tx.Append(ctx, e) })
	}
	parts := 0
	for seal(t, s, 4) {
		parts++
	}
	if n, broken, err := verify(s); n != 9 || broken != "" || err != nil || parts != 6 { // one in each, and three rows
		t.Errorf("%d parts; %d hold, then %s %v", parts, n, broken, err)
	}
}

// TestRoom: the room that many deleted rows leave is given back, while others read.
func TestRoom(t *testing.T) {
	s, db := open(t)
	for _, do := range []string{"ALTER TABLE sealed MODIFY id CHAR(26) NOT NULL",
		"INSERT INTO sealed SELECT CONCAT('x', seq), REPEAT(CHAR(seq % 250), 4000), NOW(6) FROM seq_1_to_40000",
		"DELETE FROM sealed WHERE id <> 'x7'"} {
		if _, err := db.Exec(do); err != nil {
			t.Fatal(err)
		}
	}
	for try := 0; ; try++ {
		tables, err := s.Spare(ctx)
		if err != nil || try > 600 {
			t.Fatalf("%v are found to have room, %v", tables, err)
		}
		if slices.Contains(tables, "sealed") { // once the server has cleaned up behind the deletes
			err := s.Rebuild(ctx, "sealed")
			if err == nil {
				break
			}
			if !strings.Contains(err.Error(), "Lock wait timeout") { // it found no moment alone: its time comes again
				t.Fatal(err)
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	if _, err := db.Exec("ANALYZE TABLE sealed"); err != nil {
		t.Fatal(err)
	}
	if tables, err := s.Spare(ctx); err != nil || slices.Contains(tables, "sealed") {
		t.Errorf("the room is still there: %v %v", tables, err)
	}
}
