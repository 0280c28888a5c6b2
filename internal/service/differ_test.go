package service

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/standin/spoken"
	"hen-roost/internal/work"
)

const quayCompany = `roost: 1
users:
  odd: {name: Odd Strand, roles: [quay, harbour-master]}
  kari: {name: Kari Berg, roles: [quay]}
roles:
  quay: {gives: [{at: quay, rights: [moor]}]}
  harbour-master: {gives: [{at: quay, rights: [govern]}]}
rights:
  moor: {at: quay, allows: [mooring]}
  govern: {at: quay, allows: [master]}
targets:
  quay: {kind: harbour-switch, address: "%s", login: {as: hen-roost, secret: word}, match: [name]}
  arctic: {kind: tern, address: x, login: {as: root}}
`

// quay is a service that looks after a switch, surveyed, and the switch with how it is reached.
func quay(t *testing.T) (*Service, *spoken.Skerry, dialect.Connector, connect.Access) {
	t.Helper()
	h := servicetest.Open(t)
	name, text := lesson(t, "harbour-switch", "harbour-switch")
	s, c := taught(t, h, name, text)
	l, err := spoken.NewSkerry(filepath.Join(t.TempDir(), "state"), spoken.SkerryState{Name: "quay", People: map[string]spoken.Mooring{
		"hen-roost": {Class: "master", Hash: spoken.Hashed("a-secret-of-ours")},
		"lotte":     {Class: "master", Hash: spoken.Hashed("a word of hers")},
		"odd":       {Name: "O. Strand", Class: "mooring"}},
		Classes: map[string][]string{"master": {"tell", "change people"}, "mooring": {"tell"}, "visitor": {}}})
	if err != nil {
		t.Fatal(err)
	}
	srv, err := spoken.Serve(l, "127.0.9.7:0", filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(srv.Stop)
	company := []declare.File{{Name: "c.yaml", Text: fmt.Sprintf(quayCompany, srv.Address)}}
	if _, err := s.Declare(ctx, door.Itself, company, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "word", []byte("a-secret-of-ours")); err != nil {
		t.Fatal(err)
	}
	_, _ = s.Survey(ctx, door.Itself, nil, nil)
	shown, err := s.Target(ctx, door.Itself, "quay")
	if err == nil {
		err = s.AcceptKey(ctx, door.Itself, "quay", shown.Print)
	}
	if err != nil {
		t.Fatal(err)
	}
	if r, err := s.Survey(ctx, door.Itself, []string{"quay"}, nil); err != nil || r[0].Words != "" {
		t.Fatalf("%+v %v", r, err)
	}
	a := connecttest.Accept(t, c, connect.Access{Target: "quay", Address: srv.Address, As: "lotte", Secret: []byte("a word of hers")})
	return s, l, c, a
}

// A switch says itself what a round would change there, and nothing is changed; who may not, when it cannot, and whose candidate is
// in the way is told. Of two classes that roles give somebody the stronger counts.
func TestDifference(t *testing.T) {
	s, l, c, a := quay(t)
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Choice: declared.Choice{Targets: []string{"quay"}}, Because: "the quay"})
	if err != nil {
		t.Fatal(err)
	}
	if !r.Targets[0].Differs {
		t.Error("nobody is told that the target can be asked")
	}
	const want = "~ person odd name: O. Strand > Odd Strand|~ person odd class: mooring > master|" +
		"+ person kari, class mooring|~ person kari name:  > Kari Berg"
	for _, ask := range []func() (rounds.Difference, error){
		func() (rounds.Difference, error) { return s.RoundDifference(ctx, door.Itself, r.ID, "quay") },
		func() (rounds.Difference, error) { return s.TargetDifference(ctx, door.Itself, "quay") },
	} {
		x, err := ask()
		if got := strings.Join(x.Lines, "|"); err != nil || got != want {
			t.Errorf("%s %v, want %s", got, err, want)
		}
	}
	if len(l.Is.People) != 3 || l.Is.People["odd"].Name != "O. Strand" || len(l.Is.Keeps) != 0 {
		t.Errorf("something was changed: %+v", l.Is)
	}
	entries, err := s.Record(ctx, door.Itself, door.RecordFilter{Target: "quay"}, 10)
	if err != nil || !strings.Contains(fmt.Sprintf("%+v", entries), "would change, in its own words") {
		t.Errorf("%+v %v", entries, err)
	}
	refused := func(want string, _ rounds.Difference, err error) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	looker := door.Operator{Name: "jo", Duties: []door.Duty{door.Look}}
	ask := func(who door.Operator, id int64, target string) (rounds.Difference, error) {
		return s.RoundDifference(ctx, who, id, target)
	}
	x, err := ask(looker, r.ID, "quay")
	refused("run", x, err)
	x, err = ask(door.Itself, 77, "quay")
	refused("there is no round 77", x, err)
	x, err = ask(door.Itself, r.ID, "arctic")
	refused("has no steps on arctic", x, err)
	x, err = s.TargetDifference(ctx, door.Itself, "tern")
	refused(`"tern"`, x, err)
	x, err = s.TargetDifference(ctx, door.Itself, "arctic")
	refused("arctic: sign in: the target refuses our login", x, err)
	hers, err := dialect.Typing(ctx, c, a)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := hers.Type(ctx, "open sheet"); err != nil {
		t.Fatal(err)
	}
	x, err = ask(door.Itself, r.ID, "quay")
	refused("its candidate is open by lotte", x, err)
	hers.Close()
	held, err := work.TryHold(ctx, s.Store, "target/quay", "another service")
	if err != nil {
		t.Fatal(err)
	}
	x, err = ask(door.Itself, r.ID, "quay")
	refused("somebody works on quay at this moment", x, err)
	held.Release()
	if _, err := s.Stop(ctx, door.Itself, r.ID, "not today"); err != nil {
		t.Fatal(err)
	}
	x, err = ask(door.Itself, r.ID, "quay")
	refused("is stopped; a target tells what would change before it begins", x, err)
}
