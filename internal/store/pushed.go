package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Pushed is a person as another system has pushed them in.
type Pushed struct {
	Source  string    `db:"source"`
	ID      string    `db:"id"`
	Name    string    `db:"name"` // what they are called there, in lower case: one of a source has it
	Version int       `db:"version"`
	Gone    bool      `db:"gone"` // taken away there
	Made    time.Time `db:"made"`
	At      time.Time `db:"at"`
	Body    []byte    `db:"body"`
}

const pushedColumns = `source, id, name, version, gone, made, at, body`

// ErrTaken says that another has the name.
var ErrTaken = errors.New("another has that name")

// AddPushed adds somebody new; ErrTaken when the source has one of that name. One of that name who was taken away makes room.
func (s *Store) AddPushed(ctx context.Context, p Pushed) error {
	add := func() error {
		_, err := s.exec(ctx, `INSERT INTO pushed (`+pushedColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, p.Source, p.ID, p.Name, p.Version,
			p.Gone, p.Made, p.At, p.Body)
		return err
	}
	err := add()
	if !taken(err) {
		return err
	}
	res, err := s.exec(ctx, `DELETE FROM pushed WHERE source = ? AND name = ? AND gone = 1`, p.Source, p.Name)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrTaken)
	}
	if err = add(); taken(err) {
		return ErrTaken
	}
	return err
}

// PutPushed puts somebody in the place of their own version before; ErrNone when that is not the version any more.
func (s *Store) PutPushed(ctx context.Context, p Pushed) error {
	res, err := s.exec(ctx,
		`UPDATE pushed SET name = ?, version = version + 1, gone = ?, at = ?, body = ? WHERE source = ? AND id = ? AND version = ?`,
		p.Name, p.Gone, p.At, p.Body, p.Source, p.ID, p.Version)
	if taken(err) {
		return ErrTaken
	}
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNone)
	}
	return nil
}

// PushedOne returns one by its id, or ErrNone; who was taken away too.
func (s *Store) PushedOne(ctx context.Context, source, id string) (p Pushed, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT `+pushedColumns+` FROM pushed WHERE source = ? AND id = ?`, source, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return p, err
}

// PushedNamed returns those of some names, in lower case, that were not taken away.
func (s *Store) PushedNamed(ctx context.Context, source string, names []string) (out []Pushed, err error) {
	for from, to := range groups(len(names), observedGroup) {
		var rows []Pushed
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT `+pushedColumns+` FROM pushed WHERE source = ? AND gone = 0 AND name IN `+oneOf(to-from),
			append([]any{source}, texts(names[from:to])...)...); err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}

// EachPushed hands on all of a source, the oldest first, who was taken away too.
func (s *Store) EachPushed(ctx context.Context, source string, do func(Pushed) (goOn bool)) error {
	rows, err := s.db.QueryxContext(ctx, `SELECT `+pushedColumns+` FROM pushed WHERE source = ? ORDER BY made, id`, source)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var p Pushed
		if err := rows.StructScan(&p); err != nil {
			return err
		}
		if !do(p) {
			return nil
		}
	}
	return rows.Err()
}

// PushedSum is how many a source has pushed who are there, and when the last of its pushes was.
func (s *Store) PushedSum(ctx context.Context, source string) (n int, last *time.Time, err error) {
	row := s.db.QueryRowxContext(ctx, `SELECT COUNT(CASE WHEN gone = 0 THEN 1 END), MAX(at) FROM pushed WHERE source = ?`, source)
	err = row.Scan(&n, &last)
	return n, last, err
}

// Intakes returns the settings of all systems that push people in, by their names.
func (s *Store) Intakes(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Source   string `db:"source"`
		Settings string `db:"settings"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT source, settings FROM intake ORDER BY source`)
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Source] = r.Settings
	}
	return out, err
}

// PutIntake keeps the settings of one.
func (t *Tx) PutIntake(ctx context.Context, source, settings string) error {
	_, err := t.ExecContext(ctx, `INSERT INTO intake (source, settings) VALUES (?, ?) ON DUPLICATE KEY UPDATE settings = VALUES(settings)`,
		source, settings)
	return err
}

// GiveTo notes users whom a source has brought, or was given.
func (tx *Tx) GiveTo(ctx context.Context, source string, users []string) error {
	for from, to := range groups(len(users), 500) {
		args := make([]any, 0, 2*(to-from))
		for _, u := range users[from:to] {
			args = append(args, source, u)
		}
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO intake_person (source, user) VALUES `+rows(to-from, 2), args...); err != nil {
			return err
		}
	}
	return nil
}

// GivenTo says which of some users a source has brought, or was given.
func (s *Store) GivenTo(ctx context.Context, source string, users []string) (map[string]bool, error) {
	out := map[string]bool{}
	for from, to := range groups(len(users), 500) {
		args := []any{source}
		for _, u := range users[from:to] {
			args = append(args, u)
		}
		var list []string
		err := s.db.SelectContext(ctx, &list, `SELECT user FROM intake_person WHERE source = ? AND user IN `+oneOf(to-from), args...)
		if err != nil {
			return nil, err
		}
		for _, u := range list {
			out[u] = true
		}
	}
	return out, nil
}

// NoteLeft notes how many left by what a source said.
func (tx *Tx) NoteLeft(ctx context.Context, source string, at time.Time, n int) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO intake_left (source, at, n) VALUES (?, ?, ?)
		ON DUPLICATE KEY UPDATE n = n + VALUES(n)`, source, at, n)
	return err
}

// LeftSince is how many left by what a source said, since a moment.
func (s *Store) LeftSince(ctx context.Context, source string, at time.Time) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COALESCE(SUM(n), 0) FROM intake_left WHERE source = ? AND at > ?`, source, at)
	return n, err
}
