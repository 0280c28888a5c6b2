package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/service/servicetest"
)

// surveyed is a service with the files declared, the secret set and the target read.
func surveyed(t *testing.T, text string, accounts ...string) (*Service, *servicetest.Tern) {
	t.Helper()
	s, f := start(t)
	for i := 0; i < len(accounts); i += 2 {
		f.Add(accounts[i], accounts[i+1])
	}
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	survey(t, s)
	return s, f
}

func survey(t *testing.T, s *Service) {
	t.Helper()
	if got, err := s.Survey(ctx, door.Itself, nil, nil); err != nil || got[0].State != seen.Surveyed {
		t.Fatalf("%+v %v", got, err)
	}
}

// settle drafts everything and runs it to its end.
func settle(t *testing.T, s *Service) rounds.Round {
	t.Helper()
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Because: "settle"})
	if err != nil || r.State != rounds.Drafted {
		t.Fatalf("%+v %v", r, err)
	}
	return carried(t, s, r)
}

func carried(t *testing.T, s *Service, r rounds.Round) rounds.Round {
	t.Helper()
	if _, err := s.Approve(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.RunRound(ctx, door.Itself, r.ID); err != nil {
		t.Fatal(err)
	}
	return ended(t, s, r.ID)
}

func kinds(t *testing.T, s *Service, q seen.DriftRequest) string {
	t.Helper()
	list, err := s.Drift(ctx, door.Itself, q, 0)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range list.Items {
		out = append(out, f.Kind+" "+f.What+" "+f.Subject)
	}
	return strings.Join(out, ", ")
}

var odd = door.Operator{Name: "odd", Duties: door.Duties}

// A round that would do too much waits for somebody who did not draft it.
func TestHeld(t *testing.T) {
	tight := strings.Replace(declaration, "unexpected: disable", "unexpected: disable, limits: {disable: 1}", 1)
	s, f := surveyed(t, tight, "jarle", "1701", "wilma", "1702")
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "clean up"})
	if err != nil || r.State != rounds.OnHold || len(r.Holds) != 1 ||
		r.Holds[0].Words != "it would disable 2 accounts on arctic, and the limit is 1: jarle, wilma" {
		t.Fatalf("%+v %v", r, err)
	}
	for name, err := range map[string]error{"run": second(s.RunRound(ctx, odd, r.ID)), "approve": second(s.Approve(ctx, odd, r.ID))} {
		if err == nil || !strings.Contains(err.Error(), map[string]string{"run": "is a draft",
			"approve": "you made it yourself, and nobody else could approve it; confirm it with your password"}[name]) {
			t.Errorf("%s: %v", name, err)
		}
	}
	runner := door.Operator{Name: "runner", Duties: []door.Duty{door.Look, door.Run}}
	if _, err := s.Approve(ctx, runner, r.ID); door.ProblemOf(err).Kind != door.Forbidden {
		t.Errorf("approved without the duty: %v", err)
	}
	if got := carried(t, s, r); got.State != rounds.Complete || got.Outcomes["done"] != 4 {
		t.Errorf("%+v", got)
	}
	password, err := s.FirstOperator(ctx, odd.Name, "Odd Strand", "")
	if err != nil {
		t.Fatal(err)
	}
	f.Add("olav", "1703")
	f.Add("per", "1704")
	survey(t, s)
	r, err = s.Draft(ctx, odd, rounds.DraftRequest{Because: "again"})
	if err != nil || r.State != rounds.OnHold {
		t.Fatalf("%+v %v", r, err)
	}
	if _, err := s.ApproveWith(ctx, odd, r.ID, "a wrong password", "192.0.2.1"); err == nil || err.Error() != "that is not your password" {
		t.Errorf("with a wrong password: %v", err)
	}
	if _, err := s.ApproveWith(ctx, odd, r.ID, password, "192.0.2.1"); err != nil {
		t.Errorf("in a team of one: %v", err)
	}
	entries, err := s.Record(ctx, odd, door.RecordFilter{Kind: "round"}, 5)
	if err != nil || !slices.ContainsFunc(entries.Items,
		func(e door.Entry) bool {
			return strings.Contains(e.Words, "by the operator who drafted it: nobody else could")
		}) {
		t.Errorf("the record does not say so: %+v %v", entries.Items, err)
	}
}

