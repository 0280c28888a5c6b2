package store_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/store"
)

// Who was pushed in: one of a name for each system, versions that are not overwritten, and those who went stay to be told of.
func TestPushed(t *testing.T) {
	s, _ := open(t)
	ctx := context.Background()
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	one := func(id, name string) store.Pushed {
		now = now.Add(time.Second)
		return store.Pushed{Source: "personnel", ID: id, Name: name, Version: 1, Made: now, At: now, Body: []byte(`{}`)}
	}
	for _, p := range []store.Pushed{one("b", "ulla"), one("a", "Ünal"), one("c", "unal")} {
		if err := s.AddPushed(ctx, p); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.AddPushed(ctx, one("d", "ulla")); !errors.Is(err, store.ErrTaken) {
		t.Errorf("twice: %v", err)
	}
	other := one("b", "ulla")
	other.Source = "office"
	if err := s.AddPushed(ctx, other); err != nil {
		t.Errorf("of another system: %v", err)
	}
	p, err := s.PushedOne(ctx, "personnel", "b")
	if err != nil || p.Name != "ulla" {
		t.Fatalf("%+v %v", p, err)
	}
	stale := p
	p.Gone = true
	if err := s.PutPushed(ctx, p); err != nil {
		t.Fatal(err)
	}
	if err := s.PutPushed(ctx, stale); !errors.Is(err, store.ErrNone) {
		t.Errorf("an old version is written: %v", err)
	}
	taken, _ := s.PushedOne(ctx, "personnel", "c")
	taken.Name = "Ünal"
	if err := s.PutPushed(ctx, taken); !errors.Is(err, store.ErrTaken) {
		t.Errorf("another's name: %v", err)
	}
	var seen []string
	if err := s.EachPushed(ctx, "personnel", func(p store.Pushed) bool {
		seen = append(seen, fmt.Sprintf("%s %v %d", p.Name, p.Gone, p.Version))
		return true
	}); err != nil || strings.Join(seen, ", ") != "ulla true 2, Ünal false 1, unal false 1" {
		t.Errorf("%v %v", seen, err)
	}
	if n, last, err := s.PushedSum(ctx, "personnel"); err != nil || n != 2 || last == nil {
		t.Errorf("%d %v %v", n, last, err)
	}
	if list, err := s.PushedNamed(ctx, "personnel", []string{"ulla", "unal", "none"}); err != nil || len(list) != 1 {
		t.Errorf("%v %v", list, err)
	}
	if err := s.AddPushed(ctx, one("e", "ulla")); err != nil {
		t.Errorf("a name that was given up: %v", err)
	}
	if _, err := s.PushedOne(ctx, "personnel", "b"); !errors.Is(err, store.ErrNone) {
		t.Errorf("who made room is there: %v", err)
	}
	if n, last, err := s.PushedSum(ctx, "nobody"); err != nil || n != 0 || last != nil {
		t.Errorf("%d %v %v", n, last, err)
	}
	for _, settings := range []string{`{}`, `{"share":3}`} {
		if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.PutIntake(ctx, "personnel", settings) }); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := s.Intakes(ctx); err != nil || len(all) != 1 || all["personnel"] != `{"share":3}` {
		t.Errorf("%v %v", all, err)
	}
}
