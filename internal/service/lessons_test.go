package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/standin/spoken"
)

// lesson is a dialect of the demo, under another kind where that is said.
func lesson(t *testing.T, kind, as string) (name string, text []byte) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("../../demo/dialects", kind+".yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return as + ".yaml", []byte(strings.Replace(string(text), "kind: "+kind, "kind: "+as, 1))
}

// What a service was taught is told with its file and who uses it; what nobody relies on yet is tried by who may administer, and
// says which line of an answer it did not understand.
func TestDialects(t *testing.T) {
	h := servicetest.Open(t)
	name, text := lesson(t, "bridge-router", "bridge-router")
	c, err := dialect.Learn(name, text, connect.Recorded{File: "bridge-router.recording.yaml", Text: "recording: 2\n"})
	if err != nil {
		t.Fatal(err)
	}
	h.Kinds["bridge-router"] = c
	s, err := New(Config{Store: h.Store, Kinds: h.Kinds, KeyFile: h.KeyFile, Log: h.Log, Wait: 2 * time.Second,
		Teach: func(name string, text []byte) (connect.Pupil, error) { return dialect.Learn(name, text) }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	l, err := spoken.NewBollard(filepath.Join(t.TempDir(), "state"), spoken.BollardState{Users: map[string]spoken.Hand{
		"roost": {Level: 9, Hash: spoken.Hashed("a-secret-of-ours")}, "kai": {Level: 1}}})
	if err != nil {
		t.Fatal(err)
	}
	router, err := spoken.Serve(l, "127.0.9.5:0", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(router.Stop)
	declaration := "roost: 1\ntargets:\n  old-bridge: {kind: bridge-router, address: \"" + router.Address +
		"\", login: {as: roost, secret: word}}\n"
	list, err := s.Dialects(ctx, door.Itself)
	if err != nil || len(list) != 1 || len(list[0].Targets) != 0 { // before anything is declared
		t.Errorf("%+v %v", list, err)
	}
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: declaration}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "word", []byte("a-secret-of-ours")); err != nil {
		t.Fatal(err)
	}
	one, err := s.Dialect(ctx, door.Itself, "bridge-router")
	if err != nil || one.Recordings != 1 || len(one.Faults) != 3 || one.Faults[0] != "bridge-router.recording.yaml:1: a recording begins "+
		"with recording: 1" || len(one.Targets) != 1 || one.Text != string(text) || one.Beside[0].Text != "recording: 2\n" {
		t.Errorf("%+v %v", one, err)
	}
	if _, err := s.Dialect(ctx, door.Itself, "tern"); err == nil || !strings.Contains(err.Error(), `no dialect is called "tern"`) {
		t.Errorf("%v", err)
	}
	if _, err := s.Dialects(ctx, door.Operator{Name: "nobody"}); err == nil {
		t.Error("anybody may look")
	}
	try := func(who door.Operator, target, text string) error {
		_, err := s.TryDialect(ctx, who, seen.TryRequest{Target: target, File: "mine.yaml", Text: text})
		return err
	}
	admin := door.Operator{Name: "odd", Duties: door.Duties}
	if err := try(admin, "old-bridge", string(text)); err == nil || !strings.Contains(err.Error(), "which nobody has accepted yet") {
		t.Errorf("%v", err)
	}
	_, _ = s.Survey(ctx, door.Itself, nil, nil)
	if err := s.AcceptKey(ctx, door.Itself, "old-bridge",
		"none: over plain TCP nothing proves who answers at "+router.Address); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		who          door.Operator
		target, text string
		want         string
	}{
		{door.Operator{Name: "jo", Duties: []door.Duty{door.Look, door.Run}}, "old-bridge", string(text), "administer"},
		{admin, "new-bridge", string(text), `"new-bridge"`},
		{admin, "old-bridge", "dialect: 1\n", "mine.yaml: "},
		{admin, "old-bridge", strings.Replace(string(text), "between: '='", "between: '::'", 2), `there is no "::" in it`},
		{admin, "old-bridge", strings.Replace(string(text), "'^bridge(, hands on)?# $'", "'^other# $'", 1), "which is no prompt"},
		{admin, "old-bridge", strings.Replace(string(text), "- say: users", "- say: folk", 1), "unknown word"},
	} {
		if err := try(c.who, c.target, c.text); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.target, err, c.want)
		}
	}
	got, err := s.TryDialect(ctx, admin, seen.TryRequest{Target: "old-bridge", File: "mine.yaml", Text: string(text)})
	if err != nil || got.Objects["account"] != 2 || strings.Join(got.Accounts, " ") != "kai roost" ||
		!strings.Contains(got.Recording, "typed: users") || strings.Contains(got.Recording, "a-secret-of-ours") {
		t.Errorf("%+v %v", got, err)
	}
	// A system that is not declared is looked at with a secret of its own, which is kept nowhere.
	undeclared := seen.TryRequest{Address: router.Address, As: "roost", Secret: "a-secret-of-ours", File: "mine.yaml", Text: string(text),
		Key: "none: over plain TCP nothing proves who answers at " + router.Address}
	if got, err := s.TryDialect(ctx, admin, undeclared); err != nil || got.Objects["account"] != 2 ||
		strings.Contains(got.Recording, "a-secret-of-ours") {
		t.Errorf("%+v %v", got, err)
	}
	undeclared.Key = ""
	if _, err := s.TryDialect(ctx, admin, undeclared); err == nil || !strings.Contains(err.Error(), "or give it with --key") {
		t.Errorf("%v", err)
	}
	undeclared.Secret = ""
	if _, err := s.TryDialect(ctx, admin, undeclared); err == nil {
		t.Error("it went there without a secret")
	}
	s.Teach = nil
	if err := try(admin, "old-bridge", string(text)); err == nil || !strings.Contains(err.Error(), "cannot be taught") {
		t.Errorf("%v", err)
	}
}
