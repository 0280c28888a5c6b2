// Package servicetest has what tests of the service's rooms begin with: a
// database of their own, and a target in memory.
package servicetest

import (
	"context"
	"io"
	"log/slog"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/store"
)

// House is what the rooms are made of.
type House struct {
	Store   *store.Store
	KeyFile string
	Kinds   connect.Kinds
	Log     *slog.Logger
	Tern    *Tern
}

// Open makes a house that goes with the test. The package runs its tests by dbtest.Main.
func Open(t *testing.T) House {
	t.Helper()
	s, err := store.Open(context.Background(), dbtest.Create(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	f := &Tern{Objects: map[string]model.Object{}, Memory: &connecttest.Memory{}}
	return House{Store: s, KeyFile: t.TempDir() + "/seal.key", Kinds: connect.Kinds{"tern": f, "memory": f.Memory},
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Tern: f}
}
