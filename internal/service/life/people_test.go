package life

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

func anybody(name string) door.Operator {
	return odd(name, door.Draft, door.Approve, door.Run, door.Credential)
}

func in(days int) string { return time.Now().UTC().AddDate(0, 0, days).Format(time.DateOnly) }

// Who joins is declared and brought to the targets, with a password that waits;
// those who begin later wait for their day; bad lines stop nobody.
func TestJoin(t *testing.T) {
	x := start(t)
	csv := "id,name,number,from,until,roles\nruna,Rúna Dahl,1301,," + in(90) + ",crew\npat,Pat O’Neill,1302," + in(30) + ",,crew\n" +
		"bad,Bad One,1001,,,crew\nodd,Odd One,1303,,,krew\nmarit,Marit Fell,1001,,,\n"
	// Two services with two clocks work below: whichever settles a handover, it still waits by the other's.
	q := JoinRequest{CSV: csv, Batch: "spring", Because: "spring crew", Look: true, Lasts: 60 * 24 * time.Hour}
	looked, err := x.Join(ctx, anybody("odd"), q)
	if err != nil || looked.Revision.Number != 0 || looked.Meaning.People != 2 || len(looked.Lines) != 5 {
		t.Fatalf("%+v %v", looked, err)
	}
	q.Look = false
	out, err := x.Join(ctx, anybody("odd"), q)
	if err != nil || out.Revision.Number != 2 || out.Round.State != rounds.Running || len(out.Handovers) != 2 || len(out.Links) != 0 {
		t.Fatalf("%+v %v", out, err)
	}
	refused := map[string]string{}
	for _, l := range out.Lines {
		if l.Outcome == "refused" {
			refused[l.User] = fmt.Sprint(l.Line, " ", l.Words)
		}
	}
	for user, want := range map[string]string{"bad": "4 the number 1001 is that of marit", "odd": `5 no role is called "krew"`,
		"marit": "6 is here already"} {
		if !strings.Contains(refused[user], want) {
			t.Errorf("%s: %q, want %q", user, refused[user], want)
		}
	}
	h := x.become(t, out.Handovers[0].ID, ToCollect)
	if h.User != "runa" || len(h.Accounts) != 1 || h.Accounts[0].Target != "stores" || h.Accounts[0].State != "proved" {
		t.Errorf("%+v", h)
	}
	got, err := x.CollectFor(ctx, anybody("odd"), h.ID)
	if err != nil || !x.signsIn(t, "runa@localhost", got.Value) {
		t.Errorf("%+v %v", got, err)
	}
	if h := x.become(t, out.Handovers[1].ID, Made); h.User != "pat" || len(h.Accounts) != 0 {
		t.Errorf("%+v", h)
	}
	// On the first day whoever drafts brings it.
	later := &house{open(t, x.House, func() time.Time { return time.Now().AddDate(0, 0, 31) }), x.House}
	r, err := later.Reconcile(ctx, door.Itself, rounds.DraftRequest{Because: "the day has come"})
	if err != nil || r.Round.ID == 0 {
		t.Fatalf("%+v %v", r, err)
	}
	later.become(t, out.Handovers[1].ID, ToCollect)

	// Who may not run it drafts it; who may not hand over passwords makes none.
	one := JoinRequest{People: []Joiner{{ID: "liv", Name: "Liv Aune", Number: "1310"}}, Like: "marit", Because: "t"}
	if _, err := x.Join(ctx, odd("jo", door.Draft), one); door.ProblemOf(err).Kind != door.Forbidden {
		t.Errorf("%v", err)
	}
	one.NoSecret = true
	if out, err := x.Join(ctx, odd("jo", door.Draft), one); err != nil || out.Round.State != rounds.Drafted || len(out.Handovers) != 0 {
		t.Errorf("%+v %v", out, err)
	}
	for _, q := range []JoinRequest{{}, {People: []Joiner{{ID: "a"}}}, {People: []Joiner{{ID: "a", Name: "A"}}, Like: "mart"},
		{People: []Joiner{{ID: "a", Name: "A"}}, Roles: []string{"crw"}}, {People: []Joiner{{ID: "a", Name: "A"}}, CSV: csv},
		{People: []Joiner{{ID: "a", Name: "A"}}, Like: "marit", Without: []string{"mate"}}} {
		q.Because = "t"
		if out, err := x.Join(ctx, anybody("odd"), q); err == nil {
			t.Errorf("%+v: %+v", q, out)
		}
	}
}

