package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// journal lets work remember through the store.
type journal struct{ s *Service }

var _ work.Journal = journal{}

func (j journal) Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error) {
	return j.s.Store.Lease(ctx, what, owner, during)
}

func (j journal) Release(ctx context.Context, what, owner string) error {
	return j.s.Store.Release(ctx, what, owner)
}

func (j journal) Begin(ctx context.Context, round int64, l work.Lease, steps []work.Step) error {
	n, err := j.s.Store.BeginSteps(ctx, round, store.Holder(l), seqsOf(steps, func(s work.Step) int { return s.Seq }), j.s.now())
	if err != nil || int(n) == len(steps) {
		return err
	}
	if holds, err := j.s.Store.HoldsLease(ctx, store.Holder(l)); err != nil || !holds {
		return errors.Join(work.ErrLost, err)
	}
	return work.ErrStopped
}

// Halt stops a round because a guard refused steps of it.
func (j journal) Halt(ctx context.Context, id int64, target, words string) error {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	defer j.s.nudge()
	return j.s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		halted, err := tx.StopByGuard(ctx, id, Itself.Name, words)
		if err != nil || !halted {
			return nil, err
		}
		_, err = tx.DropSteps(ctx, id, "the round was stopped by a guard on "+target+": "+words, j.s.now())
		return []*store.Entry{{At: j.s.now(), Kind: "round", Operator: Itself.Name, Target: target, Round: id, Because: r.Because,
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

// End stores outcomes, what was read back, whose the accounts now are, and the
// entries of the record, all or nothing. An end that is told twice, because
// the first answer was lost, counts once.
func (j journal) End(ctx context.Context, id int64, results []work.Result) error {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	err = j.end(ctx, r, results, false)
	if errors.Is(err, errToldBefore) {
		return j.end(ctx, r, results, true)
	}
	return err
}

// end stores results; look finds out first which of the steps still run.
func (j journal) end(ctx context.Context, r store.Round, results []work.Result, look bool) error {
	now := j.s.now()
	return j.s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		results := results
		if look {
			open, err := tx.StillRunning(ctx, r.ID, seqsOf(results, func(r work.Result) int { return r.Seq }))
			if err != nil {
				return nil, err
			}
			results = slices.DeleteFunc(slices.Clone(results), func(res work.Result) bool { return !open[res.Seq] })
		}
		if len(results) == 0 {
			return nil, nil
		}
		target := results[0].Target
		steps := make([]store.Step, len(results))
		entries := make([]*store.Entry, len(results))
		var mended []model.Act
		var forget []string
		for i, res := range results {
			steps[i] = store.Step{Seq: res.Seq, Outcome: string(res.Outcome), Words: res.Words}
			entries[i] = stepEntry(r, res, now)
			switch {
			case res.Outcome != connect.Done:
			case r.Bulk || r.Undoes != 0: // changed on purpose: what differs after it is not contested
				for _, part := range res.Act.Act.Parts() {
					forget = append(forget, part.Key(), opposite(part).Key())
				}
			default:
				mended = append(mended, res.Act.Act.Parts()...)
			}
		}
		if err := tx.Disturbed(ctx, target); err != nil {
			return nil, err
		}
		ended, err := tx.EndSteps(ctx, r.ID, steps, now)
		if err == nil && int(ended) < len(steps) {
			err = &store.Refusal{Err: errToldBefore}
		}
		if err != nil {
			return nil, err
		}
		fresh, changed, gone := lastRead(results)
		if err := tx.PutObjects(ctx, target, fresh, changed, gone, now); err != nil {
			return nil, err
		}
		given, taken := linksOf(results)
		if err := tx.PutLinks(ctx, target, given, r.ID, now); err != nil {
			return nil, err
		}
		if err := tx.DropLinks(ctx, target, taken, now); err != nil {
			return nil, err
		}
		if err := tx.ForgetMended(ctx, target, forget); err != nil {
			return nil, err
		}
		return entries, tx.NoteMended(ctx, target, mended, r.ID, now)
	})
}

// opposite is the act that would put right what this one changes.
func opposite(a model.Act) model.Act {
	if v, ok := map[model.Verb]model.Verb{model.JoinIt: model.LeaveIt, model.LeaveIt: model.JoinIt, model.Disable: model.Enable, model.Enable: model.Disable}[a.Verb]; ok {
		a.Verb = v
	}
	return a
}

// lastRead returns each object as it was read back last, those that steps made
// apart from the others, and those that steps removed: a group changes from
// stage to stage of a batch.
func lastRead(results []work.Result) (fresh, changed, gone []model.Object) {
	type key struct {
		kind model.ObjectKind
		name string
	}
	last, made := map[key]*model.Object{}, map[key]bool{}
	var order []key
	for _, res := range results {
		k := key{res.Act.Object, res.Name}
		if k.kind == model.Membership {
			k.kind = model.GroupKind
		}
		o := res.Answer.Object
		removed := res.Verb == model.Remove && o == nil && held(string(res.Outcome))
		if o == nil && !removed {
			continue
		}
		if _, known := last[k]; !known {
			order = append(order, k)
		}
		last[k] = o
		made[k] = made[k] || res.Verb == model.Create && res.Outcome == connect.Done && res.Act.Object == k.kind
	}
	for _, k := range order {
		switch o := last[k]; {
		case o == nil:
			gone = append(gone, model.Object{Kind: k.kind, Name: k.name})
		case made[k]:
			fresh = append(fresh, *o)
		default:
			changed = append(changed, *o)
		}
	}
	return fresh, changed, gone
}

// linksOf says whose accounts are after steps that gave them to somebody, or took them away.
func linksOf(results []work.Result) (given, taken []model.Link) {
	for _, res := range results {
		if !held(string(res.Outcome)) || res.Act.Object != model.Account || res.User == "" {
			continue
		}
		l := model.Link{Target: res.Target, User: res.User, Name: res.Name}
		switch {
		case res.Verb == model.Remove, res.Verb == model.AdoptIt && round.After(res.Act.Act) == round.After(nobodys):
			taken = append(taken, l)
		case (res.Verb == model.AdoptIt || res.Verb == model.Create) && res.Answer.Object != nil:
			l.Unique = res.Answer.Object.Unique
			given = append(given, l)
		}
	}
	return given, taken
}

// nobodys is an adoption taken back.
var nobodys = model.Act{Verb: model.AdoptIt, Changes: []model.Change{{Attribute: model.Owner, After: []string{round.Nobody}}}}

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
