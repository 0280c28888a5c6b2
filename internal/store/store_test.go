package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var (
	ctx = context.Background()
	now = time.Date(2026, 11, 23, 8, 0, 0, 123456000, time.UTC)
)

func open(t *testing.T) (*store.Store, *sql.DB) {
	t.Helper()
	dsn := dbtest.Create(t)
	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if again, err := store.Open(ctx, dsn); err != nil {
		t.Fatalf("the tables cannot be brought up to date twice: %v", err)
	} else {
		again.Close()
	}
	return s, db
}

func tx(t *testing.T, s *store.Store, fn func(*store.Tx) error) {
	t.Helper()
	if err := s.Tx(ctx, fn); err != nil {
		t.Fatal(err)
	}
}

// A database that was made to take names for each other keeps ours apart, or is refused.
func TestCollation(t *testing.T) {
	dsn := dbtest.Create(t)
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`ALTER DATABASE CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci`); err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	g, err := s.Sight(ctx, "t", now)
	if err != nil {
		t.Fatal(err)
	}
	names := []string{"Marit", "marit", "marit ", "márit", "zoë", "Ω"}
	var objects []model.Object
	for _, n := range names {
		objects = append(objects, model.Object{Kind: model.Account, Name: n})
	}
	if err := g.Put(ctx, objects); err != nil {
		t.Fatal(err)
	}
	accounts, _, _, err := s.Holding(ctx, "t")
	var got []string
	for _, a := range accounts {
		got = append(got, a.Name)
	}
	slices.Sort(names)
	if err != nil || !slices.Equal(got, names) {
		t.Errorf("%q %v, want %q in this order", got, err, names)
	}
	if _, err := db.Exec(`ALTER TABLE observed MODIFY name VARCHAR(200) COLLATE utf8mb4_general_ci NOT NULL`); err == nil {
		t.Error("the names could be taken for each other") // they are there twice, by that collation
	}
	if _, err := db.Exec(`ALTER TABLE decision MODIFY name VARCHAR(200) COLLATE utf8mb4_general_ci NOT NULL`); err != nil {
		t.Fatal(err)
	}
	if other, err := store.Open(ctx, dsn); err == nil ||
		!strings.Contains(err.Error(), "compares decision.name otherwise than by every byte") {
		if other != nil {
			other.Close()
		}
		t.Errorf("%v", err)
	}
}

// Rows of any size are written in statements that a server takes.
func TestLargeRows(t *testing.T) {
	s, _ := open(t)
	g, err := s.Sight(ctx, "t", now)
	if err != nil {
		t.Fatal(err)
	}
	var objects []model.Object
	for i := range 60 {
		o := model.Object{Kind: model.GroupKind, Name: fmt.Sprint("group ", i)}
		o.Attributes = o.Attributes.With("about", strings.Repeat("x", 2<<20))
		objects = append(objects, o)
	}
	if err := g.Put(ctx, objects); err != nil {
		t.Fatal(err)
	}
	if _, others, _, err := s.Holding(ctx, "t"); err != nil || len(others) != 60 {
		t.Errorf("%d %v", len(others), err)
	}
}