// What was done is taken back from the values before, and what cannot be is told.
func TestUndo(t *testing.T) {
	s, f := surveyed(t, declaration, "marit", "1501", "jarle", "1701")
	done := settle(t, s)
	if done.State != rounds.Complete || f.Objects["accountjarle"].Attributes.One(model.Disabled) != "yes" ||
		f.Objects["accountmarit"].Attributes.One(model.Number) != "1001" {
		t.Fatalf("%+v %v", done, f.Objects)
	}
	u, err := s.Undo(ctx, odd, done.ID, "")
	if err != nil || u.Undoes != done.ID || u.Because != "undo of round 1: settle" || len(u.Lost) == 0 {
		t.Fatalf("%+v %v", u, err)
	}
	if again, err := s.Round(ctx, odd, u.ID); err != nil || !slices.Equal(again.Lost, u.Lost) {
		t.Errorf("what cannot be brought back is not kept with the round: %q %v", again.Lost, err)
	}
	if got := carried(t, s, u); got.State != rounds.Complete {
		steps, _ := s.RoundSteps(ctx, odd, u.ID, rounds.StepChoice{}, 0)
		t.Fatalf("%+v %+v", got, steps.Items)
	}
	if f.Objects["accountjarle"].Attributes.One(model.Disabled) != "no" ||
		f.Objects["accountmarit"].Attributes.One(model.Number) != "1501" ||
		f.Objects["accounthanne"].Attributes.One(model.Disabled) != "yes" {
		t.Errorf("not as before: %v", f.Objects)
	}
	if r, _ := s.Round(ctx, odd, done.ID); r.State != rounds.Undone || r.Outcomes["undone"] == 0 {
		t.Errorf("%+v", r)
	}
	if links, err := s.Store.LinksOf(ctx, "marit"); err != nil || len(links) != 0 {
		t.Errorf("the adoption was not taken back: %v %v", links, err)
	}
	if _, err := s.Undo(ctx, odd, done.ID, ""); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("undone twice: %v", err)
	}
}

func TestStopAndSchedule(t *testing.T) {
	s, _ := surveyed(t, declaration, "marit", "1501")
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Schedule(ctx, odd, r.ID, nil, false); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("a draft was scheduled: %v", err)
	}
	if r, err := s.Stop(ctx, odd, r.ID, "wrong list"); err != nil || r.State != rounds.Stopped || r.Outcomes["not-tried"] != r.Steps {
		t.Errorf("%+v %v", r, err)
	}
	if r := ended(t, s, r.ID); r.State != rounds.Stopped || r.StoppedBy != "odd" {
		t.Errorf("%+v", r)
	}
	if _, err := s.Approve(ctx, odd, r.ID); door.ProblemOf(err).Kind != door.Conflict {
		t.Errorf("a stopped round was approved: %v", err)
	}
	r, _ = s.Draft(ctx, odd, rounds.DraftRequest{Because: "at its time"})
	if _, err := s.Approve(ctx, odd, r.ID); err != nil {
		t.Fatal(err)
	}
	soon := s.Now().Add(500 * time.Millisecond)
	if r, err = s.Schedule(ctx, odd, r.ID, &soon, true); err != nil || !r.Scheduled || r.State != rounds.Approved {
		t.Fatalf("%+v %v", r, err)
	}
	if r := ended(t, s, r.ID); r.State != rounds.Complete || r.StartedAt.Before(soon) || r.RunBy != "odd" {
		t.Errorf("%+v", r)
	}
}

