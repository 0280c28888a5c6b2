package seen

import (
	"context"
	"errors"
	"slices"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/store"
)

// What changed on a target since its last survey costs what that costs: the
// accounts that are otherwise are compared with what is asked of them. Anything by
// which somebody else could be concerned is worked out from all there is.

// changedMost is for how many accounts that pays.
const changedMost = 1000

// compareChanged compares what a survey of what changed has told of. It says no
// when everything must be compared.
func (s *Seen) compareChanged(ctx context.Context, c *declared.Current, row store.Target, changed []model.Named,
	r *SurveyResult) (done bool, err error) {
	d := c.Plan.Targets[row.Name]
	names := make([]string, 0, len(changed))
	for _, n := range changed {
		switch {
		case n.Kind == model.SystemKind:
		case n.Kind != model.Account:
			return false, nil // who is in a set, or what gives power, concerns others
		default:
			names = append(names, n.Name)
		}
	}
	if d == nil || len(names) > changedMost {
		return false, nil
	}
	ctx = context.WithoutCancel(ctx)
	in, near, err := s.concerned(ctx, d, names)
	if err != nil || in == nil {
		return false, err
	}
	before, err := s.Store.FindingsNear(ctx, near)
	if err != nil {
		return false, err
	}
	sh := shift{target: row.Name, standing: row.Comparisons}
	for _, f := range before[row.Name] {
		if !in.Reach.Holds(f.Act) {
			continue
		}
		if f.Kind == model.Unmatched || f.Verb == model.AdoptIt ||
			slices.ContainsFunc(f.Changes, func(c model.Change) bool { return c.Attribute == model.Number }) {
			return false, nil // it stood in somebody's way, or could be another's
		}
		sh.was = append(sh.was, f)
	}
	sh.is, sh.loose = drift.Loose(*in)
	if len(sh.loose) > 0 {
		return false, nil
	}
	if err := s.contest(ctx, []string{row.Name}, []shift{sh}); err != nil {
		return false, err
	}
	r.Fresh, err = s.applyOne(ctx, sh, r)
	if errors.Is(err, errStale) {
		return false, nil
	}
	return err == nil, err
}

// concerned is the comparison of some accounts, each of which is settled to be the
// one that its user should have; nil when one of them is not.
func (s *Seen) concerned(ctx context.Context, d *resolve.Desired, names []string) (*drift.Input, store.Near, error) {
	target := d.Target.Name
	near := store.Near{Targets: []string{target}, Accounts: names}
	links, err := s.Store.LinksNamed(ctx, target, names)
	if err != nil {
		return nil, near, err
	}
	owners := map[string]string{}
	for _, l := range links {
		owners[l.Name] = l.User
	}
	accounts, err := s.Store.AccountsNamed(ctx, near.Targets, names)
	if err != nil || len(accounts[target]) < len(names) {
		return nil, near, err // some are gone: somebody lacks theirs, and may have another
	}
	reach := &drift.Reach{Names: slices.Sorted(slices.Values(names))}
	in := &drift.Input{Desired: d, Accounts: accounts[target], Links: links, Reach: reach}
	for _, name := range reach.Names {
		p, ok := d.Plan.Person(owners[name])
		if !ok {
			return nil, near, nil
		}
		if a, asked := d.AccountNamed(p, name); !asked || a.Given {
			return nil, near, nil
		}
		reach.People, reach.Users = append(reach.People, p), append(reach.Users, p.ID)
	}
	near.Users = reach.Users
	return in, near, nil
}

// applyOne stores a shift of one target, unless somebody has compared it meanwhile.
func (s *Seen) applyOne(ctx context.Context, sh shift, r *SurveyResult) (fresh int, err error) {
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		now, err := tx.Comparisons(ctx, []string{sh.target})
		if err != nil {
			return nil, err
		}
		if now[sh.target] != sh.standing {
			return nil, &store.Refusal{Err: errStale}
		}
		if fresh, err = s.swap(ctx, tx, sh); err != nil || fresh == 0 {
			return nil, err
		}
		return []*store.Entry{freshEntry(s.Now(), sh.target, fresh)}, nil
	})
	if err != nil {
		return 0, err
	}
	r.Findings, err = s.Store.FindingsOn(ctx, []string{sh.target})
	return fresh, err
}
