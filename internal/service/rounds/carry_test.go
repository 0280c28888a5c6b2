package rounds

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var ctx = context.Background()

// start is a service's rooms up to this one on a database of their own, with the
// files declared and the secret set.
func start(t *testing.T) (*Carrier, *servicetest.Tern) {
	t.Helper()
	h := servicetest.Open(t)
	life, end := context.WithCancel(ctx)
	d, err := door.New(door.Config{Store: h.Store, KeyFile: h.KeyFile, Log: h.Log, Clock: time.Now, Life: life})
	if err != nil {
		t.Fatal(err)
	}
	s := New(seen.New(declared.New(d, h.Kinds.Schemas()), seen.Config{Kinds: h.Kinds, Width: 12, Owner: "test"}), Config{Batch: 250})
	s.Begin()
	t.Cleanup(func() { end(); s.Drain() })
	if _, err := s.Declare(ctx, door.Itself, servicetest.Files, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	return s, h.Tern
}

// What repeats drafts no second round while the first waits, and none at all for a target that does not answer.
func TestReconcileByItself(t *testing.T) {
	s, f := start(t)
	f.Add("jarle", "1701")
	text := strings.Replace(servicetest.Declaration, "unexpected: disable",
		"unexpected: disable, limits: {disable: 0}, repeat: {reconcile: 24h}", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "t"); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if err := s.reconcileByItself(ctx, "arctic"); err != nil {
			t.Fatal(err)
		}
	}
	rounds, total, err := s.Rounds(ctx, door.Itself, nil, door.Page{})
	if err != nil || total != 1 || rounds[0].State != OnHold {
		t.Fatalf("%d rounds: %+v %v", total, rounds, err)
	}
	if e, err := s.Record(ctx, door.Itself, door.RecordFilter{Text: "is held and waits"}, 9); err != nil || len(e.Items) != 1 {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := s.Stop(ctx, door.Itself, rounds[0].ID, "away"); err != nil {
		t.Fatal(err)
	}
	f.Err = errors.New("it does not answer")
	if err := s.reconcileByItself(ctx, "arctic"); err != nil {
		t.Fatal(err)
	}
	if _, total, _ := s.Rounds(ctx, door.Itself, nil, door.Page{}); total != 1 {
		t.Error("a round was drafted for a target that does not answer")
	}
}

// Each target has its own moment within a tenth of the time between.
func TestDue(t *testing.T) {
	for last, want := range map[time.Duration]bool{30 * time.Minute: false,
		70 * time.Minute: true} { // between 57 and 63 it depends on the target
		at := time.Now().Add(-last)
		if got := due(time.Hour, &at, "arctic", time.Now()); got != want {
			t.Errorf("after %s: %v", last, got)
		}
	}
}

// However much is due at once, as at a first start, only so much of it goes on side by side.
func TestDueAtOnce(t *testing.T) {
	s, _ := start(t)
	gate := make(chan struct{})
	var running atomic.Int64
	for i := range 10_000 {
		s.Once(fmt.Sprintf("survey/t%d", i), func(context.Context) error {
			running.Add(1)
			<-gate
			return nil
		})
	}
	most := s.aside.Load()
	close(gate)
	for s.aside.Load() > 0 {
		time.Sleep(5 * time.Millisecond)
	}
	if most != int64(2*s.Width) || running.Load() != most {
		t.Errorf("%d at once, %d in all", most, running.Load())
	}
}
