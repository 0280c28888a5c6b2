package service

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/clustertest"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/store"
)

// fleet is many targets in memory, each of its own, that count what is done to them.
type fleet struct {
	servicetest.Tern
	ships map[string]*ship
}

type ship struct {
	servicetest.Tern
	done map[string]int // how often each account was made
}

func (f *fleet) Open(_ context.Context, a connect.Access) (connect.Session, error) {
	f.Mu.Lock()
	defer f.Mu.Unlock()
	s := f.ships[a.Target]
	if s == nil {
		s = &ship{Tern: servicetest.Tern{Objects: map[string]model.Object{}, Pause: 20 * time.Millisecond}, done: map[string]int{}}
		f.ships[a.Target] = s
	}
	return s, nil
}

func (s *ship) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return connecttest.ByHand(s.Apply), nil
}

func (s *ship) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	before := map[string]bool{}
	s.Mu.Lock()
	for _, a := range acts {
		before[a.Name] = s.Object(model.Named{Kind: model.Account, Name: a.Name}) != nil
	}
	s.Mu.Unlock()
	out := s.Tern.Apply(ctx, acts)
	s.Mu.Lock()
	defer s.Mu.Unlock()
	for _, a := range acts {
		if !before[a.Name] && s.Object(model.Named{Kind: model.Account, Name: a.Name}) != nil {
			s.done[a.Name]++
		}
	}
	return out
}

// Three services on three nodes of a cluster share one round, and one of the
// nodes is lost in the middle: every step is done once, and told once.
func TestCluster(t *testing.T) {
	cluster := clustertest.Start(t)
	const targets, users, groups = 24, 40, 300
	var text strings.Builder
	text.WriteString("roost: 1\nroles: {crew: {gives: [{at: {kind: tern}}]}}\ntargets:\n")
	for i := range targets {
		fmt.Fprintf(&text, "  t%02d: {kind: tern, address: \"a:1\", login: {as: root}}\n", i)
	}
	text.WriteString("users:\n")
	for i := range users {
		fmt.Fprintf(&text, "  %s: {name: Hand, number: %d, roles: [crew]}\n", letters(i+1), 1000+i)
	}
	f := &fleet{ships: map[string]*ship{}}
	full, _ := f.Open(ctx, connect.Access{Target: "t00"}) // so much that it goes to the database at once
	for i := range groups {
		full.(*ship).Set(model.Object{Kind: model.GroupKind, Name: fmt.Sprintf("group %03d", i)})
	}
	var all []*Service
	for i := range clustertest.Nodes {
		st, err := store.Open(ctx, cluster.DSN(i))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { st.Close() })
		s, err := New(Config{Store: st, Kinds: connect.Kinds{"tern": f}, KeyFile: t.TempDir() + "/seal.key",
			Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Batch: 8, Width: 4})
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, s)
	}
	one := all[0]
	if _, err := one.Declare(ctx, door.Itself, []declare.File{{Name: "f.yaml", Text: text.String()}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if got, err := all[1].Survey(ctx, door.Itself, nil, nil); err != nil || len(got) != targets || got[0].State != seen.Surveyed {
		t.Fatalf("%+v %v", got, err) // what one node was told, another knows at once
	}
	if held, err := all[2].TargetObjects(ctx, door.Itself, "t00", "group", "", "", 0); err != nil || held.Total != groups {
		t.Errorf("a third knows of %d groups: %v", held.Total, err)
	}
	r, err := all[2].Draft(ctx, door.Itself, rounds.DraftRequest{Because: "begin"})
	if err != nil || r.Steps != targets*users {
		t.Fatalf("%d steps, %v", r.Steps, err)
	}
	for _, s := range all {
		s.Begin()
	}
	t.Cleanup(func() {
		for _, s := range all {
			s.Close()
		}
	})
	if _, err := one.Approve(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := one.RunRound(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	lost, deadline := false, time.Now().Add(2*time.Minute)
	for r.EndedAt == nil {
		if time.Now().After(deadline) {
			t.Fatalf("the round does not end: %s %v", r.State, r.Outcomes)
		}
		time.Sleep(100 * time.Millisecond)
		got, err := one.Round(ctx, door.Itself, r.ID)
		if err != nil {
			continue // while the cluster finds out who is left
		}
		if r = got; !lost && r.Outcomes["waiting"] < targets*users*2/3 {
			cluster.Kill(2)
			lost = true
		}
	}
	if r.State != rounds.Complete || r.Outcomes["done"]+r.Outcomes["already-so"] != targets*users {
		t.Errorf("the round is %s: %v", r.State, r.Outcomes)
	}
	for name, s := range f.ships {
		if n := len(s.Objects); n != users && (name != "t00" || n != users+groups) {
			t.Errorf("%s holds %d accounts", name, n)
		}
		for account, n := range s.done {
			if n != 1 {
				t.Errorf("%s on %s was made %d times", account, name, n)
			}
		}
	}
	if !lost {
		t.Error("the round was over before a node was lost")
	}
	cluster.Run(t, 2) // it comes back, and knows what happened without it
	if v, err := all[2].VerifyRecord(ctx, door.Itself, false); err != nil || !v.Holds {
		t.Errorf("%+v %v", v, err)
	}
	told := map[string]int{}
	for from := int64(0); ; {
		page, err := all[2].Record(ctx, door.Itself, door.RecordFilter{Kind: "step", Before: from}, 1000)
		if err != nil {
			t.Fatal(err)
		}
		if len(page.Items) == 0 {
			break
		}
		for _, e := range page.Items {
			told[e.Target+" "+e.User]++
			from = e.Seq
		}
	}
	if len(told) != targets*users {
		t.Errorf("%d steps are told in the record", len(told))
	}
	for step, n := range told {
		if n != 1 {
			t.Errorf("%s is told %d times", step, n)
		}
	}
}
