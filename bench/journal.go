package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// instant is a target in memory: it answers after a pause for each step, or at once.
type instant struct{ pause time.Duration }

func (instant) Schema() model.Schema {
	return model.Schema{Kind: "instant", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "."),
			Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"},
				{Name: model.FullName, Settable: true, From: "name"}, {Name: "shell", Settable: true}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}}
}

func (i instant) Open(context.Context, connect.Access) (connect.Session, error) { return i, nil }
func (instant) Close() error                                                    { return nil }

func (instant) Survey(context.Context, func(model.Object) error) error { return nil }

func (i instant) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return connecttest.ByHand(i.apply), nil
}

func (i instant) apply(_ context.Context, acts []connect.Act) []connect.Answer {
	out := make([]connect.Answer, len(acts))
	for n, a := range acts {
		time.Sleep(i.pause)
		out[n] = connect.Answer{Outcome: connect.Done, Object: &model.Object{Kind: model.Account, Name: a.Name, Unique: "u-" + a.Name,
			Attributes: a.After().With(model.Disabled, "no")}}
	}
	return out
}

// carrier is a service on a database, with targets in memory.
func carrier(ctx context.Context, dsn, dir string, pause time.Duration) (*service.Service, func(), error) {
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return nil, nil, err
	}
	svc, err := service.New(service.Config{Store: s, Kinds: connect.Kinds{"instant": instant{pause}},
		KeyFile: filepath.Join(dir, "seal.key"), Log: slog.New(slog.NewTextHandler(os.Stderr,
			&slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return nil, nil, err
	}
	return svc, func() { svc.Close(); s.Close() }, nil
}

// crew is a declaration of so many users on so many targets in memory.
func crew(users, targets int) []declare.File {
	var b strings.Builder
	b.WriteString("roost: 1\nroles: {all: {held-when: \"true\", gives: [{at: {kind: instant}, account: {shell: /bin/bash}}]}}\ntargets:\n")
	for i := range targets {
		fmt.Fprintf(&b, "  t%03d: {kind: instant, address: x, login: {as: x}}\n", i)
	}
	b.WriteString("users:\n")
	for i := range users {
		fmt.Fprintf(&b, "  hand.%05d: {name: \"Åse Hand %d\", number: %d}\n", i, i, 10_000+i)
	}
	return []declare.File{{Name: "crew.yaml", Text: b.String()}}
}

// drafted declares, surveys and drafts everything, and approves it.
func drafted(ctx context.Context, s *service.Service, users, targets int) (rounds.Round, error) {
	if _, err := s.Declare(ctx, door.Itself, crew(users, targets), "bench"); err != nil {
		return rounds.Round{}, err
	}
	if _, err := s.Survey(ctx, door.Itself, nil, nil); err != nil {
		return rounds.Round{}, err
	}
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "bench"})
	if err != nil {
		return r, err
	}
	return s.Approve(ctx, door.Itself, r.ID)
}

// carried runs a round and waits for the end of its last step.
func carried(ctx context.Context, s *service.Service, id int64) (time.Duration, error) {
	began := time.Now()
	if _, err := s.RunRound(ctx, door.Itself, id); err != nil {
		return 0, err
	}
	for {
		r, err := s.Round(ctx, door.Itself, id)
		if err != nil {
			return 0, err
		}
		if r.EndedAt != nil {
			if r.State != rounds.Complete {
				return 0, fmt.Errorf("the round is %s: %v", r.State, r.Outcomes)
			}
			last, err := s.RoundSteps(ctx, door.Itself, id, rounds.StepChoice{After: fmt.Sprint(r.Steps - 1)}, 1)
			if err != nil || len(last.Items) == 0 {
				return 0, fmt.Errorf("no last step: %w", err)
			}
			// The last batch's time is that of its beginning to be written down: one of forty more.
			took := last.Items[0].EndedAt.Sub(*r.StartedAt)
			return took + took/40, nil
		}
		if time.Since(began) > 5*time.Minute {
			return 0, fmt.Errorf("the round does not end: %v", r.Outcomes)
		}
		time.Sleep(250 * time.Millisecond) // as often as the console asks; the times are those of the record
	}
}

// journalSteps: ten thousand steps on a target that answers at once, journalled
// twice, read back and recorded, durable; against the rate they should have.
func journalSteps(ctx context.Context, w *workbench) (float64, float64, error) {
	steps, aim := sized(10_000), 6_000.0
	dsn, err := w.database(ctx)
	if err != nil {
		return 0, 0, err
	}
	s, end, err := carrier(ctx, dsn, w.dir, 0)
	if err != nil {
		return 0, 0, err
	}
	defer end()
	s.Begin()
	r, err := drafted(ctx, s, steps, 1)
	if err != nil {
		return 0, 0, err
	}
	took, err := carried(ctx, s, r.ID)
	return took.Seconds(), float64(steps) / aim, err
}

// carryFor is what a process of its own does for threeProcesses.
func carryFor(ctx context.Context, dsn, dir string) error {
	s, end, err := carrier(ctx, dsn, dir, 50*time.Millisecond)
	if err != nil {
		return err
	}
	defer end()
	s.Begin()
	_, err = io.Copy(io.Discard, os.Stdin) // until whoever started it ends
	return err
}

// threeProcesses: three services that share a round whose targets take 50 ms for a step, against one.
func threeProcesses(ctx context.Context, w *workbench) (float64, float64, error) {
	users, targets := 40, sized(72)
	dsn, err := w.database(ctx)
	if err != nil {
		return 0, 0, err
	}
	s, end, err := carrier(ctx, dsn, w.dir, 0)
	if err != nil {
		return 0, 0, err
	}
	defer end() // it drafts, and carries nothing itself
	var took [2]time.Duration
	for i, processes := range []int{1, 3} {
		r, err := drafted(ctx, s, users, targets) // the survey sees nothing: everything is to do again
		if err != nil {
			return 0, 0, err
		}
		var wg sync.WaitGroup
		var stops []io.Closer
		for range processes {
			cmd := exec.CommandContext(ctx, os.Args[0], "-carry", dsn, "-dir", w.dir)
			in, err := cmd.StdinPipe()
			if err != nil {
				return 0, 0, err
			}
			cmd.Stderr = os.Stderr
			if err := cmd.Start(); err != nil {
				return 0, 0, err
			}
			stops = append(stops, in)
			wg.Go(func() { _ = cmd.Wait() })
		}
		time.Sleep(time.Second) // until all of them look
		took[i], err = carried(ctx, s, r.ID)
		for _, x := range stops {
			x.Close()
		}
		wg.Wait()
		if err != nil {
			return 0, 0, err
		}
	}
	return took[1].Seconds(), took[0].Seconds(), nil
}

// Offers, Knows: nothing more.
func (instant) Offers() connect.Offers { return connect.Offers{} }
func (instant) Knows() connect.Knows   { return connect.Knows{} }
