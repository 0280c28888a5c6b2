package resolve_test

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

var schemas = map[string]model.Schema{
	"host": {Kind: "host", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", `^[a-z_][a-z0-9_.-]{0,31}$`),
			Attributes: []model.AttributeSchema{
				{Name: model.Number, Settable: true, From: "number"}, {Name: model.FullName, Settable: true, From: "name"},
				{Name: "shell", Settable: true}, {Name: "keys", Many: true, From: "keys"}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `^[a-z-]+$`), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}},
	"directory": {Kind: "directory", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", `.`),
			Attributes: []model.AttributeSchema{
				{Name: model.Mail, Settable: true, From: "mail"}, {Name: "surname", Settable: true, From: "family"},
				{Name: "home", Settable: true}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `.`), Members: []model.ObjectKind{model.Account, model.GroupKind},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}},
}

func one(list []resolve.Account) (a resolve.Account, ok bool) {
	if len(list) == 1 {
		return list[0], true
	}
	return a, false
}

const company = `roost: 1
params: {domain: ternsound.example, port: "22"}
users:
  marit.fell: {name: "${user.given} ${user.family}", given: Marit, family: Fell, number: 1001, mail: "${user.id}@${params.domain}", roles: [bosun], details: {base: northquay}, keys: [" ssh-ed25519 AAAAx x "]}
  olga: {name: Olga, number: 1002, roles: [deck], accounts: {sooty-tern: none, arctic-tern: {name: op}}}
  robot: {name: Robot, service: true, number: 1003, roles: [deck], keys: []}
groups:
  all: {number: 5100}
  crew: {number: 5110, in: [all]}
  deck: {number: 5111, in: [crew]}
  stores: {in: [deck], members: at-least}
roles:
  everyone: {held-when: "!user.service", gives: [{at: staff, account: {home: "/home/${user.id}"}}]}
  local: {held-when: "has(user.details.base) && user.details.base == 'northquay'", gives: [{at: staff, groups: [all]}]}
  deck: {gives: [{at: {kind: host, tags: {fleet: vessels}}, account: {shell: "/bin/${target.tags.shell}"}, groups: [deck]}, {at: staff, groups: [deck]}]}
  bosun: {includes: [deck], gives: [{at: {kind: host}, groups: [stores]}]}
targets:
  arctic-tern: {kind: host, address: "127.0.2.1:${params.port}", login: {as: root}, tags: {fleet: vessels, shell: bash}}
  sooty-tern: {kind: host, address: "127.0.2.2:${params.port}", login: {as: "admin-${target.name}"}, tags: {fleet: vessels, shell: sh}}
  northquay: {kind: host, address: x, login: {as: root}, tags: {fleet: harbours}}
  staff: {kind: directory, address: x, login: {as: root}}
`

func plan(t *testing.T, text string) (*resolve.Plan, error) {
	t.Helper()
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	return resolve.Resolve(d, schemas, day, nil)
}

