package store

import (
	"context"
	"maps"
	"slices"
	"strings"
)

// PhaseCount is how many steps of one wave, tier, target and outcome a round has.
type PhaseCount struct {
	Wave    int    `db:"wave"`
	Tier    int    `db:"tier"`
	Target  string `db:"target"`
	Outcome string `db:"outcome"`
	N       int    `db:"n"`
}

// Phases counts a round's steps by wave, tier, target and outcome, in that order.
// They were counted as they changed: it costs what there are targets.
func (s *Store) Phases(ctx context.Context, round int64) ([]PhaseCount, error) {
	var out []PhaseCount
	err := s.db.SelectContext(ctx, &out, `SELECT wave, tier, target, outcome, CAST(SUM(n) AS SIGNED) AS n FROM phase WHERE round = ?
			GROUP BY wave, tier, target, outcome HAVING n > 0 ORDER BY wave, tier, target, outcome`, round)
	return out, err
}

// Those who write counts, each in rows of their own: beginning a batch and ending
// the one before go on at the same time, and neither waits for the other.
const (
	byDrafting = iota
	byBeginning
	byEnding
)

// shift adds to the counts of the wave, tier and target of a step, by outcome.
func (tx *Tx) shift(ctx context.Context, round int64, step, writer int, more map[string]int) error {
	by := make([]string, 0, len(more))
	args := []any{writer}
	for _, outcome := range slices.Sorted(maps.Keys(more)) { // always in one order, so that two who count do not block each other
		by = append(by, "SELECT ? AS outcome, ? AS n")
		args = append(args, outcome, more[outcome])
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO phase (round, wave, tier, target, outcome, writer, n)
		SELECT s.round, s.wave, s.tier, s.target, m.outcome, ?, m.n FROM step s JOIN (`+strings.Join(by, " UNION ALL ")+`) m
		WHERE s.round = ? AND s.seq = ? ON DUPLICATE KEY UPDATE n = phase.n + VALUES(n)`, append(args, round, step)...)
	return err
}

// addPhases adds to counts, which may come to less than nothing for one of those who write them.
func (tx *Tx) addPhases(ctx context.Context, round int64, writer int, more map[PhaseCount]int) error {
	list := slices.SortedFunc(maps.Keys(more),
		func(a, b PhaseCount) int { // always in one order, so that two who count do not block each other
			if c := strings.Compare(a.Target, b.Target); c != 0 {
				return c
			}
			return strings.Compare(a.Outcome, b.Outcome)
		})
	for part := range slices.Chunk(list, 500) {
		var args []any
		for _, c := range part {
			if more[c] != 0 {
				args = append(args, round, c.Wave, c.Tier, c.Target, c.Outcome, writer, more[c])
			}
		}
		if len(args) == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO phase (round, wave, tier, target, outcome, writer, n) VALUES `+rows(len(args)/7, 7)+`
			ON DUPLICATE KEY UPDATE n = n + VALUES(n)`, args...); err != nil {
			return err
		}
	}
	return nil
}

// turn counts all steps of a round that had one outcome among those that have another.
func (tx *Tx) turn(ctx context.Context, round int64, from, to string) error {
	var have []PhaseCount
	if err := tx.SelectContext(ctx, &have, `SELECT wave, tier, target, CAST(SUM(n) AS SIGNED) AS n FROM phase WHERE round = ?
			AND outcome = ?
		GROUP BY wave, tier, target FOR UPDATE`, round, from); err != nil {
		return err
	}
	more := map[PhaseCount]int{}
	for _, c := range have {
		n := c.N
		c.N, c.Outcome = 0, from
		more[c] -= n
		c.Outcome = to
		more[c] += n
	}
	return tx.addPhases(ctx, round, byDrafting, more)
}
