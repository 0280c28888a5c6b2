package service

import (
	"fmt"
	"testing"

	"hen-roost/internal/store"
)

// However many entries come at once, and while somebody looks, each is told once and in order.
func TestWatchEverything(t *testing.T) {
	s, _ := start(t)
	w, err := s.Watch(ctx, odd, Watched{})
	if err != nil {
		t.Fatal(err)
	}
	put := func(n int) {
		entries := make([]*store.Entry, n)
		for i := range entries {
			entries[i] = &store.Entry{At: s.Now(), Kind: "step", Operator: "odd", Words: fmt.Sprint("step ", i)}
		}
		if err := s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.Append(ctx, entries...) }); err != nil {
			t.Fatal(err)
		}
	}
	next, told := w.last+1, 0
	for round := range 8 {
		if round < 4 {
			put(1700)
		}
		if w, err = s.Watch(ctx, odd, w); err != nil || w.Missed != 0 {
			t.Fatalf("%d missed %v", w.Missed, err)
		}
		for _, e := range w.Entries {
			if e.Seq != next {
				t.Fatalf("entry %d is told where %d should be", e.Seq, next)
			}
			next++
			told++
		}
	}
	if told != 6800 {
		t.Errorf("%d entries of 6800 were told", told)
	}
	put(watchLag + 5000)
	if w, err = s.Watch(ctx, odd, w); err != nil || w.Missed != watchLag+5000-watchMost || len(w.Entries) != watchMost {
		t.Errorf("%d told, %d missed, %v", len(w.Entries), w.Missed, err)
	}
}