func must(t *testing.T) *resolve.Plan {
	t.Helper()
	p, err := plan(t, company)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// sketch puts what a target should hold into lines.
func sketch(d *resolve.Desired) string {
	var b strings.Builder
	members := map[string][]string{}
	for a := range d.Accounts() {
		fmt.Fprintf(&b, "%s of %s:", a.Name, a.ID)
		for _, j := range a.Sets() {
			members[j.Set.Name] = append(members[j.Set.Name], a.ID)
		}
		for _, w := range a.Want() {
			fmt.Fprintf(&b, " %s=%s", w.Name, strings.Join(w.Values, "+"))
		}
		b.WriteString("\n")
	}
	for _, g := range d.Sets {
		fmt.Fprintf(&b, "%s %d %v %v %v\n", g.Name, g.Number, g.AtLeast, slices.Sorted(slices.Values(members[g.Name])),
			slices.Sorted(maps.Keys(g.Groups)))
	}
	return b.String()
}

func TestTargets(t *testing.T) {
	p := must(t)
	for target, want := range map[string]string{
		"arctic-tern": `marit.fell of marit.fell: disabled=no full-name=Marit Fell keys=ssh-ed25519 AAAAx x number=1001 shell=/bin/bash
op of olga: disabled=no full-name=Olga number=1002 shell=/bin/bash
robot of robot: disabled=no full-name=Robot keys= number=1003 shell=/bin/bash
all 5100 false [marit.fell olga robot] []
crew 5110 false [marit.fell olga robot] []
deck 5111 false [marit.fell olga robot] []
stores 0 true [marit.fell] []
`,
		"sooty-tern": `marit.fell of marit.fell: disabled=no full-name=Marit Fell keys=ssh-ed25519 AAAAx x number=1001 shell=/bin/sh
robot of robot: disabled=no full-name=Robot keys= number=1003 shell=/bin/sh
all 5100 false [marit.fell robot] []
crew 5110 false [marit.fell robot] []
deck 5111 false [marit.fell robot] []
stores 0 true [marit.fell] []
`,
		"northquay": `marit.fell of marit.fell: disabled=no full-name=Marit Fell keys=ssh-ed25519 AAAAx x number=1001
all 5100 false [marit.fell] []
crew 5110 false [marit.fell] []
deck 5111 false [marit.fell] []
stores 0 true [marit.fell] []
`,
		"staff": `marit.fell of marit.fell: disabled=no home=/home/marit.fell mail=marit.fell@ternsound.example surname=Fell
olga of olga: disabled=no home=/home/olga
robot of robot: disabled=no
all 5100 false [marit.fell] [crew]
crew 5110 false [] [deck]
deck 5111 false [marit.fell olga robot] []
`,
	} {
		if got := sketch(p.Targets[target]); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", target, got, want)
		}
	}
	if d := p.Targets["sooty-tern"]; d.Address != "127.0.2.2:22" || d.Login != "admin-sooty-tern" {
		t.Errorf("%s %s", d.Address, d.Login)
	}
}

func rolesOf(t *testing.T, p *resolve.Plan, user string) string {
	t.Helper()
	x, ok := p.Person(user)
	if !ok {
		t.Fatalf("no %s", user)
	}
	return strings.Join(x.Roles(), " ")
}

func TestRolesHeld(t *testing.T) {
	p := must(t)
	for user, want := range map[string]string{"marit.fell": "bosun deck everyone local", "olga": "deck everyone", "robot": "deck"} {
		if got := rolesOf(t, p, user); got != want {
			t.Errorf("%s holds %s, want %s", user, got, want)
		}
	}
	if n := len(p.AccountsOf("marit.fell")); n != 4 {
		t.Errorf("an account is asked for on %d targets", n)
	}
}

// For every desired value we can say which line of which file asks for it, through which role.
func TestLineage(t *testing.T) {
	p := must(t)
	a, ok := one(p.Accounts("marit.fell", "arctic-tern"))
	if !ok {
		t.Fatal("no account")
	}
	got := map[string]string{}
	for _, w := range a.Want() {
		got[w.Name] = fmt.Sprintf("%s line %d", w.Why.Role, p.Why(w.Why).At.Line)
	}
	for name, want := range map[string]string{"number": "bosun line 4", "shell": "deck line 15"} {
		if got[name] != want {
			t.Errorf("%s: %s, want %s", name, got[name], want)
		}
	}
	for _, j := range a.Sets() {
		if p.Why(j.Why).At.File != "c.yaml" || j.Why.Role == "" {
			t.Errorf("membership in %s has no lineage: %+v", j.Set.Name, j.Why)
		}
	}
}

