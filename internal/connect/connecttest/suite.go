// Package connecttest is the suite that every connector passes against a real
// system: survey, apply, read back, apply again without effect.
package connecttest

import (
	"context"
	"slices"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Subject is a connector and a target to try it on.
type Subject struct {
	Connector connect.Connector
	Access    connect.Access
	Account   string       // a name for an account that is not there yet
	Attribute model.Change // a change of one attribute of that account, before and after
	Number    string
}

// Run puts a connector through the suite.
func Run(t *testing.T, s Subject) {
	t.Helper()
	open := func() connect.Session { return Open(t, s.Connector, s.Access) }
	schema := s.Connector.Schema()
	checkSchema(t, schema)

	group := model.Act{Verb: model.Create, Object: model.GroupKind, Name: "suite-crew", Changes: []model.Change{{Attribute: model.Number, After: []string{"5999"}}}}
	create := model.Act{Verb: model.Create, Object: model.Account, Name: s.Account, User: "suite", Changes: []model.Change{
		{Attribute: model.Number, After: []string{s.Number}}, {Attribute: model.FullName, After: []string{"Suite O'Neil; $(reboot) \"Ünal\""}},
		{Attribute: s.Attribute.Attribute, After: s.Attribute.Before}}}
	join := model.Act{Verb: model.JoinIt, Object: model.Membership, Name: "suite-crew", Member: s.Account, MemberKind: model.Account}
	disable := model.Act{Verb: model.Disable, Object: model.Account, Name: s.Account, Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}
	enable := model.Act{Verb: model.Enable, Object: model.Account, Name: s.Account, Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"yes"}, After: []string{"no"}}}}
	change := model.Act{Verb: model.Modify, Object: model.Account, Name: s.Account, Changes: []model.Change{s.Attribute}}
	leave := join
	leave.Verb = model.LeaveIt

	all := []connect.Act{{Act: group, Stage: 0}, {Act: create, Stage: 1}, {Act: join, Stage: 2}}
	expect(t, "first time", apply(open(), all...), connect.Done, connect.Done, connect.Done)
	o := Find(t, open(), model.Account, s.Account)
	if got := o.Attributes.One(model.FullName); got != "Suite O'Neil; $(reboot) \"Ünal\"" {
		t.Errorf("the full name came back as %q", got)
	}
	if got := o.Attributes.One(model.Disabled); got != "no" {
		t.Errorf("a new account is disabled: %q", got)
	}
	if g := Find(t, open(), model.GroupKind, "suite-crew"); !slices.Contains(g.Attributes.Get(model.Members), s.Account) {
		t.Errorf("the group's list does not show the member: %v", g.Attributes)
	}
	expect(t, "second time", apply(open(), all...), connect.AlreadySo, connect.AlreadySo, connect.AlreadySo)
	again := slices.Clone(all)
	for i := range again {
		again[i].Again = true
	}
	expect(t, "after a lost connection", apply(open(), again...), connect.Done, connect.Done, connect.Done)

	stale := change
	stale.Changes = []model.Change{{Attribute: s.Attribute.Attribute, Before: []string{"/something/else"}, After: s.Attribute.After}}
	expect(t, "changed since the survey", apply(open(), connect.Act{Act: stale, Stage: 1}), connect.Moved)
	expect(t, "change", apply(open(), connect.Act{Act: change, Stage: 1}), connect.Done)
	expect(t, "disable", apply(open(), connect.Act{Act: disable, Stage: 3}), connect.Done)
	expect(t, "disable again", apply(open(), connect.Act{Act: disable, Stage: 3}), connect.AlreadySo)
	expect(t, "enable", apply(open(), connect.Act{Act: enable, Stage: 1}), connect.Done)
	expect(t, "leave", apply(open(), connect.Act{Act: leave, Stage: 2}), connect.Done)
	expect(t, "leave again", apply(open(), connect.Act{Act: leave, Stage: 2}), connect.AlreadySo)

	missing := change
	missing.Name = "suite-nobody"
	expect(t, "not there", apply(open(), connect.Act{Act: missing, Stage: 1}), connect.Moved)
	ghost := join
	ghost.Member = "suite-nobody"
	adopt := model.Act{Verb: model.AdoptIt, Object: model.Account, Name: s.Account, User: "suite", Changes: []model.Change{{Attribute: model.Owner, Before: []string{"nobody"}, After: []string{"suite"}}}}
	expect(t, "one bad item does not stop the others", apply(open(), connect.Act{Act: adopt, Stage: 1}, connect.Act{Act: ghost, Stage: 2}, connect.Act{Act: join, Stage: 2}), connect.Done, connect.Failed, connect.Done)

	wrong := s.Access
	wrong.Key = ""
	if _, err := s.Connector.Open(context.Background(), wrong); !isKeyError(err) {
		t.Errorf("an unknown key was not refused: %v", err)
	}
	changed := s.Access
	changed.Key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGq3kq0n7cPZqkqL0g9jV7kB5dL4W2Vd2m1o1b0T8mYf"
	if _, err := s.Connector.Open(context.Background(), changed); !isKeyError(err) {
		t.Errorf("a changed key was not refused: %v", err)
	}
}

func isKeyError(err error) bool { _, ok := err.(*connect.KeyError); return ok }

// Accept asks the target for its identity key and accepts it.
func Accept(t testing.TB, c connect.Connector, a connect.Access) connect.Access {
	t.Helper()
	var err error
	for range 3 { // on a busy machine a system that has just started may not answer in time
		_, err = c.Open(context.Background(), a)
		if k, ok := err.(*connect.KeyError); ok {
			a.Key = k.Offered
			return a
		}
	}
	t.Fatalf("no unknown key was reported: %v", err)
	return a
}

// Open opens a session that ends with the test.
func Open(t testing.TB, c connect.Connector, a connect.Access) connect.Session {
	t.Helper()
	s, err := c.Open(context.Background(), a)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// Find surveys and returns one object.
func Find(t testing.TB, s connect.Session, kind model.ObjectKind, name string) model.Object {
	t.Helper()
	var out model.Object
	err := s.Survey(context.Background(), func(o model.Object) error {
		if o.Kind == kind && o.Name == name {
			out = o
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if out.Name == "" {
		t.Fatalf("the survey did not see %s %q", kind, name)
	}
	return out
}

func apply(s connect.Session, acts ...connect.Act) []connect.Answer {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	return s.Apply(ctx, acts)
}

func expect(t *testing.T, what string, got []connect.Answer, want ...connect.Outcome) {
	t.Helper()
	for i, w := range want {
		if got[i].Outcome != w {
			t.Errorf("%s: step %d ended %s (%s), want %s", what, i, got[i].Outcome, got[i].Words, w)
		}
	}
}

// checkSchema finds schemas that cannot be right.
func checkSchema(t *testing.T, s model.Schema) {
	t.Helper()
	if _, ok := s.Find(model.Account, model.Disabled); !ok {
		t.Error("the schema does not say how an account is disabled")
	}
	for _, need := range s.Needs {
		if !slices.Contains(s.Settings, need) {
			t.Errorf("setting %q is needed but not known", need)
		}
	}
}
