package match_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/match"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// account is written "name number mail #unique".
func account(s string) model.Object {
	o := model.Object{Kind: model.Account}
	for i, f := range strings.Fields(s) {
		switch {
		case i == 0:
			o.Name = strings.ReplaceAll(f, "_", " ")
		case f[0] == '#':
			o.Unique = f[1:]
		case strings.Contains(f, "@"):
			o.Attributes = o.Attributes.With(model.Mail, f)
		default:
			o.Attributes = o.Attributes.With(model.Number, f)
		}
	}
	return o
}

const people = `roost: 1
users:
  hanne: {name: Hanne Vik, number: 14, mail: hanne@x, roles: [all]}
  kari: {name: Kari Berg, number: 10, mail: Kari@x, roles: [all]}
  marit: {name: Marit Fell, number: 1, roles: [all]}
  never: {name: Never, number: 99, roles: [all], accounts: {t: none}}
  ulla: {name: Ulla Niemi, number: 28, roles: [all], accounts: {t: {name: u1}}}
roles: {all: {gives: [{at: t}]}}
targets:
  t: {kind: k, address: a, login: {as: x}, match: [%s]}
`

func desired(t *testing.T, fold bool, rules []string) *resolve.Desired {
	t.Helper()
	schemas := map[string]model.Schema{"k": {Kind: "k", FoldNames: fold, Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", ".")},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs: []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt}}}}}
	d, err := declare.Read([]declare.File{{Name: "f", Text: fmt.Sprintf(people, strings.Join(rules, ", "))}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	p, err := resolve.Resolve(d, schemas, time.Now(), nil)
	if err != nil {
		t.Fatal(err)
	}
	return p.Targets["t"]
}

func TestAccounts(t *testing.T) {
	all := []string{"name", "number", "mail"}
	for _, c := range []struct {
		name     string
		accounts []string
		links    []model.Link
		rules    []string
		fold     bool
		want     string
	}{
		{"nobody", nil, nil, all, false, ""},
		{"name", []string{"marit 77"}, nil, all, false, "marit→marit by name"},
		{"name and number", []string{"marit 1"}, nil, all, false, "marit→marit by name+number"},
		{"number", []string{"mfell 1"}, nil, all, false, "mfell→marit by number"},
		{"mail, whatever its case", []string{"kb 0 KARI@X"}, nil, all, false, "kb→kari by mail"},
		{"case counts", []string{"Marit 77"}, nil, all, false, ""},
		{"case does not count", []string{"Marit 77"}, nil, all, true, "Marit→marit by name"},
		{"rules leave number out", []string{"mfell 1"}, nil, []string{"name"}, false, ""},
		{"two accounts, one user", []string{"kari 5", "kb 10"}, nil, all, false, "kari? kari,kb"},
		{"one account, two users", []string{"kari 14"}, nil, all, false, "hanne? kari rivals kari; kari? kari rivals hanne"},
		{"a chain of doubt", []string{"kari 14", "hanne 5"}, nil, all, false, "hanne? hanne,kari rivals kari; kari? kari rivals hanne"},
		{"given name decides", []string{"u1 1", "ulla 28"}, nil, all, false, "u1→ulla by given name"},
		{"never an account", []string{"never 99"}, nil, all, false, ""},
		{"linked", []string{"mf 5", "marit 1"}, []model.Link{{User: "marit", Name: "mf"}}, all, false, "mf=marit"},
		{"linked by the target's id after a rename", []string{"renamed 5 #u-1"}, []model.Link{{User: "marit", Name: "mf", Unique: "u-1"}},
			all, false, "renamed=marit"},
		{"another account took the name", []string{"mf 5 #u-2"}, []model.Link{{User: "marit", Name: "mf", Unique: "u-1"}}, all, false, ""},
		{"protected is nobody's", []string{"svc 1"}, nil, all, false, ""},
		{"a name with spaces", []string{"Durand,_A 14"}, nil, all, false, "Durand, A→hanne by number"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var objects []model.Object
			for _, a := range c.accounts {
				objects = append(objects, account(a))
			}
			r := match.Accounts(match.Input{Desired: desired(t, c.fold, c.rules), Accounts: objects, Links: c.links,
				Skip: func(o *model.Object) bool { return o.Name == "svc" }})
			if got := sketch(r); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
			for name, fit := range r.Fits {
				if of, ok := r.AccountOf(match.Slot{User: fit.User}); !ok || of != name {
					t.Errorf("%s fits %s, but their account is %q", name, fit.User, of)
				}
			}
		})
	}
}

func sketch(r *match.Result) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(r.Linked)) {
		parts = append(parts, name+"="+r.Linked[name])
	}
	for _, name := range slices.Sorted(maps.Keys(r.Fits)) {
		parts = append(parts, fmt.Sprintf("%s→%s by %s", name, r.Fits[name].User, strings.Join(r.Fits[name].By, "+")))
	}
	for _, d := range r.Doubts {
		s := d.User + "? " + strings.Join(d.Accounts, ",")
		if d.Rivals != nil {
			s += " rivals " + strings.Join(d.Rivals, ",")
		}
		parts = append(parts, s)
	}
	return strings.Join(parts, "; ")
}

// However accounts and people are ordered, the answer is the same.
func TestOrderDoesNotCount(t *testing.T) {
	objects := []model.Object{account("kari 14"), account("hanne 5"), account("mfell 1"), account("u1 2")}
	want := sketch(match.Accounts(match.Input{Desired: desired(t, false, []string{"name", "number"}), Accounts: objects}))
	for range 10 {
		slices.Reverse(objects)
		if got := sketch(match.Accounts(match.Input{Desired: desired(t, false, []string{"number", "name"}),
			Accounts: objects})); got != want {
			t.Fatalf("got  %s\nwant %s", got, want)
		}
	}
}

// What a person decided counts for more than what fits, and a full name counts where nothing else does.
func TestDecided(t *testing.T) {
	named := func(name, full string) model.Object {
		o := account(name)
		o.Attributes = o.Attributes.With(model.FullName, full)
		return o
	}
	for _, c := range []struct {
		name      string
		accounts  []model.Object
		decisions []model.Decision
		want      string
	}{
		{"undecided", []model.Object{account("kari 5"), account("kb 10")}, nil, "kari? kari,kb"},
		{"theirs", []model.Object{account("kari 5"), account("kb 10")}, []model.Decision{{Name: "kb", User: "kari", Theirs: true}},
			"kb→kari by decision"},
		{"not theirs", []model.Object{account("kari 5"), account("kb 10")}, []model.Decision{{Name: "kb", User: "kari"}},
			"kari→kari by name"},
		{"a full name alone", []model.Object{named("mfell", "MARIT FELL")}, nil, "mfell→marit by full name"},
		{"a full name is weaker than a number", []model.Object{named("mfell 10", "Marit Fell")}, nil, "mfell→kari by number"},
		{"of somebody gone, their number and name", []model.Object{named("gone 10", "Kari Berg")}, nil, "gone→kari by number"},
		{"of somebody gone, a number given out again", []model.Object{named("gone 10", "Somebody Else")}, nil, "gone=gone"},
		{"of somebody gone, decided", []model.Object{account("gone 5")}, []model.Decision{{Name: "gone", User: "kari", Theirs: true}},
			"gone→kari by decision"},
		{"of somebody gone, not theirs", []model.Object{named("gone 10", "Kari Berg")}, []model.Decision{{Name: "gone", User: "kari"}},
			"gone=gone"},
		{"of somebody declared", []model.Object{named("ulla 10", "Kari Berg")},
			[]model.Decision{{Name: "ulla", User: "kari", Theirs: true}}, "ulla=ulla"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var links []model.Link
			for _, name := range []string{"gone", "ulla"} {
				links = append(links, model.Link{User: name, Name: name})
			}
			r := match.Accounts(match.Input{Desired: desired(t, false, []string{"name", "number", "full-name"}), Accounts: c.accounts,
				Decisions: c.decisions, Links: links})
			if got := sketch(r); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
}
