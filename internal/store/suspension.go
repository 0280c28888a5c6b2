package store

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
)

// Suspension is that a person was cut off: by whom, why, and how it ended.
type Suspension struct {
	ID           int64      `db:"id"`
	User         string     `db:"user"`
	Active       bool       `db:"active"`
	Operator     string     `db:"operator"`
	Because      string     `db:"because"`
	Security     bool       `db:"security"`      // its end needs two persons
	Last         bool       `db:"although_last"` // the last administrator of a target is shut too
	At           time.Time  `db:"at"`
	Revision     int        `db:"revision"`   // of the declaration that says so; 0: not yet
	Undeclared   string     `db:"undeclared"` // why not
	AskedBy      string     `db:"asked_by"`   // who wants it to end, where that needs two
	EndedBy      string     `db:"ended_by"`
	EndedBecause string     `db:"ended_because"`
	EndedAt      *time.Time `db:"ended_at"`
	Round        int64      `db:"round"` // that opened the accounts again
}

const suspensionColumns = `id, user, COALESCE(active, 0) AS active, operator, because, security, although_last, at, revision, undeclared, asked_by,
	ended_by, ended_because, ended_at, round`

// SuspendedAccount is an account of somebody who was cut off, and what became of it.
type SuspendedAccount struct {
	Suspension int64      `db:"suspension"`
	Target     string     `db:"target"`
	Name       string     `db:"name"`
	User       string     `db:"user"`
	State      string     `db:"state"`
	Guessed    bool       `db:"guessed"`   // it is declared to be theirs, and nobody has seen that it is
	Begun      bool       `db:"begun"`     // it was tried, or was about to be: who ends in between may have shut it
	Before     string     `db:"before_it"` // "shut": it was so before
	Proof      string     `db:"proof"`
	Words      string     `db:"words"`
	Sessions   int        `db:"sessions"` // that were ended
	Tries      int        `db:"tries"`
	TriedAt    *time.Time `db:"tried_at"`
	DueAt      *time.Time `db:"due_at"` // nil: it is not tried again
	EndedAt    *time.Time `db:"ended_at"`
}

const suspendedColumns = `suspension, target, name, user, state, guessed, begun, before_it, proof, words, sessions, tries, tried_at, due_at, ended_at`

// AddSuspension stores a suspension and returns its number; false with that of the
// one under way, when the user is suspended already.
func (tx *Tx) AddSuspension(ctx context.Context, s Suspension) (id int64, fresh bool, err error) {
	if err := tx.GetContext(ctx, &id, `SELECT id FROM suspension WHERE user = ? AND active = 1 FOR UPDATE`, s.User); err != ErrNone {
		if err == nil && s.Last {
			_, err = tx.ExecContext(ctx, `UPDATE suspension SET although_last = 1 WHERE id = ?`, id)
		}
		return id, false, err
	}
	res, err := tx.ExecContext(ctx, `INSERT INTO suspension (user, operator, because, security, although_last, at)
		VALUES (?, ?, ?, ?, ?, ?)`, s.User, s.Operator, s.Because, s.Security, s.Last, s.At)
	if err != nil {
		return 0, false, err
	}
	id, err = res.LastInsertId()
	return id, true, err
}

