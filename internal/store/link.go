package store

import (
	"context"
	"maps"
	"slices"
	"time"

	"hen-roost/internal/core/model"
)

type linkRow struct {
	Target string `db:"target"`
	User   string `db:"user"`
	Name   string `db:"name"`
	Rest   string `db:"rest"`
	Unique string `db:"uniq"`
}

const linkColumns = `target, user, name, rest, uniq`

func (s *Store) links(ctx context.Context, where string, arg string) ([]model.Link, error) {
	var rows []linkRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+linkColumns+` FROM link WHERE `+where+` = ? ORDER BY target, name`,
		arg); err != nil {
		return nil, err
	}
	out := make([]model.Link, len(rows))
	for i, r := range rows {
		out[i] = model.Link(r)
	}
	return out, nil
}

// LinksOn returns whose the accounts of a target are.
func (s *Store) LinksOn(ctx context.Context, target string) ([]model.Link, error) {
	return s.links(ctx, "target", target)
}

// LinksBeside returns those whose account is not called as its user is; most are.
func (s *Store) LinksBeside(ctx context.Context, target string) ([]model.Link, error) {
	var rows []linkRow
	err := s.db.SelectContext(ctx, &rows, `SELECT `+linkColumns+` FROM link FORCE INDEX (by_name) WHERE target = ? AND name <> user`, target)
	out := make([]model.Link, len(rows))
	for i, r := range rows {
		out[i] = model.Link(r)
	}
	return out, err
}

// LinksOf returns a user's accounts on all targets.
func (s *Store) LinksOf(ctx context.Context, user string) ([]model.Link, error) {
	return s.links(ctx, "user", user)
}

// PutLinks notes whose accounts on a target these are. What was known before of
// the same users, with the same rest of a name, goes into the past.
func (tx *Tx) PutLinks(ctx context.Context, target string, links []model.Link, round int64, at time.Time) error {
	for from, to := range groups(len(links), 500) {
		part := links[from:to]
		done, err := tx.loadNew(ctx, len(part), "link", "user, name, rest, uniq", func(t *tsv) { // mostly nothing was known of them
			for _, l := range part {
				t.line(l.User, l.Name, l.Rest, l.Unique)
			}
		}, "target = ?, round = ?, since = ?", target, round, at)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		args := []any{}
		for _, l := range part {
			args = append(args, target, l.User, l.Name, l.Rest, l.Unique, round, at)
		}
		insert := `INSERT INTO link (target, user, name, rest, uniq, round, since) VALUES ` + rows(len(part), 7)
		_, err = tx.ExecContext(ctx, insert, args...)
		if taken(err) {
			if err := tx.buryLinks(ctx, target, part, at); err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, insert+`
				ON DUPLICATE KEY UPDATE name = VALUES(name), uniq = VALUES(uniq), round = VALUES(round), since = VALUES(since)`, args...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// DropLinks forgets whose accounts on a target these are.
func (tx *Tx) DropLinks(ctx context.Context, target string, links []model.Link, at time.Time) error {
	if err := tx.buryLinks(ctx, target, links, at); err != nil {
		return err
	}
	return slots(links, func(rest string, users []any) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM link WHERE target = ? AND rest = ? AND user IN `+oneOf(len(users)),
			append([]any{target, rest}, users...)...)
		return err
	})
}

func (tx *Tx) buryLinks(ctx context.Context, target string, links []model.Link, at time.Time) error {
	return slots(links, func(rest string, users []any) error {
		_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO link_past (target, user, until, since, name, rest, uniq)
			SELECT target, user, ?, since, name, rest, uniq FROM link WHERE target = ? AND rest = ? AND user IN `+oneOf(len(users)),
			append([]any{at, target, rest}, users...)...)
		return err
	})
}

// slots calls do for the users of each rest: there are few, nearly always one.
// The database finds neither by pairs: it thinks about 250 of them for 0.2 s.
func slots(links []model.Link, do func(rest string, users []any) error) error {
	by := map[string][]any{}
	for _, l := range links {
		by[l.Rest] = append(by[l.Rest], l.User)
	}
	for _, rest := range slices.Sorted(maps.Keys(by)) {
		if err := do(rest, by[rest]); err != nil {
			return err
		}
	}
	return nil
}

// LinksAt returns whose the accounts of a target were at a moment in the past.
func (s *Store) LinksAt(ctx context.Context, target string, at time.Time) ([]model.Link, error) {
	var rows []linkRow
	err := s.db.SelectContext(ctx, &rows, `SELECT `+linkColumns+` FROM link WHERE target = ? AND since <= ?
		UNION ALL SELECT `+linkColumns+` FROM link_past FORCE INDEX (PRIMARY) WHERE target = ? AND since <= ? AND until > ? ORDER BY name`, target, at, target,
		at, at)
	out := make([]model.Link, len(rows))
	for i, r := range rows {
		out[i] = model.Link(r)
	}
	return out, err
}
