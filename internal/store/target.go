package store

import (
	"context"
	"time"
)

// Target is what is known of a target beside what is declared of it.
type Target struct {
	Name       string     `db:"name"`
	Accepted   string     `db:"accepted"`
	Offered    string     `db:"offered"`
	Print      string     `db:"print"`
	For        string     `db:"accepted_for"` // the place that the accepted key counts for, see seen.PlaceOf
	OfferedFor string     `db:"offered_for"`
	SeenAt     string     `db:"surveyed_for"` // the place that was surveyed last
	State      string     `db:"state"`
	Words      string     `db:"words"`
	TriedAt    *time.Time `db:"tried_at"`
	SurveyedAt *time.Time `db:"surveyed_at"`
	TookMS     int        `db:"took_ms"`
	Reconciled *time.Time `db:"reconciled_at"`
	Accounts   int        `db:"accounts"`
	Mark       string     `db:"mark"`     // from where a survey can go on; "" from nowhere
	MarkOf     string     `db:"mark_of"`  // a hash of what it was read by
	WholeAt    *time.Time `db:"whole_at"` // when everything was read last

	Compared    int        `db:"compared"`    // the revision its findings are of; 0: they may be stale
	ComparedOn  *time.Time `db:"compared_on"` // and the day
	Comparisons int64      `db:"comparisons"` // counts them
	SurveyDue   int        `db:"survey_due"`  // how often a survey was asked for since the last: what acts changed is not known whole
}

const targetColumns = `name, accepted, offered, print, state, words, tried_at, surveyed_at, took_ms,
	accounts, reconciled_at, mark, mark_of, whole_at, accepted_for, offered_for, surveyed_for`

// comparedColumns are only written by those who compare, and by those who ask for a survey.
const comparedColumns = `, compared, compared_on, comparisons, survey_due`

// DueSurvey notes that steps are about to change more on a target than what they name, so that it must be surveyed after them.
func (s *Store) DueSurvey(ctx context.Context, name string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE target SET survey_due = survey_due + 1 WHERE name = ?`, name)
	return err
}

// DoneSurvey notes that a survey was done which began when one was due so many times. again: one was asked for since.
func (s *Store) DoneSurvey(ctx context.Context, name string, due int) (again bool, err error) {
	if due > 0 {
		if _, err := s.db.ExecContext(ctx, `UPDATE target SET survey_due = 0 WHERE name = ? AND survey_due = ?`, name, due); err != nil {
			return false, err
		}
	}
	err = s.db.GetContext(ctx, &again, `SELECT COUNT(*) > 0 FROM target WHERE name = ? AND survey_due > 0`, name)
	return again, err
}

// Beside notes that a target was changed by somebody who does not hold its lease. If another holds it, a survey is due: what they
// read of the target may be older than the change.
func (tx *Tx) Beside(ctx context.Context, target string) error {
	if err := tx.Disturbed(ctx, target); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE target SET survey_due = survey_due + 1 WHERE name = ? AND EXISTS
		(SELECT 1 FROM lease WHERE what = ? AND until >= NOW(6))`, target, "target/"+target)
	return err
}

// SurveyedTargets are those that were surveyed, each with the place where it was.
func (s *Store) SurveyedTargets(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Name  string `db:"name"`
		Place string `db:"surveyed_for"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT name, surveyed_for FROM target WHERE surveyed_at IS NOT NULL`)
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Place
	}
	return out, err
}

// Targets returns what is known, by name.
func (s *Store) Targets(ctx context.Context) (map[string]Target, error) {
	var list []Target
	if err := s.db.SelectContext(ctx, &list, `SELECT `+targetColumns+comparedColumns+` FROM target`); err != nil {
		return nil, err
	}
	out := make(map[string]Target, len(list))
	for _, t := range list {
		out[t.Name] = t
	}
	return out, nil
}

// Target returns what is known of one target; a row that is not there yet reads as new.
func (s *Store) Target(ctx context.Context, name string) (Target, error) {
	t := Target{Name: name}
	err := s.db.GetContext(ctx, &t, `SELECT `+targetColumns+comparedColumns+` FROM target WHERE name = ?`, name)
	if err == ErrNone { // and t holds zero times by now, for which the row was to make room
		return Target{Name: name}, nil
	}
	return t, err
}

// CountAccounts notes how many accounts of people a target holds now.
func (tx *Tx) CountAccounts(ctx context.Context, name string, n int) error {
	_, err := tx.ExecContext(ctx, `UPDATE target SET accounts = ? WHERE name = ?`, n, name)
	return err
}

// PutTarget stores what is known of a target, whole.
func (tx *Tx) PutTarget(ctx context.Context, t Target) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO target (`+targetColumns+`)
		VALUES (:name, :accepted, :offered, :print, :state, :words,
			:tried_at, :surveyed_at, :took_ms, :accounts, :reconciled_at, :mark, :mark_of, :whole_at, :accepted_for, :offered_for,
			:surveyed_for)
		ON DUPLICATE KEY UPDATE accepted = VALUES(accepted), offered = VALUES(offered), print = VALUES(print), state = VALUES(state),
		words = VALUES(words), tried_at = VALUES(tried_at), surveyed_at = VALUES(surveyed_at), took_ms = VALUES(took_ms),
		accounts = VALUES(accounts), reconciled_at = VALUES(reconciled_at),
		mark = VALUES(mark), mark_of = VALUES(mark_of), whole_at = VALUES(whole_at),
		accepted_for = VALUES(accepted_for), offered_for = VALUES(offered_for), surveyed_for = VALUES(surveyed_for)`, t)
	return err
}

// NoteReconciled notes when a target was last reconciled by itself.
func (tx *Tx) NoteReconciled(ctx context.Context, name string, at time.Time) error {
	_, err := tx.ExecContext(ctx, `UPDATE target SET reconciled_at = ? WHERE name = ?`, at, name)
	return err
}
