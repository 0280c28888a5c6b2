package scim_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/scim"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
	"hen-roost/internal/standin"
)

func account(i int) string { return fmt.Sprintf("crew.%03d", i) }

func groups() []connect.Act {
	return []connect.Act{connecttest.Act(model.Create, model.GroupKind, "deck"), connecttest.Act(model.Create, model.GroupKind, "stores")}
}

// Each switch of the application's, on servers that take many in one request and on those that do not: what is told is
// what is so, and once more does what is left.
func TestTrouble(t *testing.T) {
	for name, trouble := range map[string]standin.Trouble{
		"busy": {Busy: 3}, "broken": {Broken: 2}, "slow": {Slow: 5 * time.Millisecond}, "cut": {Cut: 1}, "lies": {Lie: 4},
		"half a bulk": {HalfBulk: 7},
	} {
		for _, bulk := range []bool{true, false} {
			t.Run(fmt.Sprint(name, " in bulk ", bulk), func(t *testing.T) {
				t.Parallel()
				app, a := start(t, standin.Choices{NoBulk: !bulk}, nil)
				s := connecttest.Open(t, scim.Connector{}, a)
				connecttest.Outcomes(t, connecttest.Apply(s, groups()), "done ", "done ")
				app.Set(trouble)
				acts := connecttest.Crew(40, account)
				first := connecttest.Apply(s, acts)
				app.Set(standin.Trouble{})
				connecttest.Agree(t, acts, first, connecttest.Surveyed(t, s))
				for i := range acts {
					acts[i].Again = true
				}
				second := connecttest.Apply(s, acts)
				if n := connecttest.Tally(second); n[connect.Done] != len(acts) {
					t.Errorf("at first %v, once more %v", connecttest.Tally(first), n)
				}
			})
		}
	}
}

// What somebody else wrote between our reading and our writing is not overwritten.
func TestVersions(t *testing.T) {
	for _, c := range []standin.Choices{{}, {NoBulk: true}, {NoBulk: true, NoPatch: true}} {
		app, a := start(t, c, nil)
		app.Put("Users", protocol.Resource{"userName": "ulla", "active": true, "title": "Mate"})
		s := connecttest.Open(t, scim.Connector{}, a)
		app.Set(standin.Trouble{Behind: 1})
		got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, "ulla",
			model.Change{Attribute: "title", Before: []string{"Mate"}, After: []string{"Bosun"}})})
		if got[0].Outcome != connect.Moved || !strings.Contains(got[0].Words, "412") {
			t.Errorf("%+v: %s %s", c, got[0].Outcome, got[0].Words)
		}
	}
}

// Ids that changed, with a copy that was restored, are learnt anew.
func TestRestored(t *testing.T) {
	for _, c := range []standin.Choices{{}, {NoFilter: true, NoBulk: true, NoPatch: true, Page: 7}} {
		app, a := start(t, c, nil)
		s := connecttest.Open(t, scim.Connector{}, a)
		connecttest.Apply(s, groups())
		if n := connecttest.Tally(connecttest.Apply(s, connecttest.Crew(2, account))); n[connect.Done] != 6 {
			t.Fatal(n)
		}
		before := connecttest.Find(t, s, model.Account, account(1)).Unique
		app.Restore()
		if after := connecttest.Find(t, s, model.Account, account(1)).Unique; after == before {
			t.Error("the id is the same")
		}
		connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, account(1),
			model.Change{Attribute: "title", After: []string{"Mate"}}), connecttest.Move(model.LeaveIt, model.GroupKind, "deck",
			account(1))}),
			"done ", "done ")
	}
}

// Pages that skip while somebody else writes lose nobody who is there, and tell nobody who is gone.
func TestShiftingPages(t *testing.T) {
	for _, c := range []standin.Choices{{Page: 50}, {Page: 7}, {Page: 50, Cursors: true}} {
		app, a := start(t, c, nil)
		for i := range 300 {
			app.Put("Users", protocol.Resource{"userName": account(i), "active": true})
		}
		app.Set(standin.Trouble{Shifting: 3})
		all := connecttest.Surveyed(t, connecttest.Open(t, scim.Connector{}, a))
		left := map[string]bool{}
		for _, r := range app.Resources("Users") {
			left[r.Text("userName")] = true
		}
		seen := 0
		for n := range all {
			if n.Kind == model.Account {
				if seen++; !left[n.Name] && !c.Cursors {
					t.Errorf("%s is told, and gone", n.Name)
				}
			}
		}
		if len(left) != 297 || seen < len(left) {
			t.Errorf("%+v: %d there, %d seen", c, len(left), seen)
		}
	}
}

