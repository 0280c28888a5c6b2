package drift_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
)

var schema = model.Schema{Kind: "host", AccountName: `^[a-z_][a-z0-9_.-]{0,31}$`, GroupName: `.`,
	Account: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"}, {Name: model.FullName, Settable: true, From: "name"}, {Name: "shell", Settable: true}, {Name: "keys", Many: true, From: "keys"}, {Name: model.Disabled}},
	Group:   []model.AttributeSchema{{Name: model.Number, Settable: true}}}

const company = `roost: 1
users:
  marit.fell: {name: Marit Fell, number: 1001, mail: "marit@x", roles: [deck-crew]}
  hanne.vik: {name: Hanne Vik, number: 1014, roles: [deck-crew]}
  kari.berg: {name: Kari Berg, number: 1010, roles: [deck-crew]}
  ulla.niemi: {name: Ulla Niemi, number: 1028, roles: [deck-crew], accounts: {arctic-tern: {name: ulla}}}
  left.out: {name: Left Out, number: 1099, roles: [deck-crew], accounts: {arctic-tern: none}}
groups:
  crew: {number: 5110}
  deck: {number: 5111, in: [crew]}
roles:
  deck-crew:
    gives:
      - at: arctic-tern
        account: {shell: "/bin/${target.tags.shell}"}
        groups: [deck]
targets:
  arctic-tern: {kind: host, address: a, login: {as: root}, tags: {shell: bash}, unexpected: disable, protect: ["svc-*"]}
`

func plan(t *testing.T, text string) *resolve.Plan {
	t.Helper()
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "company.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func account(name, number string, more ...string) model.Object {
	o := model.Object{Kind: model.Account, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Disabled, "no")
	for i := 0; i < len(more); i += 2 {
		o.Attributes = o.Attributes.With(more[i], more[i+1])
	}
	return o
}

func group(name, number string, members ...string) model.Object {
	o := model.Object{Kind: model.GroupKind, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Members, members...)
	return o
}

// say puts a finding into one line.
func say(f model.Finding) string {
	s := fmt.Sprintf("%s: %s", f.Kind, round.Say(f.Act))
	if f.User != "" {
		s += " (" + f.User + ")"
	}
	return s
}

func TestCompare(t *testing.T) {
	full := func(name, number, full string) model.Object {
		return account(name, number, model.FullName, full, "shell", "/bin/bash")
	}
	for _, c := range []struct {
		name             string
		accounts, groups []model.Object
		links            []model.Link
		want             []string // only those that hold these words are looked at; all with them must be listed
		of               string
	}{
		{name: "empty target", of: "marit", want: []string{
			"missing: create account marit.fell: full-name Marit Fell · number 1001 · shell /bin/bash (marit.fell)",
			"missing: join group crew: marit.fell (marit.fell)", "missing: join group deck: marit.fell (marit.fell)"}},
		{name: "fits and differs", of: "hanne", accounts: []model.Object{account("hanne.vik", "1014", model.FullName, "Hanne Vik", "shell", "/bin/sh")}, want: []string{
			"different: adopt account hanne.vik: nobody’s → hanne.vik (hanne.vik)", "different: change account hanne.vik: shell /bin/sh → shell /bin/bash (hanne.vik)",
			"missing: join group crew: hanne.vik (hanne.vik)", "missing: join group deck: hanne.vik (hanne.vik)"}},
		{name: "another name, same number", of: "mfell", accounts: []model.Object{full("mfell", "1001", "Marit Fell")}, want: []string{
			"different: adopt account mfell: nobody’s → marit.fell (marit.fell)", "missing: join group crew: mfell (marit.fell)", "missing: join group deck: mfell (marit.fell)"}},
		{name: "two candidates", of: "kari", accounts: []model.Object{full("kari.berg", "1500", "K"), full("kberg", "1010", "Kari Berg")}, want: []string{
			"unmatched: for a person to decide kari.berg (kari.berg)"}},
		{name: "one account, two people", of: "kari", accounts: []model.Object{full("kari.berg", "1014", "K")}, want: []string{
			"unmatched: for a person to decide kari.berg (kari.berg)"}},
		{name: "number taken by a protected account", of: "marit", accounts: []model.Object{full("svc-backup", "1001", "B")}, want: []string{
			"unmatched: for a person to decide marit.fell: full-name Marit Fell · number 1001 · shell /bin/bash (marit.fell)"}},
		{name: "given name decides", of: "ulla", accounts: []model.Object{full("ulla", "1700", "U")}, want: []string{
			"different: adopt account ulla: nobody’s → ulla.niemi (ulla.niemi)", "different: change account ulla: full-name U · number 1700 → full-name Ulla Niemi · number 1028 (ulla.niemi)",
			"missing: join group crew: ulla (ulla.niemi)", "missing: join group deck: ulla (ulla.niemi)"}},
		{name: "never an account", of: "left", accounts: []model.Object{full("left.out", "1700", "L")}, want: []string{"unexpected: disable account left.out: open → shut"}},
		{name: "stranger", of: "jarle", accounts: []model.Object{full("jarle.holm", "1701", "Jarle Holm")}, groups: []model.Object{group("crew", "5110", "jarle.holm")}, want: []string{
			"unexpected: disable account jarle.holm: open → shut", "unexpected: leave group crew: jarle.holm"}},
		{name: "stranger shut already", of: "jarle", accounts: []model.Object{account("jarle.holm", "1701", model.Disabled, "yes")}},
		{name: "protected", of: "svc", accounts: []model.Object{full("svc-backup", "1800", "B")}, groups: []model.Object{group("crew", "5110", "svc-backup")}},
		{name: "linked and locked", of: "marit", accounts: []model.Object{account("mf", "1001", model.FullName, "Marit Fell", "shell", "/bin/bash", model.Disabled, "partly")}, links: []model.Link{{User: "marit.fell", Name: "mf"}},
			groups: []model.Object{group("crew", "5110", "mf"), group("deck", "5111", "mf")}, want: []string{"different: enable account mf: half shut → open (marit.fell)"}},
		{name: "group with another number", of: "group deck", groups: []model.Object{group("deck", "900")}, want: []string{"different: change group deck: number 900 → number 5111"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := plan(t, company)
			found := drift.Compare(drift.Input{Desired: p.Targets["arctic-tern"], Accounts: c.accounts, Others: c.groups, Links: c.links})
			var got []string
			for _, f := range found {
				if s := say(f); strings.Contains(s, c.of) && (f.Object != model.Membership || !strings.HasPrefix(c.of, "group")) {
					got = append(got, s)
				}
			}
			if !slices.Equal(got, c.want) {
				t.Errorf("got\n  %s\nwant\n  %s", strings.Join(got, "\n  "), strings.Join(c.want, "\n  "))
			}
		})
	}
}

