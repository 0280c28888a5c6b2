package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"hen-roost/internal/core/guard"
)

// Guarded returns what was approved of guarded settings, and what waits, as of a revision.
func (s *Store) Guarded(ctx context.Context, revision int) (map[guard.Thing]guard.State, error) {
	var rows []struct {
		Thing string `db:"thing"`
		Body  []byte `db:"body"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT g.thing, g.body FROM guarded g
		JOIN (SELECT thing, MAX(revision) AS revision FROM guarded WHERE revision <= ? GROUP BY thing) newest
		ON newest.thing = g.thing AND newest.revision = g.revision`, revision)
	if err != nil {
		return nil, err
	}
	out := make(map[guard.Thing]guard.State, len(rows))
	for _, r := range rows {
		var st guard.State
		if err := json.Unmarshal(r.Body, &st); err != nil {
			return nil, fmt.Errorf("guarded settings of %s: %w", r.Thing, err)
		}
		out[guard.ThingOf(r.Thing)] = st
	}
	return out, nil
}

// PutGuarded stores what is approved of some things, and what waits, as of a revision.
func (tx *Tx) PutGuarded(ctx context.Context, revision int, states map[guard.Thing]guard.State) error {
	var args []any
	flush := func() error {
		if len(args) == 0 {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO guarded (thing, revision, body) VALUES `+rows(len(args)/3, 3)+
			` ON DUPLICATE KEY UPDATE body = VALUES(body)`, args...)
		args = nil
		return err
	}
	for t, st := range states {
		body, err := json.Marshal(st)
		if err != nil {
			return err
		}
		if args = append(args, t.String(), revision, body); len(args) >= 1500 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// AnyGuarded says whether anything was stored of guarded settings.
func (s *Store) AnyGuarded(ctx context.Context) (some bool, err error) {
	err = s.db.GetContext(ctx, &some, `SELECT EXISTS (SELECT 1 FROM guarded)`)
	return some, err
}

// PutPlaces notes for which places keys were accepted, and which were surveyed, where that was before places were noted; by target.
func (tx *Tx) PutPlaces(ctx context.Context, places map[string]string) error {
	for target, place := range places {
		if _, err := tx.ExecContext(ctx, `UPDATE target SET accepted_for = IF(accepted <> '' AND accepted_for = '', ?, accepted_for),
			surveyed_for = IF(surveyed_for = '', ?, surveyed_for) WHERE name = ?`, place, place, target); err != nil {
			return err
		}
	}
	return nil
}

// Parted is an operator who was removed, or from whom duties were taken.
type Parted struct {
	Name   string    `db:"name"`
	Duties string    `db:"duties"` // that they had and have no more
	MadeAt time.Time `db:"made_at"`
	At     time.Time `db:"at"`
}

// PutParted notes one.
func (tx *Tx) PutParted(ctx context.Context, p Parted) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO operator_parted (name, duties, made_at, at) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE duties = VALUES(duties)`, p.Name, p.Duties, p.MadeAt, p.At)
	return err
}

// PartedSince lists those since a moment.
func (s *Store) PartedSince(ctx context.Context, at time.Time) (out []Parted, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT name, duties, made_at, at FROM operator_parted WHERE at > ? ORDER BY at LIMIT 1000`, at)
	return out, err
}
