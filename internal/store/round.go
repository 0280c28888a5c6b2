package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/model"
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
}

const roundColumns = `id, state, because, revision, drafted_by, drafted_at, approved_by, approved_at, run_by, started_at, ended_at`

// Step is one step of a round and what became of it.
type Step struct {
	Round     int64
	Seq       int
	Stage     int
	Act       model.Act
	Outcome   string
	Words     string
	Tries     int
	StartedAt *time.Time
	EndedAt   *time.Time
}

type stepRow struct {
	Round     int64      `db:"round"`
	Seq       int        `db:"seq"`
	Target    string     `db:"target"`
	Stage     int        `db:"stage"`
	Verb      string     `db:"verb"`
	User      string     `db:"user"`
	Body      []byte     `db:"body"`
	Outcome   string     `db:"outcome"`
	Words     string     `db:"words"`
	Tries     int        `db:"tries"`
	StartedAt *time.Time `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
}

// AddRound stores a drafted round with its steps and returns its number.
func (tx *Tx) AddRound(ctx context.Context, r Round, steps []Step) (int64, error) {
	res, err := tx.NamedExecContext(ctx, `INSERT INTO round (state, because, revision, drafted_by, drafted_at)
		VALUES (:state, :because, :revision, :drafted_by, :drafted_at)`, r)
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	for from, to := range groups(len(steps), 500) {
		rows := make([]stepRow, 0, to-from)
		for i, s := range steps[from:to] {
			body, err := json.Marshal(s.Act)
			if err != nil {
				return 0, err
			}
			rows = append(rows, stepRow{Round: id, Seq: from + i + 1, Target: s.Act.Target, Stage: s.Stage, Verb: string(s.Act.Verb), User: s.Act.User, Body: body, Outcome: s.Outcome})
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO step (round, seq, target, stage, verb, user, body, outcome, words)
			VALUES (:round, :seq, :target, :stage, :verb, :user, :body, :outcome, :words)`, rows); err != nil {
			return 0, err
		}
	}
	return id, nil
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
	err = s.db.SelectContext(ctx, &out, `SELECT `+roundColumns+` FROM round`+where+` ORDER BY id DESC LIMIT ? OFFSET ?`, append(args, p.Size, p.From)...)
	return out, total, err
}

// MoveRound changes a round's state from one of the given ones, by an
// operator. It says whether the round was in one of them: of two who try, one succeeds.
func (tx *Tx) MoveRound(ctx context.Context, id int64, from []string, to, operator string, at time.Time) (bool, error) {
	set := map[string]string{
		"approved": `, approved_by = ?, approved_at = ?`, "running": `, run_by = ?, started_at = COALESCE(started_at, ?)`,
	}[to]
	args := []any{to}
	if set != "" {
		args = append(args, operator, at)
	} else {
		set = `, ended_at = ?`
		args = append(args, at)
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

// Steps returns one page of a round's steps in order, and how many there are.
// Empty filters choose all.
func (s *Store) Steps(ctx context.Context, round int64, outcomes []string, p Page) (out []Step, total int, err error) {
	where, args := ` WHERE round = ?`, []any{round}
	if len(outcomes) > 0 {
		where += ` AND outcome IN ` + oneOf(len(outcomes))
		for _, o := range outcomes {
			args = append(args, o)
		}
	}
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM step`+where, args...); err != nil {
		return nil, 0, err
	}
	var rows []stepRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT round, seq, target, stage, verb, user, body, outcome, words, tries, started_at, ended_at
		FROM step`+where+` ORDER BY seq LIMIT ? OFFSET ?`, append(args, p.Size, p.From)...); err != nil {
		return nil, 0, err
	}
	for _, r := range rows {
		st := Step{Round: r.Round, Seq: r.Seq, Stage: r.Stage, Outcome: r.Outcome, Words: r.Words, Tries: r.Tries, StartedAt: r.StartedAt, EndedAt: r.EndedAt}
		if err := json.Unmarshal(r.Body, &st.Act); err != nil {
			return nil, 0, fmt.Errorf("step %d of round %d: %w", r.Seq, r.Round, err)
		}
		out = append(out, st)
	}
	return out, total, nil
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
	err := s.db.SelectContext(ctx, &out, `SELECT target, outcome, COUNT(*) AS n FROM step WHERE round = ? GROUP BY target, outcome ORDER BY target`, round)
	return out, err
}

// BeginSteps journals that steps are about to be tried. Those that have ended stay so.
func (s *Store) BeginSteps(ctx context.Context, round int64, seqs []int, at time.Time) error {
	for from, to := range groups(len(seqs), 500) {
		args := []any{at, round}
		for _, q := range seqs[from:to] {
			args = append(args, q)
		}
		if _, err := s.db.ExecContext(ctx, `UPDATE step SET outcome = 'running', tries = tries + 1, started_at = ?
			WHERE round = ? AND outcome IN ('waiting', 'running') AND seq IN `+oneOf(to-from), args...); err != nil {
			return err
		}
	}
	return nil
}

// StillRunning returns which of the steps have begun and not ended, and keeps
// others from ending them: an end that is told twice, because the first
// answer was lost, counts once.
func (tx *Tx) StillRunning(ctx context.Context, round int64, seqs []int) (map[int]bool, error) {
	out := map[int]bool{}
	for from, to := range groups(len(seqs), 500) {
		args := []any{round}
		for _, q := range seqs[from:to] {
			args = append(args, q)
		}
		var open []int
		if err := tx.SelectContext(ctx, &open, `SELECT seq FROM step WHERE round = ? AND outcome = 'running' AND seq IN `+oneOf(to-from)+` FOR UPDATE`, args...); err != nil {
			return nil, err
		}
		for _, q := range open {
			out[q] = true
		}
	}
	return out, nil
}

// EndSteps stores outcomes, many in one statement.
func (tx *Tx) EndSteps(ctx context.Context, round int64, steps []Step, at time.Time) error {
	for from, to := range groups(len(steps), 200) {
		var outcome, words strings.Builder
		var seqs []string
		args, more := []any{}, []any{}
		for _, st := range steps[from:to] {
			outcome.WriteString(" WHEN ? THEN ?")
			args = append(args, st.Seq, st.Outcome)
			words.WriteString(" WHEN ? THEN ?")
			more = append(more, st.Seq, clip(st.Words, 2000))
			seqs = append(seqs, "?")
		}
		args = append(args, more...)
		args = append(args, at, round)
		for _, st := range steps[from:to] {
			args = append(args, st.Seq)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE step SET outcome = CASE seq`+outcome.String()+` END, words = CASE seq`+words.String()+` END, ended_at = ?
			WHERE round = ? AND seq IN (`+strings.Join(seqs, ", ")+`)`, args...); err != nil {
			return err
		}
	}
	return nil
}

// clip keeps a text within a column, at a letter's end.
func clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n-3], "") + "…"
}

// CountPeople counts the users a round's steps concern.
func (s *Store) CountPeople(ctx context.Context, round int64) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(DISTINCT user) FROM step WHERE round = ? AND user <> ''`, round)
	return n, err
}