func TestLease(t *testing.T) {
	s, _ := open(t)
	take := func(owner string, during time.Duration) bool {
		ok, err := s.Lease(ctx, "target/arctic-tern", owner, during)
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	if !take("a", time.Minute) || take("b", time.Minute) || !take("a", 50*time.Millisecond) {
		t.Error("a lease belongs to who took it, and can be renewed")
	}
	deadline := time.Now().Add(5 * time.Second)
	for !take("b", time.Minute) {
		if time.Now().After(deadline) {
			t.Fatal("a lease does not run out")
		}
	}
	if err := s.Release(ctx, "target/arctic-tern", "a"); err != nil || take("a", time.Minute) {
		t.Error("a lease was given back by somebody else")
	}
	if err := s.Release(ctx, "target/arctic-tern", "b"); err != nil || !take("a", time.Minute) {
		t.Error("a lease was not given back")
	}
}

func finding(target, name, user string, kind model.FindingKind, verb model.Verb) model.Finding {
	return model.Finding{Kind: kind, Act: model.Act{Target: target, Verb: verb, Object: model.Account, Name: name, User: user},
		Note: "a note with ’ and \""}
}

// A difference keeps the day it was first seen, until it is gone.
func TestObserved(t *testing.T) {
	s, db := open(t)
	odd := []string{"o'neil; reboot", `Durand, "A"`, "50%_off", "نور", "MARIT", "marit"}
	var objects []model.Object
	for i, name := range odd {
		o := model.Object{Kind: model.Account, Name: name, Unique: fmt.Sprint("u", i), System: i == 0}
		objects = append(objects, model.Object{Kind: o.Kind, Name: o.Name, Unique: o.Unique, System: o.System,
			Attributes: o.Attributes.With("shell", "/bin/sh").With("keys", "a", "b")})
	}
	group := model.Object{Kind: model.GroupKind, Name: "crew"}
	group.Attributes = group.Attributes.With(model.Members, `Durand, "A"`, "marit")
	see := func(at time.Time, objects ...model.Object) (written int) {
		t.Helper()
		g, err := s.Sight(ctx, "arctic-tern", at)
		if err == nil {
			err = g.Put(ctx, objects)
		}
		if err == nil {
			var other []model.Named
			other, err = g.Done(ctx)
			written = len(other)
		}
		if err != nil {
			t.Fatal(err)
		}
		return written
	}
	if n := see(now, append(objects, group)...); n != len(odd)+1 {
		t.Errorf("%d written", n)
	}
	if n := see(now.Add(time.Minute), append(objects, group)...); n != 0 {
		t.Errorf("%d written though nothing changed", n)
	}
	accounts, groups, _, err := s.Holding(ctx, "arctic-tern")
	if err != nil || len(accounts) != len(odd) || len(groups) != 1 {
		t.Fatalf("%d accounts, %d groups, %v", len(accounts), len(groups), err)
	}
	for _, o := range accounts {
		if !slices.Contains(odd, o.Name) || len(o.Attributes.Get("keys")) != 2 {
			t.Errorf("%+v", o)
		}
	}
	if got, err := s.SetsOf(ctx, "arctic-tern", model.Named{Kind: model.Account, Name: `Durand, "A"`}); err != nil ||
		!slices.Equal(got, []model.Named{{Kind: model.GroupKind, Name: "crew"}}) {
		t.Errorf("%v %v", got, err)
	}
	if page, _, total, err := s.ObservedPage(ctx, "arctic-tern", model.Account, "50%_", "", "", 5); err != nil || total != 1 ||
		page[0].Name != "50%_off" {
		t.Errorf("%v %d %v", page, total, err)
	}
	var names []string
	for after, turn := "", 0; turn == 0 || after != ""; turn++ {
		page, next, total, err := s.ObservedPage(ctx, "arctic-tern", model.Account, "", "", after, 2)
		if err != nil || total != 6 || turn > 3 {
			t.Fatalf("page behind %q: %d in all, %v", after, total, err)
		}
		for _, o := range page {
			names = append(names, o.Name)
		}
		if after = next; next == "" && !page[len(page)-1].System {
			t.Errorf("the target's own come last: %v", page)
		}
	}
	if len(names) != 6 || !slices.IsSorted(names[:5]) {
		t.Errorf("page by page: %q", names)
	}
	if _, _, _, err := s.ObservedPage(ctx, "arctic-tern", model.Account, "", "", "nowhere", 2); !errors.Is(err, store.ErrNoSpot) {
		t.Errorf("behind nothing: %v", err)
	}
	moved := objects[1]
	moved.Attributes = moved.Attributes.With("shell", "/bin/bash")
	if n := see(now.Add(time.Hour), objects[0], moved); n != 6 {
		t.Errorf("%d written, want one changed and five gone", n)
	}
	counts := func(want map[model.ObjectKind]int) {
		t.Helper()
		if n, err := s.CountObjects(ctx, "arctic-tern"); err != nil || !maps.Equal(n, want) {
			t.Errorf("it is counted to hold %v, want %v (%v)", n, want, err)
		}
	}
	counts(map[model.ObjectKind]int{model.Account: 2})
	// What was there before is still known of the past.
	for at, want := range map[time.Duration]string{-time.Second: "0 0 ", time.Minute: "6 1 /bin/sh", time.Hour: "2 0 /bin/bash"} {
		accounts, others, err := s.ObservedAt(ctx, "arctic-tern", now.Add(at))
		shell := ""
		for _, o := range accounts {
			if o.Name == moved.Name {
				shell = o.Attributes.One("shell")
			}
		}
		if got := fmt.Sprintf("%d %d %s", len(accounts), len(others), shell); err != nil || got != want {
			t.Errorf("after %s: %s, want %s (%v)", at, got, want, err)
		}
	}
	if accounts, groups, _, _ := s.Holding(ctx, "arctic-tern"); len(accounts) != 2 || len(groups) != 0 {
		t.Errorf("%d accounts and %d groups outlived the survey that did not see them", len(accounts), len(groups))
	}
	tx(t, s, func(tx *store.Tx) error {
		if err := tx.PutTarget(ctx, store.Target{Name: "arctic-tern", Words: strings.Repeat("å", 2000)}); err != nil {
			return err
		}
		return tx.PutObjects(ctx, "arctic-tern", []model.Object{objects[5], objects[1]},
			[]model.Named{{Kind: model.Account, Name: objects[0].Name}, {Kind: model.Account, Name: "never.was"}}, now.Add(2*time.Hour))
	})
	counts(map[model.ObjectKind]int{model.Account: 2})
	past := func() (n int) {
		if err := db.QueryRow(`SELECT COUNT(*) FROM observed_past`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := past()
	tx(t, s, func(tx *store.Tx) error {
		return tx.PutObjects(ctx, "arctic-tern", []model.Object{objects[1]}, nil, now.Add(3*time.Hour))
	})
	if n := past(); n != before {
		t.Errorf("what was read back as it was is kept as past: %d rows, %d before", n, before)
	}
	if o, err := s.Object(ctx, "arctic-tern", model.Account, "marit"); err != nil || o.Unique != "u5" {
		t.Errorf("%+v %v", o, err)
	}
	if _, err := s.Object(ctx, "arctic-tern", model.Account, "Marit"); !errors.Is(err, store.ErrNone) {
		t.Errorf("names that differ in case are one: %v", err)
	}
}

func TestRound(t *testing.T) {
	s, db := open(t)
	counted := func() {
		t.Helper()
		var n, wrong int
		if err := db.QueryRow(`SELECT COUNT(*), SUM(real_n <> COALESCE(told_n, 0)) FROM
			(SELECT round, wave, tier, target, outcome, COUNT(*) AS real_n FROM step GROUP BY round, wave, tier, target, outcome) r
			LEFT JOIN (SELECT round, wave, tier, target, outcome, SUM(n) AS told_n FROM phase GROUP BY round, wave, tier, target, outcome) p
			USING (round, wave, tier, target, outcome)`).Scan(&n, &wrong); err != nil || n == 0 || wrong > 0 {
			t.Errorf("%d of %d counts of steps are wrong: %v", wrong, n, err)
		}
	}
	list := make([]store.Step, 1200)
	for i := range list {
		list[i] = store.Step{Stage: i % 4, Outcome: "waiting",
			Act: model.Act{Target: fmt.Sprintf("t%d", i/400), Verb: model.Create, Object: model.Account, Name: fmt.Sprint("n", i),
				User: fmt.Sprint("u", i%10)}}
	}
	var id int64
	tx(t, s, func(tx *store.Tx) error {
		r, err := tx.AddRound(ctx, store.Round{State: "draft", Because: "spring", DraftedBy: "odd", DraftedAt: now}, list,
			[]store.Hold{{Kind: "removals", Target: "t1", Words: "too many"}}, []store.RoundAct{{"t1", "create account", 1200}})
		id = r.ID
		return err
	})
	if page, total, err := s.Steps(ctx, id, store.StepFilter{After: 1199}, 10); err != nil || total != 1200 || len(page) != 1 ||
		page[0].Seq != 1200 || page[0].Act.Name != "n1199" {
		t.Errorf("%v %d %v", page, total, err)
	}
	if r, err := s.Round(ctx, id); err != nil || r.People != 10 {
		t.Errorf("%d people, %v", r.People, err)
	}
	// Of eight who approve at once, one does.
	var wg sync.WaitGroup
	var mu sync.Mutex
	won := 0
	for i := range 8 {
		wg.Go(func() {
			err := s.Tx(ctx, func(tx *store.Tx) error {
				moved, err := tx.MoveRound(ctx, id, []string{"draft"}, "approved", fmt.Sprint("operator", i), now)
				if moved {
					mu.Lock()
					won++
					mu.Unlock()
				}
				return err
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d approved it", won)
	}
	carrier := store.Holder{What: "target/arctic", Owner: "me"}
	if ok, err := s.Lease(ctx, carrier.What, carrier.Owner, time.Hour); !ok || err != nil {
		t.Fatal(err)
	}
	if n, err := s.BeginSteps(ctx, id, carrier, []int{1, 2, 3}, now); err != nil || n != 0 {
		t.Fatalf("%d steps of a round that does not run were begun (%v)", n, err)
	}
	at := now.Add(time.Hour)
	tx(t, s, func(tx *store.Tx) error {
		if ok, err := tx.Schedule(ctx, id, &at, true); !ok || err != nil {
			t.Errorf("%v %v", ok, err)
		}
		return nil
	})
	for when, want := range map[time.Time]int{now: 0, at: 1} {
		if due, err := s.DueRounds(ctx, when); err != nil || len(due) != want {
			t.Errorf("%v: %d due (%v)", when, len(due), err)
		}
	}
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.MoveRound(ctx, id, []string{"approved"}, "running", "odd", now)
		return err
	})
	if due, err := s.DueRounds(ctx, at); err != nil || len(due) != 0 {
		t.Errorf("a round that runs is due: %v %v", due, err)
	}
	// Whose lease has run out begins nothing, nor does who never had it.
	late := store.Holder{What: "target/late", Owner: "me"}
	if ok, err := s.Lease(ctx, late.What, late.Owner, time.Microsecond); !ok || err != nil {
		t.Fatal(err)
	}
	for _, h := range []store.Holder{late, {What: carrier.What, Owner: "another"}, {What: "target/none", Owner: "me"}} {
		if n, err := s.BeginSteps(ctx, id, h, []int{1, 2, 3}, now); err != nil || n != 0 {
			t.Errorf("%+v began %d steps (%v)", h, n, err)
		}
	}
	counted()
	if n, err := s.BeginSteps(ctx, id, carrier, []int{1, 2, 3}, now); err != nil || n != 3 {
		t.Fatalf("%d %v", n, err)
	}
	if h, err := s.Holds(ctx, id); err != nil || len(h) != 1 || h[0].Words != "too many" {
		t.Errorf("%v %v", h, err)
	}
	end := func() {
		tx(t, s, func(tx *store.Tx) error {
			open, err := tx.StillRunning(ctx, id, []int{1, 2, 9})
			if err != nil || open[9] {
				t.Errorf("%v %v", open, err)
			}
			var ended []store.Step
			for _, seq := range []int{1, 2} {
				if open[seq] {
					ended = append(ended, store.Step{Seq: seq, Outcome: "done", Words: strings.Repeat("ü", 3000)})
				}
			}
			n, err := tx.EndSteps(ctx, id, ended, now)
			if int(n) != len(ended) {
				t.Errorf("%d of %d ended", n, len(ended))
			}
			return err
		})
	}
	end()
	end() // told twice, it counts once
	counted()
	if _, err := s.BeginSteps(ctx, id, carrier, []int{1, 2}, now); err != nil { // what has ended is not begun again
		t.Fatal(err)
	}
	counts, err := s.CountSteps(ctx, id)
	by := map[string]int{}
	for _, c := range counts {
		by[c.Outcome] += c.N
	}
	if err != nil || by["done"] != 2 || by["running"] != 1 || by["waiting"] != 1197 {
		t.Errorf("%v %v", by, err)
	}
	if page, total, _ := s.Steps(ctx, id, store.StepFilter{Outcomes: []string{"running"}}, 5); total != 1 || page[0].Tries != 1 {
		t.Errorf("%+v", page)
	}
	if rounds, total, err := s.Rounds(ctx, []string{"approved", "running"}, store.Page{Size: 5}); err != nil || total != 1 ||
		rounds[0].ApprovedBy == "" {
		t.Errorf("%v %d %v", rounds, total, err)
	}
	if _, err := s.Round(ctx, id+1); !errors.Is(err, store.ErrNone) {
		t.Error(err)
	}
	// Stopped: what waits is not tried, what runs is finished, and then the round is over.
	tx(t, s, func(tx *store.Tx) error {
		if _, err := tx.MoveRound(ctx, id, []string{"running"}, "stopped", "ines", now); err != nil {
			return err
		}
		n, err := tx.DropSteps(ctx, id, "stopped by ines", now)
		if n != 1197 {
			t.Errorf("%d steps dropped", n)
		}
		return err
	})
	if open, err := s.UnfinishedRounds(ctx); err != nil || len(open) != 1 || open[0].StoppedBy != "ines" {
		t.Errorf("%v %v", open, err)
	}
	counted()
	if n, err := s.BeginSteps(ctx, id, carrier, []int{3, 4}, now); err != nil || n != 1 {
		t.Errorf("%d steps begun, want the one that ran (%v)", n, err)
	}
	if left, err := s.TargetSteps(ctx, id, "t0", 0, 0); err != nil || len(left) != 1 || left[0].Seq != 3 {
		t.Errorf("%v %v", left, err)
	}
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			if ended, err := tx.EndRound(ctx, id, "stopped", now); ended != want || err != nil {
				t.Errorf("%v %v", ended, err)
			}
			return nil
		})
	}
	counted()
	tx(t, s, func(tx *store.Tx) error { return tx.Undone(ctx, id) })
	counted()
	if r, err := s.Round(ctx, id); err != nil || r.State != "undone" {
		t.Errorf("%+v %v", r, err)
	}
}

func TestOperatorsAndSecrets(t *testing.T) {
	s, _ := open(t)
	o := store.Operator{Name: "odd.strand", FullName: "Odd Strand", Password: "$argon2id$", Duties: "look,run", MadeAt: now}
	tx(t, s, func(tx *store.Tx) error {
		n, err := tx.CountOperators(ctx)
		if n != 0 {
			t.Errorf("%d operators", n)
		}
		return errors.Join(err, tx.PutOperator(ctx, o))
	})
	hash := make([]byte, 32)
	tx(t, s, func(tx *store.Tx) error {
		return tx.PutCredential(ctx, store.Credential{Hash: hash, Operator: o.Name, Kind: "token", Name: "nightly", MadeAt: now,
			EndsAt: now.Add(time.Hour)})
	})
	if c, who, err := s.Credential(ctx, hash); err != nil || c.Name != "nightly" || who.FullName != "Odd Strand" ||
		who.Duties != "look,run" {
		t.Errorf("%+v %+v %v", c, who, err)
	}
	if err := s.UseCredential(ctx, hash, now); err != nil {
		t.Error(err)
	}
	if list, err := s.Tokens(ctx, ""); err != nil || len(list) != 1 || list[0].UsedAt == nil {
		t.Errorf("%+v %v", list, err)
	}
	tx(t, s, func(tx *store.Tx) error { // the one that has ended goes when another comes
		return tx.PutCredential(ctx, store.Credential{Hash: slices.Repeat([]byte{1}, 32), Operator: o.Name, Kind: "session",
			MadeAt: now.Add(2 * time.Hour), EndsAt: now.Add(3 * time.Hour)})
	})
	if _, _, err := s.Credential(ctx, hash); !errors.Is(err, store.ErrNone) {
		t.Error(err)
	}
	for _, sealed := range []string{"one", "two"} {
		tx(t, s, func(tx *store.Tx) error {
			return tx.PutSecret(ctx, store.Secret{Name: "vessel-key", Sealed: []byte(sealed), SetAt: now, SetBy: o.Name})
		})
	}
	if got, err := s.Secret(ctx, "vessel-key"); err != nil || string(got.Sealed) != "two" {
		t.Errorf("%s %v", got.Sealed, err)
	}
	if list, err := s.Secrets(ctx); err != nil || len(list) != 1 || list[0].Sealed != nil {
		t.Errorf("%+v %v", list, err)
	}
	tx(t, s, func(tx *store.Tx) error {
		found, err := tx.RemoveOperator(ctx, o.Name)
		if !found {
			t.Error("not found")
		}
		return err
	})
	if _, _, err := s.Credential(ctx, slices.Repeat([]byte{1}, 32)); !errors.Is(err, store.ErrNone) {
		t.Errorf("an operator's credentials outlive them: %v", err)
	}
}

func TestAway(t *testing.T) {
	s, _ := open(t)
	s.Close()
	if err := s.Ping(ctx); !store.Away(err) {
		t.Errorf("%v", err)
	}
	for _, err := range []error{nil, store.ErrNone, context.Canceled} {
		if store.Away(err) {
			t.Errorf("%v does not mean that it is away", err)
		}
	}
	if _, err := store.Open(ctx, "nonsense"); err == nil || !strings.Contains(err.Error(), "database address") {
		t.Error(err)
	}
}
