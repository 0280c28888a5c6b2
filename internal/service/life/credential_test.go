package life

import (
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// linked is the house with the accounts in memory settled to be theirs.
func linked(t *testing.T) *house {
	t.Helper()
	x := start(t)
	if err := x.Store.Tx(ctx, func(tx *store.Tx) error {
		return tx.PutLinks(ctx, "stores", []model.Link{{Target: "stores", User: "marit", Name: "marit@localhost", Rest: "localhost"},
			{Target: "stores", User: "hanne", Name: "hanne@localhost", Rest: "localhost"}}, 0, time.Now())
	}); err != nil {
		t.Fatal(err)
	}
	return x
}

// become waits until a handover is in a state.
func (x *house) become(t *testing.T, id int64, state string) Handover {
	t.Helper()
	var h Handover
	for range 600 {
		var err error
		if h, err = x.HandoverByID(ctx, door.Itself, id); err != nil {
			t.Fatal(err)
		}
		if h.State == state {
			return h
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("it does not become %s: %+v", state, h)
	return h
}

// signsIn says whether an account in memory takes a password.
func (x *house) signsIn(t *testing.T, account, password string) bool {
	t.Helper()
	s, err := x.SessionOn(ctx, "stores")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	p, _ := connect.Prove(ctx, s, account, connect.Seal([]byte(password)))
	return p == connect.Proved
}

func keeper(name string) door.Operator { return odd(name, door.Credential, door.Draft) }

func (x *house) rotate(t *testing.T, q RotateRequest) Rotated {
	t.Helper()
	q.Because = "forgot it"
	out, err := x.Rotate(ctx, keeper("odd"), q)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// A new password is set and proved before it can be collected, is collected once
// with link and code, signs in, and stands nowhere else.
func TestRotateAndCollect(t *testing.T) {
	x := linked(t)
	out := x.rotate(t, RotateRequest{Users: []string{"marit"}, Aloud: true})
	if len(out.Handovers) != 1 || len(out.Links) != 1 || !strings.HasPrefix(out.Links[0].Link, "/handover#") {
		t.Fatalf("%+v", out)
	}
	token, code := strings.TrimPrefix(out.Links[0].Link, "/handover#"), out.Links[0].Code
	h := x.become(t, out.Handovers[0].ID, ToCollect)
	if len(h.Accounts) != 1 || h.Accounts[0].State != store.HandedProved || h.ExpiresAt == nil || !h.Linked {
		t.Fatalf("%+v", h)
	}
	for range 3 { // whoever opens the link sees nothing, however often
		if p, err := x.Behind(ctx, token); err != nil || p.What != "password" {
			t.Errorf("%+v %v", p, err)
		}
	}
	if _, err := x.Collect(ctx, "ABCDEFGHIJKLMNOPQRSTUVWXYZ", code, "10.0.0.9"); door.ProblemOf(err).Kind != door.Unknown {
		t.Errorf("a link that was guessed: %v", err)
	}
	if _, err := x.Collect(ctx, token, "000000", "10.0.0.9"); door.ProblemOf(err).Field != "code" ||
		!strings.Contains(err.Error(), "4 tries are left") {
		t.Errorf("a wrong code: %v", err)
	}
	got, err := x.Collect(ctx, token, " "+code+" ", "10.0.0.9")
	if err != nil || got.Name != "Marit Fell" || !got.Change || len(got.Accounts) != 1 || !x.signsIn(t, "marit@localhost", got.Value) {
		t.Fatalf("%+v %v", got, err)
	}
	if _, err := x.Collect(ctx, token, code, "10.0.0.9"); door.ProblemOf(err).Kind != door.Unknown {
		t.Errorf("collected twice: %v", err)
	}
	if _, err := x.Behind(ctx, token); err == nil {
		t.Error("something is said to wait behind a link that was used")
	}
	if h := x.become(t, h.ID, Collected); h.EndedBy != "its link, from 10.0.0.9" || h.Tries != 1 {
		t.Errorf("%+v", h)
	}
	if _, err := x.Store.Sealed(ctx, sealedOf(t, x, h.ID)); !errors.Is(err, store.ErrNone) {
		t.Errorf("it is still kept: %v", err)
	}
	e, err := x.Record(ctx, door.Itself, door.RecordFilter{}, 200)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"made handover 1: a new password for marit", "collected over its link, from 10.0.0.9",
		"with a wrong code"} {
		if !slices.ContainsFunc(e.Items, func(e door.Entry) bool { return strings.Contains(e.Words, want) && e.User == "marit" }) {
			t.Errorf("the record does not say %q", want)
		}
	}
	for _, e := range e.Items {
		if strings.Contains(e.Words, got.Value) || strings.Contains(e.Words, code) || strings.Contains(e.Words, token) {
			t.Errorf("the record tells it: %s", e.Words)
		}
	}
	if line, err := x.TimeLine(ctx, door.Itself, "marit"); err != nil ||
		!slices.ContainsFunc(line, func(m Moment) bool { return m.What == "handover" && strings.Contains(m.Words, "collected") }) {
		t.Errorf("%+v %v", line, err)
	}
}

// Whoever has signed in since has changed theirs, and nobody has seen that yet: another is set all the same.
func TestRotateAfterChange(t *testing.T) {
	x := linked(t)
	x.become(t, x.rotate(t, RotateRequest{Users: []string{"marit"}}).Handovers[0].ID, ToCollect)
	o := model.Object{Kind: model.Account, Name: "marit@localhost"}
	o.Attributes = o.Attributes.With(model.Disabled, "no").With(model.Number, "1001")
	x.Tern.Memory.Put(o)
	x.become(t, x.rotate(t, RotateRequest{Users: []string{"marit"}}).Handovers[0].ID, ToCollect)
	// What was made for nothing waits for nobody.
	x.Tern.Memory.Put(shutAccount("marit@localhost", "1001"))
	if _, err := x.Survey(ctx, door.Itself, []string{"stores"}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := x.Join(ctx, anybody("odd"), JoinRequest{People: []Joiner{{ID: "liv", Name: "Liv Aune", Number: "1001x"}},
		Because: "t"}); err == nil {
		t.Error("somebody joins whose number is none")
	}
	list, err := x.ListHandovers(ctx, door.Itself, HandoverChoice{User: "liv"})
	if err != nil || len(list.Items) != 1 || list.Items[0].State != Withdrawn {
		t.Errorf("%+v %v", list, err)
	}
}

func sealedOf(t *testing.T, x *house, id int64) string {
	t.Helper()
	rows, err := x.Store.Handovers(ctx, store.HandoverFilter{IDs: []int64{id}}, 1)
	if err != nil || len(rows) != 1 || rows[0].Sealed == "" {
		t.Fatalf("%+v %v", rows, err)
	}
	return rows[0].Sealed
}

// Wrong codes are counted over all links to a handover: who may make links gets no more tries by that.
func TestRenewedLink(t *testing.T) {
	x := linked(t)
	id := x.rotate(t, RotateRequest{Users: []string{"marit"}}).Handovers[0].ID
	x.become(t, id, ToCollect)
	for try := range triesMost {
		l, err := x.LinkTo(ctx, keeper("jo"), id)
		if err != nil {
			t.Fatalf("after %d tries: %v", try, err)
		}
		wrong := "000000"
		if l.Code == wrong {
			wrong = "000001"
		}
		if _, err := x.Collect(ctx, strings.TrimPrefix(l.Link, "/handover#"), wrong, "x"); err == nil {
			t.Fatal("a wrong code was right")
		}
	}
	x.become(t, id, Withdrawn)
}

// Who guesses the code five times ends it; a new link makes the old one worthless;
// an operator who is shown it is named; what is withdrawn, replaced or too old is gone.
func TestHandoversEnd(t *testing.T) {
	x := linked(t)
	first := x.rotate(t, RotateRequest{Users: []string{"marit"}})
	token := strings.TrimPrefix(first.Links[0].Link, "/handover#")
	id := first.Handovers[0].ID
	x.become(t, id, ToCollect)
	l, err := x.LinkTo(ctx, keeper("jo"), id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := x.Collect(ctx, token, first.Links[0].Code, "x"); err == nil {
		t.Error("the old link works")
	}
	token = strings.TrimPrefix(l.Link, "/handover#")
	wrong := "000000"
	if l.Code == wrong {
		wrong = "000001"
	}
	for i := range 5 {
		_, err := x.Collect(ctx, token, wrong, "x")
		if p := door.ProblemOf(err); i < 4 && p.Field != "code" || i == 4 && p.Kind != door.Unknown {
			t.Errorf("try %d: %v", i+1, err)
		}
	}
	if h := x.become(t, id, Withdrawn); h.EndedBy != "too many wrong codes" {
		t.Errorf("%+v", h)
	}
	if _, err := x.Collect(ctx, token, l.Code, "x"); err == nil {
		t.Error("it is collected after five wrong codes")
	}

	second := x.rotate(t, RotateRequest{Users: []string{"marit"}}).Handovers[0].ID
	x.become(t, second, ToCollect)
	third := x.rotate(t, RotateRequest{Users: []string{"marit"}, Lasts: time.Hour}).Handovers[0].ID
	x.become(t, third, ToCollect)
	if h := x.become(t, second, Withdrawn); !strings.Contains(h.EndedBy, "took its place") {
		t.Errorf("%+v", h)
	}
	if _, err := x.CollectFor(ctx, odd("jo", door.Look, door.Administer), third); door.ProblemOf(err).Kind != door.Forbidden {
		t.Errorf("without the duty: %v", err)
	}
	got, err := x.CollectFor(ctx, keeper("jo"), third)
	if err != nil || !x.signsIn(t, "marit@localhost", got.Value) {
		t.Fatalf("%+v %v", got, err)
	}
	if h := x.become(t, third, Collected); h.EndedBy != "shown to jo" {
		t.Errorf("%+v", h)
	}
	if _, err := x.WithdrawHandover(ctx, keeper("jo"), third, "late"); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("what was collected is withdrawn: %v", err)
	}

	fourth := x.rotate(t, RotateRequest{Users: []string{"hanne"}, Lasts: time.Hour}).Handovers[0].ID
	x.become(t, fourth, ToCollect)
	later := open(t, x.House, func() time.Time { return time.Now().Add(2 * time.Hour) })
	(&house{later, x.House}).become(t, fourth, Expired)
	if _, err := x.CollectFor(ctx, keeper("jo"), fourth); err == nil || !strings.Contains(err.Error(), "has expired") {
		t.Errorf("what has expired: %v", err)
	}
}

// A service that dies while a password is being set leaves none that nobody has: the
// next one sets the same, and it is the one that is handed over.
func TestKilledWhileSetting(t *testing.T) {
	x := linked(t)
	dying := make(chan struct{})
	x.Tern.Memory.Trouble = func(op string) error {
		if op == "confirmed" { // it is set, and the answer is lost
			select {
			case <-dying:
				return nil
			default:
				return errors.New("killed")
			}
		}
		return nil
	}
	out := x.rotate(t, RotateRequest{Users: []string{"marit"}})
	hashed := x.rotate(t, RotateRequest{Users: []string{"hanne"}, Hash: "$6$salt$0123456789abcdef"})
	time.Sleep(200 * time.Millisecond)
	close(dying)
	later := &house{open(t, x.House, time.Now), x.House}
	for range 200 { // three times it is tried at once, and then at a sign of life
		h, err := later.HandoverByID(ctx, door.Itself, out.Handovers[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		other, err := later.HandoverByID(ctx, door.Itself, hashed.Handovers[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		if h.Accounts[0].State == store.HandedUnsure && other.Accounts[0].State == store.HandedUnsure {
			if _, err := later.Survey(ctx, door.Itself, []string{"stores"}, nil); err != nil {
				t.Fatal(err)
			}
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	later.become(t, out.Handovers[0].ID, ToCollect)
	anew := later.become(t, hashed.Handovers[0].ID, Collected).Accounts[0].Round // a hash is set anew as one
	steps, err := later.RoundSteps(ctx, door.Itself, anew, rounds.StepChoice{}, 10)
	if err != nil || anew == hashed.Round.ID || len(steps.Items) != 1 || steps.Items[0].Changes[0].Attribute != model.PasswordHash {
		t.Errorf("round %d: %+v %v", anew, steps, err)
	}
	got, err := later.CollectFor(ctx, keeper("jo"), out.Handovers[0].ID)
	if err != nil || !x.signsIn(t, "marit@localhost", got.Value) {
		t.Errorf("%+v %v", got, err)
	}
}

// What cannot be set is told, and nothing waits that nobody can sign in with.
func TestNotSet(t *testing.T) {
	x := linked(t)
	x.Tern.Memory.Trouble = func(op string) error { return map[bool]error{true: errors.New("away")}[op == "open"] }
	out := x.rotate(t, RotateRequest{Users: []string{"marit"}})
	h := x.become(t, out.Handovers[0].ID, NotSet)
	if h.Accounts[0].State != store.NotHanded || !strings.Contains(h.Accounts[0].Words, "away") {
		t.Errorf("%+v", h)
	}
	x.Tern.Memory.Trouble = nil
	// A round that is stopped before it is run gives its handover up too.
	x.Tern.Memory.Put(shutAccount("hanne@localhost", "1014"))
	if _, err := x.Survey(ctx, door.Itself, []string{"stores"}, nil); err != nil {
		t.Fatal(err)
	}
	if out := x.rotate(t, RotateRequest{Users: []string{"hanne"}}); out.Round.ID != 0 || len(out.Left) != 1 ||
		out.Left[0].Words != "the account is shut" {
		t.Errorf("%+v", out)
	}
	for _, q := range []RotateRequest{{}, {Users: []string{"mart"}}, {Users: []string{"marit"}, Lasts: time.Second},
		{Users: []string{"marit"}, Targets: []string{"store"}}, {Users: []string{"marit", "hanne"}, Given: "umber violin quartz anode"}} {
		q.Because = "t"
		if out, err := x.Rotate(ctx, keeper("odd"), q); err == nil {
			t.Errorf("%+v: %+v", q, out)
		}
	}
	if _, err := x.Rotate(ctx, odd("odd", door.Administer, door.Run), RotateRequest{Users: []string{"marit"}, Because: "t"}); err == nil {
		t.Error("it is a duty of its own")
	}
}

func shutAccount(name, number string) model.Object {
	o := model.Object{Kind: model.Account, Name: name}
	o.Attributes = o.Attributes.With(model.Disabled, "yes").With(model.Number, number)
	return o
}

// Whoever is suspended gets no new password, which would let them in.
func TestNoneForTheSuspended(t *testing.T) {
	x := linked(t)
	x.settled(t, x.suspend(t, "odd", "marit", false).ID, allShut)
	if out := x.rotate(t, RotateRequest{Users: []string{"marit"}}); len(out.Handovers) != 0 || out.Round.ID != 0 ||
		!strings.Contains(out.Left[0].Words, "suspended") {
		t.Errorf("%+v", out)
	}
}

// A key that was found is declared along only when it is on every account.
func TestAlike(t *testing.T) {
	for _, c := range []struct {
		found    map[string]int
		accounts int
		want     bool
	}{{nil, 3, true}, {map[string]int{"a": 3}, 3, true}, {map[string]int{"a": 3, "b": 1}, 3, false}, {map[string]int{"a": 1}, 1, true}} {
		if got := alike(c.found, c.accounts); got != c.want {
			t.Errorf("%v on %d: %v", c.found, c.accounts, got)
		}
	}
}

const watched = `
policies:
  words: {at: [stores], words: [ternsound, ferry], screening: SCREENING}
`

// A password that somebody chose is refused with the word it is built from, or passes and is counted, and told of weekly.
func TestScreening(t *testing.T) {
	x := linked(t)
	declared := func(screening string) {
		if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml",
			Text: company + strings.Replace(watched, "SCREENING", screening, 1)}}, "words"); err != nil {
			t.Fatal(err)
		}
	}
	declared("refuse")
	const bad, good = "F3rry umber violin quartz", "umber violin quartz anode"
	v, err := x.TryPassword(ctx, odd("odd"), "marit", bad)
	if err != nil || v.Passes || v.Word != "ferry" || !slices.Equal(v.Policies, []string{"words"}) {
		t.Errorf("%+v %v", v, err)
	}
	q := RotateRequest{Users: []string{"marit"}, Given: bad, Because: "chose it"}
	if _, err := x.Rotate(ctx, keeper("odd"), q); err == nil || !strings.Contains(err.Error(), `"ferry"`) || strings.Contains(err.Error(), "F3rry") {
		t.Errorf("%v", err)
	}
	q.Given = good
	out, err := x.Rotate(ctx, keeper("odd"), q)
	if err != nil || len(out.Links) != 0 {
		t.Fatalf("%+v %v", out, err)
	}
	if h := x.become(t, out.Handovers[0].ID, Collected); h.EndedBy != "nobody: its person has it" {
		t.Errorf("%+v", h)
	}
	if !x.signsIn(t, "marit@localhost", good) {
		t.Error("the one that was chosen does not sign in")
	}
	declared("watch")
	q.Given = bad
	if out, err = x.Rotate(ctx, keeper("odd"), q); err != nil {
		t.Fatal(err)
	}
	x.become(t, out.Handovers[0].ID, Collected)
	later := open(t, x.House, func() time.Time { return time.Now().AddDate(0, 0, 7) })
	for range 2 {
		if err := later.tellScreenings(ctx); err != nil {
			t.Fatal(err)
		}
	}
	e, err := x.Record(ctx, door.Itself, door.RecordFilter{Kind: "screening"}, 10)
	if err != nil || len(e.Items) != 1 || !strings.HasSuffix(e.Items[0].Words, "should not be used: marit 1 time (words)") {
		t.Errorf("%+v %v", e.Items, err)
	}
	if _, err := x.AddOperator(ctx, door.Itself, "runa.dahl", "Rúna Dahl", "Ferry boats and quays", []string{"look"}); err == nil ||
		!strings.Contains(err.Error(), "ferry") {
		t.Errorf("an operator's password is not looked at: %v", err)
	}
}

// A batch is handed over in one file that only its recipients open, or on sheets.
func TestBatch(t *testing.T) {
	x := linked(t)
	who := keeper("odd")
	out := x.rotate(t, RotateRequest{Where: `true`, Batch: "spring"})
	if len(out.Handovers) != 2 || len(out.Links) != 0 {
		t.Fatalf("%+v", out)
	}
	for _, h := range out.Handovers {
		x.become(t, h.ID, ToCollect)
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	for _, to := range [][]string{nil, {"age1x"}, {"hello"}} {
		if _, err := x.SealBatch(ctx, who, "spring", to); err == nil {
			t.Errorf("sealed for %v", to)
		}
	}
	f, err := x.SealBatch(ctx, who, "spring", []string{id.Recipient().String()})
	if err != nil || f.People != 2 {
		t.Fatalf("%+v %v", f, err)
	}
	again, err := x.BatchFileByID(ctx, who, f.ID)
	if err != nil || again.Text != f.Text {
		t.Errorf("%+v %v", again, err)
	}
	r, err := age.Decrypt(armor.NewReader(strings.NewReader(f.Text)), id)
	if err != nil {
		t.Fatal(err)
	}
	table, err := io.ReadAll(r)
	if err != nil || strings.Count(string(table), "\r\n") != 3 || !strings.Contains(string(table),
		"marit,Marit Fell,marit@localhost on stores,password,") {
		t.Errorf("%s %v", table, err)
	}
	if _, err := x.SealBatch(ctx, who, "spring", []string{id.Recipient().String()}); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("sealed twice: %v", err)
	}
	out = x.rotate(t, RotateRequest{Where: `true`, Batch: "again"})
	for _, h := range out.Handovers {
		x.become(t, h.ID, ToCollect)
	}
	sheets, more, err := x.Sheets(ctx, who, "again")
	if err != nil || more || len(sheets) != 2 || sheets[0].User != "hanne" || !x.signsIn(t, "hanne@localhost", sheets[0].Value) {
		t.Errorf("%+v %v", sheets, err)
	}
}

// A new password of an account that can become superuser is a way to its power: somebody else must want it too.
func TestPowerIsHeld(t *testing.T) {
	x := linked(t)
	o := model.Object{Kind: model.Account, Name: "marit@localhost", Marked: true}
	o.Attributes = o.Attributes.With(model.Disabled, "no").With(model.Number, "1001").With(model.Elevation, "group root")
	x.Tern.Memory.Put(o)
	if _, err := x.Survey(ctx, door.Itself, []string{"stores"}, nil); err != nil {
		t.Fatal(err)
	}
	out := x.rotate(t, RotateRequest{Users: []string{"marit"}})
	if out.Round.State != rounds.OnHold || !strings.Contains(out.Round.Holds[0].Words, "a new password of an account with group root") {
		t.Fatalf("%+v", out.Round)
	}
	if _, err := x.CollectFor(ctx, keeper("odd"), out.Handovers[0].ID); err == nil {
		t.Error("it is shown before it is set")
	}
	if _, err := x.Stop(ctx, odd("odd", door.Run), out.Round.ID, "no"); err != nil {
		t.Fatal(err)
	}
	if h := x.become(t, out.Handovers[0].ID, NotSet); !strings.Contains(h.Accounts[0].Words, "before it was tried") {
		t.Errorf("%+v", h)
	}
}

// Passwords are to be changed at the next sign-in, and who is locked out is let in, but nobody who is shut on purpose.
func TestExpireAndUnlock(t *testing.T) {
	x := linked(t)
	account := func() model.Object {
		o, err := x.Store.Object(ctx, "stores", model.Account, "marit@localhost")
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	ended := func(r Rotated, err error) {
		t.Helper()
		if err != nil || r.Round.ID == 0 {
			t.Fatalf("%+v %v", r, err)
		}
		for range 400 {
			if one, err := x.Round(ctx, door.Itself, r.Round.ID); err == nil && one.EndedAt != nil {
				return
			}
			time.Sleep(25 * time.Millisecond)
		}
		t.Fatal("it does not end")
	}
	ended(x.Expire(ctx, keeper("odd"), []string{"marit"}, []string{"stores"}, "the list was left"))
	if o := account(); o.Attributes.One(model.MustChange) != "yes" {
		t.Errorf("%v", o.Attributes.Map())
	}
	o := account()
	o.Attributes = o.Attributes.With(model.Disabled, "partly")
	x.Tern.Memory.Put(o) // locked out since the last survey
	ended(x.Unlock(ctx, keeper("odd"), []string{"marit"}, []string{"stores"}, "telephoned"))
	if o := account(); o.Attributes.One(model.Disabled) != "no" {
		t.Errorf("%v", o.Attributes.Map())
	}
	x.settled(t, x.suspend(t, "odd", "marit", false).ID, allShut)
	if r, err := x.Unlock(ctx, keeper("odd"), []string{"marit"}, []string{"stores"}, "t"); err != nil || r.Round.ID != 0 ||
		len(r.Left) != 1 {
		t.Errorf("who is suspended is unlocked: %+v %v", r, err)
	}
}
