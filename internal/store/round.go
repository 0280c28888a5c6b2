package store

import (
	"context"
	"strings"
	"time"
)

// Round is a set of steps, drafted, approved and run as one.
type Round struct {
	ID         int64      `db:"id"`
	State      string     `db:"state"`
	Because    string     `db:"because"`
	Revision   int        `db:"revision"`
	DraftedBy  string     `db:"drafted_by"`
	DraftedAt  time.Time  `db:"drafted_at"`
	ApprovedBy string     `db:"approved_by"`
	ApprovedAt *time.Time `db:"approved_at"`
	RunBy      string     `db:"run_by"`
	StartedAt  *time.Time `db:"started_at"`
	EndedAt    *time.Time `db:"ended_at"`
	Undoes     int64      `db:"undoes"`
	Bulk       bool       `db:"bulk"` // its steps were asked for, not found
	First      string     `db:"first"`
	Params     string     `db:"params"`
	NotBefore  *time.Time `db:"not_before"`
	InWindow   bool       `db:"in_window"`
	Due        bool       `db:"due"`
	StoppedBy  string     `db:"stopped_by"`
	Lost       string     `db:"lost"`  // of an undo: what it cannot bring back, a line each
	Guard      string     `db:"guard"` // why a guard stopped it
	People     int        `db:"people"`
	KeptUntil  *time.Time `db:"kept_until"` // what it changes against the declaration is accepted until this day
}

const roundColumns = `id, state, because, revision, drafted_by, drafted_at, approved_by, approved_at, run_by, started_at, ended_at,
	undoes, bulk, first, params, not_before, in_window, due, stopped_by, lost, guard, people, kept_until`

// Hold is why a round may not run until somebody else approves it.
type Hold struct {
	Round  int64  `db:"round"`
	Seq    int    `db:"seq"`
	Kind   string `db:"kind"`
	Target string `db:"target"`
	Words  string `db:"words"`
	Firm   bool   `db:"firm"`
	Steps  string `db:"steps"` // the numbers of the steps that are why, JSON; "" of early rounds: all of the target
}

// AddRound stores a drafted round with its steps and holds, and returns it with its number.
// acts say what it does where; their round is not needed.
func (tx *Tx) AddRound(ctx context.Context, r Round, steps []Step, holds []Hold, acts []RoundAct) (Round, error) {
	r.People = peopleOf(steps)
	res, err := tx.NamedExecContext(ctx, `INSERT INTO round (state, because, revision, drafted_by, drafted_at,
		undoes, bulk, first, params, lost, people, kept_until)
		VALUES (:state, :because, :revision, :drafted_by, :drafted_at, :undoes, :bulk, :first, :params, :lost, :people, :kept_until)`, r)
	if err != nil {
		return r, err
	}
	r.ID, err = res.LastInsertId()
	if err != nil {
		return r, err
	}
	if err := tx.insertSteps(ctx, r.ID, steps); err != nil {
		return r, err
	}
	for from, to := range groups(len(acts), 500) {
		args := make([]any, 0, 4*(to-from))
		for _, a := range acts[from:to] {
			args = append(args, r.ID, a.Target, a.What, a.N)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO round_act (round, target, what, n) VALUES `+rows(to-from, 4), args...); err != nil {
			return r, err
		}
	}
	counts := map[PhaseCount]int{}
	for _, s := range steps {
		counts[PhaseCount{Wave: s.Wave, Tier: s.Tier, Target: s.Act.Target, Outcome: s.Outcome}]++
	}
	if err := tx.addPhases(ctx, r.ID, byDrafting, counts); err != nil {
		return r, err
	}
	for i := range holds {
		holds[i].Round, holds[i].Seq, holds[i].Words = r.ID, i+1, clip(holds[i].Words, 2000)
	}
	for from, to := range groups(len(holds), 500) {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO hold (round, seq, kind, target, words, firm, steps)
				VALUES (:round, :seq, :kind, :target, :words, :firm, :steps)`, holds[from:to]); err != nil {
			return r, err
		}
	}
	return r, nil
}

// RoundAct is how many steps of one sort a round has on a target.
type RoundAct struct {
	Target string `db:"target"`
	What   string `db:"what"`
	N      int    `db:"n"`
}

