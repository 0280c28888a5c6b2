package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sync/errgroup"

	"hen-roost/internal/core/model"
)

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

// StepFilter chooses steps of a round; empty fields choose all.
type StepFilter struct {
	Outcomes []string
	Target   string
	After    int // only those with a larger number
}

// Steps returns a round's steps in order, at most so many, and how many there are
// in all, whatever their number.
func (s *Store) Steps(ctx context.Context, round int64, f StepFilter, most int) (out []Step, total int, err error) {
	var c clause
	c.and("round = ?", round)
	c.among("outcome", f.Outcomes)
	if f.Target != "" {
		c.and("target = ?", f.Target)
	}
	if err := s.db.GetContext(ctx, &total, `SELECT CAST(COALESCE(SUM(n), 0) AS SIGNED) FROM phase`+c.where(), c.args...); err != nil {
		return nil, 0, err
	}
	if total == 0 {
		return nil, 0, nil
	}
	var rows []stepRow
	err = s.snapshot(ctx, func(tx *Tx) error { // they may be packed meanwhile
		if rows, err = tx.packedSteps(ctx, round, f, most); err != nil || len(rows) == most {
			return err
		}
		var behind []stepRow
		c.and("seq > ?", f.After)
		err = tx.SelectContext(ctx, &behind, `SELECT `+stepColumns+` FROM step`+c.where()+` ORDER BY seq LIMIT ?`,
			append(c.args, most-len(rows))...)
		rows = append(rows, behind...)
		return err
	})
	if err != nil {
		return nil, 0, err
	}
	out, err = stepsOf(rows)
	return out, total, err
}

// insertSteps writes the steps of a new round, which wait.
func (tx *Tx) insertSteps(ctx context.Context, round int64, steps []Step) error {
	bodies, err := packActs(steps)
	if err != nil {
		return err
	}
	for from, to := range portions(len(steps), 5*rowsAtOnce, func(i int) int { return len(bodies[i]) }) {
		part := steps[from:to]
		done, err := tx.load(ctx, len(part), "step", "seq, target, wave, tier, stage, verb, object, user, body, outcome", func(t *tsv) {
			for i := range part {
				s := &part[i]
				t.line(strconv.Itoa(from+i+1), s.Act.Target, strconv.Itoa(s.Wave), strconv.Itoa(s.Tier), strconv.Itoa(s.Stage),
					string(s.Act.Verb), s.Act.Object.String(), s.Act.User, string(bodies[from+i]), s.Outcome)
			}
		}, "round = ?, words = '', started_at = ?, ended_at = ?", round, never, never)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		args := make([]any, 0, 14*len(part))
		for i, s := range part {
			args = append(args, round, from+i+1, s.Act.Target, s.Wave, s.Tier, s.Stage, string(s.Act.Verb), s.Act.Object.String(),
				s.Act.User, bodies[from+i], s.Outcome, "", never, never)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO step (round, seq, target, wave, tier, stage, verb, object, user, body, outcome, words,
			started_at, ended_at) VALUES `+rows(len(part), 14), args...); err != nil {
			return err
		}
	}
	return nil
}

// packActs packs the acts of steps on all processors.
func packActs(steps []Step) ([][]byte, error) {
	out := make([][]byte, len(steps))
	var group errgroup.Group
	for from, to := range groups(len(steps), unpackedAtOnce) {
		group.Go(func() (err error) {
			for i := from; i < to && err == nil; i++ {
				out[i], err = json.Marshal(steps[i].Act)
			}
			return err
		})
	}
	return out, group.Wait()
}

// BeginSteps journals that steps are about to be tried, in one statement, if
// the lease of who asks still runs. Steps of a round that was stopped are not
// begun, but for those that had begun before. It returns how many now run. All
// are of one phase and target, and mostly all of them wait.
func (s *Store) BeginSteps(ctx context.Context, round int64, h Holder, seqs []int, at time.Time) (n int64, err error) {
	const begin = `UPDATE step SET outcome = 'running', tries = tries + 1, started_at = ?
		WHERE round = ? AND EXISTS (SELECT 1 FROM lease WHERE what = ? AND owner = ? AND until >= NOW(6))`
	const inTime = ` AND outcome = 'waiting' AND (SELECT state FROM round WHERE id = ?) = 'running'`
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
		again, err := tx.markSteps(ctx, seqs, begin+` AND outcome = 'running'`, at, round, h.What, h.Owner)
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
			WHERE round = ? AND EXISTS (SELECT 1 FROM lease WHERE what = ? AND owner = ? AND until >= NOW(6)) AND outcome = 'running'`,
			token, until, round, h.What, h.Owner)
		return err
	})
	return n, err
}

// markSteps runs a statement for those of the steps it chooses that have these
// numbers. A batch mostly is steps in a row, which are found at once.
func (tx *Tx) markSteps(ctx context.Context, seqs []int, statement string, args ...any) (total int64, err error) {
	if inARow(seqs) {
		res, err := tx.ExecContext(ctx, statement+` AND seq BETWEEN ? AND ?`, append(slices.Clone(args), seqs[0], seqs[len(seqs)-1])...)
		if err != nil {
			return 0, err
		}
		return res.RowsAffected()
	}
	for from, to := range groups(len(seqs), 5000) {
		all := slices.Clone(args)
		for _, q := range seqs[from:to] {
			all = append(all, q)
		}
		res, err := tx.ExecContext(ctx, statement+` AND seq IN `+oneOf(to-from), all...)
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

// inARow says whether numbers are one behind the other.
func inARow(seqs []int) bool {
	for i := range seqs {
		if seqs[i] != seqs[0]+i {
			return false
		}
	}
	return len(seqs) > 1
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
			AND outcome = 'running'`, e.outcome, e.words, at, round)
		if total += n; err != nil {
			return total, err
		}
		more[e.outcome] += int(n)
		more["running"] -= int(n)
	}
	return total, tx.shift(ctx, round, steps[0].Seq, byEnding, more)
}
