package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

var (
	cutHosts  = sized(40)
	cutPeople = 5
	cutOthers = sized(250) // whom a round changes on each host meanwhile
)

// cut is how long it took to shut five people out of forty hosts, in s, beside the barest exchanges that do the same.
type cut struct{ prepared, first, last, bare float64 }

// cutOf suspends five people while a round of ten thousand steps runs on the same hosts.
func (w *workbench) cutOf(ctx context.Context) (*cut, error) {
	if w.cut != nil {
		return w.cut, nil
	}
	hosts, err := fleet(ctx, w, cutHosts, cutOthers+2*cutPeople)
	if err != nil {
		return nil, err
	}
	s, err := w.staffed(ctx, hosts)
	if err != nil {
		return nil, err
	}
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "bench"})
	if err == nil {
		_, err = s.Approve(ctx, door.Itself, r.ID)
	}
	if err == nil {
		_, err = s.RunRound(ctx, door.Itself, r.ID)
	}
	if err != nil {
		return nil, err
	}
	pause(2 * time.Second) // it is well under way
	c := &cut{}
	var users []string
	for i := range cutPeople {
		users = append(users, fmt.Sprintf("found%d", i+1))
	}
	began := time.Now()
	list, err := s.Suspend(ctx, door.Itself, life.SuspendRequest{Users: users, Because: "bench"})
	if err != nil {
		return nil, err
	}
	c.prepared = time.Since(began).Seconds()
	for shut := 0; shut < cutHosts*cutPeople; time.Sleep(20 * time.Millisecond) {
		shut = 0
		for _, x := range list {
			now, err := s.SuspensionByID(ctx, door.Itself, x.ID)
			if err != nil {
				return nil, err
			}
			for _, a := range now.Accounts {
				if a.State != life.Shut {
					continue
				}
				shut++
				took := a.EndedAt.Sub(began).Seconds()
				if c.last = max(c.last, took); c.first == 0 || took < c.first {
					c.first = took
				}
			}
		}
		if time.Since(began) > 2*time.Minute {
			return nil, fmt.Errorf("%d of %d accounts are shut", shut, cutHosts*cutPeople)
		}
	}
	if c.bare, err = bareCut(hosts); err != nil {
		return nil, err
	}
	if r, err = s.Round(ctx, door.Itself, r.ID); err != nil {
		return nil, err
	}
	if r.EndedAt != nil && !testing.Testing() {
		return nil, fmt.Errorf("the round of %d steps ended meanwhile", r.Steps)
	}
	fmt.Printf("# %d steps, of which have ended: %v; asked for in %.3f s\n", r.Steps, r.Outcomes, c.prepared)
	w.cut = c
	return c, nil
}

// bareCut shuts five others by the system's own tools, all hosts side by side, and asks whether they are let in.
func bareCut(hosts []connect.Access) (float64, error) {
	var script strings.Builder
	for i := range cutPeople {
		name := fmt.Sprintf("found%d", cutOthers+cutPeople+i+1)
		fmt.Fprintf(&script, "usermod -L -e 1 -- %s\nsu -s /bin/sh -c true -- %s\n", name, name)
	}
	began := time.Now()
	errs := make([]error, len(hosts))
	var wg sync.WaitGroup
	for i, a := range hosts {
		wg.Go(func() { // su says no, which is as it should be
			if _, err := bareExec(a, script.String()+"exit 0\n"); err != nil {
				errs[i] = err
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

// staffed is a service that knows the hosts, whose their accounts are, and that most want another shell.
func (w *workbench) staffed(ctx context.Context, hosts []connect.Access) (*service.Service, error) {
	st, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	s, err := service.New(service.Config{Store: st, Kinds: connect.Kinds{host.Kind: host.Connector{}}, KeyFile: filepath.Join(w.dir,
		"cut.key"),
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return nil, err
	}
	s.Begin()
	w.later(s.Close)
	var text strings.Builder
	text.WriteString("roost: 1\nusers:\n")
	var links []model.Link
	for i := range cutOthers + 2*cutPeople {
		name, role := fmt.Sprintf("found%d", i+1), "hand"
		if i < cutPeople || i >= cutOthers+cutPeople {
			role = "guest"
		}
		fmt.Fprintf(&text, "  %s: {name: Found %d, number: %d, roles: [%s]}\n", name, i+1, 2001+i, role)
		links = append(links, model.Link{User: name, Name: name})
	}
	text.WriteString("roles:\n  guest: {gives: [{at: {kind: host}}]}\n" +
		"  hand: {gives: [{at: {kind: host}, account: {shell: /bin/bash}}]}\ntargets:\n")
	for _, a := range hosts {
		fmt.Fprintf(&text,
			"  %s: {kind: host, address: %q, login: {as: root, secret: key}, limits: {disable: 1000, disable-share: 100%%}}\n",
			a.Target, a.Address)
	}
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "cut.yaml", Text: text.String()}}, "bench"); err != nil {
		return nil, err
	}
	if err := s.SetSecret(ctx, door.Itself, "key", hosts[0].Secret); err != nil {
		return nil, err
	}
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	for _, x := range got {
		if err == nil {
			err = s.AcceptKey(ctx, door.Itself, x.Target, x.Print)
		}
		if err == nil {
			err = st.Tx(ctx, func(tx *store.Tx) error { return tx.PutLinks(ctx, x.Target, links, 0, time.Now()) })
		}
	}
	if err == nil {
		_, err = s.Survey(ctx, door.Itself, nil, nil)
	}
	return s, err
}

// suspendFirst: until the first account is shut and proved, in s, against one.
func suspendFirst(ctx context.Context, w *workbench) (float64, float64, error) {
	c, err := w.cutOf(ctx)
	if err != nil {
		return 0, 0, err
	}
	return c.first, 1, nil
}

// suspendLast: until the last of 200 is, against the bare exchanges side by side.
func suspendLast(ctx context.Context, w *workbench) (float64, float64, error) {
	c, err := w.cutOf(ctx)
	if err != nil {
		return 0, 0, err
	}
	return c.last, c.bare, nil
}