// RoundActs returns what a round does where, by target.
func (s *Store) RoundActs(ctx context.Context, round int64) (out []RoundAct, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT target, what, n FROM round_act WHERE round = ? ORDER BY target, what`, round)
	return out, err
}

// Work is how much there is, for who watches from outside.
type Work struct {
	Rounds   map[string]int // by state
	Steps    map[string]int // of rounds that run, by outcome
	Findings map[string]int // by kind
	Targets  map[string]int // by state
	Entries  int            // of the record
}

// Work counts what there is, in what was counted before or is small: it is asked for often.
func (s *Store) Work(ctx context.Context) (w Work, err error) {
	for _, q := range []struct {
		into  *map[string]int
		query string
	}{
		{&w.Rounds, `SELECT state AS word, COUNT(*) AS n FROM round GROUP BY state`},
		{&w.Steps, `SELECT p.outcome AS word, CAST(SUM(p.n) AS SIGNED) AS n FROM round r JOIN phase p ON p.round = r.id
				WHERE r.ended_at IS NULL AND r.state = 'running' GROUP BY p.outcome HAVING n > 0`},
		{&w.Findings, `SELECT d.kind AS word, CAST(SUM(d.n) AS SIGNED) AS n FROM target t JOIN drift_day d ON d.day = t.compared_on
				AND d.target = t.name WHERE d.n > 0 GROUP BY d.kind`},
		{&w.Targets, `SELECT state AS word, COUNT(*) AS n FROM target GROUP BY state`},
	} {
		var rows []struct {
			Word string `db:"word"`
			N    int    `db:"n"`
		}
		if err := s.db.SelectContext(ctx, &rows, q.query); err != nil {
			return w, err
		}
		*q.into = map[string]int{}
		for _, r := range rows {
			(*q.into)[r.Word] = r.N
		}
	}
	err = s.db.GetContext(ctx, &w.Entries, `SELECT seq FROM record_head`)
	return w, err
}

// Holds returns why a round is or was held, in order.
func (s *Store) Holds(ctx context.Context, round int64) ([]Hold, error) {
	var out []Hold
	err := s.db.SelectContext(ctx, &out, `SELECT round, seq, kind, target, words, firm, steps FROM hold WHERE round = ? ORDER BY seq`,
		round)
	return out, err
}

// Round returns one round, or ErrNone.
func (s *Store) Round(ctx context.Context, id int64) (Round, error) {
	var r Round
	err := s.db.GetContext(ctx, &r, `SELECT `+roundColumns+` FROM round WHERE id = ?`, id)
	return r, err
}

// Rounds returns one page of rounds, newest first, of the given states or of all, and how many there are.
func (s *Store) Rounds(ctx context.Context, states []string, p Page) (out []Round, total int, err error) {
	where, args := "", []any{}
	if len(states) > 0 {
		where = ` WHERE state IN ` + oneOf(len(states))
		for _, st := range states {
			args = append(args, st)
		}
	}
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM round`+where, args...); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &out, `SELECT `+roundColumns+` FROM round`+where+` ORDER BY id DESC LIMIT ? OFFSET ?`,
		append(args, p.Size, p.From)...)
	return out, total, err
}

