package dialect_test

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
	"hen-roost/internal/standin/spoken"
)

// TestMain is also the program of an application that is run on its host: under that name it carries out a command, with the state
// that is beside it.
func TestMain(m *testing.M) {
	if filepath.Base(os.Args[0]) != "folio" {
		os.Exit(m.Run())
	}
	switch {
	case len(os.Getenv("HOME")+os.Getenv("ROOST_PROFILE")) > 0:
		fmt.Println("?? it sees our surroundings")
		os.Exit(1)
	case len(os.Args) > 2 && os.Args[2] == "sleepy":
		time.Sleep(time.Minute)
	case len(os.Args) > 2 && os.Args[2] == "endless":
		for {
			if _, err := fmt.Println(strings.Repeat("and so on ", 1000)); err != nil {
				os.Exit(1)
			}
		}
	}
	l, err := spoken.NewFolio(filepath.Join(filepath.Dir(os.Args[0]), "state"), spoken.FolioState{Admin: "press",
		People: map[string]spoken.Author{}, Roles: map[string]string{"author": "writes", "editor": "sees to it"}})
	if err != nil {
		panic(err)
	}
	os.Exit(spoken.Command(l, "press", append([]string{"folio"}, os.Args[1:]...), os.Stdin, os.Stdout))
}

// pressHere is the publishing application as it is run on its host by a program.
func pressHere(t *testing.T) (dialect.Connector, connect.Access) {
	t.Helper()
	program := filepath.Join(t.TempDir(), "folio")
	self, err := os.Executable()
	if err == nil {
		err = os.Symlink(self, program)
	}
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("../../../demo/dialects/folio.yaml")
	if err != nil {
		t.Fatal(err)
	}
	here := strings.NewReplacer("over: ssh", "over: here", "quote: {rule: double}\n", "", "kind: folio", "kind: folio-here", "say: folio ",
		"say: "+program+" ", "say: 'folio ", "say: '"+program+" ").Replace(string(text))
	f, err := language.Read("folio-here.yaml", []byte(here))
	if err != nil {
		t.Fatal(err)
	}
	return dialect.Connector{File: f}, connect.Access{Target: "press", As: "press", Wait: 2 * time.Second}
}

// An application that is run by a program on its host: arguments go as they are, passwords on standard input, and nobody's name
// becomes an option.
func TestOnHost(t *testing.T) {
	c, a := pressHere(t)
	s := connecttest.Open(t, c, a)
	name := `O'Neil "Ünal"; $(reboot) *`
	hanne := connecttest.Act(model.Create, model.Account, "hanne.vik", model.Change{Attribute: model.FullName, After: []string{name}},
		model.Change{Attribute: model.Password, Sealed: "x"})
	hanne.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("a word"))}
	option := connecttest.Act(model.Create, model.Account, "emre", model.Change{Attribute: model.FullName, After: []string{"--all"}})
	got := connecttest.Apply(s, []connect.Act{hanne, option})
	if got[0].Outcome != connect.Done || got[1].Outcome == connect.Done || !strings.Contains(got[1].Words, "would be taken for an option") {
		t.Errorf("%+v", got)
	}
	got = connecttest.Apply(s, []connect.Act{connecttest.Move(model.JoinIt, model.RightKind, "editor", "hanne.vik"),
		connecttest.Move(model.JoinIt, model.RightKind, "editor", "nobody")})
	if got[0].Outcome != connect.Done || got[1].Outcome == connect.Done {
		t.Errorf("%+v", got)
	}
	o := connecttest.Surveyed(t, s)[model.Named{Kind: model.Account, Name: "hanne.vik"}]
	if o.Attributes.One(model.FullName) != name {
		t.Errorf("%+v", o)
	}
	for _, word := range []string{"a word", "another"} { // the program would run, whatever it is
		if p, words := connect.Prove(ctx, s, "hanne.vik", connect.Seal([]byte(word))); p != connect.NotProved ||
			!strings.Contains(words, "offer no way") {
			t.Errorf("%s is %s: %s", word, p, words)
		}
	}
	s.Close()
	if got := connecttest.Apply(s, []connect.Act{hanne}); got[0].Outcome != connect.Unsure {
		t.Errorf("after it is closed: %+v", got)
	}
}

// A program that does not end is ended with all that it began, one that says too much is not heard out, and one that is not there
// is told.
func TestOnHostFaults(t *testing.T) {
	c, a := pressHere(t)
	for _, said := range [][2]string{{"sleepy", "it does not answer within"}, {"endless", "it answers with more than"}} {
		word, want := said[0], said[1]
		if word == "endless" {
			a.Wait = 20 * time.Second // how long it may take to say too much, on a busy machine
		}
		x, err := dialect.Typing(ctx, c, a)
		if err != nil {
			t.Fatal(err)
		}
		line := c.File.Holds["right"].List[0].Say.Raw
		began := time.Now()
		if _, err := x.Type(ctx, strings.Replace(line, "roles", word, 1)+" "+word); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", word, err, want)
		}
		if took := time.Since(began); took > 30*time.Second {
			t.Errorf("%s took %s", word, took)
		}
		if _, err := x.Type(ctx, "no-such-program people"); err == nil ||
			!strings.Contains(err.Error(), "there is no program no-such-program") {
			t.Errorf("%v", err)
		}
		x.Close()
	}
	led := errors.New("the way there is closed")
	c.File.Reach.Over = "host"
	if _, err := c.Open(ctx, a); err == nil || !strings.Contains(err.Error(), "nothing says on which") {
		t.Errorf("%v", err)
	}
	a.Host = func(context.Context) (connect.Host, error) { return nil, led }
	if _, err := c.Open(ctx, a); !errors.Is(err, led) {
		t.Errorf("%v", err)
	}
}

