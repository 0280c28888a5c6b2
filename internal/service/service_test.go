package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver"
	"hen-roost/internal/store"
)

var ctx = context.Background()

// Tests need no strong hashes, but the one that looks at them.
var strong = usual

func init() { usual = toil{1, 64, 1} }

// tern is a target in memory whose accounts tests lay out.
type tern struct {
	mu      sync.Mutex
	objects map[string]model.Object
	err     error
	refuses string                    // the name it does not make
	secrets map[string]connect.Secret // what was set, by account
	pause   time.Duration
	memory  *connecttest.Memory // the target of its kind, beside
}

func (f *tern) change(name, attribute, value string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	o := f.objects["account"+name]
	o.Attributes = o.Attributes.With(attribute, value)
	f.objects["account"+name] = o
}

// set lays an object out as it is.
func (f *tern) set(o model.Object) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.objects[o.Kind.String()+o.Name] = o
}

func (f *tern) Schema() model.Schema {
	return model.Schema{Kind: "tern", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "^[a-z.]+$"),
			Attributes: []model.AttributeSchema{
				{Name: model.Number, Settable: true, From: "number"}, {Name: model.FullName, Settable: true, From: "name"},
				{Name: model.Disabled}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs:      []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Number}}}}}
}

func (f *tern) Open(_ context.Context, a connect.Access) (connect.Session, error) {
	if f.err != nil {
		return nil, f.err
	}
	if string(a.Secret) != "hunter2-hunter2" {
		return nil, &connect.Error{Target: a.Target, Op: "sign in", Err: &connect.Refused{Err: errors.New("wrong secret")}}
	}
	return f, nil
}

func (f *tern) Close() error { return nil }

func (f *tern) Survey(_ context.Context, found func(model.Object) error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, o := range f.objects {
		if err := found(o); err != nil {
			return err
		}
	}
	return nil
}

func (f *tern) Object(n model.Named) *model.Object {
	if o, ok := f.objects[n.Kind.String()+n.Name]; ok {
		return &o
	}
	return nil
}

func (f *tern) Member(_, _ model.Named) bool { return false }

func (f *tern) Apply(_ context.Context, acts []connect.Act) []connect.Answer {
	time.Sleep(f.pause)
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]connect.Answer, len(acts))
	for i, a := range acts {
		if a.Name == f.refuses {
			out[i] = connect.Answer{Outcome: connect.Failed, Words: "the disk is full"}
			continue
		}
		for _, s := range a.Secrets {
			if f.secrets == nil {
				f.secrets = map[string]connect.Secret{}
			}
			f.secrets[a.Name] = s
		}
		standing, words := connect.Judge(a, f.Schema(), f)
		if standing != connect.Ready {
			out[i] = connect.Found(a, standing, words, f)
			continue
		}
		if a.Object == model.Account && a.Verb != model.AdoptIt {
			o := f.objects["account"+a.Name]
			o.Kind, o.Name = model.Account, a.Name
			for name, values := range a.After().All() {
				o.Attributes = o.Attributes.With(name, values...)
			}
			if a.Verb == model.Create {
				o.Attributes = o.Attributes.With(model.Disabled, "no")
			}
			f.objects["account"+a.Name] = o
		}
		out[i] = connect.Verify(a, f.Schema(), f, "")
	}
	return out
}

const declaration = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [crew]}
  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}
roles:
  crew: {gives: [{at: {kind: tern}}]}
targets:
  arctic: {kind: tern, address: "a:1", login: {as: root, secret: key}, unexpected: disable, protect: ["svc*"]}
