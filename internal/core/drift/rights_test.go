package drift_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
)

// spelled is a kind of target whose rights are called what they allow: "see a.b" comes with "see a" and with "all a".
var spelled = func() map[string]model.Schema {
	s := base["base"]
	s.Kinds = slices.Clone(s.Kinds)
	s.Kinds[0].Attributes = append(slices.Clone(s.Kinds[0].Attributes), model.AttributeSchema{Name: model.PasswordEnds})
	s.Kinds[1] = model.KindSchema{Kind: model.RightKind, Name: model.OnePart("permission", "."), ByJoining: true,
		Verbs: []model.Verb{model.JoinIt, model.LeaveIt}, Members: []model.ObjectKind{model.Account},
		Spelled: &model.Spelling{
			Read: func(text string) (out []string, err error) {
				verbs, where, ok := strings.Cut(text, " ")
				for v := range strings.SplitSeq(verbs, ",") {
					if out = append(out, v+" "+where); !ok || !slices.Contains([]string{"see", "put", "all"}, v) {
						err = fmt.Errorf("%q is no permission", text)
					}
				}
				return out, err
			},
			Covers: func(wide, narrow string) bool {
				w, where, _ := strings.Cut(wide, " ")
				n, at, _ := strings.Cut(narrow, " ")
				return (w == n || w == "all") && (at == where || strings.HasPrefix(at, where+"."))
			}}}
	return map[string]model.Schema{"base": s}
}()

const counters = `roost: 1
users:
  marit: {name: Marit Fell, roles: [clerk]}
  ulla: {name: Ulla Niemi, roles: [clerk, head]}
roles:
  clerk: {gives: [{at: stores, rights: [sell]}]}
  head: {gives: [{at: stores, rights: [keep]}]}
rights:
  sell: {at: stores, allows: ["see,put items.list", see items]}
  keep: {at: stores, allows: [all items]}
targets: {stores: {kind: base, address: a, login: {as: root}, protect: [audit]}}
`

// A declared right stands for its permissions, of which a wider one brings the narrower; who has more than that has more
// than declared, and who has less lacks it.
func TestSpelledRights(t *testing.T) {
	held := func(members map[string]string) drift.Input {
		in := drift.Input{Accounts: []model.Object{account("audit@%", ""), account("marit@%", ""), account("sal@%", ""), account("ulla@%",
			"")}, Links: []model.Link{{Target: "stores", User: "marit", Name: "marit@%"}, {Target: "stores", User: "ulla", Name: "ulla@%"}}}
		for _, name := range slices.Sorted(maps.Keys(members)) {
			in.Others = append(in.Others, thing(model.RightKind, name, strings.Fields(members[name])...))
		}
		return in
	}
	only := func(in drift.Input) (out []string) {
		for _, line := range onKind(t, spelled, counters, in) {
			if strings.Contains(line, " right ") {
				out = append(out, line)
			}
		}
		return out
	}
	same(t, "as declared", only(held(map[string]string{"put items.list": "marit@%", "see items": "marit@%", "all items": "ulla@%"})))
	same(t, "what comes with a wider one", only(held(map[string]string{"put items.list": "marit@% ulla@%", "see items": "marit@%",
		"all items": "ulla@%", "see items.list": "ulla@%"})))
	same(t, "less and more", only(held(map[string]string{"see items": "marit@%", "all items": "audit@% marit@% sal@% ulla@%",
		"see rota": "ulla@%"})),
		"beyond: withdraw right all items: marit@% (marit)", "missing: give right put items.list: marit@% (marit)",
		"beyond: withdraw right see rota: ulla@% (ulla)")
	// Who has left keeps none of theirs on the account that is shut; of an account that is nobody's it is told that it is there.
	gone := held(map[string]string{"see items": "sal@% ulla@%"})
	gone.Links = gone.Links[1:]
	left := strings.Replace(counters, "name: Ulla Niemi,", "name: Ulla Niemi, until: 2020-01-01,", 1)
	var out []string
	for _, line := range onKind(t, spelled, left, gone) {
		if strings.Contains(line, "ulla@%") && strings.Contains(line, " right ") {
			out = append(out, line)
		}
	}
	same(t, "gone", out, "beyond: withdraw right see items: ulla@% (ulla)")
	_, err := declared(spelled, strings.Replace(counters, "all items", "own items", 1))
	if err == nil || !strings.Contains(err.Error(), `right keep, at stores: "own items" is no permission`) {
		t.Errorf("%v", err)
	}
}

// A password is told of before its last day, and when that has gone by.
func TestRunningOut(t *testing.T) {
	in := drift.Input{}
	for name, day := range map[string]string{"a": "2026-12-08", "b": "2026-12-09", "c": "2026-11-24", "d": ""} {
		o := account(name+"@%", "")
		if day != "" {
			o.Attributes = o.Attributes.With(model.PasswordEnds, day)
		}
		in.Accounts = append(in.Accounts, o)
	}
	slices.SortFunc(in.Accounts, func(a, b model.Object) int { return strings.Compare(a.Name, b.Name) })
	var got []string
	for _, line := range onKind(t, spelled, counters, in) {
		if strings.HasPrefix(line, "running-out") {
			got = append(got, line)
		}
	}
	same(t, "of four", got, "running-out: for a person to decide a@%", "running-out: for a person to decide c@%")
}

// What somebody declared has from anywhere was asked for so; what nobody declared is told.
func TestWideOpen(t *testing.T) {
	in := drift.Input{Links: []model.Link{{Target: "stores", User: "marit", Name: "marit@%"}}}
	for _, name := range []string{"marit@%", "sal@%", "shut@%"} {
		o := account(name, "")
		o.Attributes, o.Marked = o.Attributes.With(model.OpenWide, "from any address").With(model.UnevenWith, "unlike sal@x"), true
		in.Accounts = append(in.Accounts, o)
	}
	var got []string
	for _, line := range onKind(t, spelled, counters, in) {
		if strings.HasPrefix(line, "wide-open") || strings.HasPrefix(line, "uneven") {
			got = append(got, line)
		}
	}
	slices.Sort(got)
	same(t, "of three", got, "uneven: for a person to decide marit@% (marit)", "uneven: for a person to decide sal@%",
		"uneven: for a person to decide shut@%", "wide-open: for a person to decide sal@%", "wide-open: for a person to decide shut@%")
}
