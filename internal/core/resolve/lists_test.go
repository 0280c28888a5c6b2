package resolve_test

import (
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

const lists = `roost: 1
users:
  ulla: {name: Ulla Niemi, mail: ulla@ternsound.example, details: {base: quay}, roles: [clerk, head]}
  siri: {name: Siri Dahl, roles: [clerk]}
roles:
  clerk: {gives: [{at: desk, account: {ways: [password, "desk ${user.details.base}"], title: Clerk}}]}
  head: {gives: [{at: desk, account: {ways: card, marks: [x]}}]}
  wrong: {gives: [{at: desk, account: {title: [a, b]}}]}
targets: {desk: {kind: desk, address: a, login: {as: x}}}
`

var desk = map[string]model.Schema{"desk": {Kind: "desk", Kinds: []model.KindSchema{{Kind: model.Account, Name: model.OnePart("login", "."),
	Attributes: []model.AttributeSchema{{Name: "ways", Many: true, Settable: true, Fold: true}, {Name: "marks", Many: true, Settable: true},
		{Name: "title", Settable: true}, {Name: "seen", Many: true}}}}}}

// Attributes of many values are lists, which several grants fill together; a list is for no other.
func TestLists(t *testing.T) {
	for text, want := range map[string]string{"title: [a, b]": "title of an account on desk (desk) is one value, not a list",
		"seen: [a]": `an account on desk (desk) has no attribute "seen" that can be set`, `ways: ["${user.nothing}"]`: "nothing"} {
		_, err := declare.Read([]declare.File{{Name: "c.yaml", Text: strings.ReplaceAll(lists, "title: [a, b]", text)}}, desk)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: strings.ReplaceAll(lists, "title: [a, b]", "title: a")}}, desk)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.ReplaceAll(lists, "title: [a, b]", "title: a")
	if _, err := resolve.Resolve(d, desk, day, nil); err == nil || !strings.Contains(err.Error(), "ways of siri") {
		t.Errorf("a detail that siri has not: %v", err)
	}
	d, err = declare.Read([]declare.File{{Name: "c.yaml", Text: strings.ReplaceAll(text, "  siri: {name",
		"  siri: {details: {base: sea}, name")}}, desk)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, desk, day, nil)
	if err != nil {
		t.Fatal(err)
	}
	for user, want := range map[string]string{"ulla": "disabled=no marks=x title=Clerk ways=password+desk quay+card",
		"siri": "disabled=no title=Clerk ways=password+desk sea"} {
		a, _ := one(p.Accounts(user, "desk"))
		var got []string
		for _, w := range a.Want() {
			got = append(got, w.Name+"="+strings.Join(w.Values, "+"))
		}
		if s := strings.Join(got, " "); s != want {
			t.Errorf("%s: %s, want %s", user, s, want)
		}
	}
	a, _ := one(p.Accounts("siri", "desk"))
	for have, want := range map[string]bool{"Password|Desk sea": true, "desk sea|password": true, "password": false,
		"desk sea|password|card": false} {
		same, _ := a.Same(model.Pack(model.Attribute{Name: "disabled", Values: []string{"no"}}, model.Attribute{Name: "title",
			Values: []string{"Clerk"}}, model.Attribute{Name: "ways", Values: strings.Split(have, "|")}), nil)
		if same != want {
			t.Errorf("%s is the same: %v", have, same)
		}
	}
}