// The second wave is only tried when the first held.
func TestWaves(t *testing.T) {
	two := declaration + `  sooty: {kind: tern, address: "b:1", login: {as: root, secret: key}, tags: {fleet: old}}` + "\n"
	s, f := surveyed(t, two)
	for _, c := range []struct{ first, want string }{{"1", "arctic 1, sooty 2"}, {"fleet=old", "sooty 1, arctic 2"},
		{"", "arctic 1, sooty 1"}} {
		r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x", First: c.first})
		var got []string
		for _, x := range r.Targets {
			got = append(got, fmt.Sprintf("%s %d", x.Target, x.Wave))
		}
		if err != nil || strings.Join(got, ", ") != c.want {
			t.Errorf("%q: %v (%v)", c.first, got, err)
		}
	}
	for _, bad := range []string{"0", "none", "fleet=none"} {
		if _, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x", First: bad}); door.ProblemOf(err).Field != "first" {
			t.Errorf("%q: %v", bad, err)
		}
	}
	f.Mu.Lock()
	f.Refuses = "hanne"
	f.Mu.Unlock()
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x", First: "1"})
	if err != nil {
		t.Fatal(err)
	}
	if r = carried(t, s, r); r.State != rounds.Incomplete || r.Outcomes["failed"] != 1 || r.Outcomes["not-tried"] != 2 {
		t.Errorf("%+v", r)
	}
	steps, err := s.RoundSteps(ctx, odd, r.ID, rounds.StepChoice{Outcomes: []string{"not-tried"}}, 0)
	if err != nil || steps.Items[0].Words != "the first wave did not hold: 1 step did not succeed" {
		t.Errorf("%+v %v", steps, err)
	}
}

// What is put right and comes back is told as contested, with how often.
func TestContested(t *testing.T) {
	s, f := surveyed(t, declaration)
	settle(t, s)
	for times := 1; times <= 2; times++ {
		f.Change("marit", model.FullName, "Someone Else")
		survey(t, s)
		list, err := s.Drift(ctx, odd, seen.DriftRequest{}, 0)
		want := []string{"", "put right once, last by round 2 on ", "put right 2 times, last by round 3 on "}
		if err != nil || len(list.Items) != 1 {
			t.Fatalf("%+v %v", list, err)
		}
		if x := list.Items[0]; times == 1 && x.Kind != "different" || times == 2 &&
			(x.Kind != "contested" || !strings.HasPrefix(x.Note, want[times-1])) {
			t.Errorf("after %d: %s %q", times, x.Kind, x.Note)
		}
		settle(t, s)
	}
	if o, err := s.Targets(ctx, odd, "", door.Page{}); err != nil || o.Items[0].Total != 0 {
		t.Errorf("%+v %v", o, err)
	}
	trend, err := s.Trend(ctx, odd, nil, 7)
	if err != nil || len(trend) != 1 || trend[0].Total != 0 || trend[0].Day != s.Now().Format(time.DateOnly) {
		t.Errorf("%+v %v", trend, err)
	}
}

