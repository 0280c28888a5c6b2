package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"slices"
	"strings"
	"time"
)

// Care is who looks after a finding. It outlives the finding, so that one that
// comes back is still known.
type Care struct {
	Target   string     `db:"target"`
	ID       []byte     `db:"id"`
	Until    *time.Time `db:"accepted_until"` // accepted up to and with this day
	Accepted string     `db:"accepted_by"`
	Because  string     `db:"because"`
	Assigned string     `db:"assigned"`
	At       time.Time  `db:"at"`
}

// findingID is a finding's key as it is stored.
func findingID(key string) ([]byte, error) { return hex.DecodeString(key) }

// Accept notes that a finding is as it may be until a day; nil ends that.
func (tx *Tx) Accept(ctx context.Context, target, key string, until *time.Time, operator, because string, at time.Time) error {
	return tx.except(ctx, target, Exception{Keys: []string{key}, Until: until, By: operator, Because: because}, at)
}

// Acceptance is that a finding may be as it is until a day.
type Acceptance struct {
	Key   string    `db:"id"`
	Until time.Time `db:"accepted_until"`
	By    string    `db:"accepted_by"`
}

// AcceptedSince returns what was accepted on a target since a moment, and is on a day, by key.
func (s *Store) AcceptedSince(ctx context.Context, target string, since time.Time, day string) (map[string]Acceptance, error) {
	var list []Acceptance
	err := s.db.SelectContext(ctx, &list, `SELECT LOWER(HEX(id)) AS id, accepted_until, accepted_by FROM care
		WHERE target = ? AND at > ? AND accepted_until >= ?`, target, since, day)
	out := make(map[string]Acceptance, len(list))
	for _, a := range list {
		out[a.Key] = a
	}
	return out, err
}

// Assign notes who looks after a finding; "" nobody in particular.
func (tx *Tx) Assign(ctx context.Context, target, key, operator string, at time.Time) error {
	id, err := findingID(key)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO care (target, id, assigned, at) VALUES (?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE assigned = VALUES(assigned), at = VALUES(at)`, target, id, operator, at)
	return err
}

// FindingComment is a remark on a finding.
type FindingComment struct {
	Operator string    `db:"operator"`
	Words    string    `db:"words"`
	At       time.Time `db:"at"`
}

// CommentFinding adds a remark.
func (tx *Tx) CommentFinding(ctx context.Context, target, key, operator, words string, at time.Time) error {
	id, err := findingID(key)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO finding_comment (target, id, seq, operator, words, at)
		SELECT ?, ?, COALESCE(MAX(seq), 0) + 1, ?, ?, ? FROM finding_comment WHERE target = ? AND id = ?`, target, id, operator,
		clip(words, 2000), at, target, id)
	return err
}

// FindingComments returns the remarks on a finding, oldest first.
func (s *Store) FindingComments(ctx context.Context, target, key string) ([]FindingComment, error) {
	id, err := findingID(key)
	if err != nil {
		return nil, err
	}
	var out []FindingComment
	err = s.db.SelectContext(ctx, &out, `SELECT operator, words, at FROM finding_comment WHERE target = ? AND id = ? ORDER BY seq`,
		target, id)
	return out, err
}

// Mended tells how often something was put right, and came back.
type Mended struct {
	ID     []byte       `db:"id"`
	Times  int          `db:"times"`
	Back   int          `db:"back"`
	Round  int64        `db:"round"`
	At     time.Time    `db:"at"`
	BackAt sql.NullTime `db:"back_at"`
}

// NoteMended remembers what steps have put right on a target, by the keys of single changes.
func (tx *Tx) NoteMended(ctx context.Context, target string, keys []string, round int64, at time.Time) error {
	for from, to := range groups(len(keys), 500) {
		args := make([]any, 0, 4*(to-from))
		for _, key := range keys[from:to] {
			id, err := findingID(key)
			if err != nil {
				return err
			}
			args = append(args, target, id, round, at)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO mended (target, id, times, back, round, at)
			VALUES (?, ?, 1, 0, ?, ?)`+strings.Repeat(", (?, ?, 1, 0, ?, ?)", to-from-1)+`
			ON DUPLICATE KEY UPDATE times = times + 1, round = VALUES(round), at = VALUES(at)`, args...); err != nil {
			return err
		}
	}
	return nil
}

// NotePurpose remembers what a round shut on purpose, by the keys of the acts
// that would open it: as put right no times, so that opening it ends that.
func (tx *Tx) NotePurpose(ctx context.Context, target string, keys []string, round int64, at time.Time) error {
	for from, to := range groups(len(keys), 500) {
		args := make([]any, 0, 6*(to-from))
		for _, key := range keys[from:to] {
			id, err := findingID(key)
			if err != nil {
				return err
			}
			args = append(args, target, id, 0, 0, round, at)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO mended (target, id, times, back, round, at) VALUES `+rows(to-from, 6)+`
			ON DUPLICATE KEY UPDATE times = 0, round = VALUES(round), at = VALUES(at)`, args...); err != nil {
			return err
		}
	}
	return nil
}

