package store

import (
	"context"
	"slices"
)

// By what accounts of a target could be somebody else's, or stand in their way, is
// kept as marks: who changes somebody looks whether any of theirs is among them.
// Few are rows. Many, as of a target that nobody has adopted yet, are a sieve: it
// may say of a mark that it could be there when it is not, which costs a
// comparison, but never the other way round.

// LooseMost is how many marks of one target are kept as rows.
const LooseMost = 20_000

// PutLoose stores the marks of a target, sorted.
func (tx *Tx) PutLoose(ctx context.Context, target string, marks []uint64) error {
	if len(marks) > LooseMost {
		if _, err := tx.ExecContext(ctx, `REPLACE INTO loose_sieve (target, bits) VALUES (?, ?)`, target, []byte(sieveOf(marks))); err != nil {
			return err
		}
		marks = []uint64{0} // says that there is a sieve
	} else if _, err := tx.ExecContext(ctx, `DELETE FROM loose_sieve WHERE target = ?`, target); err != nil {
		return err
	}
	var old []uint64
	if err := tx.SelectContext(ctx, &old, `SELECT mark FROM loose WHERE target = ? FOR UPDATE`, target); err != nil {
		return err
	}
	slices.Sort(old)
	gone := slices.DeleteFunc(slices.Clone(old), func(m uint64) bool { _, ok := slices.BinarySearch(marks, m); return ok })
	for from, to := range groups(len(gone), 500) {
		args := []any{target}
		for _, m := range gone[from:to] {
			args = append(args, m)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM loose WHERE target = ? AND mark IN `+oneOf(to-from), args...); err != nil {
			return err
		}
	}
	return tx.addLoose(ctx, target, slices.DeleteFunc(slices.Clone(marks),
		func(m uint64) bool { _, ok := slices.BinarySearch(old, m); return ok }))
}

// AddLoose adds marks.
func (tx *Tx) AddLoose(ctx context.Context, target string, marks []uint64) error {
	if len(marks) == 0 {
		return nil
	}
	var all []sieveRow
	if err := tx.SelectContext(ctx, &all, `SELECT target, bits FROM loose_sieve WHERE target = ? FOR UPDATE`, target); err != nil {
		return err
	}
	if len(all) == 0 {
		return tx.addLoose(ctx, target, marks)
	}
	s := sieve(all[0].Bits)
	for _, m := range marks {
		s.add(m)
	}
	_, err := tx.ExecContext(ctx, `UPDATE loose_sieve SET bits = ? WHERE target = ?`, []byte(s), target)
	return err
}

func (tx *Tx) addLoose(ctx context.Context, target string, marks []uint64) error {
	for from, to := range groups(len(marks), 1000) {
		args := make([]any, 0, 2*(to-from))
		for _, m := range marks[from:to] {
			args = append(args, target, m)
		}
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO loose (target, mark) VALUES `+rows(to-from, 2), args...); err != nil {
			return err
		}
	}
	return nil
}

// LooseOn returns the targets that have any of the marks, or may have.
func (s *Store) LooseOn(ctx context.Context, marks []uint64) (map[string]bool, error) {
	out := map[string]bool{}
	if len(marks) == 0 {
		return out, nil
	}
	args := make([]any, len(marks))
	for i, m := range marks {
		args[i] = m
	}
	var names []string
	if err := s.db.SelectContext(ctx, &names, `SELECT DISTINCT target FROM loose WHERE mark IN `+oneOf(len(args)), args...); err != nil {
		return nil, err
	}
	for _, n := range names {
		out[n] = true
	}
	var many []sieveRow
	if err := s.db.SelectContext(ctx, &many, `SELECT l.target, COALESCE(v.bits, '') AS bits FROM loose l LEFT JOIN loose_sieve v
		ON v.target = l.target WHERE l.mark = 0`); err != nil {
		return nil, err
	}
	for _, r := range many {
		if len(r.Bits) == 0 || slices.ContainsFunc(marks, sieve(r.Bits).mayHave) {
			out[r.Target] = true
		}
	}
	return out, nil
}

// LooseMarks returns which of some marks any target has, or may have.
func (s *Store) LooseMarks(ctx context.Context, marks []uint64) (map[uint64]bool, error) {
	out := map[uint64]bool{}
	args := make([]any, len(marks))
	for i, m := range marks {
		args[i] = m
	}
	var found []uint64
	if err := s.db.SelectContext(ctx, &found, `SELECT DISTINCT mark FROM loose WHERE mark IN `+oneOf(len(args)), args...); err != nil {
		return nil, err
	}
	var many [][]byte
	if err := s.db.SelectContext(ctx, &many, `SELECT bits FROM loose_sieve`); err != nil {
		return nil, err
	}
	for _, m := range found {
		out[m] = true
	}
	for _, m := range marks {
		out[m] = out[m] || slices.ContainsFunc(many, func(bits []byte) bool { return sieve(bits).mayHave(m) })
	}
	return out, nil
}

type sieveRow struct {
	Target string `db:"target"`
	Bits   []byte `db:"bits"`
}

// sieve is a Bloom filter: twelve bits a mark, of which seven are set, so that
// one in three hundred that are not there seems to be. Marks are hashes already.
type sieve []byte

const (
	sieveBits = 12
	sieveSet  = 7
)

func sieveOf(marks []uint64) sieve {
	s := make(sieve, len(marks)*sieveBits/8+64)
	for _, m := range marks {
		s.add(m)
	}
	return s
}

// place is where the nth bit of a mark stands.
func (s sieve) place(mark uint64, n int) (at uint64, bit byte) {
	place := (mark + uint64(n)*(mark>>32|1)) % (uint64(len(s)) * 8)
	return place / 8, 1 << (place % 8)
}

func (s sieve) add(mark uint64) {
	for n := range sieveSet {
		at, bit := s.place(mark, n)
		s[at] |= bit
	}
}

func (s sieve) mayHave(mark uint64) bool {
	for n := range sieveSet {
		if at, bit := s.place(mark, n); s[at]&bit == 0 {
			return false
		}
	}
	return true
}