// MoveRound changes a round's state from one of the given ones, by an
// operator. It says whether the round was in one of them: of two who try, one succeeds.
func (tx *Tx) MoveRound(ctx context.Context, id int64, from []string, to, operator string, at time.Time) (bool, error) {
	set, args := ``, []any{to}
	switch to {
	case "approved":
		set, args = `, approved_by = ?, approved_at = ?`, append(args, operator, at)
	case "running":
		set, args = `, due = 0, run_by = ?, started_at = COALESCE(started_at, ?)`, append(args, operator, at)
	case "stopped":
		set, args = `, due = 0, stopped_by = ?`, append(args, operator)
	}
	args = append(args, id)
	for _, st := range from {
		args = append(args, st)
	}
	res, err := tx.ExecContext(ctx, `UPDATE round SET state = ?`+set+` WHERE id = ? AND state IN `+oneOf(len(from)), args...)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// EndRound closes a round whose steps have all ended. It says whether it was open until now.
func (tx *Tx) EndRound(ctx context.Context, id int64, state string, at time.Time) (bool, error) {
	res, err := tx.ExecContext(ctx, `UPDATE round SET state = ?, ended_at = ? WHERE id = ? AND ended_at IS NULL
			AND state IN ('running', 'stopped')`, state, at, id)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// DropSteps ends all steps of a round that nobody has begun, without trying them.
func (tx *Tx) DropSteps(ctx context.Context, id int64, words string, at time.Time) (int64, error) {
	res, err := tx.ExecContext(ctx, `UPDATE step SET outcome = 'not-tried', words = ?, ended_at = ? WHERE round = ?
			AND outcome = 'waiting'`, clip(words, 2000), at, id)
	if err != nil {
		return 0, err
	}
	n, err := res.RowsAffected()
	if err != nil || n == 0 {
		return n, err
	}
	return n, tx.turn(ctx, id, "waiting", "not-tried")
}

// Undone marks a round and those of its steps that another took back.
func (tx *Tx) Undone(ctx context.Context, id int64) error {
	if err := tx.turnPacked(ctx, id, "done", "undone"); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE step SET outcome = 'undone' WHERE round = ? AND outcome = 'done'`, id); err != nil {
		return err
	}
	if err := tx.turn(ctx, id, "done", "undone"); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE round SET state = 'undone' WHERE id = ?`, id)
	return err
}

// Schedule lets an approved round start by itself. It says whether the round was approved.
func (tx *Tx) Schedule(ctx context.Context, id int64, notBefore *time.Time, inWindow bool) (bool, error) {
	res, err := tx.ExecContext(ctx, `UPDATE round SET due = 1, not_before = ?, in_window = ? WHERE id = ? AND state = 'approved'`,
		notBefore, inWindow, id)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// DueRounds returns the approved rounds that wait for their time, and whose time has come.
func (s *Store) DueRounds(ctx context.Context, at time.Time) ([]Round, error) {
	var out []Round
	err := s.db.SelectContext(ctx, &out, `SELECT `+roundColumns+` FROM round WHERE due = 1 AND state = 'approved'
			AND (not_before IS NULL OR not_before <= ?) ORDER BY id`, at)
	return out, err
}

// UnfinishedRounds returns the rounds that have steps to be carried on with, the oldest first.
func (s *Store) UnfinishedRounds(ctx context.Context) ([]Round, error) {
	var out []Round
	err := s.db.SelectContext(ctx, &out, `SELECT `+roundColumns+` FROM round WHERE ended_at IS NULL AND state IN ('running', 'stopped')
			ORDER BY id LIMIT 100`)
	return out, err
}

// BusyTargets are those on which rounds that run have steps that have not ended.
func (s *Store) BusyTargets(ctx context.Context) (map[string]bool, error) {
	var names []string
	err := s.db.SelectContext(ctx, &names, `SELECT p.target FROM round r JOIN phase p ON p.round = r.id WHERE r.ended_at IS NULL
		AND r.state IN ('running', 'stopped') AND p.outcome IN ('waiting', 'running') GROUP BY p.target, r.id HAVING SUM(p.n) > 0`)
	out := make(map[string]bool, len(names))
	for _, n := range names {
		out[n] = true
	}
	return out, err
}

// WaitingRound returns the oldest round drafted by an operator that has steps on
// a target and is not over, or ErrNone.
func (s *Store) WaitingRound(ctx context.Context, target, operator string) (Round, error) {
	var r Round
	err := s.db.GetContext(ctx, &r, `SELECT `+roundColumns+` FROM round WHERE ended_at IS NULL
			AND state IN ('draft', 'held', 'approved', 'running') AND drafted_by = ?
		AND EXISTS (SELECT 1 FROM phase WHERE phase.round = round.id AND phase.target = ?) ORDER BY id LIMIT 1`, operator,
		target)
	return r, err
}

// StepCount is how many steps of a round on a target ended in an outcome.
type StepCount struct {
	Target  string `db:"target"`
	Outcome string `db:"outcome"`
	N       int    `db:"n"`
}

// CountSteps counts a round's steps by target and outcome.
func (s *Store) CountSteps(ctx context.Context, round int64) ([]StepCount, error) {
	var out []StepCount
	err := s.db.SelectContext(ctx, &out, `SELECT target, outcome, CAST(SUM(n) AS SIGNED) AS n FROM phase WHERE round = ?
			GROUP BY target, outcome HAVING n > 0 ORDER BY target`, round)
	return out, err
}

// Holder is who has a lease on what.
type Holder struct{ What, Owner string }

// HoldsLease says whether the lease of a holder still runs.
func (s *Store) HoldsLease(ctx context.Context, h Holder) (bool, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM lease WHERE what = ? AND owner = ? AND until >= NOW(6)`, h.What, h.Owner)
	return n > 0, err
}

// ClosedOn counts the steps of a round on a target that shut accounts, and those that remove them.
func (s *Store) ClosedOn(ctx context.Context, round int64, target string) (disables, removals int, err error) {
	var row struct {
		Disables int `db:"disables"`
		Removals int `db:"removals"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT CAST(COALESCE(SUM(verb = 'disable'), 0) AS SIGNED) AS disables,
		CAST(COALESCE(SUM(verb = 'remove' AND object = 'account'), 0) AS SIGNED) AS removals
		FROM step WHERE round = ? AND target = ?`, round, target)
	return row.Disables, row.Removals, err
}

// StopByGuard notes why a guard stopped a running round. It says whether the round was running.
func (tx *Tx) StopByGuard(ctx context.Context, id int64, operator, words string) (bool, error) {
	res, err := tx.ExecContext(ctx, `UPDATE round SET state = 'stopped', due = 0, stopped_by = ?, guard = ? WHERE id = ?
			AND state = 'running'`, operator, clip(words, 2000), id)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// clip keeps a text within a column, at a letter's end.
func clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n-3], "") + "…"
}

// peopleOf is how many users steps concern.
func peopleOf(steps []Step) int {
	people := map[string]bool{}
	for _, s := range steps {
		if s.Act.User != "" {
			people[s.Act.User] = true
		}
	}
	return len(people)
}
