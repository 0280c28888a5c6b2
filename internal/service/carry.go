package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// resume looks for running rounds that nobody carries, and carries them: those
// of a process that was killed, once its leases have run out.
func (s *Service) resume() {
	for {
		rows, _, err := s.Store.Rounds(s.ctx, []string{Running}, store.Page{Size: 100})
		for _, r := range rows {
			s.carrying.Go(func() { s.carry(r.ID) })
		}
		if err != nil && s.ctx.Err() == nil {
			s.Log.Warn("cannot look for unfinished rounds", "error", err)
		}
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}

// carry carries a running round to its end, unless somebody does already.
func (s *Service) carry(id int64) {
	if _, mine := s.busy.LoadOrStore(id, true); mine {
		return
	}
	defer s.busy.Delete(id)
	what := fmt.Sprintf("round/%d", id)
	held, release, err := work.TryHold(s.ctx, journal{s}, what, s.runner.Owner)
	if err != nil {
		return
	}
	defer release()
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	defer context.AfterFunc(held, cancel)() // whoever lost the lease stops: somebody else may carry the round by now
	if err := s.carryOn(ctx, id); err != nil && s.ctx.Err() == nil {
		s.Log.Error("round interrupted; it will be taken up again", "round", id, "error", err)
	}
}

func (s *Service) carryOn(ctx context.Context, id int64) error {
	r, err := s.Store.Round(ctx, id)
	if err != nil || r.State != Running {
		return err
	}
	rows, _, err := s.Store.Steps(ctx, id, []string{waiting, running}, store.Page{Size: maxSteps})
	if err != nil {
		return err
	}
	steps := make([]work.Step, len(rows))
	targets := map[string]bool{}
	for i, row := range rows {
		steps[i] = work.Step{Seq: row.Seq, Act: connect.Act{Act: row.Act, Stage: row.Stage, Again: row.Tries > 0}}
		targets[row.Act.Target] = true
	}
	if err := s.runner.Run(ctx, id, steps, func([]work.Result) {}); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	counts, err := s.Store.CountSteps(ctx, id)
	if err != nil {
		return err
	}
	for _, c := range counts {
		if _, _, err := s.compare(ctx, c.Target); err != nil {
			s.Log.Error("not compared after the round", "round", id, "target", c.Target, "error", err)
		}
	}
	return s.finish(ctx, r, counts)
}

// finish closes a round whose steps have all ended.
func (s *Service) finish(ctx context.Context, r store.Round, counts []store.StepCount) error {
	by, state := map[string]int{}, Complete
	for _, c := range counts {
		by[c.Outcome] += c.N
	}
	for _, bad := range []connect.Outcome{connect.Failed, connect.OutOfReach, connect.Moved, connect.NotTried} {
		if by[string(bad)] > 0 {
			state = Incomplete
		}
	}
	words := fmt.Sprintf("round %d is %s: %s", r.ID, state, Tally(by))
	return s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		moved, err := tx.MoveRound(ctx, r.ID, []string{Running}, state, "", s.now())
		if err != nil || !moved {
			return nil, err
		}
		return []*store.Entry{{At: s.now(), Kind: "round", Operator: r.RunBy, Round: r.ID, Because: r.Because, Words: words}}, nil
	})
}

// outcomes in the order in which people want to hear of them.
var outcomes = []string{"failed", "out-of-reach", "moved", "not-tried", "running", "waiting", "done", "already-so", "undone"}

// Tally says outcomes in words: "1 failed, 46 done".
func Tally(by map[string]int) string {
	out := ""
	for _, o := range outcomes {
		if by[o] == 0 {
			continue
		}
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf("%d %s", by[o], o)
	}
	if out == "" {
		return "nothing to do"
	}
	return out
}

// journal lets work remember through the store.
type journal struct{ s *Service }

var _ work.Journal = journal{}

func (j journal) Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error) {
	return j.s.Store.Lease(ctx, what, owner, during)
}

func (j journal) Release(ctx context.Context, what, owner string) error {
	return j.s.Store.Release(ctx, what, owner)
}

func (j journal) Begin(ctx context.Context, round int64, steps []work.Step) error {
	seqs := make([]int, len(steps))
	for i, st := range steps {
		seqs[i] = st.Seq
	}
	return j.s.Store.BeginSteps(ctx, round, seqs, j.s.now())
}

// End stores outcomes, what was read back, whose the accounts now are, and the
// entries of the record, all or nothing.
func (j journal) End(ctx context.Context, id int64, results []work.Result) error {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	now := j.s.now()
	seqs := make([]int, len(results))
	for i, res := range results {
		seqs[i] = res.Seq
	}
	return j.s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		open, err := tx.StillRunning(ctx, id, seqs)
		if err != nil {
			return nil, err
		}
		results := slices.DeleteFunc(slices.Clone(results), func(res work.Result) bool { return !open[res.Seq] })
		steps := make([]store.Step, len(results))
		for i, res := range results {
			steps[i] = store.Step{Seq: res.Seq, Outcome: string(res.Outcome), Words: res.Words}
		}
		if err := tx.EndSteps(ctx, id, steps, now); err != nil {
			return nil, err
		}
		var entries []*store.Entry
		for _, o := range lastRead(results) {
			if err := tx.PutObject(ctx, results[0].Target, *o); err != nil {
				return nil, err
			}
		}
		for _, res := range results {
			if l, ok := linkOf(res); ok {
				if err := tx.PutLink(ctx, l, id, now); err != nil {
					return nil, err
				}
			}
			entries = append(entries, stepEntry(r, res, now))
		}
		return entries, nil
	})
}

// lastRead returns each object as it was read back last: a group changes from stage to stage of a batch.
func lastRead(results []work.Result) map[string]*model.Object {
	out := map[string]*model.Object{}
	for _, res := range results {
		if o := res.Answer.Object; o != nil {
			out[string(o.Kind)+o.Name] = o
		}
	}
	return out
}

// linkOf says whose an account is after a step that gave it to somebody.
func linkOf(res work.Result) (model.Link, bool) {
	gives := res.Verb == model.AdoptIt || res.Verb == model.Create
	held := res.Outcome == connect.Done || res.Outcome == connect.AlreadySo
	if !gives || !held || res.Act.Object != model.Account || res.User == "" || res.Answer.Object == nil {
		return model.Link{}, false
	}
	return model.Link{Target: res.Target, User: res.User, Name: res.Name, Unique: res.Answer.Object.Unique}, true
}

func stepEntry(r store.Round, res work.Result, now time.Time) *store.Entry {
	body, _ := json.Marshal(struct {
		Step    int            `json:"step"`
		Outcome string         `json:"outcome"`
		Before  map[string]any `json:"before,omitempty"`
		After   map[string]any `json:"after,omitempty"`
	}{res.Seq, string(res.Outcome), side(res.Act.Changes, true), side(res.Act.Changes, false)})
	words := round.Say(res.Act.Act) + ": " + string(res.Outcome)
	if res.Words != "" {
		words += ", " + res.Words
	}
	return &store.Entry{At: now, Kind: "step", Operator: r.RunBy, Target: res.Target, User: res.User, Round: r.ID, Because: r.Because, Words: words, Body: body}
}

func side(changes []model.Change, before bool) map[string]any {
	out := map[string]any{}
	for _, c := range changes {
		v := c.After
		if before {
			v = c.Before
		}
		if v != nil {
			out[c.Attribute] = v
		}
	}
	return out
}
