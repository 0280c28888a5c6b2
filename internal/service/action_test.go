package service

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/standin/spoken"
)

// taught makes a service that was taught a dialect of the demo.
func taught(t *testing.T, h servicetest.House, name string, text []byte) (*Service, dialect.Connector) {
	t.Helper()
	c, err := dialect.Learn(name, text)
	if err != nil {
		t.Fatal(err)
	}
	h.Kinds[c.File.Kind] = c
	s, err := New(Config{Store: h.Store, Kinds: h.Kinds, KeyFile: h.KeyFile, Log: h.Log,
		Teach: func(name string, text []byte) (connect.Pupil, error) { return dialect.Learn(name, text) }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, c
}

// Whether somebody may do something is told with what it takes, what gives it, and who is signed in with other rights than they
// have now.
func TestMayDo(t *testing.T) {
	h := servicetest.Open(t)
	name, text := lesson(t, "harbour-switch", "harbour-switch")
	s, c := taught(t, h, name, text)
	l, err := spoken.NewSkerry(filepath.Join(t.TempDir(), "state"), spoken.SkerryState{Name: "quay", People: map[string]spoken.Mooring{
		"hen-roost": {Class: "master", Hash: spoken.Hashed("a-secret-of-ours")},
		"odd":       {Class: "mooring", Hash: spoken.Hashed("a word of his")}},
		Classes: map[string][]string{"master": {"tell", "lights", "change people"}, "mooring": {"tell", "lights"}, "visitor": {}}})
	if err != nil {
		t.Fatal(err)
	}
	srv, err := spoken.Serve(l, "127.0.9.6:0", filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(srv.Stop)
	declaration := "roost: 1\nusers:\n  odd: {name: Odd Strand, roles: [quay]}\n  kari: {name: Kari, roles: [quay]}\n  per: {name: Per}\n" +
		"roles:\n  quay: {gives: [{at: quay, rights: [moor]}]}\nrights:\n  moor: {at: quay, allows: [mooring]}\ntargets:\n" +
		"  quay: {kind: harbour-switch, address: \"" + srv.Address + "\", login: {as: hen-roost, secret: word}}\n" +
		"  arctic: {kind: tern, address: x, login: {as: root}}\n"
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: declaration}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "word", []byte("a-secret-of-ours")); err != nil {
		t.Fatal(err)
	}
	may := func(who door.Operator, user, target, action string) string {
		x, err := s.Explain(ctx, who, seen.Question{User: user, Target: target, Action: action})
		if err != nil {
			return err.Error()
		}
		out := x.Action.May + " " + x.Action.Words
		for _, n := range x.Action.Needs {
			out += fmt.Sprintf("; %s: %s", n.Permission, n.State)
			for _, g := range n.Gives {
				out += fmt.Sprintf(" (%s %s)", g.What, g.State)
			}
		}
		for _, o := range x.Action.Sessions {
			out += "; session " + o.Words
		}
		return strings.TrimSpace(out + x.Action.NotAsked)
	}
	_, _ = s.Survey(ctx, door.Itself, nil, nil)
	shown, err := s.Target(ctx, door.Itself, "quay")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.AcceptKey(ctx, door.Itself, "quay", shown.Print); err != nil {
		t.Fatal(err)
	}
	if got := may(door.Itself, "odd", "quay", "light 3 on"); !strings.HasPrefix(got,
		"not known quay has not been surveyed; lights: not surveyed") {
		t.Error(got)
	}
	survey := func() {
		t.Helper()
		if r, err := s.Survey(ctx, door.Itself, []string{"quay"}, nil); err != nil || r[0].Words != "" {
			t.Fatalf("%+v %v", r, err)
		}
	}
	survey()
	looker := door.Operator{Name: "jo", Duties: []door.Duty{door.Look}}
	for _, c := range []struct {
		who                  door.Operator
		user, target, action string
		want                 string
	}{
		{door.Itself, "odd", "quay", "light 3 on", "yes ; lights: has (right mooring as declared)"},
		{door.Itself, "odd", "quay", "person x shut", "no ; change people: lacks (right master neither declared nor there)"},
		{door.Itself, "kari", "quay", "light 3 on", "no they have no account there; lights: is to have (right mooring missing) (right " +
			"master neither declared nor there)"},
		{door.Itself, "per", "quay", "tell people", "no they have no account there; tell: lacks (right master neither declared nor " +
			"there) (right mooring neither declared nor there)"},
		{door.Itself, "odd", "quay", "dance", `asked what "dance" takes it answers: what is dance?; ask of one as "person odd.strand class master"`},
		{door.Itself, "odd", "quay", strings.Repeat("x", 501), "an action has between 1 and 500 characters"},
		{door.Itself, "odd", "arctic", "reboot", "what actions take on targets of this kind is not known"},
		{looker, "odd", "quay", "light 3 on", "run"},
	} {
		if got := may(c.who, c.user, c.target, c.action); got != c.want && (c.want != "run" || !strings.Contains(got, "run")) {
			t.Errorf("%s %s: %s, want %s", c.user, c.action, got, c.want)
		}
	}
	if _, err := s.Explain(ctx, door.Itself, seen.Question{User: "odd", Target: "quay", Action: "x", What: "account"}); err == nil {
		t.Error("two things are asked about at once")
	}
	his, err := dialect.Typing(ctx, c, connecttest.Accept(t, c, connect.Access{Target: "quay", Address: srv.Address, As: "odd",
		Secret: []byte("a word of his")}))
	if err != nil {
		t.Fatal(err)
	}
	defer his.Close()
	class := func(word string) {
		p := l.Is.People["odd"]
		p.Class = word
		l.Is.People["odd"] = p
		survey()
	}
	class("visitor")
	if got := may(door.Itself, "odd", "quay", "light 3 on"); !strings.HasPrefix(got, "no ; lights: is to have") ||
		!strings.HasSuffix(got, "; session still may: lights") {
		t.Error(got)
	}
	class("master")
	if got := may(door.Itself, "odd", "quay", "person x shut"); !strings.HasPrefix(got,
		"yes ; change people: has (right master not declared)") ||
		!strings.HasSuffix(got, "; session may not yet: change people") {
		t.Error(got)
	}
	if got := may(door.Itself, "odd", "quay", "light 3 on"); !strings.HasSuffix(got, "; session as their account now") {
		t.Error(got)
	}
}

// quayhost is a host that others are run on, by programs.
type quayhost struct {
	connect.Connector
	open atomic.Int32
	ran  atomic.Int32
	l    spoken.Language
}

func (q *quayhost) Schema() model.Schema {
	s := q.Connector.Schema()
	s.Kind, s.Leads = "quayhost", true
	return s
}

func (q *quayhost) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	s, err := q.Connector.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	q.open.Add(1)
	return &quaysession{s, q}, nil
}

