package store

import (
	"context"
	"fmt"
	"time"

	"hen-roost/internal/core/model"
)

// What is asked here is asked of many targets at once, and of few people, so
// that a change costs as many round trips on ten targets as on one.

// manyTargets is how many targets one statement asks for.
const manyTargets = 500

func texts[T ~string](list []T) []any {
	out := make([]any, len(list))
	for i, x := range list {
		out[i] = string(x)
	}
	return out
}

// NoteCompared notes of which revision and day a target's findings are.
func (tx *Tx) NoteCompared(ctx context.Context, target string, revision int, day string) error {
	_, err := tx.ExecContext(ctx, `UPDATE target SET compared = ?, compared_on = ?, comparisons = comparisons + 1 WHERE name = ?`,
		revision, day, target)
	return err
}

// Disturbed notes that a target was changed, so that its findings may be stale until it is compared again.
func (tx *Tx) Disturbed(ctx context.Context, targets ...string) error {
	for from, to := range groups(len(targets), manyTargets) {
		if _, err := tx.ExecContext(ctx, `UPDATE target SET compared = 0, comparisons = comparisons + 1 WHERE name IN `+oneOf(to-from),
			texts(targets[from:to])...); err != nil {
			return err
		}
	}
	return nil
}

// Carried notes that findings of one revision are those of another, too.
func (tx *Tx) Carried(ctx context.Context, from, to int, day string) error {
	_, err := tx.ExecContext(ctx, `UPDATE target SET compared = ?, comparisons = comparisons + 1 WHERE compared = ? AND compared_on = ?`,
		to, from, day)
	return err
}

// Comparisons returns how often each of the targets was compared, and keeps others from comparing them until the end of the transaction.
func (tx *Tx) Comparisons(ctx context.Context, targets []string) (map[string]int64, error) {
	out := map[string]int64{}
	for from, to := range groups(len(targets), manyTargets) {
		var rows []struct {
			Name string `db:"name"`
			N    int64  `db:"comparisons"`
		}
		if err := tx.SelectContext(ctx, &rows, `SELECT name, comparisons FROM target WHERE name IN `+oneOf(to-from)+` FOR UPDATE`,
			texts(targets[from:to])...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.Name] = r.N
		}
	}
	return out, nil
}

// LinksOfAll returns the accounts of some users on all targets.
func (s *Store) LinksOfAll(ctx context.Context, users []string) ([]model.Link, error) {
	var out []model.Link
	for from, to := range groups(len(users), 500) {
		var rows []linkRow
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT `+linkColumns+` FROM link WHERE user IN `+oneOf(to-from)+` ORDER BY target, name`,
			texts(users[from:to])...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, model.Link(r))
		}
	}
	return out, nil
}

// AccountsNamed returns the accounts of some names, by target and name.
func (s *Store) AccountsNamed(ctx context.Context, targets, names []string) (map[string][]model.Object, error) {
	out := map[string][]model.Object{}
	if len(names) == 0 {
		return out, nil
	}
	for from, to := range groups(len(targets), manyTargets) {
		args := append(append(texts(targets[from:to]), model.Account.String()), texts(names)...)
		err := s.eachObject(ctx, `SELECT target, kind, name, uniq, belongs, body FROM observed WHERE target IN `+oneOf(to-from)+`
				AND kind = ? AND name IN `+oneOf(len(names))+` ORDER BY target, name`, args, func(target string, o model.Object) {
			out[target] = append(out[target], o)
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Store) eachObject(ctx context.Context, query string, args []any, do func(target string, o model.Object)) error {
	rows, err := s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var target string
		o, err := scanObject(func(to ...any) error { return rows.Scan(append([]any{&target}, to...)...) })
		if err != nil {
			return fmt.Errorf("observed on %s: %w", target, err)
		}
		do(target, o)
	}
	return rows.Err()
}

// Near is what of some targets changes with some people.
type Near struct {
	Targets, Users []string
	Accounts       []string      // names
	Sets           []model.Named // which they come into or leave
}

// FindingsNear returns the findings of the users, and those of who joins or
// leaves the sets.
func (s *Store) FindingsNear(ctx context.Context, n Near) (map[string][]model.Finding, error) {
	var places []any
	for _, set := range n.Sets {
		for _, m := range n.Accounts {
			for _, v := range []model.Verb{model.JoinIt, model.LeaveIt} {
				places = append(places, place(&model.Finding{Act: model.Act{Object: set.Kind, Name: set.Name, Member: m, Verb: v}}))
			}
		}
	}
	targets, users := n.Targets, n.Users
	out := map[string][]model.Finding{}
	for from, to := range groups(len(targets), manyTargets) {
		names := texts(targets[from:to])
		query, args := `SELECT target, place, id, kind, verb, user, body FROM finding WHERE user IN `+oneOf(len(users))+` AND target IN `+oneOf(len(names)),
			append(texts(users), names...)
		if len(places) > 0 {
			query += ` UNION SELECT target, place, id, kind, verb, user, body FROM finding WHERE target IN ` + oneOf(len(names)) + ` AND place IN ` +
				oneOf(len(places))
			args = append(append(args, names...), places...)
		}
		var rows []findingRow
		if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
			return nil, err
		}
		for i := range rows {
			f, err := rows[i].finding()
			if err != nil {
				return nil, err
			}
			out[f.Target] = append(out[f.Target], f.Finding)
		}
	}
	return out, nil
}

// AddDay adds to what a day ended with so far.
func (tx *Tx) AddDay(ctx context.Context, target string, day time.Time, more map[string]int) error {
	for kind, n := range more {
		if n == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO drift_day (day, target, kind, n) VALUES (?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE n = GREATEST(0, n + VALUES(n))`, day.UTC().Format(time.DateOnly), target, kind, n); err != nil {
			return err
		}
	}
	return nil
}

// MendedAmong is MendedOn for single acts, by their keys, of several targets.
func (s *Store) MendedAmong(ctx context.Context, targets []string, keys []string, since time.Time) (map[string]Mended, error) {
	out := map[string]Mended{}
	for from, to := range groups(len(keys), 1000) {
		for tfrom, tto := range groups(len(targets), manyTargets) {
			args := texts(targets[tfrom:tto])
			for _, k := range keys[from:to] {
				id, err := findingID(k)
				if err != nil {
					return nil, err
				}
				args = append(args, id)
			}
			var rows []Mended
			if err := s.db.SelectContext(ctx, &rows,
				`SELECT id, times, back, round, at, back_at FROM mended WHERE target IN `+oneOf(tto-tfrom)+` AND id IN `+oneOf(to-from)+`
					AND at >= ?`, append(args, since)...); err != nil {
				return nil, err
			}
			for _, r := range rows {
				out[fmt.Sprintf("%x", r.ID)] = r
			}
		}
	}
	return out, nil
}
