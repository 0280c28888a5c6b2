package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// Checked is what a set of files amounts to.
type Checked struct {
	Users   int `json:"users"`
	Groups  int `json:"groups"`
	Roles   int `json:"roles"`
	Targets int `json:"targets"`
}

// Check reads files without storing them. Faults come as declare.Faults.
func (s *Service) Check(ctx context.Context, who Operator, files []declare.File) (Checked, error) {
	if err := who.may(Look); err != nil {
		return Checked{}, err
	}
	d, _, err := s.read(files, s.now(), nil)
	if err != nil {
		return Checked{}, err
	}
	return size(d), nil
}

func size(d *model.Declaration) Checked {
	return Checked{len(d.Users), len(d.Groups), len(d.Roles), len(d.Targets)}
}

// Revision is one stored version of the declaration, without its files.
type Revision struct {
	Number   int       `json:"number"`
	Operator string    `json:"operator"`
	Because  string    `json:"because"`
	MadeAt   time.Time `json:"made-at"`
	Checked
	Findings int `json:"findings" doc:"findings against the last survey"`
}

// Declare stores files as a new revision, and compares what the targets were last seen to hold with it.
func (s *Service) Declare(ctx context.Context, who Operator, files []declare.File, because string) (Revision, error) {
	if err := who.may(Draft); err != nil {
		return Revision{}, err
	}
	because, err := reason(because)
	if err != nil {
		return Revision{}, err
	}
	d, plan, err := s.read(files, s.now(), nil)
	if err != nil {
		return Revision{}, err
	}
	r := Revision{Operator: who.Name, Because: because, MadeAt: s.now(), Checked: size(d)}
	err = s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var err error
		r.Number, err = tx.AddRevision(ctx, files, who.Name, because, r.MadeAt)
		return []*store.Entry{{At: r.MadeAt, Kind: "revision", Operator: who.Name, Because: because,
			Words: fmt.Sprintf("declared revision %d: %s, %s, %s, %s", r.Number, count(r.Users, "user", "users"), count(r.Groups, "group", "groups"), count(r.Roles, "role", "roles"), count(r.Targets, "target", "targets"))}}, err
	})
	if err != nil {
		return Revision{}, err
	}
	s.mu.Lock() // what was just read need not be read again
	made := store.Revision{Number: r.Number, Operator: who.Name, Because: because, MadeAt: r.MadeAt}
	s.plans = map[string]*current{plan.Day: {revision: r.Number, made: made, declared: d, plan: plan}}
	s.mu.Unlock()
	r.Findings, err = s.compareAll(ctx)
	return r, err
}

// compareAll finds the drift of every surveyed target against the newest revision, without asking any.
func (s *Service) compareAll(ctx context.Context) (int, error) {
	c, err := s.current(ctx)
	if err != nil {
		return 0, err
	}
	names := slices.Sorted(maps.Keys(c.plan.Targets))
	err = s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.KeepFindingsOf(ctx, names) })
	if err != nil {
		return 0, err
	}
	known, err := s.Store.Targets(ctx)
	if err != nil {
		return 0, err
	}
	total := 0
	for _, name := range names {
		if known[name].SurveyedAt == nil {
			continue
		}
		n, _, err := s.compare(ctx, name)
		if err != nil {
			return total, err
		}
		total += n
	}
	return total, nil
}
