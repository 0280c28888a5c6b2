package declare_test

import (
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
)

// What hosts are declared with: a way there, homes, keepers of groups, ranges of numbers, exceptions, keys with options.
func TestHostDeclarations(t *testing.T) {
	schemas := map[string]model.Schema{"host": {Kind: "host", Leads: true, Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "."), Verbs: []model.Verb{model.Remove},
			Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"}, {Name: "keys", Many: true,
				From: "keys"}}},
		{Kind: model.HomeKind}}}, "directory": {Kind: "directory", Kinds: []model.KindSchema{{Kind: model.Account}}}}
	read := func(text string) (*model.Declaration, error) {
		return declare.Read([]declare.File{{Name: "f.yaml", Text: "roost: 1\n" + text}}, schemas)
	}
	const host = "kind: host, address: a, login: {as: root}"
	d, err := read(`users:
  odd: {name: Odd, number: 1, accounts: {far: {number: 1502}}, keys: ['from="10.0.0.0/8,192.0.2.7",restrict ssh-ed25519 AAAAC3Nz odd@desk']}
groups: {crew: {keepers: [odd]}, deck: {keepers: [], in: [crew]}, galley: {}}
roles: {hand: {numbers: 2000-2999, gives: [{at: pier, groups: [deck]}]}, bosun: {group-numbers: 5100-5199, includes: [hand]}}
targets:
  pier: {` + host + `}
  far: {` + host + `, via: pier, homes: {stale: 90d, leave: ["kiosk*"]}, dormant: 180d}
`)
	if err != nil {
		t.Fatal(err)
	}
	far := d.Targets["far"]
	if far.Via.Name != "pier" || far.Homes.Stale.Hours() != 90*24 || far.Homes.Leave[0] != "kiosk*" || far.Dormant.Hours() != 180*24 ||
		d.Roles["hand"].Numbers != (model.Range{Low: 2000, High: 2999}) || d.Users["odd"].Accounts["far"].Number != 1502 ||
		len(d.Groups["crew"].Keepers) != 1 || d.Groups["deck"].Keepers == nil {
		t.Errorf("%+v %+v", far, d.Groups["deck"])
	}
	if r := declare.NumbersOf(d, []string{"unknown", "bosun"}); r == nil || r.Name != "hand" {
		t.Errorf("bosuns get their numbers out of %+v", r)
	}
	if r := declare.GroupNumbersOf(d); len(r) != 2 || r["crew"] == nil || r["deck"].Name != "bosun" {
		t.Errorf("%+v", r)
	}
	for text, want := range map[string]string{
		"targets: {a: {" + host + ", via: b}, b: {" + host +
			", via: a}}": "reached via itself: a → b → a",
		"targets: {a: {" + host +
			", via: b}}": "no target is called \"b\"",
		"targets: {a: {" + host + ", via: d}, d: {kind: directory, address: a, login: {as: x}}}": "leads nowhere",
		"targets: {d: {kind: directory, address: a, login: {as: x}, homes: {stale: 9d}}}":        "nobody has a home",
		"targets: {a: {" + host + ", homes: {leave: [\"[\"]}}}":                                  "leave \"[\"",
		"roles: {hand: {numbers: 2999-2000}}": "is no range of " +
			"numbers",
		"groups: {crew: {keepers: [nobody]}}":                                             "no user is called",
		"users: {odd: {name: Odd, keys: ['from=\"10.0.0.0/8 ssh-ed25519 AAAAC3Nz x']}}":   "a key is one line",
		"users: {odd: {name: Odd, keys: ['environment=\"A=b\" ssh-ed25519 AAAAC3Nz x']}}": "a key is one line",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