const roles = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [crew, steward]}
  hanne: {name: Hanne Vik, number: 1014, roles: [crew], manager: marit}
  board: {name: Tide board, number: 1060, service: true, manager: marit}
groups:
  deck: {owner: marit}
  bridge: {}
roles:
  crew: {gives: [{at: {kind: tern}, groups: [deck]}]}
  mate: {gives: [{at: {kind: tern}, groups: [bridge]}]}
  steward: {gives: [{at: stores, account: {origin: [localhost]}}]}
targets:
  arctic: {kind: tern, address: "a:1", login: {as: root, secret: key}}
  stores: {kind: memory, address: "m:1", login: {as: root, secret: key}}
`

func withRoles(t *testing.T) *house {
	t.Helper()
	x := start(t)
	if _, err := x.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: roles}}, "roles"); err != nil {
		t.Fatal(err)
	}
	return x
}

// Who moves keeps, gains and loses what is shown before; old roles end after an overlap.
func TestMove(t *testing.T) {
	x := withRoles(t)
	q := MoveRequest{User: "marit", To: []string{"mate"}, Keep: []string{"steward"}, On: in(3), Overlap: 14 * 24 * time.Hour,
		Because: "promoted",
		Look:    true}
	p, err := x.Move(ctx, anybody("odd"), q)
	if err != nil || p.Revision.Number != 0 || p.By != in(17) || len(p.Sides) != 2 {
		t.Fatalf("%+v %v", p, err)
	}
	if s := fmt.Sprint(p.Sides); s != "[{arctic [an account] [group bridge] [group deck]} {stores [an account] [] []}]" {
		t.Error(s)
	}
	q.Look = false
	if p, err = x.Move(ctx, anybody("odd"), q); err != nil || p.Round.ID != 0 {
		t.Fatalf("%+v %v", p, err)
	}
	c, err := x.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, h := range c.Declared.Users["marit"].Roles {
		got = append(got, strings.TrimSpace(h.Name+" "+h.Span.From+" "+h.Span.Until))
	}
	if s := strings.Join(got, ", "); s != "steward, crew  "+in(16)+", mate "+in(3) {
		t.Error(s)
	}
	if p, err = x.Move(ctx, anybody("odd"), MoveRequest{User: "hanne", To: []string{"mate"}, Because: "t"}); err != nil || p.Round.ID == 0 {
		t.Errorf("today: %+v %v", p, err)
	}
	for _, q := range []MoveRequest{{User: "marit"}, {User: "marit", To: []string{"mat"}}, {User: "marit", To: []string{"steward"}},
		{User: "mart", To: []string{"mate"}}, {User: "hanne", To: []string{"crew"}, Keep: []string{"steward"}},
		{User: "hanne", To: []string{"crew"}, On: in(-1)}, {User: "hanne", To: []string{"crew"}, Overlap: time.Hour}} {
		q.Because = "t"
		if p, err := x.Move(ctx, anybody("odd"), q); err == nil {
			t.Errorf("%+v: %+v", q, p)
		}
	}
}

// Who leaves hands over what they looked after, is shut out after the last day, and may come back.
func TestLeave(t *testing.T) {
	x := withRoles(t)
	q := LeaveRequest{User: "marit", Because: "retires"}
	if _, err := x.Leave(ctx, anybody("odd"), q); err == nil || !strings.Contains(err.Error(),
		"marit owns group deck, answers for service board, manages hanne; say who takes over") {
		t.Errorf("%v", err)
	}
	q.HandTo = "hanne"
	q.AtOnce = true
	p, err := x.Leave(ctx, anybody("odd"), q)
	if err != nil || p.Revision.Number == 0 {
		t.Fatalf("%+v %v", p, err)
	}
	for i := 0; !x.shut("marit"); i++ {
		if i == 200 {
			t.Fatalf("marit is not shut out: %+v", p)
		}
		time.Sleep(25 * time.Millisecond)
	}
	c, err := x.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if c.Declared.Groups["deck"].Owner.Name != "hanne" || c.Declared.Users["board"].Manager.Name != "hanne" ||
		c.Declared.Users["marit"].Span.Until != in(-1) {
		t.Errorf("%+v %+v", c.Declared.Groups["deck"], c.Declared.Users["marit"])
	}
	if out, err := x.Join(ctx, anybody("odd"), JoinRequest{People: []Joiner{{ID: "marit"}}, Until: in(90),
		Because: "a second season"}); err != nil ||
		out.Lines[0].Outcome != "comes back" {
		t.Errorf("%+v %v", out, err)
	}
	if p, err = x.Leave(ctx, anybody("odd"), LeaveRequest{User: "marit", On: in(20), Because: "t"}); err != nil || p.Round.Steps > 0 &&
		p.By != in(21) {
		t.Errorf("%+v %v", p, err)
	}
	for _, q := range []LeaveRequest{{User: "mart"}, {User: "marit", On: in(-1)}, {User: "marit", On: in(30)}, {User: "board",
		HandTo: "hane"},
		{User: "board", On: in(1), AtOnce: true}, {User: "hanne", HandTo: "hanne"}} {
		q.Because = "t"
		if p, err := x.Leave(ctx, anybody("odd"), q); err == nil {
			t.Errorf("%+v: %+v", q, p)
		}
	}
	line, err := x.TimeLine(ctx, odd("odd"), "marit")
	if err != nil || len(line) < 3 || line[len(line)-1].What != "left" || line[len(line)-1].When != "to come" {
		t.Errorf("%+v %v", line, err)
	}
}

// Who joins without a number gets the lowest free one of a range that their role has, or one within it.
func TestNumbersByRole(t *testing.T) {
	x := start(t)
	c, err := x.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	c.Declared.Roles["hand"] = &model.Role{Name: "hand", Numbers: model.Range{Low: 2000, High: 2004}}
	c.Declared.Roles["bosun"] = &model.Role{Name: "bosun", Includes: []model.Ref{{Name: "hand"}, {Name: "bosun"}}}
	taken := drift.NumberKey(model.Account, "2003")
	if err := x.Store.Tx(ctx, func(tx *store.Tx) error { return tx.PutLoose(ctx, "arctic-tern", []uint64{taken}) }); err != nil {
		t.Fatal(err)
	}
	numbers := newNumbers(x.Life, c)
	numbers.users["2001"] = "somebody"
	for i, want := range []string{"2000", "2002", "2004", ""} {
		got, why, err := numbers.next(ctx, model.Account, declare.NumbersOf(c.Declared, []string{"crew", "bosun"}), fmt.Sprint("new", i))
		if got != want || (why == "") != (want != "") || err != nil {
			t.Errorf("%d: %q %q %v, want %q", i, got, why, err, want)
		}
		joins := exchange.User{ID: fmt.Sprint("new", i), Number: got}
		if why := wrongJoiner(c, joins, numbers.users); got != "" && why != "" {
			t.Errorf("who was given %s is refused: %s", got, why)
		}
	}
	if r := declare.NumbersOf(c.Declared, []string{"crew", "unknown"}); r != nil {
		t.Errorf("without a range: %+v", r)
	}
}

// Who leaves at once with their accounts removed is gone from the targets, and what waited for them cannot be collected.
func TestLeaveRemoved(t *testing.T) {
	x := start(t)
	joins := JoinRequest{Roles: []string{"crew"}, Because: "spring crew",
		People: []Joiner{{ID: "pat", Name: "Pat O'Neill", Number: "1302"}}}
	out, err := x.Join(ctx, anybody("odd"), joins)
	if err != nil || len(out.Handovers) != 1 {
		t.Fatalf("%+v %v", out, err)
	}
	x.become(t, out.Handovers[0].ID, ToCollect)
	if _, err := x.Leave(ctx, anybody("odd"), LeaveRequest{User: "pat", Remove: true, Because: "t"}); err == nil ||
		!strings.Contains(err.Error(), "at once only") {
		t.Errorf("%v", err)
	}
	p, err := x.Leave(ctx, anybody("odd"), LeaveRequest{User: "pat", AtOnce: true, Remove: true, Because: "a mistake"})
	if err != nil || p.Round.Steps == 0 { // they joined today
		t.Fatalf("%+v %v", p, err)
	}
	x.become(t, out.Handovers[0].ID, Withdrawn)
	for i := 0; ; i++ {
		links, err := x.Store.LinksOf(ctx, "pat")
		if err != nil || i == 200 {
			t.Fatalf("an account is still there: %v %v", links, err)
		}
		if !slices.ContainsFunc(links, func(l model.Link) bool { return l.Target == "stores" }) { // the other can only be shut
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
}
