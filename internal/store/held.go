package store

import (
	"context"
	"errors"
	"strings"

	"hen-roost/internal/core/model"
)

// What a target holds is looked at page by page, and was counted as it came.

// addHeld adds to how many objects of each kind a target holds.
func (tx *Tx) addHeld(ctx context.Context, target string, more map[string]int) error {
	for kind, n := range more {
		if n == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO held (target, kind, n) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE n = n + VALUES(n)`,
			target, kind, n); err != nil {
			return err
		}
	}
	return nil
}

// setHeld notes how many there are: whoever saw everything counts anew.
func (tx *Tx) setHeld(ctx context.Context, target string, all map[string]int) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM held WHERE target = ?`, target); err != nil {
		return err
	}
	return tx.addHeld(ctx, target, all)
}

// CountObjects returns how much a target was last seen to hold, by kind.
func (s *Store) CountObjects(ctx context.Context, target string) (map[model.ObjectKind]int, error) {
	var rows []struct {
		Kind string `db:"kind"`
		N    int    `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT kind, n FROM held WHERE target = ?`, target)
	out := map[model.ObjectKind]int{}
	for _, r := range rows {
		out[model.KindNamed(r.Kind)] = r.N
	}
	return out, err
}

// Where a page of objects begins: people's come first, then the target's own.
const (
	behindPeople = "behind:"
	behindOwn    = "own:"
)

// ObservedPage returns a target's objects of a kind whose name begins with
// prefix and ends so, at most so many, people's before its own, each by name: from the
// beginning, or behind the page that named after as the next one's. next is ""
// when there are no more; total is how many there are on all pages. Sets come
// without their members.
func (s *Store) ObservedPage(ctx context.Context, target string, kind model.ObjectKind, prefix, ends, after string,
	most int) (out []model.Object, next string, total int, err error) {
	if after != "" && !strings.HasPrefix(after, behindPeople) && !strings.HasPrefix(after, behindOwn) {
		return nil, "", 0, ErrNoSpot
	}
	like, of := escapeLike(prefix)+"%"+escapeLike(ends), []any{target, kind.String()}
	if prefix+ends == "" {
		err = s.db.GetContext(ctx, &total, `SELECT CAST(COALESCE(SUM(n), 0) AS SIGNED) FROM held WHERE target = ? AND kind = ?`, of...)
	} else {
		err = s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM observed WHERE target = ? AND kind = ? AND name LIKE ?`, append(of, like)...)
	}
	if err != nil {
		return nil, "", 0, err
	}
	const columns = `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? AND kind = ? AND name LIKE ? AND name > ? AND `
	read := func(which, behind string) error {
		return s.eachObject(ctx, `SELECT '', o.* FROM (`+columns+which+` ORDER BY name LIMIT ?) o`, append(of, like, behind, most+1-len(out)),
			func(_ string, o model.Object) { out = append(out, o) })
	}
	if !strings.HasPrefix(after, behindOwn) {
		if err := read(`belongs & 1 = 0`, strings.TrimPrefix(after, behindPeople)); err != nil {
			return nil, "", 0, err
		}
		after = ""
	}
	if len(out) <= most {
		if err := read(`belongs IN `+withSystem, strings.TrimPrefix(after, behindOwn)); err != nil {
			return nil, "", 0, err
		}
	}
	if len(out) > most {
		out = out[:most]
		last := out[most-1]
		if next = behindPeople + last.Name; last.System {
			next = behindOwn + last.Name
		}
	}
	return out, next, total, nil
}

// Origin is what stands behind the login in the names of some accounts.
type Origin struct {
	Rest string `db:"rest"`
	N    int    `db:"n"`
}

// Origins tells what stands behind the joint in the names of accounts on a target, and of how many, the most first. It looks at
// every name.
func (s *Store) Origins(ctx context.Context, target, joint string, most int) (out []Origin, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT SUBSTRING_INDEX(name, ?, -1) AS rest, COUNT(*) AS n FROM observed
		WHERE target = ? AND kind = 'account' GROUP BY rest ORDER BY n DESC, rest LIMIT ?`, joint, target, most)
	return out, err
}

// AccountNames returns the names of people's accounts on a target.
func (s *Store) AccountNames(ctx context.Context, target string) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT name FROM observed WHERE target = ? AND kind = 'account' AND belongs NOT IN `+withSystem,
		target)
	return names, err
}

// NamesHeld returns the names of what a target holds of a kind, at most so many.
func (s *Store) NamesHeld(ctx context.Context, target string, kind model.ObjectKind, most int) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT name FROM observed WHERE target = ? AND kind = ? ORDER BY name LIMIT ?`, target,
		kind.String(), most)
	return names, err
}

// Powerful returns the names of accounts on a target that can become superuser.
func (s *Store) Powerful(ctx context.Context, target string) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT name FROM observed WHERE target = ? AND kind = 'account' AND belongs IN `+withPower,
		target)
	return names, err
}

// SetsCalled returns the sets of a name on a target, of whatever kind, with their members.
func (s *Store) SetsCalled(ctx context.Context, target, name string) (out []model.Object, err error) {
	for _, kind := range model.SetKinds() {
		o, err := s.Set(ctx, target, model.Named{Kind: kind, Name: name})
		if errors.Is(err, ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}
