package dialect_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/standin/spoken"
)

var ctx = context.Background()

// season is a batch of a few kinds of acts on a switch: somebody new with what they are to have, and somebody else who goes.
func season() []connect.Act {
	acts := []connect.Act{connecttest.Act(model.Create, model.Account, "ulla.niemi", model.Change{Attribute: model.FullName,
		After: []string{`Ulla "Ulli" Niemi`}}, model.Change{Attribute: "may-from", After: []string{"10.1.0.0/16", "10.2.0.0/16"}}),
		connecttest.Act(model.Disable, model.Account, "install", model.Change{Attribute: model.Disabled, Before: []string{"no"},
			After: []string{"yes"}})}
	join := connecttest.Move(model.JoinIt, model.RightKind, "mooring", "ulla.niemi")
	join.Stage = 1
	return append(acts, join)
}

// The connection is cut after every line of the conversation, and before it: each end is as declared and proved, or as before,
// and is told so; a trial that nobody confirmed goes back.
func TestCutEverywhere(t *testing.T) {
	var points int
	for at := 1; at == 1 || at <= points; at++ {
		s, l, a := skerry(t)
		c := dialect.Connector{File: file(t, "harbour-switch")}
		s.Set(spoken.Trouble{CutAfter: at})
		var mark *connect.Mark
		tell := func(m connect.Mark) error { mark = &m; return nil }
		var answers []connect.Answer
		done := false
		for try := 0; try < 4 && !done; try++ {
			x, err := c.Open(ctx, a)
			if err != nil {
				continue // it was cut while it was signed in to
			}
			if mark != nil {
				if err := x.Offers().Trial.Settle(ctx, *mark); err != nil {
					x.Close()
					continue
				}
			}
			acts := season()
			for i := range acts {
				acts[i].Again = try > 0
			}
			answers = x.Offers().Trial.Whole(ctx, acts, tell)
			done = !slices.ContainsFunc(answers, func(a connect.Answer) bool { return a.Outcome == connect.Unsure })
			if !done && mark == nil && l.Is.People["ulla.niemi"].Class != "" {
				t.Errorf("cut at %d: something was changed, and no trial was told", at)
			}
			x.Close()
		}
		back := false
		for i, x := range answers {
			if back = x.Outcome == connect.NotTried && strings.HasPrefix(x.Words, "gone back: "); !back && x.Outcome != connect.Done &&
				x.Outcome != connect.AlreadySo {
				t.Errorf("cut at %d: act %d ended %s %s", at, i, x.Outcome, x.Words)
			}
		}
		if at == 1 {
			s.Set(spoken.Trouble{})
			before := s.Points()
			x := connecttest.Open(t, c, a)
			x.Offers().Trial.Whole(ctx, season(), tell)
			points = s.Points() - before + 40
		}
		p := l.Is.People["ulla.niemi"]
		if back && p.Class == "" && !l.Is.People["install"].Shut && !l.OnTrial() {
			s.Stop()
			continue // the proof could not be had, so all is as before
		}
		if p.Class != "mooring" || p.Name != `Ulla "Ulli" Niemi` || len(p.From) != 2 || !l.Is.People["install"].Shut || l.OnTrial() {
			t.Errorf("cut at %d: %+v, on trial: %v", at, p, l.OnTrial())
		}
		s.Stop()
	}
	if points < 40 {
		t.Errorf("%d points", points)
	}
}

// A change that takes our own permission away is not confirmed, whatever the switch itself says of it.
func TestBranchSawnOff(t *testing.T) {
	_, l, a := skerry(t)
	s := connecttest.Open(t, dialect.Connector{File: file(t, "harbour-switch")}, a)
	demote := connecttest.Move(model.JoinIt, model.RightKind, "mooring", "hen-roost")
	got := s.Offers().Trial.Whole(ctx, []connect.Act{demote}, func(connect.Mark) error { return nil })
	if got[0].Outcome != connect.NotTried || !strings.Contains(got[0].Words, "our own login could not confirm it: class mooring may not") {
		t.Errorf("%+v", got)
	}
	shut := connecttest.Act(model.Disable, model.Account, "hen-roost", model.Change{Attribute: model.Disabled, Before: []string{"no"},
		After: []string{"yes"}})
	got = s.Offers().Trial.Whole(ctx, []connect.Act{shut}, func(connect.Mark) error { return nil })
	if got[0].Outcome != connect.NotTried || !strings.Contains(got[0].Words, "gone back: after it our own login was let in no more") {
		t.Errorf("%+v", got)
	}
	if p := l.Is.People["hen-roost"]; p.Shut || p.Class != "master" || l.OnTrial() {
		t.Errorf("%+v", p)
	}
	none := connecttest.Act(model.Disable, model.Account, "install", model.Change{Attribute: model.Disabled, Before: []string{"no"},
		After: []string{"yes"}})
	got = s.Offers().Trial.Whole(ctx, []connect.Act{none, demote}, func(connect.Mark) error { return nil })
	if got[1].Outcome != connect.NotTried || !strings.Contains(got[1].Words,
		"the target's own check: nobody could change people any more") {
		t.Errorf("%+v", got)
	}
}

