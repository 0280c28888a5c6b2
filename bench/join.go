package main

import (
	"context"
	"errors"
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

var (
	joinHosts  = 3
	joinPeople = sized(500)
)

// join500: five hundred people join by a table, on three hosts and in a directory,
// with passwords that wait to be collected, against the same without and the hosts'
// own tools setting as many passwords, in s. The proofs of sign-in are counted
// apart, and taken off.
func join500(ctx context.Context, w *workbench) (float64, float64, error) {
	log := &proofLog{Handler: slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}), mu: &sync.Mutex{},
		took: map[string]time.Duration{}}
	s, hosts, err := w.joiners(ctx, slog.New(log))
	if err != nil {
		return 0, 0, err
	}
	without, err := joinBy(ctx, s, "plain", 10_000, true)
	if err != nil {
		return 0, 0, err
	}
	with, err := joinBy(ctx, s, "sealed", 20_000, false)
	if err != nil {
		return 0, 0, err
	}
	proofs := 0.0 // of the target on which they took the longest: targets go side by side
	for _, d := range log.took {
		proofs = max(proofs, d.Seconds())
	}
	bare, err := barePasswords(hosts)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# %d people on %d targets: %.1f s without passwords, %.1f s with them, of which the proofs are %.1f s; the hosts' own "+
		"tools "+
		"set as many in %.1f s\n", joinPeople, joinHosts+1, without, with, proofs, bare)
	return with - proofs, without + bare, nil
}

// barePasswords sets as many passwords with the system's own tools, all hosts side by side.
func barePasswords(hosts []connect.Access) (float64, error) {
	var script strings.Builder
	for i := range joinPeople {
		fmt.Fprintf(&script, "printf 'plain%[1]d:umber-violin-%[1]d-Quartz\\n' | chpasswd\nchage -d 0 -- plain%[1]d\n", i)
	}
	began := time.Now()
	errs := make([]error, len(hosts))
	var wg sync.WaitGroup
	for i, a := range hosts {
		wg.Go(func() { _, errs[i] = bareExec(a, script.String()+"exit 0\n") })
	}
	wg.Wait()
	return time.Since(began).Seconds(), errors.Join(errs...)
}

// proofLog adds up what the service's log says that proofs took, by target.
type proofLog struct {
	slog.Handler
	target string
	mu     *sync.Mutex
	took   map[string]time.Duration
}

func (l *proofLog) Enabled(context.Context, slog.Level) bool { return true }

func (l *proofLog) WithAttrs(attrs []slog.Attr) slog.Handler {
	out := *l
	for _, a := range attrs {
		if a.Key == "target" {
			out.target = a.Value.String()
		}
	}
	return &out
}

func (l *proofLog) Handle(ctx context.Context, r slog.Record) error {
	r.Attrs(func(a slog.Attr) bool {
		if a.Key == "proofs" {
			l.mu.Lock()
			l.took[l.target] += a.Value.Duration()
			l.mu.Unlock()
		}
		return true
	})
	if r.Level < slog.LevelWarn {
		return nil
	}
	return l.Handler.Handle(ctx, r)
}

// joiners is a service that knows hosts and a directory on which nobody is yet.
func (w *workbench) joiners(ctx context.Context, log *slog.Logger) (*service.Service, []connect.Access, error) {
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
		KeyFile: filepath.Join(w.dir, "join.key"), Log: log})
	if err != nil {
		return nil, nil, err
	}
	s.Begin()
	w.later(s.Close)
	var text strings.Builder
	text.WriteString("roost: 1\nusers: {nobody.yet: {name: Nobody Yet}}\ngroups: {deck: {number: 5111}}\nroles:\n  crew:\n    gives:\n" +
		"      - {at: {kind: host}, account: {shell: /bin/bash}, groups: [deck]}\n      - {at: staff, groups: [deck]}\ntargets:\n")
	for _, a := range hosts {
		fmt.Fprintf(&text, "  %s: {kind: host, address: %q, login: {as: root, secret: key}}\n", a.Target, a.Address)
	}
	fmt.Fprintf(&text, "  staff: {kind: directory, address: %q, login: {as: %q, secret: word}, settings: {people: %q, groups: %q}}\n",
		dir.Address, dir.As, dir.Settings["people"], dir.Settings["groups"])
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
	return s, hosts, err
}

// joinBy lets five hundred join and waits until all is done, in s.
func joinBy(ctx context.Context, s *service.Service, batch string, number int, none bool) (float64, error) {
	var csv strings.Builder
	csv.WriteString("id,name,number,roles\n")
	for i := range joinPeople {
		fmt.Fprintf(&csv, "%s%d,Åse Hand %d,%d,crew\n", batch, i, i, number+i)
	}
	began := time.Now()
	p, err := s.Join(ctx, door.Itself, life.JoinRequest{CSV: csv.String(), Batch: batch, NoSecret: none, Because: "bench"})
	if err != nil || p.Round.ID == 0 {
		return 0, fmt.Errorf("%s: %w", p.Words, err)
	}
	for {
		r, err := s.Round(ctx, door.Itself, p.Round.ID)
		if err != nil {
			return 0, err
		}
		if r.EndedAt != nil {
			if r.Outcomes["done"] != r.Steps {
				return 0, fmt.Errorf("round %d: %v", r.ID, r.Outcomes)
			}
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	for waiting := 0; !none && waiting < joinPeople; time.Sleep(20 * time.Millisecond) {
		list, err := s.ListHandovers(ctx, door.Itself, life.HandoverChoice{Batch: batch, State: life.ToCollect, Size: 1000})
		if err != nil {
			return 0, err
		}
		if waiting = len(list.Items); time.Since(began) > 10*time.Minute {
			return 0, fmt.Errorf("%d of %d can be collected", waiting, joinPeople)
		}
	}
	return time.Since(began).Seconds(), nil
}