type quaysession struct {
	connect.Session
	q *quayhost
}

func (s *quaysession) Close() error {
	s.q.open.Add(-1)
	return s.Session.Close()
}

func (s *quaysession) Offers() connect.Offers {
	o := s.Session.Offers()
	o.Run = s.Run
	return o
}

func (s *quaysession) Run(_ context.Context, program []string, input string, _ int) (string, int, error) {
	s.q.ran.Add(1)
	var out strings.Builder
	status := spoken.Command(s.q.l, "press", program, strings.NewReader(input), &out)
	return out.String(), status, nil
}

// An application that is run on a host is reached through the target that the host is, over one connection; its dialect cannot be
// tried before the service has it.
func TestRunOnHost(t *testing.T) {
	h := servicetest.Open(t)
	_, text := lesson(t, "folio", "folio-here")
	text = []byte(strings.NewReplacer("over: ssh", "over: host", "quote: {rule: double}\n", "").Replace(string(text)))
	l, err := spoken.NewFolio(filepath.Join(t.TempDir(), "state"), spoken.FolioState{Admin: "press",
		People: map[string]spoken.Author{"hanne": {Name: "Hanne Vik"}}, Roles: map[string]string{"editor": "sees to it"}})
	if err != nil {
		t.Fatal(err)
	}
	quay := &quayhost{Connector: h.Tern.Memory, l: l}
	h.Kinds["quayhost"] = quay
	own := strings.NewReplacer("over: host", "over: here", "kind: folio-here", "kind: folio-near").Replace(string(text))
	near, err := dialect.Learn("near.yaml", []byte(own))
	if err != nil {
		t.Fatal(err)
	}
	h.Kinds["folio-near"] = near
	s, _ := taught(t, h, "folio-here.yaml", text)
	const declaration = "roost: 1\ntargets:\n  press: {kind: folio-here, via: quay, login: {as: press}}\n" +
		"  quay: {kind: quayhost, address: x, login: {as: root}}\n  deck: {kind: quayhost, login: {as: root}}\n"
	for text, want := range map[string]string{declaration: `target "deck" has no address`,
		strings.Replace(declaration, "via: quay, ", "", 1):          `target "press" of kind folio-here is run on a host; say on which: via: HOST`,
		strings.Replace(declaration, "folio-here", "folio-near", 1): `is run where the service is, and not via quay`} {
		if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "begin"); err == nil ||
			!strings.Contains(fmt.Sprint(door.ProblemOf(err).Faults), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	whole := strings.Replace(declaration, "deck: {", "deck: {address: y, ", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: whole}}, "begin"); err != nil {
		t.Fatal(err)
	}
	r, err := s.Survey(ctx, door.Itself, []string{"press"}, nil)
	if err != nil || r[0].State != "out of reach" || r[0].Print != "" || !strings.Contains(r[0].Words, "roost target accept-key quay") {
		t.Errorf("the key of the host is told as its own: %+v %v", r, err)
	}
	_, _ = s.Survey(ctx, door.Itself, []string{"quay"}, nil)
	if err := s.AcceptKey(ctx, door.Itself, "quay", "memory"); err != nil {
		t.Fatal(err)
	}
	r, err = s.Survey(ctx, door.Itself, []string{"press"}, nil)
	if err != nil || r[0].Words != "" || quay.ran.Load() != 2 {
		t.Errorf("%+v %v, %d programs", r, err, quay.ran.Load())
	}
	o, err := h.Store.Object(ctx, "press", model.Account, "hanne")
	if err != nil || o.Attributes.One(model.FullName) != "Hanne Vik" {
		t.Errorf("%+v %v", o, err)
	}
	if n := quay.open.Load(); n != 0 {
		t.Errorf("%d connections to the host are left open", n)
	}
	admin := door.Operator{Name: "odd", Duties: door.Duties}
	other := strings.Replace(string(text), "folio people", "cat /etc/shadow", 1)
	if _, err := s.TryDialect(ctx, admin, seen.TryRequest{Target: "press", File: "mine.yaml", Text: other}); err == nil ||
		!strings.Contains(err.Error(), "put it into the folder of dialects first") {
		t.Errorf("whoever administers Hen Roost ran what they like on its host: %v", err)
	}
	if got, err := s.TryDialect(ctx, admin, seen.TryRequest{Target: "press", File: "mine.yaml", Text: string(text)}); err != nil ||
		got.Objects["account"] != 1 {
		t.Errorf("%+v %v", got, err)
	}
}
