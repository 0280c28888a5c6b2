package service

import (
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
)

const suite = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [desk]}
  hanne: {name: Hanne Vik, number: 1014, roles: [desk, planner]}
  kari: {name: Kari Berg, number: 1010}
  ulla: {name: Ulla Niemi, number: 1020, roles: [hand]}
roles:
  desk: {gives: [{at: stores, account: {}, licences: [desk]}]}
  hand: {gives: [{at: stores, account: {}}]}
  planner: {gives: [{at: stores, account: {}, licences: [planner]}]}
pools: {suite: {about: "sold together", seats: 2, at: {stores: [desk, planner]}}}
targets:
  stores: {kind: memory, address: "a:1", login: {as: root, secret: key}, limits: {disable: 50}}
`

// A pool that several licences share: whoever has one or both takes one seat; what gives too many is refused before it is
// stored, and steps that take too many are held.
func TestSharedPool(t *testing.T) {
	s, f := start(t)
	text := suite
	declared := func() error {
		_, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "test")
		return err
	}
	for _, n := range []string{"desk", "planner"} {
		f.Memory.Put(model.Object{Kind: model.LicenceKind, Name: n})
	}
	if err := declared(); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		_, _ = s.Survey(ctx, door.Itself, nil, nil)
		_ = s.AcceptKey(ctx, door.Itself, "stores", "memory")
	}
	settle(t, s)
	_, _ = s.Survey(ctx, door.Itself, nil, nil)
	list, err := s.SharedPools(ctx, door.Itself, "stores")
	if err != nil || len(list) != 1 || list[0].Taken != 2 || list[0].Wanted != 2 || list[0].Missing != 0 || list[0].Short != 0 {
		t.Fatalf("%+v %v", list, err)
	}
	if _, err := s.SharedPools(ctx, door.Itself, "store"); err == nil || !strings.Contains(err.Error(), `"stores"`) {
		t.Errorf("nothing is told of a target that is none: %v", err)
	}
	text = strings.Replace(suite, "number: 1010}", "number: 1010, roles: [planner]}", 1)
	m, err := s.Means(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}})
	if err != nil || len(m.Short) != 1 || !strings.Contains(m.Short[0],
		"pool suite has 2 seats, and the declaration gives one to 3 people: 1 too few") {
		t.Errorf("%v %v", m.Short, err)
	}
	if err := declared(); err != nil {
		t.Errorf("it is declared all the same: %v", err)
	}
	if r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "test"}); err != nil || r.State != rounds.OnHold ||
		r.Holds[0].Kind != "seats" {
		t.Errorf("nobody is asked: %+v %v", r, err)
	}
	text = strings.Replace(text, "seats: 2", "seats: 3", 1)
	if err := declared(); err != nil {
		t.Fatal(err)
	}
	settle(t, s)
	got, err := s.SharedPoolSeats(ctx, door.Itself, "suite", door.Page{})
	if err != nil || got.Total != 3 || len(got.Sitters[0].Accounts) != 1 || got.At[0].Taken != got.At[1].Taken {
		t.Errorf("%+v %v", got, err)
	}
	// Who has one licence of it takes no seat by the other; who has none does, and there is none left.
	for _, c := range []struct {
		user, what string
		held       bool
	}{{"marit", "join licence planner", false}, {"kari", "leave licence planner", false},
		{"ulla", "join licence desk", true}} {
		r, err := s.Bulk(ctx, door.Itself, rounds.BulkRequest{Lines: []rounds.BulkLine{{User: c.user, Target: "stores", What: c.what}},
			Because: "test"})
		if err != nil || (r.Round.State == rounds.OnHold) != c.held {
			t.Errorf("%s: %+v %v", c.what, r, err)
		}
	}
	if _, err := s.SharedPoolSeats(ctx, door.Itself, "suit", door.Page{}); err == nil || !strings.Contains(err.Error(), `"suite"`) {
		t.Errorf("%v", err)
	}
}
