package service

import (
	"context"
	"fmt"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
)

const desks = `roost: 1
users:
  marit: {name: Marit Fell, roles: [clerk]}
  hanne: {name: Hanne Vik, roles: [clerk]}
  ulla: {name: Ulla Niemi, roles: [clerk]}
  jarle: {name: Jarle Holm}
roles: {clerk: {gives: [{at: desk, licences: [counter-seat]}]}}
targets: {desk: {kind: memory, address: a, login: {as: hen-roost, secret: desk}, unexpected: report, protect: ["kiosk@*"]}}
`

// Who has a seat, who wants one, who could give one up; and what is asked of pools that are not there.
func TestTargetSeats(t *testing.T) {
	h := servicetest.Open(t)
	s, err := New(Config{Store: h.Store, Kinds: h.Kinds, KeyFile: h.KeyFile, Log: h.Log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	ctx, who := context.Background(), door.Operator{Name: "odd.strand", Duties: door.Duties}
	if _, err := s.FirstOperator(ctx, "odd.strand", "", "a long enough password"); err != nil {
		t.Fatal(err)
	}
	account := func(name string) {
		h.Tern.Memory.Put(model.Object{Kind: model.Account, Name: name, Attributes: model.Pack(
			model.Attribute{Name: model.Disabled, Values: []string{"no"}})})
	}
	for _, n := range []string{"marit@%", "jarle@%", "kiosk@%"} {
		account(n)
	}
	h.Tern.Memory.Put(model.Object{Kind: model.LicenceKind, Name: "counter-seat", Attributes: model.Pack(
		model.Attribute{Name: model.Seats, Values: []string{"3"}}, model.Attribute{Name: model.Members, Values: []string{"marit@%",
			"jarle@%",
			"kiosk@%"}})})
	h.Tern.Memory.Put(model.Object{Kind: model.LicenceKind, Name: "spare", Attributes: model.Pack(
		model.Attribute{Name: model.Members, Values: []string{"jarle@%"}})})
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "desk.yaml", Text: desks}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, who, "desk", []byte("x")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.TargetSeats(ctx, who, "desk", "", door.Page{}); door.ProblemOf(err).Kind != door.Unknown {
		t.Errorf("before any survey: %v", err)
	}
	_, _ = s.Survey(ctx, who, []string{"desk"}, nil)
	if err := s.AcceptKey(ctx, who, "desk", "memory"); err != nil {
		t.Fatal(err)
	}
	if r, err := s.Survey(ctx, who, []string{"desk"}, nil); err != nil || r[0].State != "surveyed" {
		t.Fatalf("%+v %v", r, err)
	}
	all, err := s.TargetSeats(ctx, who, "desk", "", door.Page{})
	if err != nil || fmt.Sprintf("%+v", all.Pools) != fmt.Sprintf("%+v", []seen.Pool{
		{Licence: "counter-seat", Told: true, Seats: 3, Taken: 3, Asked: true, Wanted: 3, Missing: 2, Beside: 2, Short: 1},
		{Licence: "spare", Taken: 1, Beside: 1}}) || len(all.Sitters) != 0 {
		t.Errorf("%+v %v", all, err)
	}
	one, err := s.TargetSeats(ctx, who, "desk", "counter-seat", door.Page{Size: 2})
	if err != nil || one.Total != 3 || len(one.Sitters) != 2 || one.Sitters[1].Protected == "" && one.Sitters[0].Protected == "" &&
		one.Sitters[0].Account != "jarle@%" {
		t.Errorf("%+v %v", one, err)
	}
	if _, err := s.TargetSeats(ctx, who, "desk", "none", door.Page{}); door.ProblemOf(err).Kind != door.Unknown {
		t.Errorf("a licence that is not there: %v", err)
	}
	if _, err := s.TargetSeats(ctx, door.Operator{Name: "x"}, "desk", "", door.Page{}); err == nil {
		t.Error("somebody without a duty may look")
	}
}