// Whom an account could be is told by name, number, mail and full name, as each goes by on the target.
func TestKnown(t *testing.T) {
	p := must(t)
	for _, c := range []struct{ target, rule, value, want string }{
		{"arctic-tern", "name", "op", "olga by hand"}, {"arctic-tern", "name", "olga", ""}, {"northquay", "name", "olga", "olga"},
		{"sooty-tern", "name", "olga", ""},
		{"sooty-tern", "number", "1002", ""}, {"northquay", "number", "1002", "olga"}, {"northquay", "number", "", ""},
		{"staff", "mail", "Marit.Fell@ternsound.example", "marit.fell"},
		{"staff", "full-name", "marit fell", "marit.fell"}, {"staff", "nonsense", "x", ""},
	} {
		d := p.Targets[c.target]
		people, given := d.Known(c.rule, c.value), false
		if c.rule == "name" {
			people, given = d.Named(c.value)
		}
		got := ""
		for _, x := range people {
			got += x.ID
		}
		if given {
			got += " by hand"
		}
		if got != c.want {
			t.Errorf("%s %s %q: %q, want %q", c.target, c.rule, c.value, got, c.want)
		}
	}
}

const season = `roost: 1
params: {shell: /bin/bash}
users:
  early: {name: Early, from: 2026-11-24, roles: [deck]}
  first: {name: First, from: 2026-11-23, until: 2026-11-23, roles: [deck]}
  late: {name: Late, until: 2026-11-22, roles: [deck]}
  cover: {name: Cover, roles: [deck, {role: bosun, from: 2026-11-01, until: 2026-11-30, because: covering}, {role: mate, from: 2026-12-01}]}
  both: {name: Both, details: {audits: "yes"}, roles: [deck]}
roles:
  deck: {gives: [{at: ticketing, account: {shell: "${params.shell}"}, rights: [counter], licences: [seat]}]}
  bosun: {gives: [{at: ticketing, rights: [cashier], elevate: [/usr/sbin/reboot]}, {at: ticketing, elevate: [/bin/ls]}]}
  mate: {gives: [{at: ticketing, elevate: all}]}
  auditor: {held-when: "has(user.details.audits)", never-with: [deck]}
rights:
  counter: {at: ticketing, allows: [sell, refund, sell]}
  cashier: {at: {kind: application}, allows: [count]}
containers:
  people: {at: ticketing, path: "ou=People,o=${target.name}", protected: true}
policies:
  staff: {at: [ticketing], for: {groups: [crew]}, password: {length: 12, complex: on, max-age: never, min-age: 1d}, lockout: {after: 8, within: 15m}, words: [ferry, tern]}
groups: {crew: {}}
targets:
  ticketing: {kind: application, address: a, login: {as: x}}
`

var application = map[string]model.Schema{"application": {Kind: "application", Kinds: []model.KindSchema{
	{Kind: model.Account, Name: model.OnePart("login", `.`),
		Attributes: []model.AttributeSchema{{Name: "shell", Settable: true}}},
	{Kind: model.GroupKind, Name: model.OnePart("name", `.`), Members: []model.ObjectKind{model.Account},
		Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
	{Kind: model.RightKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
		Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}},
	{Kind: model.PlaceKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.Create, model.Modify}},
	{Kind: model.PolicyKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.Create, model.SetRule}},
	{Kind: model.LicenceKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
		Verbs: []model.Verb{model.JoinIt, model.LeaveIt}},
	{Kind: model.ElevationKind, Name: model.OnePart("command", "."), ByJoining: true, Members: []model.ObjectKind{model.Account},
		Verbs: []model.Verb{model.JoinIt, model.LeaveIt}}}}}