func TestCare(t *testing.T) {
	s, _ := surveyed(t, declaration, "jarle", "1701")
	list, err := s.Drift(ctx, odd, seen.DriftRequest{Choice: declared.Choice{Kinds: []string{"unexpected"}}}, 0)
	if err != nil || len(list.Items) != 1 {
		t.Fatalf("%+v %v", list, err)
	}
	key := list.Items[0].Key
	past, far, soon := s.Now().AddDate(0, 0, -1), s.Now().AddDate(3, 0, 0), s.Now().AddDate(0, 1, 0)
	for name, err := range map[string]error{
		"over": second(s.Accept(ctx, odd, []string{key}, &past, "x")), "too far": second(s.Accept(ctx, odd, []string{key}, &far, "x")),
		"why": second(s.Accept(ctx, odd, []string{key}, &soon, "")), "none": second(s.Accept(ctx, odd, nil, &soon, "x")),
		"unknown":  second(s.Accept(ctx, odd, []string{"ab"}, &soon, "x")),
		"operator": second(s.Assign(ctx, odd, []string{key}, "nobody.such")), "silence": s.CommentFinding(ctx, odd, key, " "),
		"duty": second(s.Accept(ctx, door.Operator{Name: "l", Duties: []door.Duty{door.Look}}, []string{key}, &soon, "x")),
	} {
		if err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if n, err := s.Accept(ctx, odd, []string{key}, &soon, "until he is back"); n != 1 || err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{}); strings.Contains(got, "jarle") {
		t.Errorf("accepted, and still listed: %s", got)
	}
	if got := kinds(t, s, seen.DriftRequest{Accepted: true}); got != "unexpected disable account jarle" {
		t.Error(got)
	}
	if r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x"}); err != nil || r.Steps != 2 {
		t.Errorf("accepted, and drafted: %+v %v", r, err)
	}
	if _, err := s.FirstOperator(ctx, "ines", "Inês", "a long enough password"); err != nil {
		t.Fatal(err)
	}
	if n, err := s.Assign(ctx, odd, []string{key}, "ines"); n != 1 || err != nil {
		t.Fatal(err)
	}
	if err := s.CommentFinding(ctx, odd, key, "asked the bosun"); err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{Assigned: "ines", All: true}); got != "unexpected disable account jarle" {
		t.Error(got)
	}
	f, err := s.Finding(ctx, odd, key)
	if err != nil || f.Assigned != "ines" || f.AcceptedBecause != "until he is back" || len(f.Remarks) != 1 ||
		f.Remarks[0].Words != "asked the bosun" {
		t.Errorf("%+v %v", f, err)
	}
	if _, err := s.Accept(ctx, odd, []string{key}, nil, "he is back"); err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{}); !strings.Contains(got, "jarle") {
		t.Errorf("no longer accepted, and not listed: %s", got)
	}
}

func TestDecide(t *testing.T) {
	s, _ := surveyed(t, declaration, "hv", "1014", "hanne", "9")
	if got := kinds(t, s, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}); got != "unmatched for a person to decide "+
		"hanne" {
		t.Fatal(got)
	}
	for name, err := range map[string]error{
		"account": s.Decide(ctx, odd, "arctic", "nothing", "hanne", true, "x"),
		"user":    s.Decide(ctx, odd, "arctic", "hv", "hane", true, "x"), "reason": s.Decide(ctx, odd, "arctic", "hv", "hanne", true, ""),
		"forget": s.Forget(ctx, odd, "arctic", "hv", "hanne"),
	} {
		if err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if err := s.Decide(ctx, odd, "arctic", "hv", "hanne", true, "says the bosun"); err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}); !strings.HasPrefix(got,
		"different adopt account hv") {
		t.Error(got)
	}
	if d, err := s.Decisions(ctx, odd, "arctic"); err != nil || len(d) != 1 || d[0].Because != "says the bosun" {
		t.Errorf("%+v %v", d, err)
	}
	if err := s.Forget(ctx, odd, "arctic", "hv", "hanne"); err != nil {
		t.Fatal(err)
	}
	if got := kinds(t, s, seen.DriftRequest{Choice: declared.Choice{Users: []string{"hanne"}}}); got != "unmatched for a person to decide "+
		"hanne" {
		t.Error(got)
	}
}