// Somebody else has the candidate open: told whose it is, and nothing is changed.
func TestTwoAtOnce(t *testing.T) {
	srv, l, a := skerry(t)
	l.Is.People["lotte"] = spoken.Mooring{Class: "master", Hash: spoken.Hashed("a-word-of-hers")}
	other := a
	other.As, other.Secret = "lotte", []byte("a-word-of-hers")
	c := dialect.Connector{File: file(t, "harbour-switch")}
	hers, err := dialect.Typing(ctx, c, other)
	if err != nil {
		t.Fatal(err)
	}
	defer hers.Close()
	if _, err := hers.Type(ctx, "open sheet"); err != nil {
		t.Fatal(err)
	}
	s := connecttest.Open(t, c, a)
	got := s.Offers().Trial.Whole(ctx, season(), func(connect.Mark) error { t.Error("a trial began"); return nil })
	if got[0].Outcome != connect.NotTried || got[0].Words != "its candidate is open by lotte; ask them to keep it or to drop it" {
		t.Errorf("%+v", got)
	}
	if _, err := connect.Preview(ctx, s, season()); err == nil || !strings.Contains(err.Error(), "open by lotte") {
		t.Errorf("%v", err)
	}
	for _, line := range []string{"person install name \"As delivered\"", `keep sheet "a note of hers"`} {
		if answer, err := hers.Type(ctx, line); err != nil || strings.Contains(answer, "??") {
			t.Fatalf("%q %v", answer, err)
		}
	}
	all := connecttest.Surveyed(t, connecttest.Open(t, c, a))
	told := all[model.Named{Kind: model.SystemKind, Name: model.Itself}].Attributes.Get(model.Commits)
	if len(told) != 1 || !strings.HasSuffix(told[0], ": a note of hers") || !strings.HasPrefix(told[0], "lotte, ") {
		t.Errorf("%q", told)
	}
	stale, err := dialect.Typing(ctx, c, a) // a conversation of ours that was never ended
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{"open sheet", "strike person lotte"} {
		if _, err := stale.Type(ctx, line); err != nil {
			t.Fatal(err)
		}
	}
	lines, err := connect.Preview(ctx, s, season())
	stale.Close()
	if slices.Contains(lines, "- person lotte") {
		t.Errorf("what an earlier conversation left is gone on with: %q", lines)
	}
	if err != nil || !slices.Contains(lines, "+ person ulla.niemi, class mooring") || !slices.Contains(lines,
		"~ person install shut: false > true") {
		t.Errorf("%q %v", lines, err)
	}
	if srv.Lines.Load() == 0 || l.Is.People["ulla.niemi"].Class != "" {
		t.Error("a look changed something")
	}
	// Who is signed in holds the rights that they came with, and can be turned out.
	hersIn := func() string {
		list, err := connect.Watch(ctx, s)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			if o.Attributes.One(model.HeldBy) == "lotte" {
				return o.Name
			}
		}
		return ""
	}
	name := hersIn()
	if ended := connect.End(ctx, s, []string{name, "4711"}); ended[0].Outcome != connect.Done || ended[1].Outcome != connect.AlreadySo {
		t.Errorf("%q: %+v", name, ended)
	}
	if name := hersIn(); name != "" {
		t.Errorf("she is still there: %s", name)
	}
}

// A device that says yes and does nothing, that answers without end, that answers not at all.
func TestLies(t *testing.T) {
	srv, l, a := skerry(t)
	a.Wait = 2 * time.Second
	s := connecttest.Open(t, dialect.Connector{File: file(t, "harbour-switch")}, a)
	for i := range 40 { // pages of an answer
		l.Is.People[fmt.Sprintf("hand.%02d", i)] = spoken.Mooring{Name: "northquay 7 > ", Class: "mooring"}
	}
	if n := len(connecttest.Surveyed(t, s)); n < 46 {
		t.Errorf("%d objects", n)
	}
	srv.Set(spoken.Trouble{Slow: 50 * time.Millisecond})
	connecttest.Surveyed(t, s)
	srv.Set(spoken.Trouble{Endless: true})
	if err := s.Survey(ctx, func(model.Object) error { return nil }); err == nil {
		t.Error("an answer without end was read")
	}
	srv.Set(spoken.Trouble{})
	a.Secret = []byte("wrong")
	var refused *connect.Refused
	if _, err := (dialect.Connector{File: file(t, "harbour-switch")}).Open(ctx, a); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
}

func bollard(t testing.TB) (*spoken.Server, *spoken.Bollard, connect.Access) {
	t.Helper()
	l, err := spoken.NewBollard(filepath.Join(t.TempDir(), "state"), spoken.BollardState{Behind: 9 * 365 * 24 * time.Hour,
		Users: map[string]spoken.Hand{"roost": {Level: 9, Hash: spoken.Hashed(ours)}, "service": {Level: 9,
			Hash: spoken.Hashed("service")}}})
	if err != nil {
		t.Fatal(err)
	}
	s, a := serving(t, l, "127.0.9.2", "bridge-router", "roost", true)
	return s, l, a
}

