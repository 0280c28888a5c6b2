package store_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"hen-roost/internal/store"
)

// TestLoose: whatever marks a target has, few or very many, none is missed; of
// those that it has not, few seem to be there.
func TestLoose(t *testing.T) {
	s, _ := open(t)
	draw := rand.New(rand.NewPCG(3, 3))
	marks := func(n int) []uint64 {
		out := make([]uint64, n)
		for i := range out {
			out[i] = draw.Uint64()
		}
		slices.Sort(out)
		return out
	}
	for _, size := range []int{40, store.LooseMost + 5000, 30} {
		has, more, others := marks(size), marks(50), marks(600)
		tx(t, s, func(tx *store.Tx) error { return tx.PutLoose(ctx, "a", has) })
		tx(t, s, func(tx *store.Tx) error { return tx.AddLoose(ctx, "a", more) })
		for _, m := range append(has[:30:30], more...) {
			if on, err := s.LooseOn(ctx, []uint64{1, m}); err != nil || !on["a"] {
				t.Fatalf("of %d: %d is missed, %v", size, m, err)
			}
		}
		wrong := 0
		for _, m := range others {
			if on, _ := s.LooseOn(ctx, []uint64{m}); on["a"] {
				wrong++
			}
		}
		if wrong > 20 {
			t.Errorf("of %d: %d of %d others seem to be there", size, wrong, len(others))
		}
	}
}
