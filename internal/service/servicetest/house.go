// Package servicetest has what tests of the service's rooms begin with: a
// database of their own, and a target in memory.
package servicetest

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver"
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

// Open makes a house that goes with the test.
func Open(t *testing.T) House {
	t.Helper()
	if server == nil {
		t.Fatal("the package has no TestMain that calls servicetest.Main")
	}
	dsn, err := server.Create(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	f := &Tern{Objects: map[string]model.Object{}, Memory: &connecttest.Memory{}}
	return House{Store: s, KeyFile: t.TempDir() + "/seal.key", Kinds: connect.Kinds{"tern": f, "memory": f.Memory},
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Tern: f}
}

var server *dbserver.Server

// Main runs the tests of a package with one database server for all of them; each Open has a database of its own. It does not return.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "rv")
	if err == nil {
		server, err = dbserver.Start(context.Background(), dbserver.Options{Dir: dir, Throwaway: true})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	server.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}
