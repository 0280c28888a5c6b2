package store_test

import (
	"fmt"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// What makes accounts again is kept by step, and what was kept first stays.
func TestRemoved(t *testing.T) {
	s, _ := open(t)
	if err := s.KeepRemoved(ctx, 7, nil, now); err != nil {
		t.Fatal(err)
	}
	for _, kept := range []map[int][]byte{{1: []byte("one"), 2: {0, 1, 2}}, {1: []byte("gone by now"), 3: []byte("three")}} {
		if err := s.KeepRemoved(ctx, 7, kept, now); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.KeepRemoved(ctx, 8, map[int][]byte{1: []byte("of another round")}, now.Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	got, err := s.Removed(ctx, 7)
	if err != nil || len(got) != 3 || string(got[1]) != "one" || len(got[2]) != 3 || string(got[3]) != "three" {
		t.Errorf("%v %v", got, err)
	}
	if body, err := s.RemovedBy(ctx, 7, 3); err != nil || string(body) != "three" {
		t.Errorf("%q %v", body, err)
	}
	if _, err := s.RemovedBy(ctx, 7, 4); err != store.ErrNone {
		t.Error(err)
	}
	if err := s.ForgetRemoved(ctx, now.Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if old, err := s.Removed(ctx, 7); err != nil || len(old) != 0 {
		t.Errorf("not forgotten: %v %v", old, err)
	}
	if young, err := s.Removed(ctx, 8); err != nil || len(young) != 1 {
		t.Errorf("forgotten too early: %v %v", young, err)
	}
	if got, err := s.Removed(ctx, 9); err != nil || len(got) != 0 {
		t.Errorf("%v %v", got, err)
	}
}

// Accounts are counted by where they may come from, and found by how their names end.
func TestOrigins(t *testing.T) {
	s, _ := open(t)
	var list []model.Object
	for i := range 30 {
		name := fmt.Sprintf("hand%02d@10.20.%%", i)
		if i%3 == 0 {
			name = fmt.Sprintf("hand@%02d@localhost", i)
		}
		list = append(list, model.Object{Kind: model.Account, Name: name})
	}
	list = append(list, model.Object{Kind: model.Account, Name: "@localhost"})
	g, err := s.Sight(ctx, "stores", now)
	if err == nil {
		err = g.Put(ctx, list)
	}
	if err == nil {
		_, err = g.Done(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	got, err := s.Origins(ctx, "stores", "@", 10)
	if err != nil || len(got) != 2 || got[0] != (store.Origin{Rest: "10.20.%", N: 20}) || got[1] != (store.Origin{Rest: "localhost",
		N: 11}) {
		t.Errorf("%v %v", got, err)
	}
	if got, err := s.Origins(ctx, "stores", "@", 1); err != nil || len(got) != 1 {
		t.Errorf("%v %v", got, err)
	}
	for ends, want := range map[string]int{"@localhost": 11, "@10.20.%": 20, "@10.20._": 0, "%": 20} {
		_, _, total, err := s.ObservedPage(ctx, "stores", model.Account, "", ends, "", 5)
		if err != nil || total != want {
			t.Errorf("%q: %d %v, want %d", ends, total, err, want)
		}
	}
	if _, _, total, err := s.ObservedPage(ctx, "stores", model.Account, "hand@0", "@localhost", "", 5); err != nil || total != 4 {
		t.Errorf("%d %v", total, err)
	}
}
