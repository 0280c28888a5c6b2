package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var ctx = context.Background()

const declaration = servicetest.Declaration

var files = servicetest.Files

// start makes a service on a database of its own.
func start(t *testing.T) (*Service, *servicetest.Tern) {
	t.Helper()
	h := servicetest.Open(t)
	svc, err := New(Config{Store: h.Store, Kinds: h.Kinds, KeyFile: h.KeyFile, Log: h.Log})
	if err != nil {
		t.Fatal(err)
	}
	svc.Begin()
	t.Cleanup(svc.Close)
	return svc, h.Tern
}

// ended waits for a round to be over.
func ended(t *testing.T, s *Service, id int64) rounds.Round {
	t.Helper()
	for range 400 {
		r, err := s.Round(ctx, door.Itself, id)
		if err != nil {
			t.Fatal(err)
		}
		if r.EndedAt != nil {
			return r
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("round %d does not end", id)
	return rounds.Round{}
}

// The whole line on a target in memory, from nothing declared to nothing left to do.
func TestLine(t *testing.T) {
	s, f := start(t)
	var p *door.Problem
	if _, err := s.Overview(ctx, door.Itself); !errors.As(err, &p) || p.Kind != door.NotYet {
		t.Fatalf("before the first revision: %v", err)
	}
	if _, err := s.Declare(ctx, door.Itself, files, " "); !errors.As(err, &p) || p.Field != "because" {
		t.Errorf("without a reason: %v", err)
	}
	if m, err := s.Means(ctx, door.Itself, files); err != nil || fmt.Sprint(m.Unset, m.Ungiven) != "[key] []" {
		t.Errorf("secrets that are not set: %v %v", m.Unset, err)
	}
	r, err := s.Declare(ctx, door.Itself, files, "begin")
	if err != nil || r.Number != 1 || r.Users != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	f.Add("marit", "1001", model.FullName, "Marit Fell")
	f.Add("jarle", "1701")
	f.Add("svcbackup", "1800")
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	if err != nil || got[0].State != seen.NoSecret || !strings.Contains(got[0].Words,
		`the secret "key" is not set: nobody went there; roost secret set key --for arctic`) {
		t.Fatalf("without the secret: %+v %v", got, err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	heard := 0
	got, err = s.Survey(ctx, door.Itself, []string{"arctic", "arctic"}, func(seen.SurveyResult) { heard++ })
	if err != nil || len(got) != 1 || heard != 1 || got[0].State != seen.Surveyed || got[0].Accounts != 3 || got[0].Findings != 3 ||
		got[0].Fresh != 3 {
		t.Fatalf("%+v %v", got, err)
	}
	round, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "take over"})
	if err != nil || round.Steps != 3 || round.People != 2 {
		t.Fatalf("%+v %v", round, err)
	}
	if _, err := s.RunRound(ctx, door.Itself, round.ID); err == nil || !strings.Contains(err.Error(), "round 1 is a draft") {
		t.Error(err)
	}
	if _, err := s.Approve(ctx, door.Itself, round.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, door.Itself, round.ID); err != nil {
		t.Fatal(err)
	}
	round = ended(t, s, round.ID)
	if round.State != rounds.Complete || round.Outcomes["done"] != 3 {
		t.Fatalf("%+v", round)
	}
	o, err := s.Overview(ctx, door.Itself)
	if err != nil || o.Sentence != "Everything is as declared." || o.Declared != 1 || len(o.Rounds) != 0 || len(o.Happened) == 0 ||
		o.Targets[0].Accounts != 4 {
		t.Errorf("%+v %v", o, err)
	}
	for _, e := range o.Happened {
		if e.Kind == "step" {
			t.Error("the overview speaks of steps")
		}
	}
	again, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "nothing"})
	if err != nil || again.ID != 0 || again.Undecided != 0 {
		t.Errorf("a second draft: %+v %v", again, err)
	}
	// Whoever is taken out of the declaration is shut, though nothing says so of strangers.
	less := []declare.File{{Name: "c.yaml", Text: strings.Replace(strings.Replace(declaration,
		"  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1), "unexpected: disable", "unexpected: report", 1)}}
	if r, err := s.Declare(ctx, door.Itself, less, "hanne left"); err != nil || r.Findings != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	found, err := s.Drift(ctx, door.Itself, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}, 0)
	if err != nil || len(found.Items) != 1 {
		t.Errorf("whose account is known can be named: %+v %v", found, err)
	}
	found, err = s.Drift(ctx, door.Itself, seen.DriftRequest{}, 0)
	if err != nil || len(found.Items) != 2 || found.Items[0].What != "disable account" || found.Items[0].User != "hanne" {
		t.Errorf("%+v %v", found, err)
	}
	if v, err := s.VerifyRecord(ctx, door.Itself, false); err != nil || !v.Holds {
		t.Errorf("%+v %v", v, err)
	}
}

func TestViews(t *testing.T) {
	s, f := start(t)
	f.Add("marit", "1501", model.FullName, "M")
	f.Add("hv", "1014")
	f.Add("hanne", "9")
	if _, err := s.Declare(ctx, door.Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	u, err := s.User(ctx, door.Itself, "marit")
	if err != nil || u.Accounts[0].State != "not surveyed" {
		t.Errorf("%+v %v", u, err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Survey(ctx, door.Itself, nil, nil); err != nil {
		t.Fatal(err)
	}
	for user, want := range map[string]string{"marit": "found", "hanne": "open to question"} {
		u, err := s.User(ctx, door.Itself, user)
		if err != nil || len(u.Accounts) != 1 || u.Accounts[0].State != want || len(u.Accounts[0].Findings) == 0 || u.At == "" {
			t.Errorf("%+v %v", u, err)
		}
	}
	delete(f.Objects, "accountmarit")
	if _, err := s.Survey(ctx, door.Itself, nil, nil); err != nil {
		t.Fatal(err)
	}
	if u, _ := s.User(ctx, door.Itself, "marit"); u.Accounts[0].State != "missing" {
		t.Errorf("%+v", u.Accounts)
	}
	for text, want := range map[string]int{"": 2, "fell": 1, "HANNE": 1, "crew": 2, "nobody": 0} {
		if list, err := s.Users(ctx, door.Itself, text, door.Page{Size: 1}); err != nil || list.Total != want ||
			len(list.Items) != min(1, want) {
			t.Errorf("%q: %+v %v", text, list, err)
		}
	}
	if list, _ := s.Users(ctx, door.Itself, "", door.Page{From: 1, Size: 5}); len(list.Items) != 1 || list.Items[0].ID != "marit" {
		t.Errorf("%+v", list)
	}
	for text, want := range map[string]int{"": 1, "arc": 1, "tern": 1, "nobody": 0} {
		if list, err := s.Targets(ctx, door.Itself, text, door.Page{}); err != nil || list.Total != want || len(list.Items) != want {
			t.Errorf("%q: %+v %v", text, list, err)
		}
	}
	many := make([]seen.Target, 40)
	many[35].State, many[36] = seen.Surveyed, seen.Target{State: seen.Surveyed, Total: 3}
	if got := first(many, 39); len(got) != 39 || got[35].Total != 3 {
		t.Error("a target that is as declared is shown before one that is not")
	}
	held, err := s.TargetAccounts(ctx, door.Itself, "arctic", "h", "", "", 0)
	if err != nil || held.Total != 2 {
		t.Errorf("%+v %v", held, err)
	}
	d, err := s.Target(ctx, door.Itself, "arctic")
	if err != nil || d.Login != "root" || d.Unexpected != "disable" || len(d.Protect) != 1 || d.Decide == 0 {
		t.Errorf("%+v %v", d, err)
	}
	var p *door.Problem
	for name, err := range map[string]error{
		"user": second(s.User(ctx, door.Itself, "marti")), "target": second(s.Target(ctx, door.Itself, "artic")),
		"survey":   second(s.Survey(ctx, door.Itself, []string{"artic"}, nil)),
		"drift":    second(s.Drift(ctx, door.Itself, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hane"}}}, 0)),
		"accounts": second(s.TargetAccounts(ctx, door.Itself, "artic", "", "", "", 0)),
	} {
		if !errors.As(err, &p) || p.Kind != door.Unknown || p.Nearest == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }

func TestKeys(t *testing.T) {
	s, f := start(t)
	if _, err := s.Declare(ctx, door.Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.AcceptKey(ctx, door.Itself, "arctic", "SHA256:x"); err == nil || !strings.Contains(err.Error(), "shows no key that waits") {
		t.Error(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	f.Err = &connect.KeyError{Target: "arctic", Offered: "key one", Print: "SHA256:one"}
	if got, _ := s.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.KeyUnknown || got[0].Print != "SHA256:one" {
		t.Errorf("%+v", got)
	}
	if err := s.AcceptKey(ctx, door.Itself, "arctic", "SHA256:two"); err == nil || !strings.Contains(err.Error(), "nothing was accepted") {
		t.Error(err)
	}
	if err := s.AcceptKey(ctx, door.Itself, "arctic", "SHA256:one"); err != nil {
		t.Fatal(err)
	}
	if row, err := s.Store.Target(ctx, "arctic"); err != nil || row.Accepted != "key one" || row.State != seen.NotSurveyed {
		t.Errorf("%+v %v", row, err)
	}
	f.Err = &connect.KeyError{Target: "arctic", Offered: "key two", Print: "SHA256:two", Accepted: "key one"}
	if got, _ := s.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.KeyChanged {
		t.Errorf("%+v", got)
	}
	f.Err = errors.New("connection refused")
	if got, _ := s.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.OutOfReach || got[0].Words != "connection refused" {
		t.Errorf("%+v", got)
	}
	f.Err = nil
	if got, _ := s.Survey(ctx, door.Itself, nil, nil); got[0].State != seen.Surveyed || got[0].Print != "" {
		t.Errorf("%+v", got)
	}
}

// configOf is what another service is made of that stands beside one.
func configOf(s *Service) Config {
	return Config{Store: s.Store, Kinds: s.Kinds(), KeyFile: s.KeyFile, Log: s.Log, Clock: s.Clock, Wait: s.Carrier.Wait, Width: s.Width,
		Batch: s.Batch, Widths: s.Widths, Probation: s.Probation}
}
