package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// tables is what tables take on disk, in bytes, of the workbench's own database.
func (w *workbench) tables(names ...string) (sum float64) {
	for _, name := range names {
		found, _ := filepath.Glob(filepath.Join(w.dir, "db", "data", "*", name+".ibd"))
		for _, f := range found {
			if info, err := os.Stat(f); err == nil {
				sum += float64(info.Size())
			}
		}
	}
	return sum
}

// longSteps are those of a hundred rounds of a hundred thousand that ended long ago.
type longSteps struct {
	rows, bytes float64 // that a step takes as a row, and packed
	packed      float64 // a second
	worst       time.Duration
	undone      time.Duration
}

var (
	longRounds = sized(100)
	longRound  = sized(100_000)
)

func (w *workbench) longSteps(ctx context.Context) (*longSteps, error) {
	if w.oldSteps != nil {
		return w.oldSteps, nil
	}
	s, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	l := &longSteps{}
	long := time.Now().AddDate(0, -6, 0).UTC()
	for i := range longRounds {
		list := make([]store.Step, longRound)
		for j := range list {
			user := fmt.Sprintf("hand.%06d", (i*31+j*7919)%longRound)
			st := store.Step{Wave: 1 + j/(longRound/4), Stage: j % 3, Outcome: "done", Act: model.Act{
				Target: fmt.Sprintf("target-%02d", j/5000), Verb: model.Modify, Object: model.Account, Name: user, User: user,
				Changes: []model.Change{{Attribute: "shell", Before: []string{"/bin/sh"}, After: []string{"/bin/bash"},
					Why: model.Why{Role: "crew", At: model.Location{File: "people-07.yaml", Line: 5 * j}}}}}}
			if j%997 == 3 {
				st.Outcome = "failed"
			}
			list[j] = st
		}
		if err := s.Tx(ctx, func(tx *store.Tx) error {
			r, err := tx.AddRound(ctx, store.Round{State: "running", Because: "autumn", DraftedBy: "odd.strand", DraftedAt: long}, list,
				nil, nil)
			if err == nil {
				_, err = tx.EndRound(ctx, r.ID, "done", long)
			}
			return err
		}); err != nil {
			return nil, err
		}
		if i == 0 {
			l.rows = w.tables("step") / float64(longRound)
		}
		began := time.Now()
		for found := true; found; {
			if found, err = s.PackSteps(ctx, long.Add(time.Hour)); err != nil {
				return nil, err
			}
		}
		l.packed += time.Since(began).Seconds()
	}
	l.packed = float64(longRounds*longRound) / l.packed
	l.bytes = w.tables("step_part") / float64(longRounds*longRound)
	for _, f := range []store.StepFilter{{}, {After: 88_000}, {Outcomes: []string{"failed"}}, {Target: "target-13"},
		{Outcomes: []string{"not-tried"}}, {Target: "target-07", Outcomes: []string{"failed"}}} {
		began := time.Now()
		if _, _, err := s.Steps(ctx, int64(longRounds+1)/2, f, 50); err != nil {
			return nil, err
		}
		took := time.Since(began)
		fmt.Printf("# steps %+v in %v\n", f, took.Round(time.Millisecond))
		l.worst = max(l.worst, took)
	}
	began := time.Now()
	err = s.Tx(ctx, func(tx *store.Tx) error { return tx.Undone(ctx, int64(longRounds+1)/2) })
	l.undone, w.oldSteps = time.Since(began), l
	return l, err
}

// stepsLong: what one of ten million old steps takes, in bytes, beside what it takes as a row.
func stepsLong(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longSteps(ctx)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# packed: %.0f steps/s; a round of %d taken back in %v\n", l.packed, longRound, l.undone.Round(time.Millisecond))
	return l.bytes, l.rows, nil
}

// stepsLongPage: the slowest page of them, in ms.
func stepsLongPage(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longSteps(ctx)
	if err != nil {
		return 0, 0, err
	}
	return l.worst.Seconds() * 1000, 300, nil
}

// longPast is what ten targets held before, each account changed a thousand times.
type longPast struct {
	bytes   float64 // that one earlier state takes
	wrote   float64 // changes a second
	moments [3]time.Duration
}

var (
	pastTargets  = 10
	pastAccounts = sized(10_000)
	pastChanges  = sized(100)
)

func (w *workbench) longPast(ctx context.Context) (*longPast, error) {
	if w.past != nil {
		return w.past, nil
	}
	s, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	l := &longPast{}
	accounts := func(target, turn int) (out []model.Object) {
		for i := range pastAccounts {
			user := fmt.Sprintf("hand.%06d", target*pastAccounts+i)
			o := model.Object{Kind: model.Account, Name: user, Unique: user}
			o.Attributes = o.Attributes.With(model.FullName, "Kaisa Åberg "+user).With(model.Number, fmt.Sprint(20_000+i)).
				With(model.Home, "/home/"+user).With("shell", fmt.Sprintf("/bin/shell-%d", turn))
			out = append(out, o)
		}
		return out
	}
	began, mark := time.Now(), make([]time.Time, pastChanges+1)
	for turn := range pastChanges + 1 {
		for t := range pastTargets {
			if _, err := survey(ctx, s, fmt.Sprintf("target-%02d", t), accounts(t, turn)); err != nil {
				return nil, err
			}
		}
		mark[turn] = time.Now()
	}
	l.wrote = float64(pastTargets*pastAccounts*pastChanges) / time.Since(began).Seconds()
	l.bytes = w.tables("observed_past") / float64(pastTargets*pastAccounts*pastChanges)
	pause(20 * time.Second) // what was written is put away
	for i, at := range []time.Time{mark[pastChanges-1], mark[pastChanges/2], mark[0]} {
		var took []float64
		for range 3 {
			began := time.Now()
			list, _, err := s.ObservedAt(ctx, "target-04", at.UTC())
			if err != nil || len(list) != pastAccounts {
				return nil, fmt.Errorf("%d accounts at %v: %w", len(list), at, err)
			}
			took = append(took, time.Since(began).Seconds())
		}
		l.moments[i] = time.Duration(median(took) * float64(time.Second))
	}
	w.past = l
	return l, nil
}

// pastLong: what one of ten million earlier states takes, in bytes.
func pastLong(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longPast(ctx)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# %.0f changes/s\n", l.wrote)
	return l.bytes, 350, nil
}

// pastLongMoment: what a target of ten thousand held a little while ago, in ms; half of all changes ago, and at the beginning.
func pastLongMoment(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longPast(ctx)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# as it was half of all changes ago %v, at the beginning %v\n", l.moments[1].Round(time.Millisecond),
		l.moments[2].Round(time.Millisecond))
	return l.moments[0].Seconds() * 1000, 300, nil
}
