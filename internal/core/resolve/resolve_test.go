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
	"host": {Kind: "host", AccountName: `^[a-z_][a-z0-9_.-]{0,31}$`, GroupName: `^[a-z-]+$`, Account: []model.AttributeSchema{
		{Name: model.Number, Settable: true, From: "number"}, {Name: model.FullName, Settable: true, From: "name"}, {Name: "shell", Settable: true}, {Name: "keys", Many: true, From: "keys"}}},
	"directory": {Kind: "directory", AccountName: `.`, GroupName: `.`, NestGroups: true, Account: []model.AttributeSchema{
		{Name: model.Mail, Settable: true, From: "mail"}, {Name: "surname", Settable: true, From: "family"}, {Name: "home", Settable: true}}},
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
	return resolve.Resolve(d, schemas, day)
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
	for _, a := range d.Accounts {
		fmt.Fprintf(&b, "%s of %s:", a.Name, a.User)
		for _, w := range a.Want {
			fmt.Fprintf(&b, " %s=%s", w.Name, strings.Join(w.Values, "+"))
		}
		b.WriteString("\n")
	}
	for _, g := range d.Groups {
		fmt.Fprintf(&b, "%s %d %v %v %v\n", g.Name, g.Number, g.AtLeast, slices.Sorted(maps.Keys(g.Members)), slices.Sorted(maps.Keys(g.Groups)))
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

func TestRolesHeld(t *testing.T) {
	p := must(t)
	for user, want := range map[string]string{"marit.fell": "bosun deck everyone local", "olga": "deck everyone", "robot": "deck"} {
		if got := strings.Join(p.Roles[user], " "); got != want {
			t.Errorf("%s holds %s, want %s", user, got, want)
		}
	}
	if n := len(p.Asked["marit.fell"]); n != 4 {
		t.Errorf("an account is asked for on %d targets", n)
	}
}

// For every desired value we can say which line of which file asks for it, through which role.
func TestLineage(t *testing.T) {
	a := must(t).Asked["marit.fell"]["arctic-tern"]
	got := map[string]string{}
	for _, w := range a.Want {
		got[w.Name] = fmt.Sprintf("%s line %d", w.Why.Role, w.Why.At.Line)
	}
	for name, want := range map[string]string{"number": "bosun line 4", "shell": "deck line 15"} {
		if got[name] != want {
			t.Errorf("%s: %s, want %s", name, got[name], want)
		}
	}
	for _, g := range must(t).Targets["arctic-tern"].Groups {
		if why := g.Members["marit.fell"]; why.At.File != "c.yaml" || why.Role == "" {
			t.Errorf("membership in %s has no lineage: %+v", g.Name, why)
		}
	}
}

func TestPeopleOn(t *testing.T) {
	p := must(t)
	find := func(target, user string) resolve.Person {
		for _, x := range p.PeopleOn(target) {
			if x.User == user {
				return x
			}
		}
		return resolve.Person{}
	}
	if x := find("arctic-tern", "olga"); x.Local != "op" || !x.Given || x.Never {
		t.Errorf("%+v", x)
	}
	if x := find("sooty-tern", "olga"); !x.Never {
		t.Errorf("%+v", x)
	}
	if x := find("staff", "marit.fell"); x.Local != "marit.fell" || x.Given || x.Mail != "marit.fell@ternsound.example" || x.Name != "Marit Fell" {
		t.Errorf("%+v", x)
	}
}

func TestFaults(t *testing.T) {
	for _, c := range []struct{ name, from, to, want string }{
		{"two values", "bosun: {includes: [deck], gives: [{at: {kind: host}", "bosun: {includes: [deck], gives: [{at: {kind: host}, account: {shell: /bin/zsh}", `user marit.fell is asked to have shell`},
		{"detail not there", "${params.domain}\"", "${user.details.ship}\"", "mail of marit.fell: ${user.details.ship}: no such key: ship"},
		{"condition breaks", `"!user.service"`, `"user.number / 0 == 1"`, "held-when of role everyone, for user marit.fell: division by zero"},
		{"name unfit", "robot: {name", "\"Ro bot\": {name", `"Ro bot" cannot be the name of an account on arctic-tern (host); give a name there under accounts`},
		{"two under one name", "accounts: {sooty-tern: none, arctic-tern: {name: op}}", "accounts: {sooty-tern: {name: x}}}\n  y: {name: Y, roles: [deck], accounts: {arctic-tern: {name: olga}}", `would belong to both`},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(company, c.from, c.to, 1)
			if text == company {
				t.Fatal("nothing was replaced")
			}
			d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
			if err == nil {
				_, err = resolve.Resolve(d, schemas, day)
			}
			var faults declare.Faults
			if c.name == "two under one name" && errors.As(err, &faults) {
				return // found even before resolving, with both places
			}
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v\nwant %s", err, c.want)
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
		if _, err := resolve.Resolve(d, schemas, day); err != nil {
			b.Fatal(err)
		}
	}
}
