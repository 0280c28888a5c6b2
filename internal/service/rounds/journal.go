package rounds

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// journal lets work remember through the store.
type journal struct {
	work.Leases
	s *Carrier
}

var _ work.Journal = journal{}

func (j journal) Begin(ctx context.Context, round int64, l work.Lease, steps []work.Step) error {
	n, err := j.s.Store.BeginSteps(ctx, round, store.Holder(l), seqsOf(steps, func(s work.Step) int { return s.Seq }), j.s.Now())
	if err != nil || int(n) == len(steps) {
		return err
	}
	if holds, err := j.s.Store.HoldsLease(ctx, store.Holder(l)); err != nil || !holds {
		return errors.Join(work.ErrLost, err)
	}
	return work.ErrStopped
}

func (j journal) Trial(ctx context.Context, round int64, l work.Lease, steps []work.Step, m connect.Mark) error {
	n, err := j.s.Store.TrialSteps(ctx, round, store.Holder(l), seqsOf(steps, func(s work.Step) int { return s.Seq }), m.Token, m.Until)
	if err == nil && int(n) < len(steps) {
		return work.ErrLost
	}
	return err
}

// Halt stops a round because a guard refused steps of it.
func (j journal) Halt(ctx context.Context, id int64, target, words string) error {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	defer j.s.nudge()
	return j.s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		halted, err := tx.StopByGuard(ctx, id, door.Itself.Name, words)
		if err != nil || !halted {
			return nil, err
		}
		_, err = tx.DropSteps(ctx, id, "the round was stopped by a guard on "+target+": "+words, j.s.Now())
		return []*store.Entry{{At: j.s.Now(), Kind: "round", Operator: door.Itself.Name, Target: target, Round: id, Because: r.Because,
			Words: fmt.Sprintf("stopped round %d by a guard: %s", id, words)}}, err
	})
}

func seqsOf[T any](list []T, seq func(T) int) []int {
	out := make([]int, len(list))
	for i, x := range list {
		out[i] = seq(x)
	}
	return out
}

// errToldBefore says that some of the steps had ended already.
var errToldBefore = errors.New("some of these steps have ended before")

// End works out outcomes, what was read back, whose the accounts now are, and the
// entries of the record, and returns what stores them, all or nothing. An end
// that is told twice, because the first answer was lost, counts once.
func (j journal) End(ctx context.Context, id int64, results []work.Result) (func(context.Context) error, error) {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return nil, err
	}
	c, err := j.s.Current(ctx)
	if err != nil {
		return nil, err
	}
	for i := range results {
		if err := j.s.calledNow(ctx, c, &results[i].Act.Act); err != nil {
			return nil, err
		}
	}
	schema := j.s.Schemas()[c.KindOf(results[0].Target)]
	e := ending(r, results, schema, j.s.Now())
	e.Except = exception(c.Plan, r, results)
	return func(ctx context.Context) error {
		err := j.s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) { return e.entries, told(ctx, tx, e) })
		if errors.Is(err, errToldBefore) {
			return j.endRest(ctx, c.Plan, r, results, schema)
		}
		return err
	}, nil
}

// told stores an ending of steps that all run.
func told(ctx context.Context, tx *store.Tx, e batchEnd) error {
	ended, err := tx.EndBatch(ctx, e.Ending)
	if err == nil && ended < len(e.Steps) {
		err = &store.Refusal{Err: errToldBefore}
	}
	return err
}

// endRest stores the results of those steps that still run.
func (j journal) endRest(ctx context.Context, p *resolve.Plan, r store.Round, results []work.Result, schema model.Schema) error {
	return j.s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		open, err := tx.StillRunning(ctx, r.ID, seqsOf(results, func(r work.Result) int { return r.Seq }))
		if err != nil {
			return nil, err
		}
		rest := slices.DeleteFunc(slices.Clone(results), func(res work.Result) bool { return !open[res.Seq] })
		if len(rest) == 0 {
			return nil, nil
		}
		e := ending(r, rest, schema, j.s.Now())
		e.Except = exception(p, r, rest)
		return e.entries, told(ctx, tx, e)
	})
}
