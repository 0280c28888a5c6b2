package seen

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/work"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var ctx = context.Background()

// start is a service's rooms up to this one on a database of their own, with the
// files declared and the secret set.
func start(t *testing.T) (*Seen, *servicetest.Tern) {
	t.Helper()
	h := servicetest.Open(t)
	d, err := door.New(door.Config{Store: h.Store, KeyFile: h.KeyFile, Log: h.Log, Clock: time.Now, Life: t.Context()})
	if err != nil {
		t.Fatal(err)
	}
	s := New(declared.New(d, h.Kinds.Schemas()), Config{Kinds: h.Kinds, Width: 12, Owner: "test"})
	if _, err := s.Declare(ctx, door.Itself, servicetest.Files, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	return s, h.Tern
}

func surveyed(t *testing.T) *Seen {
	t.Helper()
	s, _ := start(t)
	if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].State != Surveyed {
		t.Fatalf("%+v %v", got, err)
	}
	return s
}

// An older comparison is not put in the place of a newer one.
func TestOlderComparison(t *testing.T) {
	s := surveyed(t)
	old, err := s.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	row, err := s.Store.Target(ctx, "arctic")
	if err != nil {
		t.Fatal(err)
	}
	less := strings.Replace(servicetest.Declaration, "  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1)
	if r, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: less}}, "hanne left"); err != nil || r.Findings != 1 {
		t.Fatalf("%+v %v", r, err)
	}
	if _, _, err := s.compareOnce(ctx, old, row, shown{}); !errors.Is(err, errStale) {
		t.Errorf("%v", err)
	}
	if n, err := s.Store.AllFindings(ctx); err != nil || n != 1 {
		t.Errorf("%d findings %v", n, err)
	}
}

// A target that a round works on is told to be busy, and stays as it was known.
func TestBusyTarget(t *testing.T) {
	s := surveyed(t)
	was := busyFor
	busyFor = 50 * time.Millisecond
	t.Cleanup(func() { busyFor = was })
	held, err := work.TryHold(ctx, s.Store, "target/arctic", "somebody else")
	if err != nil {
		t.Fatal(err)
	}
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	if err != nil || got[0].State != Busy || !strings.Contains(got[0].Words, "has worked on it") {
		t.Errorf("%+v %v", got, err)
	}
	if d, err := s.Target(ctx, door.Itself, "arctic"); err != nil || d.State != Surveyed {
		t.Errorf("%+v %v", d, err)
	}
	held.Release()
	if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].State != Surveyed {
		t.Errorf("%+v %v", got, err)
	}
}

// What was found when a declaration was looked at is stored when it is declared, but not where the target was surveyed since.
func TestLookedAt(t *testing.T) {
	who := door.Operator{Name: "ingvild", Duties: []door.Duty{door.Look, door.Draft}}
	for _, meanwhile := range []bool{false, true} {
		s, tern := start(t)
		survey := func() {
			t.Helper()
			if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].State != Surveyed {
				t.Fatalf("%+v %v", got, err)
			}
		}
		survey()
		files := []declare.File{{Name: "c.yaml", Text: strings.Replace(servicetest.Declaration, "gives: [{at: {kind: tern}}]", "", 1)}}
		means, err := s.MeansFrom(ctx, who, 1, files)
		if err != nil {
			t.Fatal(err)
		}
		if meanwhile {
			tern.Add("odd.one", "1999")
			survey()
		}
		r, err := s.DeclareFrom(ctx, who, 1, files, "nobody has a role")
		if err != nil || (r.Findings == means.Findings) == meanwhile {
			t.Errorf("surveyed meanwhile %v: %d were foretold, %d found, %v", meanwhile, means.Findings, r.Findings, err)
		}
		if err := s.CompareAll(ctx); err != nil {
			t.Fatal(err)
		}
		if n, err := s.Store.AllFindings(ctx); err != nil || n != r.Findings {
			t.Errorf("surveyed meanwhile %v: %d were found, and are %d when all is compared anew; %v", meanwhile, r.Findings, n, err)
		}
	}
}
