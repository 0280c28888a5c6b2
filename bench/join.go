package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
)

const (
	joinHosts  = 3
	joinPeople = 500
)

// join500: five hundred people join by a table, on three hosts and in a directory,
// with passwords that wait to be collected, against the same without, in s. The
// proofs of sign-in are counted apart, and taken off.
func join500(ctx context.Context, w *workbench) (float64, float64, error) {
	s, targets, err := w.joiners(ctx)
	if err != nil {
		return 0, 0, err
	}
	without, _, err := joinBy(ctx, s, "plain", 10_000, true)
	if err != nil {
		return 0, 0, err
	}
	with, values, err := joinBy(ctx, s, "sealed", 20_000, false)
	if err != nil {
		return 0, 0, err
	}
	proofs, err := proofsOf(ctx, s, targets, values)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# %d people on %d targets: %.1f s without passwords, %.1f s with them, of which the proofs are %.1f s\n", joinPeople,
		len(targets), without, with, proofs)
	return with - proofs, without, nil
}

// joiners is a service that knows hosts and a directory on which nobody is yet.
func (w *workbench) joiners(ctx context.Context) (*service.Service, []string, error) {
	hosts, err := fleet(ctx, w, joinHosts, 1)
	if err != nil {
		return nil, nil, err
	}
	_, dir, err := directory(ctx, w, "staff", "", false)
	if err != nil {
		return nil, nil, err
	}
	st, err := w.storeOf(ctx)
	if err != nil {
		return nil, nil, err
	}
	s, err := service.New(service.Config{Store: st, Kinds: connect.Kinds{host.Kind: host.Connector{}, ldap.Kind: ldap.Connector{}},
		KeyFile: filepath.Join(w.dir, "join.key"),
		Log:     slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return nil, nil, err
	}
	s.Begin()
	w.later(s.Close)
	var text strings.Builder
	text.WriteString("roost: 1\nusers: {nobody.yet: {name: Nobody Yet}}\ngroups: {deck: {number: 5111}}\nroles:\n  crew:\n    gives:\n" +
		"      - {at: {kind: host}, account: {shell: /bin/bash}, groups: [deck]}\n      - {at: staff, groups: [deck]}\ntargets:\n")
	var targets []string
	for _, a := range hosts {
		fmt.Fprintf(&text, "  %s: {kind: host, address: %q, login: {as: root, secret: key}}\n", a.Target, a.Address)
		targets = append(targets, a.Target)
	}
	fmt.Fprintf(&text, "  staff: {kind: directory, address: %q, login: {as: %q, secret: word}, settings: {people: %q, groups: %q}}\n",
		dir.Address, dir.As, dir.Settings["people"], dir.Settings["groups"])
	targets = append(targets, "staff")
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "join.yaml", Text: text.String()}}, "bench"); err != nil {
		return nil, nil, err
	}
	for name, value := range map[string][]byte{"key": hosts[0].Secret, "word": dir.Secret} {
		if err := s.SetSecret(ctx, door.Itself, name, value); err != nil {
			return nil, nil, err
		}
	}
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	for _, x := range got {
		if err == nil {
			err = s.AcceptKey(ctx, door.Itself, x.Target, x.Print)
		}
	}
	if err == nil {
		_, err = s.Survey(ctx, door.Itself, nil, nil)
	}
	return s, targets, err
}

// joinBy lets five hundred join and waits until all is done, in s; with passwords it returns them, by user.
func joinBy(ctx context.Context, s *service.Service, batch string, number int, none bool) (float64, map[string]string, error) {
	var csv strings.Builder
	csv.WriteString("id,name,number,roles\n")
	for i := range joinPeople {
		fmt.Fprintf(&csv, "%s%d,Åse Hand %d,%d,crew\n", batch, i, i, number+i)
	}
	began := time.Now()
	p, err := s.Join(ctx, door.Itself, life.JoinRequest{CSV: csv.String(), Batch: batch, NoSecret: none, Because: "bench"})
	if err != nil || p.Round.ID == 0 {
		return 0, nil, fmt.Errorf("%s: %w", p.Words, err)
	}
	for {
		r, err := s.Round(ctx, door.Itself, p.Round.ID)
		if err != nil {
			return 0, nil, err
		}
		if r.EndedAt != nil {
			if r.Outcomes["done"] != r.Steps {
				return 0, nil, fmt.Errorf("round %d: %v", r.ID, r.Outcomes)
			}
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	for waiting := 0; !none && waiting < joinPeople; time.Sleep(20 * time.Millisecond) {
		list, err := s.ListHandovers(ctx, door.Itself, life.HandoverChoice{Batch: batch, State: life.ToCollect, Size: 1000})
		if err != nil {
			return 0, nil, err
		}
		if waiting = len(list.Items); time.Since(began) > 10*time.Minute {
			return 0, nil, fmt.Errorf("%d of %d can be collected", waiting, joinPeople)
		}
	}
	took := time.Since(began).Seconds()
	values := map[string]string{}
	if !none {
		sheets, err := s.Sheets(ctx, door.Itself, batch)
		if err != nil {
			return 0, nil, err
		}
		for _, x := range sheets {
			values[x.User] = x.Value
		}
	}
	return took, values, nil
}

// proofsOf signs in with each password as a round does: one after the other on a target, all targets side by side.
func proofsOf(ctx context.Context, s *service.Service, targets []string, values map[string]string) (float64, error) {
	began := time.Now()
	var wg sync.WaitGroup
	errs := make([]error, len(targets))
	for i, t := range targets {
		wg.Go(func() {
			session, err := s.SessionOn(ctx, t)
			if err != nil {
				errs[i] = err
				return
			}
			defer session.Close()
			for user, value := range values {
				if p, words := connect.Prove(ctx, session, user, connect.Seal([]byte(value))); p != connect.Proved {
					errs[i] = fmt.Errorf("%s on %s: %s %s", user, t, p, words)
					return
				}
			}
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return 0, err
		}
	}
	return time.Since(began).Seconds(), nil
}
