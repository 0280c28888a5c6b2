package access_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

var schemas = map[string]model.Schema{
	"host": {Kind: "host", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "."),
			Attributes: []model.AttributeSchema{{Name: model.Number, From: "number"}, {Name: "shell", Settable: true}, {Name: "home"}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.ElevationKind, Name: model.OnePart("command", "."), ByJoining: true, Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.JoinIt, model.LeaveIt}}}},
	"application": {Kind: "application", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "."),
			Attributes: []model.AttributeSchema{}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.RightKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
		{Kind: model.LicenceKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.JoinIt, model.LeaveIt}}}},
}

func one(list []resolve.Account) (a resolve.Account, ok bool) {
	if len(list) == 1 {
		return list[0], true
	}
	return a, false
}

const company = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, details: {base: northquay}, roles: [deck-crew, {role: bosun, until: 2026-10-31, because: covering}, {role: mate, from: 2026-12-01}]}
  olga: {name: Olga, roles: [senior], accounts: {arctic: none}}
  per: {name: Per, from: 2026-12-01, roles: [deck-crew]}
  late: {name: Late, until: 2026-10-01, roles: [deck-crew]}
groups: {crew: {}, deck: {in: [crew]}, stores: {}, bridge: {}}
roles:
  deck-crew: {gives: [{at: {kind: host}, account: {shell: /bin/bash}, groups: [deck]}]}
  bosun: {gives: [{at: {kind: host}, groups: [stores], elevate: [/usr/sbin/reboot]}]}
  mate: {gives: [{at: {kind: host}, groups: [bridge]}]}
  clerk: {held-when: "has(user.details.base)", gives: [{at: ticketing, rights: [counter], licences: [seat], groups: [deck]}]}
  senior: {includes: [deck-crew]}
rights: {counter: {at: ticketing, allows: [sell]}}
targets:
  arctic: {kind: host, address: a, login: {as: root}}
  sooty: {kind: host, address: b, login: {as: root}}
  ticketing: {kind: application, address: c, login: {as: x}}
