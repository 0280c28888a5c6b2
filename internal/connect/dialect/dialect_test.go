package dialect_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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

// serving serves a made-up system, over SSH or plainly, and is how it is reached with its dialect.
func serving(t testing.TB, l spoken.Language, ip, kind, as string, plain bool) (*spoken.Server, connect.Access) {
	t.Helper()
	key := filepath.Join(t.TempDir(), "key")
	if plain {
		key = ""
	}
	s, err := spoken.Serve(l, ip+":0", key)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s, connecttest.Accept(t, dialect.Connector{File: file(t, kind)}, connect.Access{Target: kind, Address: s.Address, As: as,
		Secret: []byte(ours), Wait: 5 * time.Second})
}

func skerry(t testing.TB) (*spoken.Server, *spoken.Skerry, connect.Access) {
	t.Helper()
	l, err := spoken.NewSkerry(filepath.Join(t.TempDir(), "state"), spoken.SkerryState{Name: "quay",
		People: map[string]spoken.Mooring{
			"hen-roost": {Name: "Hen Roost", Class: "master", Hash: spoken.Hashed(ours)},
			"install":   {Class: "master", Hash: spoken.Hashed("install")}},
		Classes: map[string][]string{"master": {"tell", "change people", "turn out"}, "mooring": {"tell"}, "visitor": {}}})
	if err != nil {
		t.Fatal(err)
	}
	s, a := serving(t, l, "127.0.9.1", "harbour-switch", "hen-roost", false)
	return s, l, a
}

func TestSuiteSwitch(t *testing.T) {
	_, _, a := skerry(t)
	c := dialect.Connector{File: file(t, "harbour-switch")}
	connecttest.Run(t, connecttest.Subject{Proves: true, Gate: true, Connector: c, Access: a, Login: "suite.ulla",
		Rights:    []string{"mooring"},
		Attribute: model.Change{Attribute: "may-from", Before: []string{"10.0.0.0/8"}, After: []string{"10.1.0.0/16"}}})
}

func folio(t testing.TB) (*spoken.Server, *spoken.Folio, connect.Access) {
	t.Helper()
	l, err := spoken.NewFolio(filepath.Join(t.TempDir(), "state"), spoken.FolioState{Admin: "press", Hash: spoken.Hashed(ours),
		People: map[string]spoken.Author{}, Roles: map[string]string{"author": "writes", "editor": "sees to it"}})
	if err != nil {
		t.Fatal(err)
	}
	s, a := serving(t, l, "127.0.9.3", "folio", "press", false)
	return s, l, a
}

// An application's command: a command each, roles for many at once, one unknown among many does not stop the rest, and passwords
// go in on standard input.
func TestApplication(t *testing.T) {
	srv, l, a := folio(t)
	s := connecttest.Open(t, dialect.Connector{File: file(t, "folio")}, a)
	var acts []connect.Act
	for i := range 60 {
		x := connecttest.Act(model.Create, model.Account, fmt.Sprintf("author.%02d", i), model.Change{Attribute: model.FullName,
			After: []string{`O'Neil "Ünal"; $(reboot)`}}, model.Change{Attribute: model.Password, Sealed: "x"})
		x.Secrets = map[string]connect.Secret{model.Password: connect.Seal(fmt.Appendf(nil, "a word for %d", i))}
		acts = append(acts, x)
	}
	if n := connecttest.Tally(connect.Apply(ctx, s, acts)); n[connect.Done] != 60 {
		t.Fatal(n)
	}
	if p, words := connect.Prove(ctx, s, "author.07", connect.Seal([]byte("a word for 7"))); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	before := srv.Lines.Load()
	var joins []connect.Act
	for i := range 60 {
		joins = append(joins, connecttest.Move(model.JoinIt, model.RightKind, "editor", fmt.Sprintf("author.%02d", i)))
	}
	delete(l.Is.People, "author.31")
	got := connect.Apply(ctx, s, joins)
	if n := connecttest.Tally(got); n[connect.Done] != 59 || got[31].Outcome != connect.Failed ||
		!strings.Contains(got[31].Words, "nobody is called so") {
		t.Errorf("%v %+v", n, got[31])
	}
	if n := srv.Lines.Load() - before; n != 6 { // two lists before, two after, and two commands for sixty
		t.Errorf("%d commands", n)
	}
	srv.Set(spoken.Trouble{Lie: 1})
	got = connect.Apply(ctx, s, []connect.Act{connecttest.Act(model.Remove, model.Account, "author.01")})
	srv.Set(spoken.Trouble{})
	if got[0].Outcome == connect.Done {
		t.Errorf("%+v", got)
	}
	all := connecttest.Surveyed(t, s)
	if o := all[model.Named{Kind: model.Account, Name: "author.02"}]; o.Attributes.One(model.FullName) != `O'Neil "Ünal"; $(reboot)` {
		t.Errorf("%v", o.Attributes.Map())
	}
	if n := len(all[model.Named{Kind: model.RightKind, Name: "editor"}].Attributes.Get(model.Members)); n != 59 {
		t.Errorf("%d editors", n)
	}
	srv.Stop()
	if err := s.Survey(ctx, func(model.Object) error { return nil }); err == nil {
		t.Error("a survey of nothing has seen everything")
	}
}