`

var files = []declare.File{{Name: "c.yaml", Text: declaration}}

// start makes a service on a database of its own, with the secret set and the files declared.
func start(t *testing.T) (*Service, *tern) {
	t.Helper()
	dir, err := os.MkdirTemp("", "rv")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	db, err := dbserver.Start(ctx, dbserver.Options{Dir: dir + "/db", Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Stop)
	s, err := store.Open(ctx, db.DSN())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	f := &tern{objects: map[string]model.Object{}, memory: &connecttest.Memory{}}
	svc, err := New(Config{Store: s, Kinds: connect.Kinds{"tern": f, "memory": f.memory}, KeyFile: dir + "/seal.key",
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		t.Fatal(err)
	}
	svc.Begin()
	t.Cleanup(svc.Close)
	return svc, f
}

// ended waits for a round to be over.
func ended(t *testing.T, s *Service, id int64) Round {
	t.Helper()
	for range 400 {
		r, err := s.Round(ctx, Itself, id)
		if err != nil {
			t.Fatal(err)
		}
		if r.EndedAt != nil {
			return r
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("round %d does not end", id)
	return Round{}
}

func (f *tern) add(name, number string, more ...string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	o := model.Object{Kind: model.Account, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Disabled, "no")
	for i := 0; i < len(more); i += 2 {
		o.Attributes = o.Attributes.With(more[i], more[i+1])
	}
	f.objects["account"+name] = o
}

// The whole line on a target in memory, from nothing declared to nothing left to do.
func TestLine(t *testing.T) {
	s, f := start(t)
	var p *Problem
	if _, err := s.Overview(ctx, Itself); !errors.As(err, &p) || p.Kind != NotYet {
		t.Fatalf("before the first revision: %v", err)
	}
	if _, err := s.Declare(ctx, Itself, files, " "); !errors.As(err, &p) || p.Field != "because" {
		t.Errorf("without a reason: %v", err)
	}
	r, err := s.Declare(ctx, Itself, files, "begin")
	if err != nil || r.Number != 1 || r.Users != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	f.add("marit", "1001", model.FullName, "Marit Fell")
	f.add("jarle", "1701")
	f.add("svcbackup", "1800")
	got, err := s.Survey(ctx, Itself, nil, nil)
	if err != nil || got[0].State != Refused || !strings.Contains(got[0].Words,
		`no secret "key" is set; set it with: roost secret set key`) {
		t.Fatalf("without the secret: %+v %v", got, err)
	}
	if err := s.SetSecret(ctx, Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	heard := 0
	got, err = s.Survey(ctx, Itself, []string{"arctic", "arctic"}, func(SurveyResult) { heard++ })
	if err != nil || len(got) != 1 || heard != 1 || got[0].State != Surveyed || got[0].Accounts != 3 || got[0].Findings != 3 ||
		got[0].Fresh != 3 {
		t.Fatalf("%+v %v", got, err)
	}
	round, err := s.Draft(ctx, Itself, DraftRequest{Because: "take over"})
	if err != nil || round.Steps != 3 || round.People != 2 {
		t.Fatalf("%+v %v", round, err)
	}
	if _, err := s.RunRound(ctx, Itself, round.ID); err == nil || !strings.Contains(err.Error(), "round 1 is a draft") {
		t.Error(err)
	}
	if _, err := s.Approve(ctx, Itself, round.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, Itself, round.ID); err != nil {
		t.Fatal(err)
	}
	round = ended(t, s, round.ID)
	if round.State != Complete || round.Outcomes["done"] != 3 {
		t.Fatalf("%+v", round)
	}
	o, err := s.Overview(ctx, Itself)
	if err != nil || o.Sentence != "Everything is as declared." || o.Declared != 1 || len(o.Rounds) != 0 || len(o.Happened) == 0 ||
		o.Targets[0].Accounts != 4 {
		t.Errorf("%+v %v", o, err)
	}
	for _, e := range o.Happened {
		if e.Kind == "step" {
			t.Error("the overview speaks of steps")
		}
	}
	again, err := s.Draft(ctx, Itself, DraftRequest{Because: "nothing"})
	if err != nil || again.ID != 0 || again.Undecided != 0 {
		t.Errorf("a second draft: %+v %v", again, err)
	}
	// Whoever is taken out of the declaration is shut, though nothing says so of strangers.
	less := []declare.File{{Name: "c.yaml", Text: strings.Replace(strings.Replace(declaration,
		"  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}\n", "", 1), "unexpected: disable", "unexpected: report", 1)}}
	if r, err := s.Declare(ctx, Itself, less, "hanne left"); err != nil || r.Findings != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	found, err := s.Drift(ctx, Itself, DriftRequest{Choice: Choice{Users: []string{"hanne"}}}, Page{})
	if err == nil || !strings.Contains(err.Error(), `no user is called "hanne"`) {
		t.Errorf("%+v %v", found, err)
	}
	found, err = s.Drift(ctx, Itself, DriftRequest{}, Page{})
	if err != nil || len(found.Items) != 2 || found.Items[0].What != "disable account" || found.Items[0].User != "hanne" {
		t.Errorf("%+v %v", found, err)
	}
	if v, err := s.VerifyRecord(ctx, Itself); err != nil || !v.Holds {
		t.Errorf("%+v %v", v, err)
	}
}

func TestViews(t *testing.T) {
	s, f := start(t)
	f.add("marit", "1501", model.FullName, "M")
	f.add("hv", "1014")
	f.add("hanne", "9")
	if _, err := s.Declare(ctx, Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	u, err := s.User(ctx, Itself, "marit")
	if err != nil || u.Accounts[0].State != "not surveyed" {
		t.Errorf("%+v %v", u, err)
	}
	if err := s.SetSecret(ctx, Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Survey(ctx, Itself, nil, nil); err != nil {
		t.Fatal(err)
	}
	for user, want := range map[string]string{"marit": "found", "hanne": "open to question"} {
		u, err := s.User(ctx, Itself, user)
		if err != nil || len(u.Accounts) != 1 || u.Accounts[0].State != want || len(u.Accounts[0].Findings) == 0 || u.At == "" {
			t.Errorf("%+v %v", u, err)
		}
	}
	delete(f.objects, "accountmarit")
	if _, err := s.Survey(ctx, Itself, nil, nil); err != nil {
		t.Fatal(err)
	}
	if u, _ := s.User(ctx, Itself, "marit"); u.Accounts[0].State != "missing" {
		t.Errorf("%+v", u.Accounts)
	}
	for text, want := range map[string]int{"": 2, "fell": 1, "HANNE": 1, "crew": 2, "nobody": 0} {
		if list, err := s.Users(ctx, Itself, text, Page{Size: 1}); err != nil || list.Total != want || len(list.Items) != min(1, want) {
			t.Errorf("%q: %+v %v", text, list, err)
		}
	}
	if list, _ := s.Users(ctx, Itself, "", Page{From: 1, Size: 5}); len(list.Items) != 1 || list.Items[0].ID != "marit" {
		t.Errorf("%+v", list)
	}
	for text, want := range map[string]int{"": 1, "arc": 1, "tern": 1, "nobody": 0} {
		if list, err := s.Targets(ctx, Itself, text, Page{}); err != nil || list.Total != want || len(list.Items) != want {
			t.Errorf("%q: %+v %v", text, list, err)
		}
	}
	many := make([]Target, 40)
	many[35].State, many[36] = Surveyed, Target{State: Surveyed, Total: 3}
	if got := first(many, 39); len(got) != 39 || got[35].Total != 3 {
		t.Error("a target that is as declared is shown before one that is not")
	}
	held, err := s.TargetAccounts(ctx, Itself, "arctic", "h", Page{})
	if err != nil || held.Total != 2 {
		t.Errorf("%+v %v", held, err)
	}
	d, err := s.Target(ctx, Itself, "arctic")
	if err != nil || d.Login != "root" || d.Unexpected != "disable" || len(d.Protect) != 1 || d.Decide == 0 {
		t.Errorf("%+v %v", d, err)
	}
	var p *Problem
	for name, err := range map[string]error{
		"user": second(s.User(ctx, Itself, "marti")), "target": second(s.Target(ctx, Itself, "artic")),
		"survey":   second(s.Survey(ctx, Itself, []string{"artic"}, nil)),
		"drift":    second(s.Drift(ctx, Itself, DriftRequest{Choice: Choice{Users: []string{"hane"}}}, Page{})),
		"accounts": second(s.TargetAccounts(ctx, Itself, "artic", "", Page{})),
	} {
		if !errors.As(err, &p) || p.Kind != Unknown || p.Nearest == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }

func TestKeys(t *testing.T) {
	s, f := start(t)
	if _, err := s.Declare(ctx, Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.AcceptKey(ctx, Itself, "arctic", "SHA256:x"); err == nil || !strings.Contains(err.Error(), "shows no key that waits") {
		t.Error(err)
	}
	if err := s.SetSecret(ctx, Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	f.err = &connect.KeyError{Target: "arctic", Offered: "key one", Print: "SHA256:one"}
	if got, _ := s.Survey(ctx, Itself, nil, nil); got[0].State != KeyUnknown || got[0].Print != "SHA256:one" {
		t.Errorf("%+v", got)
	}
	if err := s.AcceptKey(ctx, Itself, "arctic", "SHA256:two"); err == nil || !strings.Contains(err.Error(), "nothing was accepted") {
		t.Error(err)
	}
	if err := s.AcceptKey(ctx, Itself, "arctic", "SHA256:one"); err != nil {
		t.Fatal(err)
	}
	if row, err := s.Store.Target(ctx, "arctic"); err != nil || row.Accepted != "key one" || row.State != NotSurveyed {
		t.Errorf("%+v %v", row, err)
	}
	f.err = &connect.KeyError{Target: "arctic", Offered: "key two", Print: "SHA256:two", Accepted: "key one"}
	if got, _ := s.Survey(ctx, Itself, nil, nil); got[0].State != KeyChanged {
		t.Errorf("%+v", got)
	}
	f.err = errors.New("connection refused")
	if got, _ := s.Survey(ctx, Itself, nil, nil); got[0].State != OutOfReach || got[0].Words != "connection refused" {
		t.Errorf("%+v", got)
	}
	f.err = nil
	if got, _ := s.Survey(ctx, Itself, nil, nil); got[0].State != Surveyed || got[0].Print != "" {
		t.Errorf("%+v", got)
	}
}

func TestOperators(t *testing.T) {
	s, _ := start(t)
	made, err := s.FirstOperator(ctx, "odd.strand", "Odd Strand", "")
	if err != nil || len(made) < 12 {
		t.Fatalf("%q %v", made, err)
	}
	if _, err := s.FirstOperator(ctx, "second", "", ""); err == nil || !strings.Contains(err.Error(), "there are operators already") {
		t.Errorf("a second first administrator: %v", err)
	}
	who, secret, _, err := s.SignIn(ctx, "odd.strand", made, "", "127.0.0.1")
	if err != nil || len(who.Duties) != 5 {
		t.Fatal(who, err)
	}
	for name, c := range map[string]struct {
		name, password string
		duties         []string
		want           string
	}{
		"bad name": {"Odd Strand", "", nil, "cannot be an operator's name"}, "short": {"x", "short", nil, "at least 12"},
		"duty":  {"x", "", []string{"rule"}, `"rule" is not a duty`},
		"twice": {"odd.strand", "", nil, "there is an operator odd.strand already"},
	} {
		if _, err := s.AddOperator(ctx, who, c.name, "", c.password, c.duties); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := s.AddOperator(ctx, who, "ines", "", "a long enough password", []string{"run"}); err != nil {
		t.Fatal(err)
	}
	if err := s.SetOperator(ctx, who, "odd.strand", []string{"look"}); err == nil || !strings.Contains(err.Error(), "from yourself") {
		t.Error(err)
	}
	if err := s.RemoveOperator(ctx, who, "odd.strand"); err == nil || !strings.Contains(err.Error(), "cannot remove yourself") {
		t.Error(err)
	}
	ines, hers, _, err := s.SignIn(ctx, "ines", "a long enough password", "nightly", "127.0.0.1")
	if err != nil || joined(ines.Duties) != "look,run" {
		t.Fatal(ines, err)
	}
	if list, err := s.Tokens(ctx, ines); err != nil || len(list) != 1 || list[0].Name != "nightly" {
		t.Errorf("%+v %v", list, err)
	}
	if err := s.RemoveToken(ctx, ines, "nightyl"); err == nil || !strings.Contains(err.Error(), `did you mean "nightly"?`) {
		t.Error(err)
	}
	if err := s.SetOperator(ctx, who, "ines", []string{"look"}); err != nil {
		t.Fatal(err)
	}
	if now, err := s.Who(ctx, hers); err != nil || joined(now.Duties) != "look" {
		t.Errorf("a duty taken away still counts: %v %v", now, err)
	}
	if err := s.RemoveToken(ctx, ines, "nightly"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Who(ctx, hers); err == nil {
		t.Error("an ended token still counts")
	}
	if err := s.RemoveOperator(ctx, who, "ines"); err != nil {
		t.Fatal(err)
	}
	if err := s.SignOut(ctx, who, secret); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{secret, "", "roost-", "x", "roost-" + strings.Repeat("A", 200)} {
		if _, err := s.Who(ctx, bad); err == nil {
			t.Errorf("%q signs in", bad)
		}
	}
	s.Clock = func() time.Time { return time.Now().Add(-2 * sessionFor) }
	_, old, _, err := s.SignIn(ctx, "odd.strand", made, "", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	s.Clock = time.Now
	if _, err := s.Who(ctx, old); err == nil {
		t.Error("a session lives for ever")
	}
}

func TestPasswords(t *testing.T) {
	cheap := usual
	usual = strong
	defer func() { usual = cheap }()
	a, b := hashPassword("correct horse battery"), hashPassword("correct horse battery")
	if a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=3,p=4$") {
		t.Errorf("%s %s", a, b)
	}
	for password, want := range map[string]bool{"correct horse battery": true, "correct horse batter": false, "": false} {
		if got, err := checkPassword(ctx, password, a); got != want || err != nil {
			t.Errorf("%q: %v %v", password, got, err)
		}
	}
	for _, broken := range []string{"", "x", "$argon2id$v=19$m=65536,t=3,p=4$short", a[:len(a)-1], strings.Replace(a, "$", "", 1)} {
		if yes, _ := checkPassword(ctx, "correct horse battery", broken); yes {
			t.Errorf("%q lets one in", broken)
		}
	}
}

func TestSealer(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "seal.key")
	s, err := openSealer(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := s.close([]byte("secret"))
	if err != nil || bytes.Contains(sealed, []byte("secret")) {
		t.Fatal(err)
	}
	again, err := openSealer(file)
	if err != nil {
		t.Fatal(err)
	}
	if plain, err := again.open(sealed); err != nil || string(plain) != "secret" {
		t.Errorf("%q %v", plain, err)
	}
	other, err := openSealer(file + "2")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.open(sealed); err == nil || !strings.Contains(err.Error(), "sealed under another one") {
		t.Error(err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := openSealer(file); err == nil || !strings.Contains(err.Error(), "can be read by others (mode 644)") {
		t.Error(err)
	}
	if err := os.WriteFile(file+"3", []byte("AGE-SECRET-KEY-NONSENSE"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := openSealer(file + "3"); err == nil || strings.Contains(err.Error(), "NONSENSE") {
		t.Errorf("an error echoes the key: %v", err)
	}
}

func TestProblems(t *testing.T) {
	for want, err := range map[Kind]error{
		Unknown: unknown("user", "x", nil), Faulty: declare.Faults{{Message: "m"}},
		Away: &store.Refusal{Err: errors.New("dial tcp: connection refused")}, Conflict: conflict("no"), Invalid: invalid("f", "no"),
	} {
		if got := ProblemOf(err); got.Kind != want {
			t.Errorf("%v is %s, want %s", err, got.Kind, want)
		}
	}
	for out, want := range map[string]string{Tally(map[string]int{"done": 46, "failed": 1}): "1 failed, 46 done",
		Tally(nil): "nothing to do", count(1, "step", "steps"): "1 step", count(0, "step", "steps"): "0 steps", clipTo("åäö", 2): "å…"} {
		if out != want {
			t.Errorf("%q, want %q", out, want)
		}
	}
	if _, err := reason(strings.Repeat("x", 501)); err == nil {
		t.Error("a reason of any length is taken")
	}
}

// configOf is what another service is made of that stands beside one.
func configOf(s *Service) Config {
	return Config{Store: s.Store, Kinds: s.Kinds, KeyFile: s.KeyFile, Log: s.Log, Clock: s.Clock, Wait: s.Carrier.Wait, Width: s.Width,
		Batch: s.Batch, Widths: s.Widths, Probation: s.Probation, Alone: s.Alone}
}
