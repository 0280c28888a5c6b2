package store

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
)

// Steps are kept for ever: what a round did can be looked at, and taken back. Those
// of rounds that ended long ago lie packed, so many in a part, always from the
// first on: what is left of a round's rows comes behind its parts.

const (
	stepsInPart   = 500
	partsAtATime  = 10       // that one transaction makes
	stepPartBytes = 64 << 20 // that a part unpacks to at the most
)

// PackSteps packs steps of rounds that ended before a moment, some thousands. It
// says whether it found any.
func (s *Store) PackSteps(ctx context.Context, endedBefore time.Time) (found bool, err error) {
	var round int64
	err = s.db.GetContext(ctx, &round, `SELECT id FROM round WHERE packed = 0 AND ended_at < ? ORDER BY ended_at LIMIT 1`, endedBefore)
	if errors.Is(err, ErrNone) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, s.Tx(ctx, func(tx *Tx) error {
		if err := tx.lockRound(ctx, round); err != nil {
			return err
		}
		for range partsAtATime {
			if more, err := tx.packPart(ctx, round); err != nil || !more {
				return err
			}
		}
		return nil
	})
}

// lockRound keeps others from packing a round's steps, or changing packed ones.
func (tx *Tx) lockRound(ctx context.Context, id int64) error {
	var one int
	return tx.GetContext(ctx, &one, `SELECT 1 FROM round WHERE id = ? FOR UPDATE`, id)
}

// packPart packs a round's first steps that are rows; at the last it notes that all are packed.
func (tx *Tx) packPart(ctx context.Context, round int64) (more bool, err error) {
	var list []stepRow
	if err := tx.SelectContext(ctx, &list, `SELECT `+stepColumns+` FROM step WHERE round = ? ORDER BY seq LIMIT ?`, round,
		stepsInPart); err != nil {
		return false, err
	}
	for from, to := range portions(len(list), stepsInPart, func(i int) int { return len(list[i].Body) + len(list[i].Words) }) {
		p, err := packSteps(list[from:to])
		if err != nil {
			return false, err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO step_part (round, last, low, high, outcomes, body) VALUES (?, ?, ?, ?, ?, ?)`, round,
			p.Last, p.Low, p.High, p.Outcomes, p.Body); err != nil {
			return false, err
		}
	}
	if len(list) > 0 {
		if _, err := tx.ExecContext(ctx, `DELETE FROM step WHERE round = ? AND seq <= ?`, round, list[len(list)-1].Seq); err != nil {
			return false, err
		}
	}
	if len(list) < stepsInPart {
		_, err = tx.ExecContext(ctx, `UPDATE round SET packed = 1 WHERE id = ?`, round)
		return false, err
	}
	return true, nil
}

type stepPart struct {
	Last      int    `db:"last"`
	Low, High string // of the targets
	Outcomes  string `db:"outcomes"`
	Body      []byte `db:"body"`
}

func packSteps(list []stepRow) (p stepPart, err error) {
	outcomes := map[string]bool{}
	p.Low, p.High, p.Last = list[0].Target, list[0].Target, list[len(list)-1].Seq
	for _, r := range list {
		p.Low, p.High, outcomes[r.Outcome] = min(p.Low, r.Target), max(p.High, r.Target), true
	}
	p.Outcomes = strings.Join(slices.Sorted(maps.Keys(outcomes)), ",")
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.DefaultCompression)
	if err != nil {
		return p, err
	}
	if err := errors.Join(gob.NewEncoder(w).Encode(list), w.Close()); err != nil {
		return p, fmt.Errorf("steps up to %d of round %d: %w", p.Last, list[0].Round, err)
	}
	p.Body = packed.Bytes()
	return p, nil
}

func (p stepPart) rows(round int64) (list []stepRow, err error) {
	plain := io.LimitReader(flate.NewReader(bytes.NewReader(p.Body)), stepPartBytes)
	if err := gob.NewDecoder(plain).Decode(&list); err != nil {
		return nil, fmt.Errorf("the packed steps up to %d of round %d cannot be read: %w", p.Last, round, err)
	}
	return list, nil
}

// packedSteps returns the chosen ones of a round's packed steps in order, at most so many.
func (tx *Tx) packedSteps(ctx context.Context, round int64, f StepFilter, most int) (out []stepRow, err error) {
	for after := f.After; len(out) < most; {
		var c clause
		c.and("round = ?", round)
		c.and("last > ?", after)
		if f.Target != "" {
			c.and("low <= ?", f.Target)
			c.and("high >= ?", f.Target)
		}
		if len(f.Outcomes) > 0 {
			each := strings.Repeat(" OR FIND_IN_SET(?, outcomes)", len(f.Outcomes))[len(" OR "):]
			var args []any
			for _, o := range f.Outcomes {
				args = append(args, o)
			}
			c.and("("+each+")", args...)
		}
		var p stepPart
		err := tx.GetContext(ctx, &p, `SELECT last, outcomes, body FROM step_part`+c.where()+` ORDER BY last LIMIT 1`, c.args...)
		if errors.Is(err, ErrNone) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		list, err := p.rows(round)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			if len(out) < most && r.Seq > f.After && (f.Target == "" || r.Target == f.Target) &&
				(len(f.Outcomes) == 0 || slices.Contains(f.Outcomes, r.Outcome)) {
				out = append(out, r)
			}
		}
		after = p.Last
	}
	return out, nil
}

// turnPacked gives another outcome to the packed steps of a round that had one.
func (tx *Tx) turnPacked(ctx context.Context, round int64, was, is string) error {
	if err := tx.lockRound(ctx, round); err != nil {
		return err
	}
	for after := 0; ; {
		var p stepPart
		err := tx.GetContext(ctx, &p, `SELECT last, outcomes, body FROM step_part WHERE round = ? AND last > ? AND FIND_IN_SET(?, outcomes)
			ORDER BY last LIMIT 1`, round, after, was)
		if errors.Is(err, ErrNone) {
			return nil
		}
		if err != nil {
			return err
		}
		list, err := p.rows(round)
		if err != nil {
			return err
		}
		for i := range list {
			if list[i].Outcome == was {
				list[i].Outcome = is
			}
		}
		after = p.Last
		if p, err = packSteps(list); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE step_part SET outcomes = ?, body = ? WHERE round = ? AND last = ?`, p.Outcomes, p.Body, round,
			after); err != nil {
			return err
		}
	}
}
