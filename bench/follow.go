package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// standing is the large company declared, seen and compared: a service as it is on an ordinary day.
func (w *workbench) standingOf(ctx context.Context) (*service.Service, error) {
	if w.standing != nil {
		return w.standing, nil
	}
	o, err := w.observedOf(ctx)
	if err != nil {
		return nil, err
	}
	e, err := w.engineOf()
	if err != nil {
		return nil, err
	}
	for i := range companyTargets {
		in := holds(e.plan.Targets[fmt.Sprintf("target-%02d", i)])
		if err := known(ctx, o.store, in); err != nil {
			return nil, err
		}
	}
	s, err := service.New(service.Config{Store: o.store, Kinds: connect.Kinds{host.Kind: host.Connector{}, ldap.Kind: ldap.Connector{}},
		KeyFile: filepath.Join(w.dir, "seal.key"), Log: slog.New(slog.NewTextHandler(os.Stderr,
			&slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return nil, err
	}
	w.later(s.Close)
	if _, err := s.Declare(ctx, door.Itself, company(companyUsers), "bench"); err != nil {
		return nil, err
	}
	w.standing = s
	return s, nil
}

// known notes that a target was surveyed, and whose its accounts are.
func known(ctx context.Context, s *store.Store, in drift.Input) error {
	now, target := time.Now(), in.Desired.Target.Name
	links := make([]model.Link, len(in.Accounts))
	for i, o := range in.Accounts {
		links[i] = model.Link{User: o.Name, Name: o.Name, Unique: o.Unique}
	}
	return s.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.PutTarget(ctx, store.Target{Name: target, State: seen.Surveyed, SurveyedAt: &now, TriedAt: &now}); err != nil {
			return err
		}
		return tx.PutLinks(ctx, target, links, 0, now)
	})
}

// followed measures edits of one user of a hundred thousand, on twenty targets,
// each with the draft of the round that follows from it; the median, against
// the 200 ms that it may take.
func followed(steps int, edit func(i int) (user string, e declare.Edit)) func(context.Context, *workbench) (float64, float64, error) {
	return func(ctx context.Context, w *workbench) (float64, float64, error) {
		s, err := w.standingOf(ctx)
		if err != nil {
			return 0, 0, err
		}
		var took []float64
		for i := range 11 {
			user, e := edit(i)
			began := time.Now()
			if _, err := s.Edit(ctx, door.Itself, 0, []declare.Edit{e}, "bench"); err != nil {
				return 0, 0, err
			}
			r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Choice: declared.Choice{Users: []string{user}}, Because: "bench"})
			if err != nil {
				return 0, 0, err
			}
			took = append(took, time.Since(began).Seconds()*1000)
			if r.Steps < steps {
				return 0, 0, fmt.Errorf("%d steps for %s, want %d", r.Steps, user, steps)
			}
		}
		slices.Sort(took)
		return took[len(took)/2], 200, nil
	}
}

// hand is somebody in the middle of the file, whose accounts are as declared.
func hand(i int) string { return fmt.Sprintf("hand.%06d", sized(40_000)+1+sized(700)*i) }

var (
	// followValue: a full name, on all twenty targets.
	followValue = followed(companyTargets, func(i int) (string, declare.Edit) {
		return hand(i), declare.Edit{Section: "users", Name: hand(i), Key: "name", Do: declare.Set, Value: "Åse Another"}
	})
	// followHire: somebody new, in two groups on hosts and three in directories.
	followHire = followed(companyTargets+companyTargets/2+companyTargets/2*2, func(i int) (string, declare.Edit) {
		id := fmt.Sprintf("new.%d", i)
		return id, declare.Edit{Section: "users", Name: id, Do: declare.Set,
			Value: map[string]any{"name": "New Hand " + id, "number": 900_000 + i, "roles": []any{"role-7"}}}
	})
	// followLeaver: somebody who goes, out of as many groups at least.
	followLeaver = followed(companyTargets+companyTargets/2+companyTargets/2*2, func(i int) (string, declare.Edit) {
		id := hand(i + 20)
		return id, declare.Edit{Section: "users", Name: id, Key: "until", Do: declare.Set, Value: "2020-01-01"}
	})
)

// holdingMemory: what a target's observations and links take when they are read
// to be compared, in bytes an account, against the 300 that they may take.
func holdingMemory(ctx context.Context, w *workbench) (float64, float64, error) {
	if _, err := w.standingOf(ctx); err != nil {
		return 0, 0, err
	}
	before := heap()
	accounts, others, links, err := w.seen.store.Holding(ctx, "target-01")
	if err != nil || len(accounts) != companyUsers || len(links) != 0 {
		return 0, 0, fmt.Errorf("%d accounts, %d links: %w", len(accounts), len(links), err)
	}
	took := float64(heap()-before) / float64(len(accounts))
	runtime.KeepAlive(accounts)
	runtime.KeepAlive(others)
	return took, 300, nil
}
