package service

import (
	"context"
	"encoding/json"
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

func (j journal) Begin(ctx context.Context, round int64, steps []work.Step) error {
	n, err := j.s.Store.BeginSteps(ctx, round, seqsOf(steps, func(s work.Step) int { return s.Seq }), j.s.now())
	if err == nil && int(n) < len(steps) {
		return work.ErrStopped
	}
	return err
}

func seqsOf[T any](list []T, seq func(T) int) []int {
	out := make([]int, len(list))
	for i, x := range list {
		out[i] = seq(x)
	}
	return out
}

// End stores outcomes, what was read back, whose the accounts now are, and the
// entries of the record, all or nothing.
func (j journal) End(ctx context.Context, id int64, results []work.Result) error {
	r, err := j.s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	now := j.s.now()
	seqs := seqsOf(results, func(r work.Result) int { return r.Seq })
	return j.s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		open, err := tx.StillRunning(ctx, id, seqs)
		if err != nil {
			return nil, err
		}
		results := slices.DeleteFunc(slices.Clone(results), func(res work.Result) bool { return !open[res.Seq] })
		if len(results) == 0 {
			return nil, nil
		}
		target := results[0].Target
		steps := make([]store.Step, len(results))
		entries := make([]*store.Entry, len(results))
		for i, res := range results {
			steps[i] = store.Step{Seq: res.Seq, Outcome: string(res.Outcome), Words: res.Words}
			entries[i] = stepEntry(r, res, now)
		}
		if err := tx.EndSteps(ctx, id, steps, now); err != nil {
			return nil, err
		}
		there, gone := lastRead(results)
		if err := tx.PutObjects(ctx, target, there, gone, now); err != nil {
			return nil, err
		}
		given, taken := linksOf(results)
		if err := tx.PutLinks(ctx, given, id, now); err != nil {
			return nil, err
		}
		if err := tx.DropLinks(ctx, taken, now); err != nil {
			return nil, err
		}
		var mended []model.Act
		for _, res := range results {
			if res.Outcome == connect.Done && r.Undoes == 0 {
				mended = append(mended, res.Act.Act)
			}
		}
		return entries, tx.NoteMended(ctx, target, mended, id, now)
	})
}

// lastRead returns each object as it was read back last, and those that a step
// removed: a group changes from stage to stage of a batch.
func lastRead(results []work.Result) (there, gone []model.Object) {
	last := map[[2]string]*model.Object{}
	var order [][2]string
	for _, res := range results {
		o := res.Answer.Object
		key := [2]string{string(res.Act.Object), res.Name}
		if res.Act.Object == model.Membership {
			key[0] = string(model.GroupKind)
		}
		if res.Verb == model.Remove && o == nil && held(string(res.Outcome)) {
			o = nil
		} else if o == nil {
			continue
		}
		if _, known := last[key]; !known {
			order = append(order, key)
		}
		last[key] = o
	}
	for _, key := range order {
		if o := last[key]; o != nil {
			there = append(there, *o)
		} else {
			gone = append(gone, model.Object{Kind: model.ObjectKind(key[0]), Name: key[1]})
		}
	}
	return there, gone
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
