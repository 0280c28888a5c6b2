package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

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
}

const roundColumns = `id, state, because, revision, drafted_by, drafted_at, approved_by, approved_at, run_by, started_at, ended_at,
	undoes, bulk, first, params, not_before, in_window, due, stopped_by, lost, guard, people`

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

// Step is one step of a round and what became of it.
type Step struct {
	Round     int64
	Seq       int
	Wave      int
	Tier      int
	Stage     int
	Act       model.Act
	Outcome   string
	Words     string
	Tries     int
	Trial     string     // the token of the trial on which the target took it last
	TrialEnds *time.Time // when it goes back by itself
	StartedAt *time.Time
	EndedAt   *time.Time
}

type stepRow struct {
	Round     int64      `db:"round"`
	Seq       int        `db:"seq"`
	Target    string     `db:"target"`
	Wave      int        `db:"wave"`
	Tier      int        `db:"tier"`
	Stage     int        `db:"stage"`
	Verb      string     `db:"verb"`
	User      string     `db:"user"`
	Body      []byte     `db:"body"`
	Outcome   string     `db:"outcome"`
	Words     string     `db:"words"`
	Tries     int        `db:"tries"`
	Trial     string     `db:"trial_token"`
	TrialEnds *time.Time `db:"trial_until"`
	StartedAt *time.Time `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
}

// AddRound stores a drafted round with its steps and holds, and returns it with its number.
func (tx *Tx) AddRound(ctx context.Context, r Round, steps []Step, holds []Hold) (Round, error) {
	r.People = peopleOf(steps)
	res, err := tx.NamedExecContext(ctx, `INSERT INTO round (state, because, revision, drafted_by, drafted_at,
		undoes, bulk, first, params, lost, people)
		VALUES (:state, :because, :revision, :drafted_by, :drafted_at, :undoes, :bulk, :first, :params, :lost, :people)`, r)
	if err != nil {
		return r, err
	}
	r.ID, err = res.LastInsertId()
	if err != nil {
		return r, err
	}
	bodies := make([][]byte, len(steps))
	for i := range steps {
		if bodies[i], err = json.Marshal(steps[i].Act); err != nil {
			return r, err
		}
	}
	for from, to := range portions(len(steps), 500, func(i int) int { return len(bodies[i]) }) {
		args := make([]any, 0, 14*(to-from))
		for i, s := range steps[from:to] {
			body := bodies[from+i]
			args = append(args, r.ID, from+i+1, s.Act.Target, s.Wave, s.Tier, s.Stage, string(s.Act.Verb), s.Act.Object.String(),
				s.Act.User, body, s.Outcome, "", never, never)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO step (round, seq, target, wave, tier, stage, verb, object, user, body, outcome, words,
			started_at, ended_at) VALUES `+rows(to-from, 14), args...); err != nil {
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

// TargetSteps returns the steps of a round on one target, of one wave and tier,
// that have not ended, in order: what is needed to carry them out. Words and
// times they come without.
func (s *Store) TargetSteps(ctx context.Context, round int64, target string, wave, tier int) ([]Step, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT seq, stage, outcome, tries, trial_token, trial_until, body FROM step
		WHERE round = ? AND target = ? AND wave = ? AND tier = ? AND outcome IN ('waiting', 'running') ORDER BY seq`,
		round, target, wave, tier)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all unpacking
	for rows.Next() {
		st := Step{Round: round, Wave: wave, Tier: tier}
		var body []byte
		if err := rows.Scan(&st.Seq, &st.Stage, &st.Outcome, &st.Tries, &st.Trial, &st.TrialEnds, &body); err != nil {
			return nil, err
		}
		all.add(st, body)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return all.steps()
}

// unpacking unpacks the acts of many steps on all processors, while others are read.
type unpacking struct {
	parts  [][]Step
	bodies [][]byte // of the last part
	group  errgroup.Group
}

const unpackedAtOnce = 500

func (u *unpacking) add(st Step, body []byte) {
	if len(u.bodies) == 0 {
		u.parts = append(u.parts, make([]Step, 0, unpackedAtOnce))
	}
	last := len(u.parts) - 1
	u.parts[last], u.bodies = append(u.parts[last], st), append(u.bodies, body)
	if len(u.bodies) == unpackedAtOnce {
		u.flush()
	}
}

func (u *unpacking) flush() {
	if len(u.bodies) == 0 {
		return
	}
	part, bodies := u.parts[len(u.parts)-1], u.bodies
	u.bodies = nil
	u.group.Go(func() error {
		for i, body := range bodies {
			if err := json.Unmarshal(body, &part[i].Act); err != nil {
				return fmt.Errorf("step %d of round %d: %w", part[i].Seq, part[i].Round, err)
			}
		}
		return nil
	})
}

// steps returns all that were added.
func (u *unpacking) steps() ([]Step, error) {
	u.flush()
	err := u.group.Wait()
	return slices.Concat(u.parts...), err
}

const stepColumns = `round, seq, target, wave, tier, stage, verb, user, body, outcome,
	words, tries, trial_token, trial_until, NULLIF(started_at, '` + never + `') AS started_at, NULLIF(ended_at, '` + never +
	`') AS ended_at`

// never keeps the room of a time that is set later: a row that grows may not
// find room where it stands, and is written twice.
const never = "1970-01-02 00:00:00"

func stepsOf(rows []stepRow) ([]Step, error) {
	var all unpacking
	for _, r := range rows {
		all.add(Step{Round: r.Round, Seq: r.Seq, Wave: r.Wave, Tier: r.Tier, Stage: r.Stage, Outcome: r.Outcome, Words: r.Words,
			Tries: r.Tries, Trial: r.Trial, TrialEnds: r.TrialEnds, StartedAt: r.StartedAt, EndedAt: r.EndedAt}, r.Body)
	}
	return all.steps()
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
	if err := s.db.GetContext(ctx, &total, `SELECT CAST(COALESCE(SUM(n), 0) AS SIGNED) FROM phase`+where, args...); err != nil {
		return nil, 0, err
	}
	if p.From >= total {
		return nil, total, nil
	}
	var rows []stepRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+stepColumns+` FROM step`+where+` ORDER BY seq LIMIT ? OFFSET ?`,
		append(args, p.Size, p.From)...); err != nil {
		return nil, 0, err
	}
	out, err = stepsOf(rows)
	return out, total, err
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

// BeginSteps journals that steps are about to be tried, in one statement, if
// the lease of who asks still runs. Steps of a round that was stopped are not
// begun, but for those that had begun before. It returns how many now run. All
// are of one phase and target, and mostly all of them wait.
func (s *Store) BeginSteps(ctx context.Context, round int64, h Holder, seqs []int, at time.Time) (n int64, err error) {
	const begin = `UPDATE step SET outcome = 'running', tries = tries + 1, started_at = ?
		WHERE round = ? AND EXISTS (SELECT 1 FROM lease WHERE what = ? AND owner = ? AND until >= NOW(6))`
	const inTime = ` AND outcome = 'waiting' AND (SELECT state FROM round WHERE id = ?) = 'running' AND seq IN `
	err = s.Tx(ctx, func(tx *Tx) (err error) {
		n, err = tx.markSteps(ctx, seqs, begin+inTime, at, round, h.What, h.Owner, round)
		if err == nil && int(n) < len(seqs) {
			return &Refusal{Err: errBegun}
		}
		if err != nil {
			return err
		}
		return tx.began(ctx, round, seqs[0], int(n))
	})
	if !errors.Is(err, errBegun) {
		return n, err
	}
	err = s.Tx(ctx, func(tx *Tx) error {
		again, err := tx.markSteps(ctx, seqs, begin+` AND outcome = 'running' AND seq IN `, at, round, h.What, h.Owner)
		if err != nil {
			return err
		}
		fresh, err := tx.markSteps(ctx, seqs, begin+inTime, at, round, h.What, h.Owner, round)
		if n = again + fresh; err != nil || fresh == 0 {
			return err
		}
		return tx.began(ctx, round, seqs[0], int(fresh))
	})
	return n, err
}

// errBegun says that not all of some steps waited: the others had begun before, or may not.
var errBegun = errors.New("some of these steps do not wait")

// began counts steps of the phase and target of one among those that run.
func (tx *Tx) began(ctx context.Context, round int64, one, n int) error {
	return tx.shift(ctx, round, one, byBeginning, map[string]int{"waiting": -n, "running": n})
}

// TrialSteps journals that a target is about to take steps that have begun on
// trial, if the lease of who asks still runs. It returns how many it journalled.
func (s *Store) TrialSteps(ctx context.Context, round int64, h Holder, seqs []int, token string, until time.Time) (n int64, err error) {
	err = s.Tx(ctx, func(tx *Tx) (err error) {
		n, err = tx.markSteps(ctx, seqs, `UPDATE step SET trial_token = ?, trial_until = ?
			WHERE round = ? AND EXISTS (SELECT 1 FROM lease WHERE what = ? AND owner = ? AND until >= NOW(6)) AND outcome = 'running'
			AND seq IN `, token, until, round, h.What, h.Owner)
		return err
	})
	return n, err
}

// markSteps runs a statement for steps, by their numbers.
func (tx *Tx) markSteps(ctx context.Context, seqs []int, statement string, args ...any) (total int64, err error) {
	for from, to := range groups(len(seqs), 5000) {
		all := slices.Clone(args)
		for _, q := range seqs[from:to] {
			all = append(all, q)
		}
		res, err := tx.ExecContext(ctx, statement+oneOf(to-from), all...)
		if err != nil {
			return total, err
		}
		n, err := res.RowsAffected()
		if err != nil {
			return total, err
		}
		total += n
	}
	return total, nil
}

// Trial is a change that a target holds, or may hold, until it is confirmed or a time is over.
type Trial struct {
	Token string    `db:"trial_token"`
	Until time.Time `db:"trial_until"`
}

// TrialsOn returns the trials on a target of which nobody knows yet how they ended.
func (s *Store) TrialsOn(ctx context.Context, target string) (out []Trial, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT DISTINCT s.trial_token, s.trial_until FROM round r JOIN step s ON s.round = r.id
		WHERE r.ended_at IS NULL AND r.state IN ('running', 'stopped') AND s.target = ? AND s.outcome = 'running'
			AND s.trial_token <> ''
			AND (SELECT SUM(n) FROM phase p WHERE p.round = r.id AND p.target = ? AND p.outcome = 'running') > 0`, target, target)
	return out, err
}

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

// StillRunning returns which of the steps have begun and not ended, and keeps
// others from ending them.
func (tx *Tx) StillRunning(ctx context.Context, round int64, seqs []int) (map[int]bool, error) {
	out := map[int]bool{}
	for from, to := range groups(len(seqs), 500) {
		args := []any{round}
		for _, q := range seqs[from:to] {
			args = append(args, q)
		}
		var open []int
		if err := tx.SelectContext(ctx, &open, `SELECT seq FROM step WHERE round = ? AND outcome = 'running'
			AND seq IN `+oneOf(to-from)+` FOR UPDATE`, args...); err != nil {
			return nil, err
		}
		for _, q := range open {
			out[q] = true
		}
	}
	return out, nil
}

// EndSteps stores outcomes of steps that run, all of one phase and target: a
// statement for each outcome and words, which nearly all of a batch share. It
// returns how many ran until now.
func (tx *Tx) EndSteps(ctx context.Context, round int64, steps []Step, at time.Time) (total int64, err error) {
	if len(steps) == 0 {
		return 0, nil
	}
	type end struct{ outcome, words string }
	by := map[end][]int{}
	var order []end
	for _, st := range steps {
		e := end{st.Outcome, clip(st.Words, 2000)}
		if by[e] == nil {
			order = append(order, e)
		}
		by[e] = append(by[e], st.Seq)
	}
	more := map[string]int{}
	for _, e := range order {
		n, err := tx.markSteps(ctx, by[e], `UPDATE step SET outcome = ?, words = ?, ended_at = ? WHERE round = ?
			AND outcome = 'running' AND seq IN `, e.outcome, e.words, at, round)
		if total += n; err != nil {
			return total, err
		}
		more[e.outcome] += int(n)
		more["running"] -= int(n)
	}
	return total, tx.shift(ctx, round, steps[0].Seq, byEnding, more)
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