`

func plan(t *testing.T, text string) *resolve.Plan {
	t.Helper()
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func account(attributes ...string) *model.Object {
	o := &model.Object{Kind: model.Account, Name: "marit"}
	for i := 0; i < len(attributes); i += 2 {
		o.Attributes = o.Attributes.With(attributes[i], attributes[i+1])
	}
	return o
}

func TestItems(t *testing.T) {
	p := plan(t, company)
	for target, want := range map[string]string{"arctic": "an account, group crew, group deck",
		"ticketing": "an account, group deck, right counter, licence seat"} {
		a, ok := one(p.Accounts("marit", target))
		if !ok {
			t.Fatal(target)
		}
		var got []string
		for _, i := range access.Of(a) {
			got = append(got, i.String())
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %s, want %s", target, strings.Join(got, ", "), want)
		}
	}
	held := access.Held(account(), []model.Named{{Kind: model.GroupKind, Name: "wheel"}, {Kind: model.ElevationKind, Name: "all"}})
	if got := fmt.Sprint(held); got != "[an account group wheel all superuser rights]" {
		t.Error(got)
	}
	if access.Held(nil, nil) != nil {
		t.Error("nobody has something")
	}
	for name, want := range map[string]int{"account": 1, "deck": 1, "stores": 1, "/usr/sbin/reboot": 1, "wheel": 1, "nonsense": 0, "": 0} {
		if got := access.Find(p.Targets["arctic"], held, name); len(got) != want {
			t.Errorf("%q: %v", name, got)
		}
	}
}

// Why somebody has a thing, lacks it, or has it otherwise than through the declaration.
func TestExplain(t *testing.T) {
	p := plan(t, company)
	so := access.Seen{Surveyed: true, Adopted: true, Account: account(model.Number, "1001", "shell", "/bin/bash", "home", "/home/marit"),
		Sets: []model.Named{{Kind: model.GroupKind, Name: "deck"}, {Kind: model.GroupKind, Name: "wheel"}}}
	off := access.Seen{Surveyed: true, Adopted: true, Account: account(model.Number, "7", "shell", "/bin/sh", model.ChangedBy,
		"cn=somebody")}
	for _, c := range []struct {
		name, user, target, what string
		seen                     access.Seen
		want                     string
	}{
		{"held by name", "marit", "arctic", "deck", so,
			"group deck as declared: role deck-crew gives it@9; marit is given role deck-crew@3"},
		{"through the group around it", "marit", "arctic", "crew", so,
			"group crew missing: role deck-crew gives it@9; marit is given role deck-crew@3"},
		{"not through the declaration", "marit", "arctic", "wheel", so,
			"group wheel not declared: it is there, but not through the declaration@0; no role gives group wheel on arctic@0"},
		{"a role that is over", "marit", "arctic", "stores", so,
			"group stores neither declared nor there: role bosun would give it@10; marit was given it until 2026-10-31@3; marit holds " +
				"clerk, deck-crew@0"},
		{"a role to come", "marit", "arctic", "bridge", so,
			"group bridge neither declared nor there: role mate would give it@11; marit is given it from 2026-12-01@3; " +
				"marit holds clerk, deck-crew@0"},
		{"held by condition", "marit", "ticketing", "counter", access.Seen{Surveyed: true},
			"right counter missing: role clerk gives it@12; marit holds role clerk because has(user.details.base)@12"},
		{"through another role", "olga", "sooty", "account", access.Seen{Surveyed: true},
			"an account missing: role deck-crew gives it@9; olga is given role senior, which includes deck-crew@4"},
		{"never", "olga", "arctic", "account", access.Seen{Surveyed: true},
			"an account neither declared nor there: olga is never to have an account on arctic@4; role bosun would give it@10; role " +
				"deck-crew would give it@9; role mate would give it@11; olga holds deck-crew, senior@0"},
		{"not yet", "per", "arctic", "deck", access.Seen{},
			"group deck not surveyed: per starts on 2026-12-01@5; role deck-crew would give it@9; per holds no role@0"},
		{"no longer", "late", "arctic", "deck", access.Seen{Surveyed: true},
			"group deck neither declared nor there: the last day of late was 2026-10-01@6; role deck-crew would give it@9; late holds no " +
				"role@0"},
		{"a value that is so", "marit", "arctic", "shell", so, "shell as declared: role deck-crew asks for it@9"},
		{"a value that differs", "marit", "arctic", "shell", off,
			"shell different: role deck-crew asks for it@9; changed last by cn=somebody@0"},
		{"a value of one's own", "marit", "arctic", "number", off,
			"number different: it stands with marit@3; changed last by cn=somebody@0"},
		{"a value nobody declared", "marit", "arctic", "home", so, "home left as found: nothing declares it, so it is left as found@0"},
		{"a value of no account", "marit", "arctic", "shell", access.Seen{Surveyed: true}, "shell missing: role deck-crew asks for it@9"},
		{"there, and nobody's yet", "marit", "arctic", "account",
			access.Seen{Surveyed: true, Account: so.Account, Note: "different: adopt account"},
			"an account found: role deck-crew gives it@9; marit is given role deck-crew@3; it is there, and nobody has adopted it yet: a " +
				"round does, see roost draft@0; different: adopt account@0"},
		{"what a finding says", "marit", "arctic", "account",
			access.Seen{Surveyed: true, Note: "unmatched: two accounts could be theirs"},
			"an account missing: role deck-crew gives it@9; marit is given role deck-crew@3; unmatched: two accounts could be theirs@0"},
	} {
		t.Run(c.name, func(t *testing.T) {
			person, _ := p.Person(c.user)
			answers, err := access.Explain(p.Targets[c.target], person, c.seen, c.what)
			if err != nil || len(answers) != 1 {
				t.Fatalf("%+v %v", answers, err)
			}
			var why []string
			for _, w := range answers[0].Why {
				why = append(why, fmt.Sprintf("%s@%d", w.Words, w.At.Line))
			}
			if got := answers[0].What + " " + answers[0].State + ": " + strings.Join(why, "; "); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
	marit, _ := p.Person("marit")
	if _, err := access.Explain(p.Targets["arctic"], marit, so, "nonsense"); err == nil ||
		!strings.Contains(err.Error(), `on arctic nothing is called "nonsense"`) {
		t.Error(err)
	}
	all, err := access.Explain(p.Targets["arctic"], marit, so, "")
	var whats []string
	for _, a := range all {
		whats = append(whats, a.What)
	}
	if want := []string{"an account", "group crew", "group deck", "group wheel", "number", "shell", "home"}; err != nil ||
		!slices.Equal(whats, want) {
		t.Errorf("%q (%v), want %q", whats, err, want)
	}
	if none, err := access.Explain(p.Targets["arctic"], mustPerson(t, p, "per"), access.Seen{Surveyed: true}, ""); err != nil ||
		len(none) != 1 || none[0].What != "an account" {
		t.Errorf("%+v %v", none, err)
	}
}

func mustPerson(t *testing.T, p *resolve.Plan, id string) *resolve.Person {
	t.Helper()
	x, ok := p.Person(id)
	if !ok {
		t.Fatal(id)
	}
	return x
}

// What a new declaration means, in people and access.
func TestMeaning(t *testing.T) {
	before := plan(t, company)
	for _, c := range []struct{ name, from, to, want string }{
		{"nothing", "Marit Fell", "Marit F.", ""},
		{"a role more", "roles: [senior]", "roles: [senior, mate]", "olga gains group bridge on sooty"},
		{"a role less", "roles: [senior]", "roles: []", "olga loses an account, groups crew, deck on sooty"},
		{"an account after all", ", accounts: {arctic: none}", "", "olga gains an account, groups crew, deck on arctic"},
		{"somebody new", "  per: {", "  nina: {name: Nina, roles: [deck-crew]}\n  per: {",
			"nina is new; gains an account, groups crew, deck on arctic, sooty"},
		{"somebody to come", "  per: {", "  nina: {name: Nina, from: 2027-01-01}\n  per: {", "nina is new, and starts on 2027-01-01"},
		{"somebody gone", "  olga: {name: Olga, roles: [senior], accounts: {arctic: none}}\n", "",
			"olga is gone; loses an account, groups crew, deck on sooty"},
		{"a role that gives more", "deck-crew: {gives: [{at: {kind: host}",
			"deck-crew: {gives: [{at: ticketing, licences: [seat]}, {at: {kind: host}", "olga gains an account, licence seat on ticketing"},
		{"a right beside", "rights: [counter], ", "", "marit loses right counter on ticketing"},
		{"superuser rights", "account: {shell: /bin/bash}, groups: [deck]", "account: {shell: /bin/bash}, elevate: all, groups: [deck]",
			"marit gains all superuser rights on arctic, sooty\nolga gains all superuser rights on sooty"},
		{"another shell for all of a role", "shell: /bin/bash", "shell: /bin/sh",
			"marit shell /bin/bash → /bin/sh on arctic, sooty\nolga shell /bin/bash → /bin/sh on sooty"},
		{"another number", "number: 1001", "number: 4711", "marit number 1001 → 4711 on arctic, sooty"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(company, c.from, c.to, 1)
			if text == company {
				t.Fatal("nothing was replaced")
			}
			var got []string
			for _, m := range access.Meaning(before, plan(t, text)) {
				got = append(got, m.User+" "+m.Say())
			}
			if strings.Join(got, "\n") != c.want {
				t.Errorf("got  %s\nwant %s", strings.Join(got, "\n"), c.want)
			}
			back := access.Meaning(plan(t, text), before)
			if len(back) != len(got) {
				t.Errorf("the way back changes %d people, and the way there %d", len(back), len(got))
			}
		})
	}
	if all := access.Meaning(nil, before); len(all) != 4 || all[0].User != "late" || !strings.HasPrefix(all[1].Say(), "is new; gains ") {
		t.Errorf("%+v", all)
	}
	many := strings.Replace(company, "  ticketing: {kind",
		"  t1: {kind: host, address: d, login: {as: x}}\n  t2: {kind: host, address: e, login: {as: x}}\n  ticketing: {kind", 1)
	if all := access.Meaning(nil, plan(t, many)); !strings.Contains(all[1].Say(), "on 4 targets") {
		t.Error(all[1].Say())
	}
}

// A permission that an action takes is had through what is held, is to come with what is declared, or is lacked with what would give
// it; of many that would some are told.
func TestNeedOf(t *testing.T) {
	p := plan(t, company)
	deck, crew, bridge := access.Item{Kind: model.GroupKind, Name: "deck"}, access.Item{Kind: model.GroupKind, Name: "crew"},
		access.Item{Kind: model.GroupKind, Name: "bridge"}
	var many []access.Item
	for i := range 30 {
		many = append(many, access.Item{Kind: model.GroupKind, Name: fmt.Sprint("watch", i)})
	}
	so := access.Seen{Surveyed: true, Account: account(), Sets: []model.Named{{Kind: model.GroupKind, Name: "deck"}}}
	for _, c := range []struct {
		name   string
		seen   access.Seen
		givers []access.Item
		want   string
	}{
		{"held", so, []access.Item{bridge, deck}, "has: group deck as declared"},
		{"held, and one to come", so, []access.Item{bridge, crew, deck}, "has: group deck as declared, group crew missing"},
		{"to come", so, []access.Item{bridge, crew}, "is to have: group crew missing, group bridge neither declared nor there"},
		{"lacked", so, []access.Item{bridge}, "lacks: group bridge neither declared nor there"},
		{"the account itself", so, []access.Item{{Kind: model.Account}}, "has: an account found"},
		{"nothing gives it", so, nil, "lacks:"},
		{"not surveyed", access.Seen{}, []access.Item{crew}, "not surveyed: group crew not surveyed"},
	} {
		u, _ := p.Person("marit")
		n := access.NeedOf(p.Targets["arctic"], u, c.seen, "sail", c.givers)
		got := n.State + ":"
		for i, a := range n.Gives {
			got += map[bool]string{true: " ", false: ", "}[i == 0] + a.What + " " + a.State
		}
		if got != c.want || n.Permission != "sail" {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	u, _ := p.Person("marit")
	if n := access.NeedOf(p.Targets["arctic"], u, so, "sail", many); len(n.Gives) != access.GivesMost || n.More != 10 {
		t.Errorf("%d told, %d more", len(n.Gives), n.More)
	}
	if got := access.Holding(p.Targets["ticketing"]); len(got) != 1 || got[0].Name != "counter" {
		t.Errorf("%v", got)
	}
}
