package life

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var ctx = context.Background()

// company is two targets: one whose accounts tests lay out, and one in memory where people sign in.
const company = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [crew]}
  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}
groups:
  deck: {}
roles:
  crew: {gives: [{at: {kind: tern}, groups: [deck]}, {at: stores, account: {origin: [localhost]}}]}
targets:
  arctic: {kind: tern, address: "a:1", login: {as: root, secret: key}, protect: ["svc*"]}
  stores: {kind: memory, address: "m:1", login: {as: root, secret: key}}
`

type house struct {
	*Life
	servicetest.House
}

// start is the rooms up to this one, with everybody's accounts adopted.
func start(t *testing.T) *house {
	t.Helper()
	h := servicetest.Open(t)
	x := &house{open(t, h, time.Now), h}
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: company}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := x.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	h.Tern.Set(model.Object{Kind: model.GroupKind, Name: "deck"})
	for name, number := range map[string]string{"marit": "1001", "hanne": "1014"} {
		h.Tern.Add(name, number)
		o := model.Object{Kind: model.Account, Name: name + "@localhost"}
		o.Attributes = o.Attributes.With(model.Disabled, "no").With(model.Number, number)
		h.Tern.Memory.Put(o)
	}
	for range 2 { // at first a target shows its key
		if _, err := x.Survey(ctx, door.Itself, nil, nil); err != nil {
			t.Fatal(err)
		}
		_ = x.AcceptKey(ctx, door.Itself, "stores", "memory")
	}
	return x
}

// open makes the rooms of one service on a house.
func open(t *testing.T, h servicetest.House, clock func() time.Time) *Life {
	t.Helper()
	alive, end := context.WithCancel(ctx)
	d, err := door.New(door.Config{Store: h.Store, KeyFile: h.KeyFile, Log: h.Log, Clock: clock, Life: alive})
	if err != nil {
		t.Fatal(err)
	}
	s := New(rounds.New(seen.New(declared.New(d, h.Kinds.Schemas()), seen.Config{Kinds: h.Kinds, Width: 12, Owner: t.Name()}),
		rounds.Config{Batch: 250}))
	s.Begin()
	t.Cleanup(func() { end(); s.Drain() })
	return s
}

// settled waits until a suspension is as it should be.
func (x *house) settled(t *testing.T, id int64, want func(Suspension) bool) Suspension {
	t.Helper()
	var s Suspension
	for range 400 {
		var err error
		if s, err = x.SuspensionByID(ctx, door.Itself, id); err != nil {
			t.Fatal(err)
		}
		if want(s) {
			return s
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("it does not come to pass: %+v", s)
	return s
}

func allShut(s Suspension) bool {
	return s.Tally[Shut]+s.Tally[Unsure] == len(s.Accounts) && len(s.Accounts) > 0 && s.Revision > 0
}

func (x *house) shut(name string) bool {
	x.Tern.Mu.Lock()
	defer x.Tern.Mu.Unlock()
	return x.Tern.Objects["account"+name].Attributes.One(model.Disabled) == "yes"
}

func odd(name string, duties ...door.Duty) door.Operator {
	return door.Operator{Name: name, Duties: append(duties, door.Look)}
}

// suspend is one person's suspension by an operator.
func (x *house) suspend(t *testing.T, who, user string, security bool) Suspension {
	t.Helper()
	list, err := x.Suspend(ctx, odd(who, door.Suspend), SuspendRequest{Users: []string{user}, Because: "laptop lost", Security: security})
	if err != nil || len(list) != 1 {
		t.Fatalf("%+v %v", list, err)
	}
	return list[0]
}

// Who is suspended is shut out everywhere and thrown out, the target is asked, the
// declaration says so, and drift finds nothing; a restoration opens just that again.
func TestSuspendAndRestore(t *testing.T) {
	x := start(t)
	x.Tern.Memory.SignIn("s-1", "marit@localhost")
	x.Tern.Memory.SignIn("s-2", "hanne@localhost")
	x.Tern.Add("hanne", "1014", model.Disabled, "yes")
	s := x.settled(t, x.suspend(t, "odd", "marit", false).ID, allShut)
	for _, a := range s.Accounts {
		want := map[string]SuspendedAccount{"arctic": {State: Unsure, Proof: "unknown"}, "stores": {State: Shut, Proof: "refused",
			Sessions: 1}}[a.Target]
		if a.Name != map[string]string{"arctic": "marit", "stores": "marit@localhost"}[a.Target] || a.State != want.State ||
			a.Proof != want.Proof || a.Sessions != want.Sessions || a.Tries != 1 || a.EndedAt == nil || a.DueAt != nil {
			t.Errorf("%+v", a)
		}
	}
	if list, _ := x.TargetSessions(ctx, door.Itself, "stores"); len(list.Items) != 1 || list.Items[0].Account != "hanne@localhost" {
		t.Errorf("sessions left: %+v", list)
	}
	u, err := x.User(ctx, door.Itself, "marit")
	if err != nil || u.Suspended != "since "+time.Now().UTC().Format(time.DateOnly)+": laptop lost" {
		t.Errorf("%+v %v", u.Suspended, err)
	}
	if d, err := x.Drift(ctx, door.Itself, seen.DriftRequest{Choice: declared.Choice{Users: []string{"marit"}}}, 10); err != nil ||
		d.Total != 0 {
		t.Errorf("%d findings of who is suspended: %+v %v", d.Total, d.Items, err)
	}
	again := x.suspend(t, "jo", "marit", false)
	if again.ID != s.ID || again.Operator != "odd" {
		t.Errorf("a second suspension of one person: %+v", again)
	}
	if _, err := x.RestoreUser(ctx, odd("odd", door.Suspend), RestoreRequest{User: "marit", Because: "found"}); err == nil {
		t.Error("who may suspend restores")
	}
	r, err := x.RestoreUser(ctx, odd("odd", door.Restore), RestoreRequest{User: "marit", Because: "laptop found"})
	if err != nil || r.Round.ID == 0 || r.Suspension.State != "ended" || r.Suspension.Round != r.Round.ID {
		t.Fatalf("%+v %v", r, err)
	}
	for i := 0; x.shut("marit"); i++ {
		if i == 200 {
			t.Fatal("marit is not let in again")
		}
		time.Sleep(25 * time.Millisecond)
	}
	if !x.shut("hanne") {
		t.Error("somebody else is let in")
	}
	if u, err := x.User(ctx, door.Itself, "marit"); err != nil || u.Suspended != "" {
		t.Errorf("%q %v", u.Suspended, err)
	}
	if _, err := x.RestoreUser(ctx, odd("odd", door.Restore), RestoreRequest{User: "marit",
		Because: "again"}); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("restored twice: %v", err)
	}
	e, err := x.Record(ctx, door.Itself, door.RecordFilter{Kind: "suspension"}, 20)
	if n := len(e.Items); err != nil || n < 3 || e.Items[n-1].Words != "suspended marit: 2 accounts are to be shut" ||
		!slices.ContainsFunc(e.Items, func(e door.Entry) bool { return e.Words == "restored marit" && e.Because == "laptop found" }) {
		t.Errorf("%+v %v", e.Items, err)
	}
}

// What is out of reach is tried again, and at once when its target gives a sign of life.
func TestOutOfReach(t *testing.T) {
	x := start(t)
	x.Tern.Err = &connect.Error{Target: "arctic", Op: "connect", Err: errors.New("no route to host")}
	s := x.settled(t, x.suspend(t, "odd", "marit", false).ID, func(s Suspension) bool { return s.Tally[Shut] == 1 && s.Tally[Open] == 1 })
	a := s.Accounts[0]
	if a.State != Open || !strings.Contains(a.Words, "no route to host") || a.DueAt == nil || a.EndedAt != nil {
		t.Errorf("%+v", a)
	}
	if n, err := x.SuspendedNow(ctx); err != nil || n.People != 1 || n.Open != 1 || !slices.Equal(n.Users, []string{"marit"}) {
		t.Errorf("%+v %v", n, err)
	}
	x.Tern.Err = nil
	if _, err := x.Survey(ctx, door.Itself, []string{"arctic"}, nil); err != nil {
		t.Fatal(err)
	}
	if s = x.settled(t, s.ID, allShut); s.Accounts[0].Tries != 2 || !x.shut("marit") {
		t.Errorf("%+v", s.Accounts)
	}
	if n, err := x.SuspendedNow(ctx); err != nil || n.People != 1 || n.Open != 0 {
		t.Errorf("%+v %v", n, err)
	}
}

// What stands in the database is done by whichever service is there.
func TestTakenUp(t *testing.T) {
	x := start(t)
	x.Tern.Err = errors.New("away")
	id := x.suspend(t, "odd", "hanne", false).ID
	x.settled(t, id, func(s Suspension) bool { return s.Tally[Open] == 1 })
	later := open(t, x.House, func() time.Time { return time.Now().Add(time.Hour) })
	x.Tern.Err = nil
	(&house{later, x.House}).settled(t, id, allShut)
}

// A guard keeps accounts open that nobody may shut, and says why; of several people the others are shut.
func TestSpared(t *testing.T) {
	x := start(t)
	if err := x.Store.Tx(ctx, func(tx *store.Tx) error {
		return tx.PutLinks(ctx, "arctic", []model.Link{{Target: "arctic", User: "hanne", Name: "hanne"}}, 0, time.Now())
	}); err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(company, `["svc*"]`, `["han*"]`, 1)
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "protect"); err != nil {
		t.Fatal(err)
	}
	list, err := x.Suspend(ctx, odd("odd", door.Suspend), SuspendRequest{Group: "deck", Because: "enquiry"})
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v %v", list, err)
	}
	for _, s := range list {
		s = x.settled(t, s.ID, func(s Suspension) bool { return s.Tally[Waiting] == 0 })
		a := s.Accounts[0]
		if spared := s.User == "hanne"; (a.State == Spared) != spared || spared && (!strings.Contains(a.Words, "protect") ||
			a.DueAt != nil) {
			t.Errorf("%+v", a)
		}
	}
	if x.shut("hanne") || !x.shut("marit") {
		t.Error("the wrong one is shut")
	}
}

// What is read while others change the target is not kept over what they know: a suspension, and a survey beside one.
func TestMeanwhile(t *testing.T) {
	x := start(t)
	same := func(what string) {
		t.Helper()
		o, err := x.Store.Object(ctx, "arctic", model.Account, "marit")
		if is := x.Tern.Object(model.Named{Kind: model.Account, Name: "marit"}); err != nil ||
			!maps.EqualFunc(o.Attributes.Map(), is.Attributes.Map(), slices.Equal) {
			t.Errorf("%s: stored is %v, and there is %v, %v", what, o.Attributes.Map(), is.Attributes.Map(), err)
		}
	}
	once := func(verb string, then func()) {
		var one sync.Once
		x.Tern.Between = func(v string) {
			if v == verb {
				one.Do(then)
			}
		}
	}
	once(string(model.Disable), func() {
		x.Tern.Change("marit", model.FullName, "Marit F.")
		if got, err := x.Survey(ctx, door.Itself, []string{"arctic"}, nil); err != nil || got[0].State != seen.Surveyed {
			t.Errorf("%+v %v", got, err)
		}
	})
	s := x.suspend(t, "odd", "marit", false)
	x.settled(t, s.ID, allShut)
	same("surveyed while somebody was suspended")
	if _, err := x.RestoreUser(ctx, odd("odd", door.Restore, door.Run), RestoreRequest{User: "marit", Because: "t"}); err != nil {
		t.Fatal(err)
	}
	for range 200 {
		if time.Sleep(25 * time.Millisecond); !x.shut("marit") {
			break
		}
	}
	x.Tern.Change("marit", model.FullName, "Marit Fell-Vik")
	once("survey", func() {
		s := x.suspend(t, "odd", "marit", false)
		x.settled(t, s.ID, func(s Suspension) bool { return s.Accounts[0].State != Waiting })
	})
	if got, err := x.Survey(ctx, door.Itself, []string{"arctic"}, nil); err != nil || got[0].State != seen.Surveyed {
		t.Errorf("%+v %v", got, err)
	}
	if !x.shut("marit") {
		t.Error("marit is not shut")
	}
	same("suspended while the target was surveyed")
}

// Who has left while suspended is not let in again by the end of the suspension.
func TestRestoreLeft(t *testing.T) {
	x := start(t)
	s := x.suspend(t, "odd", "marit", false)
	x.settled(t, s.ID, allShut)
	if _, err := x.Edit(ctx, door.Itself, 0, []declare.Edit{{Section: "users", Name: "marit", Key: "until", Do: declare.Set,
		Value: "2020-01-31"}}, "left"); err != nil {
		t.Fatal(err)
	}
	got, err := x.RestoreUser(ctx, odd("odd", door.Restore, door.Run), RestoreRequest{User: "marit", Because: "over"})
	if err != nil || got.Round.ID != 0 || !strings.Contains(got.Words, "the last day of marit was 2020-01-31, so the accounts stay shut") {
		t.Errorf("%+v %v", got, err)
	}
	if x.shut("hanne") || !x.shut("marit") {
		t.Error("the wrong one is shut")
	}
}

// Whom to suspend is said in one way, and is known.
func TestWhom(t *testing.T) {
	x := start(t)
	who := odd("odd", door.Suspend)
	for _, q := range []SuspendRequest{{}, {Users: []string{"marit"}, Group: "deck"}, {Users: []string{"mart"}}, {Group: "dek"},
		{Where: "user.nme == 1"}, {Where: `user.id == "nobody"`}} {
		q.Because = "t"
		if list, err := x.Suspend(ctx, who, q); err == nil {
			t.Errorf("%+v: %+v", q, list)
		}
	}
	if _, err := x.Suspend(ctx, who, SuspendRequest{Users: []string{"marit"}}); err == nil {
		t.Error("no reason was given")
	}
	if _, err := x.Suspend(ctx, odd("odd", door.Run, door.Administer), SuspendRequest{Users: []string{"marit"}, Because: "t"}); err == nil {
		t.Error("it is a duty of its own")
	}
	list, err := x.Suspend(ctx, who, SuspendRequest{Where: `user.id.startsWith("m")`, Because: "t"})
	if err != nil || len(list) != 1 || list[0].User != "marit" {
		t.Errorf("%+v %v", list, err)
	}
}

// A suspension for security's sake ends when two want it, or whoever began it.
func TestTwoPersons(t *testing.T) {
	x := start(t)
	id := x.suspend(t, "odd", "marit", true).ID
	x.settled(t, id, allShut)
	for _, who := range []string{"jo", "jo"} {
		r, err := x.RestoreUser(ctx, odd(who, door.Restore), RestoreRequest{User: "marit", Because: "it is fine"})
		if err != nil || r.Suspension.State != "in force" || r.Suspension.AskedBy != "jo" || r.Round.ID != 0 || !x.shut("marit") {
			t.Fatalf("%+v %v", r, err)
		}
	}
	if _, err := x.RestoreUser(ctx, odd("ann", door.Restore), RestoreRequest{User: "marit", Because: "seen"}); err == nil ||
		!strings.Contains(err.Error(), `needs the duty "credential"`) || !x.shut("marit") {
		t.Errorf("restoring hands over a password without the duty: %v", err)
	}
	r, err := x.RestoreUser(ctx, odd("ann", door.Restore, door.Credential), RestoreRequest{User: "marit", Because: "seen"})
	if err != nil || r.Suspension.State != "ended" || r.Link == nil {
		t.Fatalf("%+v %v", r, err)
	}
	x.become(t, r.Handover.ID, ToCollect) // what was stolen with the laptop opens nothing any more
	got, err := x.Collect(ctx, strings.TrimPrefix(r.Link.Link, "/handover#"), r.Link.Code, "x")
	if err != nil || !x.signsIn(t, "marit@localhost", got.Value) {
		t.Errorf("%+v %v", got, err)
	}
	x.settled(t, x.suspend(t, "odd", "hanne", true).ID, allShut)
	if r, err := x.RestoreUser(ctx, odd("odd", door.Restore, door.Credential), RestoreRequest{User: "hanne",
		Because: "my own"}); err != nil ||
		r.Suspension.State != "ended" {
		t.Errorf("%+v %v", r, err)
	}
}

// However many suspend and restore at once, the end is one of both: in force and shut, or ended and open.
func TestBothAtOnce(t *testing.T) {
	x := start(t)
	x.Tern.Pause = 5 * time.Millisecond
	who := odd("odd", door.Suspend, door.Restore)
	for range 6 {
		var wg sync.WaitGroup
		for i := range 4 {
			wg.Go(func() {
				if i%2 == 0 {
					_, _ = x.Suspend(ctx, who, SuspendRequest{Users: []string{"marit"}, Because: "t"})
				} else {
					_, _ = x.RestoreUser(ctx, who, RestoreRequest{User: "marit", Because: "t"})
				}
			})
		}
		wg.Wait()
	}
	var last Suspension
	right := func() bool {
		list, err := x.ListSuspensions(ctx, who, SuspensionChoice{User: "marit"})
		if err != nil || len(list.Items) == 0 {
			t.Fatalf("%+v %v", list, err)
		}
		last = list.Items[0]
		if inForce := last.State == "in force"; inForce {
			return allShut(last) && x.shut("marit")
		}
		running, _, err := x.Rounds(ctx, door.Itself, []string{rounds.Running, rounds.Approved}, door.Page{})
		return err == nil && len(running) == 0 && !x.shut("marit")
	}
	for i := 0; !right(); i++ {
		if i == 400 {
			t.Fatalf("shut: %v, and the suspension %+v", x.shut("marit"), last)
		}
		time.Sleep(25 * time.Millisecond)
	}
	if i := slices.IndexFunc(last.Accounts, func(a SuspendedAccount) bool { return a.State == Waiting }); i >= 0 &&
		last.State == "in force" {
		t.Errorf("%+v", last.Accounts[i])
	}
}

// What ends is seen before it does, and goes on with a reason; what has no end, or would end earlier, does not.
func TestEndingAndExtend(t *testing.T) {
	x := start(t)
	day := func(n int) string { return time.Now().UTC().AddDate(0, 0, n).Format(time.DateOnly) }
	text := strings.Replace(company, "number: 1014, roles: [crew]", "number: 1014, until: "+day(3)+", roles: [crew]", 1)
	text = strings.Replace(text, "roles: [crew]}", "roles: [{role: crew, from: 2026-01-01, until: "+day(9)+", because: for the season}]}",
		1)
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "season"); err != nil {
		t.Fatal(err)
	}
	ends := func(within int) string {
		e, err := x.Ending(ctx, odd("odd"), within, door.Page{})
		if err != nil || e.Total != len(e.Items) {
			t.Fatalf("%+v %v", e, err)
		}
		out := ""
		for _, i := range e.Items {
			out += fmt.Sprintf("%s %s in %d;", i.User, i.Role, i.Days)
		}
		return out
	}
	if got := ends(14); got != "hanne  in 3;marit crew in 9;" || ends(3) != "hanne  in 3;" || ends(2) != "" {
		t.Errorf("%q", got)
	}
	who := odd("odd", door.Draft)
	for _, c := range []struct{ user, role, until string }{{"marit", "", day(20)}, {"marit", "mate", day(20)}, {"marit", "crew", day(2)},
		{"nobody", "", day(20)}, {"hanne", "", "soon"}} {
		if _, err := x.Extend(ctx, who, c.user, c.role, c.until, "t"); err == nil {
			t.Errorf("%+v goes on", c)
		}
	}
	for _, c := range []struct{ user, role string }{{"marit", "crew"}, {"hanne", ""}} {
		if _, err := x.Extend(ctx, who, c.user, c.role, day(30), "the season goes on"); err != nil {
			t.Fatal(err)
		}
	}
	c, err := x.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	h := c.Declared.Users["marit"].Roles[0]
	if h.Span.From != "2026-01-01" || h.Span.Until != day(30) || h.Because != "for the season" ||
		c.Declared.Users["hanne"].Span.Until != day(30) {
		t.Errorf("%+v %+v", h, c.Declared.Users["hanne"].Span)
	}
	if got := ends(14); got != "" {
		t.Errorf("%q", got)
	}
}

// Who ended between shutting an account and noting it shut it all the same, and a restoration opens it.
func TestEndedBetween(t *testing.T) {
	x := start(t)
	x.Tern.Err = errors.New("away")
	id := x.suspend(t, "odd", "marit", false).ID
	x.settled(t, id, func(s Suspension) bool { return s.Tally[Open] == 1 })
	if err := x.Store.BeginSuspended(ctx, []store.SuspendedAccount{{Suspension: id, Target: "arctic", Name: "marit"}}); err != nil {
		t.Fatal(err)
	}
	x.Tern.Change("marit", model.Disabled, "yes")
	x.Tern.Err = nil
	x.suspend(t, "odd", "marit", false) // at once
	x.settled(t, id, allShut)
	if _, err := x.RestoreUser(ctx, odd("odd", door.Restore), RestoreRequest{User: "marit", Because: "found"}); err != nil {
		t.Fatal(err)
	}
	for i := 0; x.shut("marit"); i++ {
		if i == 200 {
			t.Fatal("marit is not let in again")
		}
		time.Sleep(25 * time.Millisecond)
	}
}

// No round lets somebody in who is suspended: not one that was drafted before, and not one that is asked for.
func TestNoRoundLetsIn(t *testing.T) {
	x := start(t)
	x.Tern.Add("marit", "1001", model.Disabled, "yes")
	if _, err := x.Survey(ctx, door.Itself, []string{"arctic"}, nil); err != nil {
		t.Fatal(err)
	}
	link := []model.Link{{Target: "arctic", User: "marit", Name: "marit"}}
	if err := x.Store.Tx(ctx, func(tx *store.Tx) error { return tx.PutLinks(ctx, "arctic", link, 0, time.Now()) }); err != nil {
		t.Fatal(err)
	}
	ask := rounds.BulkRequest{Lines: []rounds.BulkLine{{User: "marit", Target: "arctic", What: "enable"}}, Because: "t"}
	before, err := x.Bulk(ctx, door.Itself, ask)
	if err == nil {
		_, err = x.Approve(ctx, door.Itself, before.Round.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	x.settled(t, x.suspend(t, "odd", "marit", false).ID, allShut)
	after, err := x.Bulk(ctx, door.Itself, ask)
	if err != nil || len(after.Round.Holds) != 1 || !after.Round.Holds[0].Firm || !strings.Contains(after.Round.Holds[0].Words,
		"is suspended") {
		t.Errorf("%+v %v", after.Round.Holds, err)
	}
	if _, err := x.RunRound(ctx, door.Itself, before.Round.ID); err != nil {
		t.Fatal(err)
	}
	for range 200 {
		r, err := x.Round(ctx, door.Itself, before.Round.ID)
		if err != nil {
			t.Fatal(err)
		}
		if r.EndedAt != nil {
			if r.Outcomes["not-tried"] != 1 || !x.shut("marit") {
				t.Errorf("%+v", r.Outcomes)
			}
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Error("the round does not end")
}

// What the declaration said before stays: a restoration ends the suspension, not what somebody declared.
func TestDeclaredBefore(t *testing.T) {
	x := start(t)
	text := strings.Replace(company, "number: 1001,", "number: 1001, suspended: {since: 2026-01-01, because: enquiry},", 1)
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "enquiry"); err != nil {
		t.Fatal(err)
	}
	if err := x.Store.Tx(ctx, func(tx *store.Tx) error {
		return tx.PutLinks(ctx, "arctic", []model.Link{{Target: "arctic", User: "marit", Name: "marit"}}, 0, time.Now())
	}); err != nil {
		t.Fatal(err)
	}
	id := x.suspend(t, "odd", "marit", false).ID
	x.settled(t, id, func(s Suspension) bool { return strings.HasPrefix(s.Undeclared, "it says so since 2026-01-01") })
	x.settled(t, id, func(s Suspension) bool { return s.Tally[Open]+s.Tally[Waiting] == 0 })
	r, err := x.RestoreUser(ctx, odd("odd", door.Restore), RestoreRequest{User: "marit", Because: "found"})
	if err != nil || r.Round.ID != 0 || !strings.Contains(r.Words, "stay shut") || r.Suspension.State != "ended" || !x.shut("marit") {
		t.Errorf("%+v %v", r, err)
	}
	if c, err := x.Current(ctx); err != nil || c.Declared.Users["marit"].Suspended.Because != "enquiry" {
		t.Errorf("what was declared is gone: %v", err)
	}
}

// An account that only the declaration knows of is looked at first: shut when it is
// theirs, though nobody ever surveyed the target, and let be when it is somebody else's.
func TestNeverSeen(t *testing.T) {
	h := servicetest.Open(t)
	x := &house{open(t, h, time.Now), h}
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: company}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := x.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	x.Tern.Add("marit", "1001")
	x.Tern.Add("hanne", "4711")
	for user, want := range map[string]string{"marit": Unsure, "hanne": Spared} {
		id := x.suspend(t, "odd", user, false).ID
		s := x.settled(t, id, func(s Suspension) bool { return s.Tally[Waiting] == 0 })
		if len(s.Accounts) != 2 || s.Accounts[0].State != want || x.shut(user) != (want == Unsure) {
			t.Errorf("%s: %+v", user, s.Accounts)
		}
		if a := s.Accounts[1]; a.State != Open || !strings.Contains(a.Words, "accept-key") {
			t.Errorf("what cannot be asked is told as %+v", a)
		}
	}
	if _, err := x.RestoreUser(ctx, odd("odd", door.Restore), RestoreRequest{User: "marit", Because: "found"}); err != nil {
		t.Fatal(err)
	}
	for i := 0; x.shut("marit"); i++ {
		if i == 200 {
			t.Fatal("marit is not let in again")
		}
		time.Sleep(25 * time.Millisecond)
	}
}
