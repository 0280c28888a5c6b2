package drift_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

var hostSchema = model.Schema{Kind: "host", Kinds: []model.KindSchema{
	{Kind: model.Account, Name: model.OnePart("login", "."), Verbs: []model.Verb{model.Remove},
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"}, {Name: "shell", Settable: true},
			{Name: model.Disabled}}},
	{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
		Verbs:      []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt},
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true}, {Name: model.Administrators, Many: true}}},
	{Kind: model.ElevationKind, Name: model.OnePart("command", "."), Members: []model.ObjectKind{model.Account}, ByJoining: true,
		Given: true,
		Verbs: []model.Verb{model.JoinIt, model.LeaveIt}},
	{Kind: model.HomeKind, Verbs: []model.Verb{model.Remove}}, {Kind: model.SystemKind}}}

const pier = `roost: 1
users:
  odd: {name: Odd, number: 1058, roles: [systems], accounts: {pier: {number: 1500}}}
  ulla: {name: Ulla, number: 1028, roles: [hand]}
groups: {crew: {keepers: [odd]}}
roles:
  hand: {gives: [{at: pier, groups: [crew]}]}
  systems: {includes: [hand], gives: [{at: pier, elevate: [/bin/reboot]}]}
targets:
  pier: {kind: host, address: a, login: {as: root}, homes: {stale: 90d, leave: [kiosk]}, dormant: 90d, removal: {home: archive}, protect: [svc-*]}
`

func findings(t *testing.T, objects ...model.Object) string {
	t.Helper()
	schemas := map[string]model.Schema{"host": hostSchema}
	d, err := declare.Read([]declare.File{{Name: "pier.yaml", Text: pier}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	in := drift.Input{Desired: p.Targets["pier"]}
	for _, o := range objects {
		if o.Kind == model.Account {
			in.Accounts = append(in.Accounts, o)
			in.Links = append(in.Links, model.Link{Target: "pier", User: o.Name, Name: o.Name})
		} else {
			in.Others = append(in.Others, o)
		}
	}
	var out []string
	for _, f := range drift.Compare(in) {
		out = append(out, say(f)+" "+f.Note)
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

func object(kind model.ObjectKind, name string, more ...string) model.Object {
	o := model.Object{Kind: kind, Name: name}
	for i := 0; i < len(more); i += 2 {
		o.Attributes = o.Attributes.With(more[i], strings.Split(more[i+1], ",")...)
	}
	return o
}

// What nobody uses, what is wrong with the clock, what several share, and whom Hen Roost gave something that nobody asks for any more.
func TestUnused(t *testing.T) {
	right := []model.Object{account("odd", "1500", model.LastSignIn, "2026-11-20"), account("ulla", "1028"),
		object(model.GroupKind, "crew", model.Members, "odd,ulla", model.Administrators, "odd"),
		object(model.ElevationKind, "/bin/reboot", model.Members, "odd"),
		object(model.SystemKind, model.Itself, model.ClockOff, "-30"),
		object(model.HomeKind, "/home/odd", model.HeldBy, "odd", model.LastUse, "2026-11-20"),
		object(model.HomeKind, "/home/kiosk", model.LastUse, "2020-01-01"), object(model.HomeKind, "/home/busy", model.LastUse,
			"2020-01-01", model.InUse, "yes"),
		object(model.HomeKind, "/home/svc", model.HeldBy, "svc-backup", model.LastUse, "2020-01-01"), object(model.HomeKind, "/home/odder")}
	if got := findings(t, right...); got != "" {
		t.Errorf("all is as declared, and there is told:\n%s", got)
	}
	shared := account("odd", "1500", model.LastSignIn, "2026-01-31", model.SharedLogin, "the key pier opens ulla too", model.FactoryMade,
		"delivered so")
	shared.Marked = true
	got := findings(t, shared, account("ulla", "1028"),
		object(model.GroupKind, "crew", model.Members, "odd,ulla", model.Administrators, "ulla"),
		object(model.ElevationKind, "/bin/reboot", model.Members, "odd,ulla"), object(model.ElevationKind, "all", model.Members, "ulla"),
		object(model.SystemKind, model.Itself, model.ClockOff, "9000"),
		object(model.HomeKind, "/home/gone", model.Number, "1990", model.LastUse, "2025-01-31"),
		object(model.HomeKind, "/home/odd", model.HeldBy, "odd", model.Number, "1500", model.LastUse, "2026-01-31"))
	for _, want := range []string{"dormant: for a person to decide odd (odd) nobody has signed in with it since 2026-01-31",
		"shared-login: for a person to decide odd (odd) the key pier opens ulla too",

		"different: change group crew: administrators ulla → administrators odd",
		"unexpected: end elevation /bin/reboot: ulla (ulla)", "unexpected: end elevation all: ulla (ulla)",
		"clock-off: for a person to decide itself its clock is 3 hours ahead",
		"stale-home: remove home /home/gone: used last on 2025-01-31 → archived", "nobody has its number any more",
		"stale-home: remove home /home/odd: used last on 2026-01-31 → archived (odd)"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not told in\n%s", want, got)
		}
	}
	if n := strings.Count(got, "\n") + 1; n != 8 { // that it was delivered so is no news: somebody has it
		t.Errorf("%d findings:\n%s", n, got)
	}
}

func TestTwins(t *testing.T) {
	one := []model.Object{account("odd", "1500", model.LastSignIn, "2026-11-20"), account("ulla", "1028"), object(model.GroupKind, "crew",
		model.Members, "odd,ulla"),
		object(model.SystemKind, model.Itself, model.ClockOff, "3", model.System, "Debian 12"), object(model.HomeKind, "/home/x")}
	other := []model.Object{account("odd", "1501"), object(model.GroupKind, "crew", model.Members, "odd"), object(model.GroupKind, "deck"),
		object(model.SystemKind, model.Itself, model.ClockOff, "9", model.System, "Debian 11")}
	var got []string
	for _, c := range drift.Twins(one, other) {
		got = append(got, c.Kind.String()+" "+c.Name+" "+c.Attribute+": "+strings.Join(c.One, ",")+" | "+strings.Join(c.Other, ","))
	}
	if want := []string{"account odd number: 1500 | 1501", "account ulla : there | ", "group crew members: ulla | ",
		"group deck :  | there",
		"target itself system: Debian 12 | Debian 11"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if n := len(drift.Twins(one, one)); n != 0 {
		t.Errorf("a target differs from itself in %d things", n)
	}
}

func TestOddAmong(t *testing.T) {
	like := func(name, system string, superusers string, accounts ...string) drift.Like {
		return drift.Like{Target: name, Details: map[string]string{model.System: system}, Accounts: accounts,
			Superusers: strings.Fields(superusers)}
	}
	list := []drift.Like{like("a", "12", "odd", "odd", "ulla"), like("b", "12", "odd", "odd", "ulla"), like("c", "11", "odd ulla", "odd",
		"ulla", "guest"),
		like("d", "12", "", "odd")}
	got := drift.OddAmong(list, model.System)
	if len(got) != 2 || !slices.Equal(got["c"], []string{"system is 11, and 12 on most of the others",
		"only here can become superuser: ulla",
		"only here there is an account guest"}) || !slices.Equal(got["d"], []string{"all others have an account ulla"}) {
		t.Errorf("%q", got)
	}
	if got := drift.OddAmong(list[:2], model.System); len(got) != 0 {
		t.Errorf("of two one is odd: %q", got)
	}
}