// Carrying out every step in memory leaves nothing to find: a second comparison is empty.
func TestCarriedOut(t *testing.T) {
	p := plan(t, company)
	in := drift.Input{Desired: p.Targets["arctic-tern"],
		Accounts: []model.Object{account("mfell", "1001"), account("hanne.vik", "1514", model.Disabled, "yes"), account("jarle.holm", "1701"), account("svc-backup", "1800")},
		Others:   []model.Object{group("crew", "17", "jarle.holm", "svc-backup")}}
	steps, undecided := round.Draft(drift.Compare(in), round.Filter{}, round.Order{})
	if len(undecided) != 0 {
		t.Fatalf("undecided: %v", undecided)
	}
	for i, s := range steps {
		if i > 0 && s.Stage < steps[i-1].Stage {
			t.Errorf("step %d comes before what it leans on", i)
		}
		carry(&in, s.Act)
	}
	if again := drift.Compare(in); len(again) != 0 {
		for _, f := range again {
			t.Errorf("still differs: %s", say(f))
		}
	}
}

func carry(in *drift.Input, a model.Act) {
	switch {
	case a.Verb == model.AdoptIt:
		in.Links = append(in.Links, model.Link{User: a.User, Name: a.Name})
	case a.Verb == model.Create && a.Object == model.Account:
		in.Accounts = append(in.Accounts, model.Object{Kind: model.Account, Name: a.Name, Attributes: a.After().With(model.Disabled, "no")})
		in.Links = append(in.Links, model.Link{User: a.User, Name: a.Name})
	case a.Verb == model.Create:
		in.Others = append(in.Others, model.Object{Kind: model.GroupKind, Name: a.Name, Attributes: a.After()})
	default:
		list := in.Accounts
		if a.Object != model.Account {
			list = in.Others
		}
		for i := range list {
			if list[i].Name != a.Name {
				continue
			}
			members := list[i].Attributes.Get(model.Members)
			switch a.Verb {
			case model.JoinIt:
				list[i].Attributes = list[i].Attributes.With(model.Members, append(slices.Clone(members), a.Member)...)
			case model.LeaveIt:
				list[i].Attributes = list[i].Attributes.With(model.Members, slices.DeleteFunc(slices.Clone(members), func(m string) bool { return m == a.Member })...)
			default:
				for _, c := range a.Changes {
					list[i].Attributes = list[i].Attributes.With(c.Attribute, c.After...)
				}
			}
		}
	}
}

func TestContradiction(t *testing.T) {
	text := strings.Replace(company, "targets:\n", "  other:\n    held-when: \"user.number == 1001\"\n    gives: [{at: {kind: host}, account: {shell: /bin/zsh}}]\ntargets:\n", 1)
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "company.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	_, err = resolve.Resolve(d, schemas, time.Now(), nil)
	if err == nil || !strings.Contains(err.Error(), `user marit.fell is asked to have shell "/bin/zsh" here and "/bin/bash" at company.yaml:15:`) {
		t.Errorf("%v", err)
	}
}

func BenchmarkCompare(b *testing.B) {
	var text strings.Builder
	text.WriteString(company[:strings.Index(company, "groups:")])
	for i := range 10_000 {
		fmt.Fprintf(&text, "  hand.%d: {name: Hand %d, number: %d, roles: [deck-crew]}\n", i, i, 10_000+i)
	}
	text.WriteString(company[strings.Index(company, "groups:"):])
	schemas := map[string]model.Schema{"host": schema}
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text.String()}}, schemas)
	if err != nil {
		b.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Now(), nil)
	if err != nil {
		b.Fatal(err)
	}
	in := drift.Input{Desired: p.Targets["arctic-tern"]}
	for i := range 10_000 {
		in.Accounts = append(in.Accounts, account(fmt.Sprintf("hand.%d", i), fmt.Sprint(10_000+i), "shell", "/bin/bash"))
	}
	b.ReportAllocs()
	for b.Loop() {
		drift.Compare(in)
	}
}