// An old router without a candidate: each change holds at once, its clock is years off, and what would lock us out is taken back on
// the conversation that is still open.
func TestRouter(t *testing.T) {
	_, l, a := bollard(t)
	c := dialect.Connector{File: file(t, "bridge-router")}
	s := connecttest.Open(t, c, a)
	long := `U "U" Ö\ ` + strings.Repeat("of the bridge ", 9) + "x" // which the router breaks more than once, also at a blank
	create := connecttest.Act(model.Create, model.Account, "ulla", model.Change{Attribute: model.FullName, After: []string{long}},
		model.Change{Attribute: "level", After: []string{"3"}}, model.Change{Attribute: model.Password, Sealed: "x"})
	create.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte(`-a "word" of '$(hers)'`))}
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{create,
		connecttest.Act(model.Modify, model.Account, "nobody", model.Change{Attribute: "level", Before: []string{"1"},
			After: []string{"2"}}),
		connecttest.Act(model.Modify, model.Account, "service", model.Change{Attribute: "level", Before: []string{"9"},
			After: []string{"12"}})}),
		"done ", "moved account nobody is not there", "failed level 1 to 9")
	if p, words := connect.Prove(ctx, s, "ulla", connect.Seal([]byte(`-a "word" of '$(hers)'`))); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	if p, _ := connect.Prove(ctx, s, "ulla", connect.Seal([]byte("another"))); p != connect.Disproved {
		t.Errorf("%s", p)
	}
	all := connecttest.Surveyed(t, s)
	u := all[model.Named{Kind: model.Account, Name: "ulla"}]
	if u.Attributes.One("level") != "3" || u.Attributes.One(model.FullName) != long {
		t.Errorf("%v", u.Attributes.Map())
	}
	off := all[model.Named{Kind: model.SystemKind, Name: model.Itself}].Attributes.One(model.ClockOff)
	if !strings.HasPrefix(off, "-2838") {
		t.Errorf("its clock is off by %s", off)
	}
	if x := all[model.Named{Kind: model.Account, Name: "service"}]; !x.Attributes.Has(model.FactoryMade) {
		t.Errorf("%v", x.Attributes.Map())
	}
	hers := a
	hers.As, hers.Secret = "ulla", []byte(`-a "word" of '$(hers)'`)
	ulla, err := dialect.Typing(ctx, c, hers)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ulla.Type(ctx, "hands on"); err != nil {
		t.Fatal(err)
	}
	got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Disable, model.Account, "service",
		model.Change{Attribute: model.Disabled,
			Before: []string{"no"}, After: []string{"yes"}})})
	if got[0].Outcome != connect.Failed || got[0].Words != "hands are on by ulla" {
		t.Errorf("somebody else changes it at this moment: %+v", got)
	}
	ulla.Close()
	time.Sleep(50 * time.Millisecond)
	got = connecttest.Apply(s, []connect.Act{
		connecttest.Act(model.Modify, model.Account, "ulla", model.Change{Attribute: "level", Before: []string{"3"}, After: []string{"4"}}),
		connecttest.Act(model.Disable, model.Account, "roost", model.Change{Attribute: model.Disabled, Before: []string{"no"},
			After: []string{"yes"}})})
	for i := range got {
		if got[i].Outcome != connect.Failed || got[i].Words != "after it our own login was let in no more, so it was taken back" {
			t.Errorf("%+v", got[i])
		}
	}
	if l.Is.Users["roost"].Blocked || l.Is.Users["ulla"].Level != 3 {
		t.Errorf("%+v", l.Is.Users)
	}
}

// The connection to the router is cut at every point: what is left of a batch is found, and finished.
func TestRouterCut(t *testing.T) {
	for at := 1; at <= 24; at++ {
		s, l, a := bollard(t)
		c := dialect.Connector{File: file(t, "bridge-router")}
		s.Set(spoken.Trouble{CutAfter: at})
		var got []connect.Answer
		for try := range 3 {
			x, err := c.Open(ctx, a)
			if err != nil {
				continue
			}
			create := connecttest.Act(model.Create, model.Account, "ulla", model.Change{Attribute: model.FullName, After: []string{"Ulla"}},
				model.Change{Attribute: "level", After: []string{"3"}})
			block := connecttest.Act(model.Disable, model.Account, "service", model.Change{Attribute: model.Disabled,
				Before: []string{"no"},
				After:  []string{"yes"}})
			create.Again, block.Again = try > 0, try > 0
			if got = connecttest.Apply(x, []connect.Act{create, block}); got[0].Outcome != connect.Unsure &&
				got[1].Outcome != connect.Unsure {
				x.Close()
				break
			}
			x.Close()
		}
		if u := l.Is.Users["ulla"]; got[1].Outcome != connect.Done || !l.Is.Users["service"].Blocked ||
			got[0].Outcome == connect.Done && (u.Level != 3 || u.Full != "Ulla") { // shut it may be left: the next survey finds that
			t.Errorf("cut at %d: %+v, %+v", at, got, u)
		}
		s.Stop()
	}
}