// Who starts tomorrow has nothing yet, whose last day was yesterday has nothing
// left; roles come and go with their days.
func TestDays(t *testing.T) {
	d, err := declare.Read([]declare.File{{Name: "season.yaml", Text: season}}, application)
	if err != nil {
		t.Fatal(err)
	}
	for date, want := range map[string]string{
		"2026-11-22": "both cover(bosun) late", "2026-11-23": "both cover(bosun) first", "2026-11-24": "both cover(bosun) early",
		"2026-12-01": "both cover(mate) early",
	} {
		on, _ := time.Parse(time.DateOnly, date)
		p, err := resolve.Resolve(d, application, on, map[string]string{"shell": "/bin/zsh"})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for a := range p.Targets["ticketing"].Accounts() {
			name := a.ID
			if a.ID == "cover" {
				name += "(" + strings.Join(slices.DeleteFunc(slices.Clone(a.Roles()), func(r string) bool { return r == "deck" }), "+") +
					")"
			}
			got = append(got, name)
			if a.Want()[len(a.Want())-1].First() != "/bin/zsh" {
				t.Errorf("the param was not overridden: %+v", a.Want())
			}
		}
		if s := strings.Join(got, " "); s != want || p.Targets["ticketing"].Len() != len(got) {
			t.Errorf("%s: %s, want %s (%d)", date, s, want, p.Targets["ticketing"].Len())
		}
	}
	if _, err := resolve.Resolve(d, application, day, map[string]string{"shel": "x"}); err == nil ||
		!strings.Contains(err.Error(), `did you mean "shell"?`) {
		t.Errorf("an override of nothing: %v", err)
	}
}

// Whoever has one licence of a shared pool, or several, takes one seat.
func TestPools(t *testing.T) {
	text := strings.Replace(season, "licences: [seat]", "licences: [seat, plan]", 1) +
		"pools: {suite: {seats: 1, at: {ticketing: [seat, plan]}}, other: {seats: 5, at: {ticketing: none}}}\n"
	d, err := declare.Read([]declare.File{{Name: "season.yaml", Text: text}}, application)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, application, day, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"suite": "both cover first 2", "other": " 0"} {
		who := slices.Sorted(maps.Keys(p.Seated(d.Pools[name])))
		if got := fmt.Sprint(strings.Join(who, " "), " ", p.Short(d.Pools[name])); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

func TestPowers(t *testing.T) {
	d, err := declare.Read([]declare.File{{Name: "season.yaml", Text: season}}, application)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, application, day, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, _ := one(p.Accounts("cover", "ticketing"))
	var got []string
	for _, w := range a.Want() {
		got = append(got, w.Name+"="+strings.Join(w.Values, "+"))
	}
	for _, j := range a.Sets() {
		got = append(got, fmt.Sprintf("%s:%s", j.Set.Kind, j.Set.Name))
	}
	if s := strings.Join(got, " "); s != "disabled=no shell=/bin/bash right:cashier right:counter licence:seat elevation:/bin/ls "+
		"elevation:/usr/sbin/reboot" {
		t.Error(s)
	}
	got = nil
	for _, x := range p.Targets["ticketing"].Things {
		for _, w := range x.Want {
			got = append(got, fmt.Sprintf("%s %s %s=%s", x.Kind, x.Name, w.Name, strings.Join(w.Values, "+")))
		}
	}
	if s := strings.Join(got, "\n"); s != `container people path=ou=People,o=ticketing
container people protected=yes
policy staff for-groups=crew
policy staff lockout.after=8
policy staff lockout.within=900
policy staff password.complex=on
policy staff password.length=12
policy staff password.max-age=0
policy staff password.min-age=86400
policy staff words=ferry+tern
right cashier allows=count
right counter allows=refund+sell` {
		t.Error(s)
	}
	both, _ := p.Person("both")
	if x, y, ok := both.Conflict(); !ok || x != "auditor" || y != "deck" {
		t.Errorf("%s %s %v", x, y, ok)
	}
	if cover, _ := p.Person("cover"); cover.State != resolve.Active {
		t.Error(cover.State)
	}
}

func TestFaults(t *testing.T) {
	for _, c := range []struct {
		name, from, to, want string
		person               bool // each fault names the one whom it concerns
	}{
		{"two values", "bosun: {includes: [deck], gives: [{at: {kind: host}",
			"bosun: {includes: [deck], gives: [{at: {kind: host}, account: {shell: /bin/zsh}", `user marit.fell is asked to have shell`, true},
		{"detail not there", "${params.domain}\"", "${user.details.ship}\"", `no user has a detail "ship"; known are base`, false},
		{"detail of others", "robot: {name", "mate: {name: Mate, details: {ship: x}}\n  marie: {name: M, mail: " +
			"\"${user.details.ship}\"}\n  robot: {name", "mail of marie: ${user.details.ship}: no such key: ship", true},
		{"condition breaks", `"!user.service"`, `"user.number / 0 == 1"`,
			"held-when of role everyone, for user marit.fell: division by zero", true},
		{"name unfit", "robot: {name", "\"Ro bot\": {name",
			`"Ro bot" cannot be the name of an account on arctic-tern (host); give a name there under accounts`, true},
		{"two under one name", "accounts: {sooty-tern: none, arctic-tern: {name: op}}",
			"accounts: {sooty-tern: {name: x}}}\n  y: {name: Y, roles: [deck], accounts: {arctic-tern: {name: olga}}",
			`would belong to both`, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(company, c.from, c.to, 1)
			if text == company {
				t.Fatal("nothing was replaced")
			}
			d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
			if err == nil {
				_, err = resolve.Resolve(d, schemas, day, nil)
			}
			var faults declare.Faults
			if c.name == "two under one name" && errors.As(err, &faults) {
				return // found even before resolving, with both places
			}
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v\nwant %s", err, c.want)
			}
			for _, f := range faults { // what stands at a role's line concerns a user all the same
				if c.person && (len(f.Users) != 1 || !strings.Contains(f.Message, f.Users[0])) {
					t.Errorf("%v is told to concern %v", f, f.Users)
				}
			}
		})
	}
}