// What one server tells of people that no other would.
func TestOddities(t *testing.T) {
	app, a := start(t, standin.Choices{}, map[string]string{"administrator-roles": "admin, owner"})
	app.Put("Users", protocol.Resource{"userName": "big", "displayName": strings.Repeat("x", 10<<20), "active": true})
	app.Put("Users", protocol.Resource{"userName": "odd", "displayName": []any{3.0}, "active": "maybe"})
	app.Put("Users", protocol.Resource{"userName": "tab\there\x1b[31m", "active": true})
	app.Put("Users", protocol.Resource{"displayName": "Nameless", "active": true})
	boss := app.Put("Users", protocol.Resource{"userName": "boss", "active": false, "roles": []any{map[string]any{"value": "Admin"},
		"agent"},
		"emails": []any{map[string]any{"value": "b@x.example", "type": "home"}, map[string]any{"value": "a@x.example",
			"primary": true}},
		"phoneNumbers": []any{map[string]any{"value": "+47 1", "type": "Mobile phone"}},
		"entitlements": []any{map[string]any{"value": "back-office"}}, standin.Extension: map[string]any{"desk": "quay", "level": 3.0}})
	app.Put("Users", protocol.Resource{"userName": "led", "active": true,
		protocol.EnterpriseSchema: map[string]any{"manager": map[string]any{"value": boss}, "department": "Deck"}})
	app.SignedIn("boss", time.Date(2031, 2, 3, 4, 5, 6, 0, time.UTC))
	app.Put("Groups", protocol.Resource{"displayName": "deck", "members": []any{map[string]any{"value": boss}}})
	app.Put("Groups", protocol.Resource{"displayName": "Deck"})
	s := connecttest.Open(t, scim.Connector{}, a)
	all := connecttest.Surveyed(t, s)
	for _, c := range []struct{ account, attribute, want string }{
		{"boss", model.Mail, "a@x.example"}, {"boss", "more-mails", "home b@x.example"}, {"boss", "telephones", "mobile-phone +47 1"},
		{"boss", model.Disabled, "yes"}, {"boss", model.Elevation, "right Admin"}, {"boss", model.LastSignIn, "2031-02-03"},
		{"boss", "extensions", standin.Extension + ":desk=quay;" + standin.Extension + ":level=3"}, {"led", "manager", "boss"},
		{"led", "department", "Deck"}, {"odd", model.Odd, "not what the standard says"},
	} {
		o := all[model.Named{Kind: model.Account, Name: c.account}]
		if got := strings.Join(o.Attributes.Get(c.attribute), ";"); !strings.Contains(got, c.want) || got == "" {
			t.Errorf("%s of %s is %q, want %q", c.attribute, c.account, got, c.want)
		}
	}
	if o := all[model.Named{Kind: model.Account, Name: "big"}]; len(o.Attributes.One(model.FullName)) > 5000 {
		t.Errorf("a value of %d bytes is kept", len(o.Attributes.One(model.FullName)))
	}
	odd := 0
	for n, o := range all {
		if o.Attributes.Has(model.Odd) {
			odd++
		}
		if strings.ContainsRune(n.Name, '\x1b') {
			t.Errorf("%q", n.Name)
		}
	}
	if odd != 5 { // odd, tab, nameless, and two groups of one name
		t.Errorf("%d are odd", odd)
	}
	if l := all[model.Named{Kind: model.LicenceKind, Name: "back-office"}].Attributes; l.One(model.Seats) != "40" ||
		!slices.Equal(l.Get(model.Members), []string{"boss"}) {
		t.Errorf("%v", l.Map())
	}
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{connecttest.Move(model.JoinIt, model.GroupKind, "deck", "led"),
		connecttest.Act(model.Modify, model.Account, "boss", model.Change{Attribute: model.Mail, Before: []string{"a@x.example"},
			After: []string{"c@x.example"}}, model.Change{Attribute: "more-mails", Before: []string{"home b@x.example"},
			After: []string{"work d@x.example", "home b@x.example"}}, model.Change{Attribute: "manager", After: []string{"led"}},
			model.Change{Attribute: "extensions", Before: []string{standin.Extension + ":desk=quay", standin.Extension + ":level=3"},
				After: []string{standin.Extension + ":desk=sea"}})}), "moved group deck is not there", "done ")
}

// A token that is asked for with a secret, and asked for anew when it has run out; one that is refused is told so.
func TestSigningIn(t *testing.T) {
	_, a := start(t, standin.Choices{Client: "hen roost", Secret: "s3cret%&"}, map[string]string{"sign-in": "client", "token-at": "/token"})
	a.As, a.Secret = "hen roost", []byte("s3cret%&")
	s := connecttest.Open(t, scim.Connector{}, a)
	connecttest.Outcomes(t, connecttest.Apply(s, groups()), "done ", "done ")
	a.Secret = []byte("wrong")
	var refused *connect.Refused
	if _, err := (scim.Connector{}).Open(context.Background(), a); !errors.As(err, &refused) {
		t.Errorf("a wrong secret: %v", err)
	}
	_, b := start(t, standin.Choices{}, nil)
	b.Secret = []byte("another")
	if _, err := (scim.Connector{}).Open(context.Background(), b); !errors.As(err, &refused) {
		t.Errorf("a wrong token: %v", err)
	}
	for setting, value := range map[string]string{"sign-in": "magic", "at-once": "0", "licences-at": "Boats"} {
		_, c := start(t, standin.Choices{}, nil)
		c.Settings[setting] = value
		if _, err := (scim.Connector{}).Open(context.Background(), c); err == nil || !strings.Contains(err.Error(), value) {
			t.Errorf("%s: %v", setting, err)
		}
	}
}