// Somebody has one class: in a batch in which they leave one and enter another nothing is typed for the leaving, and they are
// never without.
func TestOneClass(t *testing.T) {
	srv, l, a := skerry(t)
	l.Is.People["ulla"] = spoken.Mooring{Class: "mooring"}
	c := dialect.Connector{File: file(t, "harbour-switch")}
	var typed []string
	srv.Typed = func(_ int, text string) { typed = append(typed, text) }
	s := connecttest.Open(t, c, a)
	got := connecttest.Apply(s, []connect.Act{connecttest.Move(model.LeaveIt, model.RightKind, "mooring", "ulla"),
		connecttest.Move(model.JoinIt, model.RightKind, "master", "ulla")})
	if n := connecttest.Tally(got); n[connect.Done] != 2 || l.Is.People["ulla"].Class != "master" {
		t.Errorf("%+v", got)
	}
	if slices.ContainsFunc(typed, func(x string) bool { return strings.Contains(x, "visitor") }) {
		t.Errorf("%q", typed)
	}
	spelled := c.Schema().Of(model.RightKind).Spelled
	if _, err := spelled.Read("captain"); err == nil || !strings.Contains(err.Error(), "master, mooring, visitor") {
		t.Errorf("%v", err)
	}
	if got := spelled.Least([]string{"mooring", "master", "visitor"}); fmt.Sprint(got) != "[master]" {
		t.Errorf("of three classes that roles give somebody has %q", got)
	}
}

// What an action takes is asked of the switch; who is signed in is told with what they hold; and whoever changed an account last
// that was not us stands with it.
func TestWhoMay(t *testing.T) {
	_, l, a := skerry(t)
	l.Is.People["ulla"] = spoken.Mooring{Class: "mooring", Hash: spoken.Hashed("a word of hers")}
	c := dialect.Connector{File: file(t, "harbour-switch")}
	open := func() (connect.Session, error) { return c.Open(ctx, a) }
	for action, want := range map[string]string{"person ulla class master": "[change people] <nil>", "my secret": "[] asked what",
		"turn out 3": "[turn out] <nil>", "a\nb": "[] line "} {
		list, err := connect.Needs(ctx, c, action, open)
		if got := fmt.Sprint(list, " ", err); !strings.HasPrefix(got, want) {
			t.Errorf("%q: %s, want %s", action, got, want)
		}
	}
	hers := a
	hers.As, hers.Secret = "ulla", []byte("a word of hers")
	x, err := dialect.Typing(ctx, c, hers)
	if err != nil {
		t.Fatal(err)
	}
	defer x.Close()
	master, err := dialect.Typing(ctx, c, a)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{"open sheet", "person ulla class master", "keep sheet \"as we agreed\""} {
		if _, err := master.Type(ctx, line); err != nil {
			t.Fatal(err)
		}
	}
	l.Is.Keeps[0].By = "lotte"
	s := connecttest.Open(t, c, a)
	list, err := connect.Watch(ctx, s)
	if err != nil || len(list) != 2 || list[0].Attributes.One(model.HoldsSets) != "right mooring" {
		t.Errorf("%+v %v", list, err)
	}
	o := connecttest.Surveyed(t, s)[model.Named{Kind: model.Account, Name: "ulla"}]
	if by := o.Attributes.One(model.ChangedBy); !strings.HasPrefix(by, "lotte, 20") || !strings.HasSuffix(by, ": as we agreed") {
		t.Errorf("%q", by)
	}
	if got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, "ulla",
		model.Change{Attribute: model.FullName,
			After: []string{"Ulla"}})}); got[0].Outcome != connect.Done {
		t.Errorf("%+v", got)
	}
	o = connecttest.Surveyed(t, s)[model.Named{Kind: model.Account, Name: "ulla"}]
	if o.Attributes.Has(model.ChangedBy) {
		t.Errorf("what we changed last is said to be %q", o.Attributes.One(model.ChangedBy))
	}
}

// Keys open a login beside its password, and a password that must be changed opens nothing else.
func TestKeysOnSwitch(t *testing.T) {
	_, l, a := skerry(t)
	s := connecttest.Open(t, dialect.Connector{File: file(t, "harbour-switch")}, a)
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	private, public := pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	ulla := connecttest.Act(model.Create, model.Account, "ulla.niemi", model.Change{Attribute: model.Keys, After: []string{public}},
		model.Change{Attribute: model.PasswordEnds, After: []string{"2999-12-31"}})
	if got := connecttest.Apply(s, []connect.Act{ulla}); got[0].Outcome != connect.Done || l.Is.People["ulla.niemi"].Until != "2999-12-31" {
		t.Fatalf("%+v", got)
	}
	if p, words := connect.Prove(ctx, s, "ulla.niemi", connect.Seal(private)); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	if got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, "ulla.niemi",
		model.Change{Attribute: model.Keys,
			Before: []string{public}})}); got[0].Outcome != connect.Done {
		t.Errorf("%+v", got)
	}
	if p, _ := connect.Prove(ctx, s, "ulla.niemi", connect.Seal(private)); p != connect.Disproved {
		t.Errorf("%s with a key that was taken away", p)
	}
}