// ForgetMended forgets what was put right, since it was changed back on purpose.
func (tx *Tx) ForgetMended(ctx context.Context, target string, keys []string) error {
	for from, to := range groups(len(keys), 500) {
		args := []any{target}
		for _, k := range keys[from:to] {
			id, err := findingID(k)
			if err != nil {
				return err
			}
			args = append(args, id)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM mended WHERE target = ? AND id IN `+oneOf(to-from), args...); err != nil {
			return err
		}
	}
	return nil
}

// MendedOn returns what was put right on a target since a moment, by the act's key.
func (s *Store) MendedOn(ctx context.Context, target string, since time.Time) (map[string]Mended, error) {
	var rows []Mended
	if err := s.db.SelectContext(ctx, &rows, `SELECT id, times, back, round, at, back_at FROM mended WHERE target = ? AND at >= ?`,
		target, since); err != nil {
		return nil, err
	}
	out := make(map[string]Mended, len(rows))
	for _, r := range rows {
		out[hex.EncodeToString(r.ID)] = r
	}
	return out, nil
}

// CameBack counts that something put right before was found otherwise again.
func (tx *Tx) CameBack(ctx context.Context, target string, keys []string, at time.Time) error {
	for from, to := range groups(len(keys), 500) {
		args := []any{at, target}
		for _, k := range keys[from:to] {
			id, err := findingID(k)
			if err != nil {
				return err
			}
			args = append(args, id)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE mended SET back = back + 1, back_at = ? WHERE target = ? AND id IN `+oneOf(to-from),
			args...); err != nil {
			return err
		}
	}
	return nil
}

// DayCount is how many findings of a kind a target had at the end of a day, or has so far today.
type DayCount struct {
	Day    time.Time `db:"day"`
	Target string    `db:"target"`
	Kind   string    `db:"kind"`
	N      int       `db:"n"`
}

// CountDay notes how many findings of each kind a target has now.
func (tx *Tx) CountDay(ctx context.Context, target string, day time.Time, counts map[string]int) error {
	date := day.UTC().Format(time.DateOnly)
	if _, err := tx.ExecContext(ctx, `DELETE FROM drift_day WHERE day = ? AND target = ?`, date, target); err != nil {
		return err
	}
	// A day without findings is a row too: it tells that somebody looked.
	if len(counts) == 0 {
		counts = map[string]int{"": 0}
	}
	for kind, n := range counts {
		if _, err := tx.ExecContext(ctx, `INSERT INTO drift_day (day, target, kind, n) VALUES (?, ?, ?, ?)`, date, target, kind,
			n); err != nil {
			return err
		}
	}
	return nil
}

// Trend returns the counts of the days since one, of some targets or all, by day,
// and before them those of the last day before on which each target was compared.
func (s *Store) Trend(ctx context.Context, since time.Time, targets []string) ([]DayCount, error) {
	first := since.UTC().Format(time.DateOnly)
	var in clause
	in.among("target", targets)
	within := strings.Join(append(in.parts, ""), " AND ")
	var out []DayCount
	err := s.db.SelectContext(ctx, &out, `SELECT day, target, kind, n FROM drift_day JOIN
		(SELECT target, MAX(day) AS day FROM drift_day WHERE `+within+`day < ? GROUP BY target) last USING (day, target)
		UNION ALL SELECT day, target, kind, n FROM drift_day WHERE `+within+`day >= ? ORDER BY day, target, kind`,
		slices.Concat(in.args, []any{first}, in.args, []any{first})...)
	return out, err
}
