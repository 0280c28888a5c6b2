package dialect_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
	"hen-roost/internal/standin/spoken"
)

const ours = "a-secret-of-ours"

func file(t testing.TB, name string) *language.File {
	t.Helper()
	path := "../../../demo/dialects/" + name + ".yaml"
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	f, err := language.Read(name+".yaml", text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func skerry(t testing.TB) (*spoken.Server, *spoken.Skerry, connect.Access) {
	t.Helper()
	l, err := spoken.NewSkerry(filepath.Join(t.TempDir(), "state"), spoken.SkerryState{Name: "quay",
		People: map[string]spoken.Mooring{
			"hen-roost": {Name: "Hen Roost", Class: "master", Hash: spoken.Hashed(ours)},
			"install":   {Class: "master", Hash: spoken.Hashed("install")}},
		Classes: map[string][]string{"master": {"tell", "change people"}, "mooring": {"tell"}, "visitor": {}}})
	if err != nil {
		t.Fatal(err)
	}
	s, err := spoken.Serve(l, "127.0.9.1:0", filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s, l, connecttest.Accept(t, dialect.Connector{File: file(t, "harbour-switch")}, connect.Access{Target: "quay",
		Address: s.Address,
		As:      "hen-roost", Secret: []byte(ours), Wait: 5 * time.Second})
}

var _ sync.Mutex

func TestSuiteSwitch(t *testing.T) {
	_, _, a := skerry(t)
	c := dialect.Connector{File: file(t, "harbour-switch")}
	connecttest.Run(t, connecttest.Subject{Proves: true, Connector: c, Access: a, Login: "suite.ulla", Rights: []string{"mooring"},
		Attribute: model.Change{Attribute: "may-from", Before: []string{"10.0.0.0/8"}, After: []string{"10.1.0.0/16"}}})
}