// AddSuspendedAccounts notes accounts that are to be shut, at once. Those that are noted already stay as they are.
func (tx *Tx) AddSuspendedAccounts(ctx context.Context, list []SuspendedAccount, at time.Time) error {
	for from, to := range groups(len(list), 500) {
		args := make([]any, 0, 7*(to-from))
		for _, a := range list[from:to] {
			args = append(args, a.Suspension, a.Target, a.Name, a.User, a.State, a.Guessed, at)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO suspended_account (suspension, target, name, user, state, guessed, due_at)
			VALUES `+rows(to-from, 7)+` ON DUPLICATE KEY UPDATE user = user`, args...); err != nil {
			return err
		}
	}
	return nil
}

// TryAgain has the accounts of a suspension that are not shut yet tried at once.
func (tx *Tx) TryAgain(ctx context.Context, id int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `UPDATE suspended_account SET due_at = ?,
		state = IF(state IN ('still open', 'not there', 'not touched'), 'waiting', state) WHERE suspension = ? AND state <> 'shut'`, at, id)
	return err
}

// NotTouched is the state of an account that a guard keeps open.
const NotTouched = "not touched"

// LookAgain has accounts on a target tried at once that a guard kept open, of suspensions in force.
func (s *Store) LookAgain(ctx context.Context, target string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE suspended_account a JOIN suspension s ON s.id = a.suspension SET a.due_at = ?
		WHERE a.target = ? AND a.state = ? AND a.due_at IS NULL AND s.active = 1`, at, target, NotTouched)
	return err
}

// SuspensionOf returns a user's suspension that is in force, or ErrNone.
func (s *Store) SuspensionOf(ctx context.Context, user string) (out Suspension, err error) {
	err = s.db.GetContext(ctx, &out, `SELECT `+suspensionColumns+` FROM suspension WHERE user = ? AND active = 1`, user)
	return out, err
}

// LockSuspension returns a suspension and keeps others from ending it until the transaction does.
func (tx *Tx) LockSuspension(ctx context.Context, id int64) (out Suspension, err error) {
	err = tx.GetContext(ctx, &out, `SELECT `+suspensionColumns+` FROM suspension WHERE id = ? FOR UPDATE`, id)
	return out, err
}

// Suspension returns one by its number, or ErrNone.
func (s *Store) Suspension(ctx context.Context, id int64) (out Suspension, err error) {
	err = s.db.GetContext(ctx, &out, `SELECT `+suspensionColumns+` FROM suspension WHERE id = ?`, id)
	return out, err
}

// SuspensionFilter chooses suspensions; zero fields choose all.
type SuspensionFilter struct {
	User   string
	Active bool  // only those in force
	Before int64 // only those with a smaller number
}

// Suspensions returns the chosen ones, the newest first, at most so many.
func (s *Store) Suspensions(ctx context.Context, f SuspensionFilter, most int) (out []Suspension, err error) {
	var c clause
	if f.User != "" {
		c.and("user = ?", f.User)
	}
	if f.Active {
		c.and("active = 1")
	}
	if f.Before > 0 {
		c.and("id < ?", f.Before)
	}
	err = s.db.SelectContext(ctx, &out, `SELECT `+suspensionColumns+` FROM suspension`+c.where()+` ORDER BY id DESC LIMIT ?`,
		append(c.args, most)...)
	return out, err
}

// SuspendedAccounts returns the accounts of some suspensions, by suspension, target and name.
func (s *Store) SuspendedAccounts(ctx context.Context, ids []int64) (out []SuspendedAccount, err error) {
	for from, to := range groups(len(ids), 500) {
		args := make([]any, to-from)
		for i, id := range ids[from:to] {
			args[i] = id
		}
		var some []SuspendedAccount
		if err := s.db.SelectContext(ctx, &some, `SELECT `+suspendedColumns+` FROM suspended_account WHERE suspension IN `+oneOf(len(args))+`
			ORDER BY suspension, target, name`, args...); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

const due = ` FROM suspended_account a WHERE due_at IS NOT NULL
		AND (due_at <= ? OR EXISTS (SELECT 1 FROM target t WHERE t.name = a.target AND t.surveyed_at > a.tried_at))`

// DueTargets returns the targets with accounts whose time to be tried has come. Of
// a target that gave a sign of life since it was tried it has come.
func (s *Store) DueTargets(ctx context.Context, at time.Time) (out []string, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT DISTINCT a.target`+due+` ORDER BY a.target`, at)
	return out, err
}

// DueSuspended returns those accounts on one target, at most so many.
func (s *Store) DueSuspended(ctx context.Context, target string, at time.Time, most int) (out []SuspendedAccount, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+suspendedColumns+due+` AND a.target = ? ORDER BY due_at LIMIT ?`, at, target, most)
	return out, err
}

// BeginSuspended journals that accounts are about to be shut.
func (s *Store) BeginSuspended(ctx context.Context, list []SuspendedAccount) error {
	return s.Tx(ctx, func(tx *Tx) error {
		for _, a := range list {
			if _, err := tx.ExecContext(ctx, `UPDATE suspended_account SET begun = 1 WHERE suspension = ? AND target = ? AND name = ?`,
				a.Suspension, a.Target, a.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// EndSuspended stores what became of an account. One of a suspension that has ended is not tried again.
func (tx *Tx) EndSuspended(ctx context.Context, a SuspendedAccount) error {
	_, err := tx.ExecContext(ctx, `UPDATE suspended_account a JOIN suspension s ON s.id = a.suspension SET a.state = ?, a.before_it = ?,
		a.proof = ?, a.words = ?, a.sessions = a.sessions + ?, a.tries = a.tries + 1, a.tried_at = ?, a.due_at = IF(s.active = 1, ?, NULL),
		a.ended_at = ? WHERE a.suspension = ? AND a.target = ? AND a.name = ?`, a.State, a.Before, a.Proof, clip(a.Words, 1000), a.Sessions,
		a.TriedAt, a.DueAt, a.EndedAt, a.Suspension, a.Target, a.Name)
	return err
}

// SuspendedAmong returns which of some users are suspended now.
func (s *Store) SuspendedAmong(ctx context.Context, users []string) (map[string]bool, error) {
	out := map[string]bool{}
	for from, to := range groups(len(users), 500) {
		var some []string
		if err := s.db.SelectContext(ctx, &some, `SELECT user FROM suspension WHERE active = 1 AND user IN `+oneOf(to-from),
			texts(users[from:to])...); err != nil {
			return nil, err
		}
		for _, u := range some {
			out[u] = true
		}
	}
	return out, nil
}

// UndeclaredSuspensions returns those in force that no revision says yet, at most
// so many: when each of their accounts was tried, or they are older than a moment.
func (s *Store) UndeclaredSuspensions(ctx context.Context, olderThan time.Time, most int) (out []Suspension, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+suspensionColumns+` FROM suspension s WHERE active = 1 AND revision = 0 AND undeclared = ''
		AND (at < ? OR NOT EXISTS (SELECT 1 FROM suspended_account a WHERE a.suspension = s.id AND a.state = 'waiting')) ORDER BY id LIMIT ?`,
		olderThan, most)
	return out, err
}

// SuspendedBefore returns the accounts that earlier suspensions of a user knew, without those that are somebody else's by now.
func (s *Store) SuspendedBefore(ctx context.Context, user string) (out []model.Link, err error) {
	var list []struct {
		Target string `db:"target"`
		Name   string `db:"name"`
	}
	err = s.db.SelectContext(ctx, &list, `SELECT DISTINCT a.target, a.name FROM suspension s JOIN suspended_account a ON a.suspension = s.id
		WHERE s.user = ? AND NOT EXISTS (SELECT 1 FROM link l WHERE l.target = a.target AND l.name = a.name AND l.user <> s.user)`, user)
	for _, x := range list {
		out = append(out, model.Link{Target: x.Target, Name: x.Name, User: user})
	}
	return out, err
}

// DeclareSuspensions notes the revision that says of some of them, or why none does.
func (s *Store) DeclareSuspensions(ctx context.Context, ids []int64, revision int, undeclared string) error {
	for _, id := range ids {
		if _, err := s.exec(ctx, `UPDATE suspension SET revision = ?, undeclared = ? WHERE id = ?`, revision, clip(undeclared, 1000),
			id); err != nil {
			return err
		}
	}
	return nil
}

// AskToRestore notes who wants a suspension to end.
func (tx *Tx) AskToRestore(ctx context.Context, id int64, operator string) error {
	_, err := tx.ExecContext(ctx, `UPDATE suspension SET asked_by = ? WHERE id = ? AND active = 1`, operator, id)
	return err
}

// EndSuspension ends one: nothing of it is tried any more.
func (tx *Tx) EndSuspension(ctx context.Context, id int64, operator, because string, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `UPDATE suspension SET active = NULL, ended_by = ?, ended_because = ?, ended_at = ? WHERE id = ?`,
		operator, because, at, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE suspended_account SET due_at = NULL WHERE suspension = ?`, id)
	return err
}

// RestoredBy notes the round that opens the accounts again.
func (s *Store) RestoredBy(ctx context.Context, id, round int64) error {
	_, err := s.exec(ctx, `UPDATE suspension SET round = ? WHERE id = ?`, round, id)
	return err
}

// SuspensionCount is how many people are suspended now, of them how many have accounts that are not shut, and some of those.
type SuspensionCount struct {
	People int
	Open   int
	Users  []string // who have accounts that are not shut, at most so many as were asked for
}

// CountSuspensions counts the suspensions in force. An account that was shut but not proved is none that is open.
func (s *Store) CountSuspensions(ctx context.Context, most int) (out SuspensionCount, err error) {
	if err := s.db.GetContext(ctx, &out.People, `SELECT COUNT(*) FROM suspension WHERE active = 1`); err != nil || out.People == 0 {
		return out, err
	}
	const open = ` FROM suspended_account a JOIN suspension s ON s.id = a.suspension WHERE s.active = 1 AND a.due_at IS NOT NULL`
	if err := s.db.GetContext(ctx, &out.Open, `SELECT COUNT(DISTINCT s.user)`+open); err != nil {
		return out, err
	}
	err = s.db.SelectContext(ctx, &out.Users, `SELECT DISTINCT s.user`+open+` ORDER BY s.user LIMIT ?`, most)
	return out, err
}
