// Package dbtest gives the tests of a package one database server, and each test a database of its own in it.
package dbtest

import (
	"context"
	"fmt"
	"os"
	"testing"

	"hen-roost/internal/dbserver"
)

var server *dbserver.Server

// Main runs the tests of a package while a server runs. It does not return.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "rs") // short: there is a socket in it
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

// Create makes a database without any tables, and returns its address.
func Create(t *testing.T) (dsn string) {
	t.Helper()
	if server == nil {
		t.Fatal("the package has no TestMain that calls dbtest.Main")
	}
	dsn, err := server.Create(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return dsn
}
