package seen

import (
	"context"
	"slices"
	"time"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// A revision in which some people changed costs what those people cost: their
// part of the text is read, they are resolved, and what of each target they can
// reach is compared. Anything else, and anything out of the ordinary, is worked
// out from all there is.

// followMost is for how many people that pays.
const followMost = 50

// shift is what a change of some people does to the findings of one target.
type shift struct {
	target   string
	was, is  []model.Finding
	loose    []uint64
	standing int64 // comparisons of the target so far
}

// shifts compares what a change can reach on every target that was compared
// with the plan before. The others are to be compared whole.
func (s *Seen) shifts(ctx context.Context, from *declared.Current, r *declared.Reading) (list []shift, whole []string,
	standing map[string]int64, err error) {
	known, err := s.Store.Targets(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	standing = map[string]int64{}
	for name, t := range known {
		standing[name] = t.Comparisons
	}
	if r.Change == nil || len(r.Change.People) > followMost {
		for _, name := range door.KeysOf(r.Plan.Targets) {
			if known[name].SurveyedAt != nil {
				whole = append(whole, name)
			}
		}
		return nil, whole, standing, nil
	}
	loose, err := s.Store.LooseOn(ctx, drift.Keys(r.Change))
	if err != nil {
		return nil, nil, nil, err
	}
	var users []string
	for _, p := range r.Change.People {
		users = append(users, p.ID())
	}
	all, err := s.Store.LinksOfAll(ctx, users)
	if err != nil {
		return nil, nil, nil, err
	}
	links := map[string][]model.Link{}
	for _, l := range all {
		links[l.Target] = append(links[l.Target], l)
	}
	var inputs []drift.Input
	near := store.Near{Users: users}
	for _, name := range door.KeysOf(r.Plan.Targets) {
		t := known[name]
		if t.SurveyedAt == nil {
			continue
		}
		if t.Compared != from.Revision || t.ComparedOn == nil || t.ComparedOn.Format(time.DateOnly) != r.Plan.Day || loose[name] ||
			r.Change.Anew[name] {
			whole = append(whole, name)
			continue
		}
		if reach := drift.ReachOf(r.Change, r.Plan, name, links[name]); reach != nil {
			inputs = append(inputs, drift.Input{Desired: r.Plan.Targets[name], Links: links[name], Reach: reach})
			list = append(list, shift{target: name, standing: t.Comparisons})
			near.Targets, near.Accounts, near.Sets = append(near.Targets, name), append(near.Accounts, reach.Names...),
				append(near.Sets, reach.Sets...)
		}
	}
	if len(inputs) == 0 {
		return nil, whole, standing, nil
	}
	slices.Sort(near.Accounts)
	near.Accounts = slices.Compact(near.Accounts)
	slices.SortFunc(near.Sets, model.Named.Compare)
	near.Sets = slices.Compact(near.Sets)
	return list, whole, standing, s.around(ctx, list, inputs, near)
}

// around compares what is in reach of each input.
func (s *Seen) around(ctx context.Context, list []shift, inputs []drift.Input, near store.Near) error {
	accounts, err := s.Store.AccountsNamed(ctx, near.Targets, near.Accounts)
	if err != nil {
		return err
	}
	members, err := s.Store.InSets(ctx, near.Targets, near.Sets, near.Accounts)
	if err != nil {
		return err
	}
	before, err := s.Store.FindingsNear(ctx, near)
	if err != nil {
		return err
	}
	for i := range inputs {
		in, sh := &inputs[i], &list[i]
		in.Accounts = slices.DeleteFunc(accounts[sh.target], func(o model.Object) bool { return !slices.Contains(in.Reach.Names, o.Name) })
		in.Others = slices.DeleteFunc(members[sh.target], func(o model.Object) bool {
			return !slices.Contains(in.Reach.Sets, model.Named{Kind: o.Kind, Name: o.Name})
		})
		sh.was = slices.DeleteFunc(before[sh.target], func(f model.Finding) bool { return !in.Reach.Holds(f.Act) })
		sh.is, sh.loose = drift.Loose(*in)
	}
	return s.contest(ctx, near.Targets, list)
}

// contest marks what shifts find that was put right before.
func (s *Seen) contest(ctx context.Context, targets []string, list []shift) error {
	var keys []string
	for _, sh := range list {
		for _, f := range sh.is {
			for _, part := range f.Act.Parts() {
				keys = append(keys, part.Key())
			}
		}
	}
	mended, err := s.Store.MendedAmong(ctx, targets, keys, s.Now().Add(-contestFor))
	if err != nil {
		return err
	}
	for i := range list {
		drift.Contest(list[i].is, putRight(mended))
	}
	return nil
}

// putRight says of what was mended how often and when.
func putRight(mended map[string]store.Mended) map[string]drift.Before {
	out := make(map[string]drift.Before, len(mended))
	for key, m := range mended {
		out[key] = drift.Before{Times: m.Times, Round: m.Round, At: m.At}
	}
	return out
}

// cameBack are the single changes of findings that were put right before and are new again.
func cameBack(findings []model.Finding, known map[string]bool) (keys []string) {
	for _, f := range findings {
		if f.Kind == model.Contested && !known[f.Key()] {
			for _, part := range f.Act.Parts() {
				keys = append(keys, part.Key())
			}
		}
	}
	return keys
}

// apply stores shifts with the revision that they come from. Targets that
// somebody compared in the meantime are returned, to be compared whole.
func (s *Seen) apply(ctx context.Context, tx *store.Tx, list []shift, whole []string, from, to int,
	day string) (late []string, entries []*store.Entry, err error) {
	names := make([]string, len(list))
	for i, sh := range list {
		names[i] = sh.target
	}
	now, err := tx.Comparisons(ctx, names)
	if err != nil {
		return nil, nil, err
	}
	for _, sh := range list {
		if now[sh.target] != sh.standing {
			late = append(late, sh.target)
			continue
		}
		if len(sh.was) == 0 && len(sh.is) == 0 && len(sh.loose) == 0 {
			continue
		}
		fresh, err := s.swap(ctx, tx, sh)
		if err != nil {
			return nil, nil, err
		}
		if fresh > 0 {
			entries = append(entries, freshEntry(s.Now(), sh.target, fresh))
		}
	}
	if err := tx.Disturbed(ctx, append(slices.Clone(whole), late...)...); err != nil {
		return nil, nil, err
	}
	return late, entries, tx.Carried(ctx, from, to, day)
}

// swap puts what a shift finds in the place of what it found before. It returns how many findings are new.
func (s *Seen) swap(ctx context.Context, tx *store.Tx, sh shift) (fresh int, err error) {
	more, known := map[string]int{}, map[string]bool{}
	for _, f := range sh.was {
		more[string(f.Kind)]--
		known[f.Key()] = true
	}
	for _, f := range sh.is {
		more[string(f.Kind)]++
	}
	if err := tx.CameBack(ctx, sh.target, cameBack(sh.is, known), s.Now()); err != nil {
		return 0, err
	}
	if fresh, err = tx.SwapFindings(ctx, sh.target, sh.was, sh.is, s.Now()); err != nil {
		return 0, err
	}
	if err := tx.AddDay(ctx, sh.target, s.Now(), more); err != nil {
		return 0, err
	}
	return fresh, tx.AddLoose(ctx, sh.target, sh.loose)
}