// A batch system: many statements are one job, whose output tells of each; it passes the suite, and takes a thousand in one.
func TestJobs(t *testing.T) {
	l, err := spoken.NewManning(filepath.Join(t.TempDir(), "state"), spoken.ManningState{People: map[string]spoken.Berth{
		"hen-roost": {Hash: spoken.Hashed(ours), Office: true}}, Groups: map[string]spoken.Watch{"deck": {},
		"first-watch": {Under: "deck"}}})
	if err != nil {
		t.Fatal(err)
	}
	l.Waits = 30 * time.Millisecond
	srv, a := serving(t, l, "127.0.9.4", "manning", "hen-roost", false)
	c := dialect.Connector{File: file(t, "manning")}
	connecttest.Run(t, connecttest.Subject{Proves: true, Gate: true, Connector: c, Access: a, Login: "suite.ulla", Number: "1901",
		Attribute: model.Change{Attribute: "belongs", Before: []string{"deck"}, After: []string{"engine"}}})
	s := connecttest.Open(t, c, a)
	var acts []connect.Act
	for i := range 1000 {
		acts = append(acts, connecttest.Act(model.Create, model.Account, fmt.Sprintf("crew.%04d", i),
			model.Change{Attribute: model.FullName,
				After: []string{fmt.Sprint("Crew ", i)}}, model.Change{Attribute: model.Number, After: []string{fmt.Sprint(5000 + i%999)}}))
	}
	before := srv.Lines.Load()
	got := connect.Apply(ctx, s, acts)
	if n := connecttest.Tally(got); n[connect.Done] != 999 || got[999].Outcome != connect.Failed ||
		got[999].Words != "number 5000 is crew.0000's" {
		t.Errorf("%v %+v", n, got[999])
	}
	if n := srv.Lines.Load() - before; n > 12 {
		t.Errorf("%d commands for a thousand people", n)
	}
	other := a
	other.As, other.Secret = "crew.0007", []byte("a word of theirs")
	l.Is.People["crew.0007"] = spoken.Berth{Full: "Crew 7", Hash: spoken.Hashed("a word of theirs")}
	if n := len(connecttest.Surveyed(t, connecttest.Open(t, c, other))); n != 3 { // themselves, and the groups
		t.Errorf("somebody sees %d objects", n)
	}
	under := connecttest.Move(model.JoinIt, model.GroupKind, "first-watch", "engine")
	under.MemberKind, under.Stage = model.GroupKind, 1
	around := connecttest.Move(model.JoinIt, model.GroupKind, "engine", "deck")
	around.MemberKind, around.Stage = model.GroupKind, 2
	connecttest.Outcomes(t, connect.Apply(ctx, s, []connect.Act{connecttest.Act(model.Create, model.GroupKind, "engine",
		model.Change{Attribute: model.Administrators, After: []string{"crew.0001", "crew.0002"}}), under, around}),
		"done ", "done ", "failed deck would be under itself")
	engine := connecttest.Find(t, s, model.GroupKind, "engine")
	if got := engine.Attributes.Get(model.Administrators); fmt.Sprint(got) != "[crew.0001 crew.0002]" {
		t.Errorf("it is minded by %q", got)
	}
	if l.Is.Groups["engine"].Under != "first-watch" {
		t.Errorf("%+v", l.Is.Groups)
	}
}