// Who has something is told page by page; what nobody has adopted yet is found.
func TestHoldersPage(t *testing.T) {
	s, _ := surveyed(t, declaration, "marit", "1", "zoe", "1701")
	var got []string
	for from := range 4 {
		h, err := s.WhoHas(ctx, odd, "account", "arctic", "", door.Page{From: from, Size: 1})
		if err != nil || h.Total != 3 || len(h.Holders) > 1 {
			t.Fatalf("%+v %v", h, err)
		}
		for _, x := range h.Holders {
			got = append(got, x.Account+" "+x.State)
		}
	}
	if want := []string{"hanne missing", "marit found", "zoe not declared"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestExplain(t *testing.T) {
	s, f := surveyed(t, strings.Replace(declaration, "hanne: {name: Hanne Vik, number: 1014, roles: [crew]}",
		"hanne: {name: Hanne Vik, number: 1014}", 1), "jarle", "1701")
	settle(t, s)
	f.Change("marit", model.FullName, "Someone Else")
	survey(t, s)
	for _, c := range []struct{ user, what, want string }{
		{"marit", "account", "an account as declared: role crew gives it c.yaml:6:18; marit is given role crew c.yaml:3:51"},
		{"marit", model.FullName, "full-name different: it stands with marit c.yaml:3:3"},
		{"hanne", "account", "an account neither declared nor there: role crew would give it c.yaml:6:18; hanne holds no role"},
	} {
		x, err := s.Explain(ctx, odd, seen.Question{User: c.user, Target: "arctic", What: c.what})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, a := range x.Answers {
			var why []string
			for _, w := range a.Why {
				why = append(why, strings.TrimSpace(w.Words+" "+w.At.String()))
			}
			got = append(got, a.What+" "+a.State+": "+strings.Join(why, "; "))
		}
		if strings.Join(got, "\n") != c.want {
			t.Errorf("got  %s\nwant %s", strings.Join(got, "\n"), c.want)
		}
	}
	h, err := s.WhoHas(ctx, odd, "account", "arctic", "", door.Page{})
	var got []string
	for _, x := range h.Holders {
		got = append(got, x.User+" "+x.Account+" "+x.State)
	}
	if want := "marit marit as declared, jarle not declared"; err != nil ||
		strings.TrimSpace(strings.Join(got, ", ")) != strings.Replace(want, ", jarle", ",  jarle", 1) {
		t.Errorf("%q (%v)", strings.Join(got, ", "), err)
	}
	yesterday := s.Now().AddDate(0, 0, -1).Format(time.DateOnly)
	for name, err := range map[string]error{
		"before anything": second(s.Explain(ctx, odd, seen.Question{User: "marit", Target: "arctic", Day: yesterday})),
		"no day":          second(s.Explain(ctx, odd, seen.Question{User: "marit", Target: "arctic", Day: "soon"})),
		"to come":         second(s.WhoHas(ctx, odd, "account", "arctic", s.Now().AddDate(0, 0, 1).Format(time.DateOnly), door.Page{})),
		"nothing":         second(s.Explain(ctx, odd, seen.Question{User: "marit", Target: "arctic", What: "nonsense"})),
	} {
		if err == nil {
			t.Errorf("%s: answered", name)
		}
	}
	// A day later, that day is the past: what was then is still told.
	clock := s.Clock
	s.Clock = func() time.Time { return clock().AddDate(0, 0, 2) }
	if err := s.Forget(ctx, odd, "arctic", "x", "marit"); err == nil {
		t.Error("forgot what was never decided")
	}
	x, err := s.Explain(ctx, odd, seen.Question{User: "marit", Target: "arctic", What: "account", Day: clock().UTC().Format(time.DateOnly)})
	if err != nil || x.Answers[0].State != access.AsDeclared || x.Revision != 1 || x.Account != "marit" {
		t.Errorf("%+v %v", x, err)
	}
}

// A target that repeats its reconciliation is put right by itself, but for what must be held.
func TestRepeat(t *testing.T) {
	s, f := surveyed(t, strings.Replace(declaration, "unexpected: disable", "unexpected: disable, repeat: {survey: 1s, reconcile: 1s}", 1))
	for range 200 {
		f.Mu.Lock()
		there := f.Objects["accounthanne"].Name != ""
		f.Mu.Unlock()
		if there {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	itself := func(e door.Entry) bool { return e.Operator == "hen-roost" && strings.Contains(e.Words, "complete") }
	told := false
	for range 200 {
		entries, err := s.Record(ctx, odd, door.RecordFilter{Kind: "round"}, 10)
		if err != nil {
			t.Fatal(err)
		}
		if told = slices.ContainsFunc(entries.Items, itself); told {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if !told {
		t.Error("no round of its own is complete")
	}
}

func TestWatch(t *testing.T) {
	s, _ := surveyed(t, declaration)
	first, err := s.Watch(ctx, odd, Watched{})
	if err != nil || len(first.Entries) != 0 {
		t.Fatalf("%+v %v", first, err)
	}
	survey(t, s)
	settle(t, s)
	next, err := s.Watch(ctx, odd, first)
	if err != nil || len(next.Entries) < 4 || len(next.Targets) != 1 || next.Entries[0].Seq >= next.Entries[1].Seq {
		t.Errorf("%+v %v", next, err)
	}
	if after, err := s.Watch(ctx, odd, next); err != nil || len(after.Entries) != 0 {
		t.Errorf("%+v %v", after, err)
	}
}

// Two services on one database share a round's targets; each step is done once, by one of them.
func TestShared(t *testing.T) {
	var targets strings.Builder
	for i := range 30 {
		fmt.Fprintf(&targets, "  t%02d: {kind: tern, address: \"a:1\", login: {as: root, secret: key}}\n", i)
	}
	one, f := surveyed(t, declaration+targets.String())
	other, err := New(configOf(one))
	if err != nil {
		t.Fatal(err)
	}
	other.Begin()
	t.Cleanup(other.Close)
	f.Mu.Lock()
	f.Pause = 5 * time.Millisecond
	f.Mu.Unlock()
	r := settle(t, one)
	if r.State != rounds.Complete || r.Outcomes["done"]+r.Outcomes["already-so"] != 62 {
		t.Errorf("%+v", r)
	}
	entries, err := one.Record(ctx, odd, door.RecordFilter{Kind: "step"}, 1000)
	if err != nil || len(entries.Items) != 62 {
		t.Errorf("%d steps in the record (%v)", len(entries.Items), err)
	}
}

// Targets that feed others go first, and theirs are done before those begin.
func TestAfter(t *testing.T) {
	two := strings.Replace(declaration, "  arctic: {kind: tern,",
		"  feeder: {kind: tern, address: \"b:1\", login: {as: root, secret: key}}\n  arctic: {kind: tern, after: [feeder],", 1)
	s, _ := surveyed(t, two)
	r := settle(t, s)
	if r.State != rounds.Complete || r.Targets[0].Target != "feeder" || r.Targets[0].Tier != 0 || r.Targets[1].Tier != 1 {
		t.Fatalf("%+v", r.Targets)
	}
	steps, err := s.RoundSteps(ctx, odd, r.ID, rounds.StepChoice{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	var last time.Time
	for _, x := range steps.Items {
		if x.EndedAt.Before(last) {
			t.Errorf("%s on %s ended before what feeds it", x.What, x.Target)
		}
		last = *x.EndedAt
	}
}

// Accounts come and go with the days that are declared.
func TestDaysPass(t *testing.T) {
	first := time.Now().UTC()
	day := func(n int) string { return first.AddDate(0, 0, n).Format(time.DateOnly) }
	s, f := surveyed(t, strings.Replace(declaration, "hanne: {name: Hanne Vik,", "hanne: {name: Hanne Vik, from: "+day(1)+
		", until: "+day(2)+",", 1))
	for n, want := range []string{"", "no", "no", "yes"} {
		s.Clock = func() time.Time { return first.AddDate(0, 0, n) }
		survey(t, s)
		if list, err := s.Drift(ctx, odd, seen.DriftRequest{}, 0); err == nil && len(list.Items) > 0 {
			settle(t, s)
		}
		f.Mu.Lock()
		got := f.Objects["accounthanne"].Attributes.One(model.Disabled)
		f.Mu.Unlock()
		if got != want {
			t.Errorf("on day %d the account is %q, want %q", n, got, want)
		}
	}
	u, err := s.User(ctx, odd, "hanne")
	if err != nil || u.State != "left" || u.Until != day(2) {
		t.Errorf("%+v %v", u, err)
	}
}