// The same declaration gives the same plan, however maps are walked.
func TestStable(t *testing.T) {
	first := must(t)
	for range 20 {
		again := must(t)
		for name := range first.Targets {
			if sketch(first.Targets[name]) != sketch(again.Targets[name]) {
				t.Fatalf("%s differs from one time to the next", name)
			}
		}
	}
}

func BenchmarkResolve(b *testing.B) {
	var text strings.Builder
	text.WriteString(strings.Replace(company[:strings.Index(company, "groups:")], "users:", "users:", 1))
	for i := range 5000 {
		fmt.Fprintf(&text, "  hand.%d: {name: Hand %d, number: %d, mail: \"${user.id}@${params.domain}\", roles: [deck]}\n", i, i, 10_000+i)
	}
	text.WriteString(company[strings.Index(company, "groups:"):])
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text.String()}}, schemas)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		if _, err := resolve.Resolve(d, schemas, day, nil); err != nil {
			b.Fatal(err)
		}
	}
}

// How many seats a pool is short of, with enough and with too few for a hundred thousand who hold what gives one.
func BenchmarkShort(b *testing.B) {
	var text strings.Builder
	text.WriteString("roost: 1\nusers:\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "  hand%06d: {name: Hand %d, roles: [desk]}\n", i, i)
	}
	text.WriteString("roles: {desk: {gives: [{at: ticketing, licences: [seat, plan]}]}}\ntargets:\n  ticketing: {kind: " +
		"application, address: x, login: {as: x}}\npools: {enough: {seats: 100000, at: {ticketing: seat}}, few: {seats: 99999, " +
		"at: {ticketing: plan}}}\n")
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text.String()}}, application)
	if err != nil {
		b.Fatal(err)
	}
	p, err := resolve.Resolve(d, application, day, nil)
	if err != nil {
		b.Fatal(err)
	}
	for name, want := range map[string]int{"enough": 0, "few": 1} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if got := p.Short(d.Pools[name]); got != want {
					b.Fatal(got)
				}
			}
		})
	}
}
