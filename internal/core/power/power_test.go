package power_test

import (
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
	"hen-roost/internal/core/power/powertest"
)

// A target whose sets are told as "group sudo: odd +inner".
func of(t *testing.T, fold bool, sets ...string) *power.Power {
	t.Helper()
	right := model.Object{}
	right.Attributes = model.Pack(model.Attribute{Name: model.Allows, Values: []string{"ALL ON *.*"}},
		model.Attribute{Name: model.MemberGroups, Values: []string{"sudo"}},
		model.Attribute{Name: model.Members, Values: []string{"ghost"}},
		model.Attribute{Name: model.Number, Values: []string{"0"}})
	loose := []model.Named{{Kind: model.GroupKind, Name: "loose"}}
	p, err := power.Of(&right, []model.Named{{Kind: model.ElevationKind, Name: "all"}}, loose, nil, fold, powertest.Sets(sets...))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func act(verb model.Verb, kind model.ObjectKind, name, member string) model.Act {
	a := model.Act{Verb: verb, Object: kind, Name: name, Member: member}
	if member != "" {
		a.MemberKind = model.Account
	}
	if inner, ok := strings.CutPrefix(member, "+"); ok {
		a.MemberKind, a.Member = model.GroupKind, inner
	}
	return a
}

// Ways are what they would be if the target were asked, however sets lie in each other.
func TestWays(t *testing.T) {
	sets := []string{"right ALL ON *.*: eva +dba", "group dba: ulla +deck", "group deck: kari +dba", "group sudo: odd",
		"elevation all: per", "group loose: nils +deep", "group deep: tor"}
	joins, leaves := model.JoinIt, model.LeaveIt
	for _, c := range []struct {
		acts []model.Act
		who  string
		want string
		left string // counting losses alone
	}{
		{nil, "eva ulla kari odd per ghost nils",
			"right ALL ON *.*|group dba|group deck|group sudo|elevation all|named where superusers are|", ""},
		{[]model.Act{act(leaves, model.RightKind, "ALL ON *.*", "+dba")}, "eva ulla kari", "right ALL ON *.*||", ""},
		{[]model.Act{act(leaves, model.GroupKind, "dba", "+deck")}, "ulla kari", "group dba|", ""},
		{[]model.Act{act(model.Remove, model.GroupKind, "dba", "")}, "eva ulla kari", "right ALL ON *.*||", ""},
		{[]model.Act{act(model.Remove, model.GroupKind, "sudo", ""), act(model.Create, model.GroupKind, "sudo", "")}, "odd", "", ""},
		{[]model.Act{act(joins, model.GroupKind, "dba", "+loose")}, "nils tor", "group loose|group deep", "|"},
		{[]model.Act{act(joins, model.GroupKind, "sudo", "eva"), act(leaves, model.RightKind, "ALL ON *.*", "eva")}, "eva",
			"group sudo", "."},
		{[]model.Act{act(leaves, model.ElevationKind, "all", "per"), act(joins, model.ElevationKind, "/bin/ls", "per")}, "per",
			"elevation /bin/ls", "."},
	} {
		p := of(t, false, sets...)
		all, losses := p.Course(), p.Course()
		for _, a := range c.acts {
			all.Take(a, false)
			losses.Take(a, true)
		}
		var got, left []string
		for who := range strings.FieldsSeq(c.who) {
			got, left = append(got, strings.Join(all.Ways(who), "+")), append(left, strings.Join(losses.Ways(who), "+"))
		}
		if s := strings.Join(got, "|"); s != c.want {
			t.Errorf("%v: %s, want %s", c.acts, s, c.want)
		}
		want := c.want
		if c.left != "" {
			want = strings.Trim(c.left, ".")
		}
		if s := strings.Join(left, "|"); s != want {
			t.Errorf("%v, losses alone: %s, want %s", c.acts, s, want)
		}
	}
	p := of(t, false, "group sudo: odd eva")
	p.Single(model.GroupKind)
	c := p.Course()
	c.Take(act(joins, model.GroupKind, "crew", "odd"), true)
	got := fmt.Sprint(c.Ways("odd"), c.Ways("eva"), c.Concerns(act(joins, model.GroupKind, "crew", "eva")))
	if got != "[] [group sudo] true" {
		t.Errorf("who joins one of which there is but one: %s", got)
	}
	if got := fmt.Sprint(of(t, false, sets...).Course().Below(model.Named{Kind: model.GroupKind, Name: "loose"}, 5)); got != "[nils tor]" {
		t.Error(got)
	}
}

// An account has power by its own attributes, by something that the target alone knows, and in any case of its name.
func TestAccounts(t *testing.T) {
	p := of(t, true, "group sudo: Odd")
	for _, a := range []struct{ name, group, number, told string }{{"eva", "sudo", "1", "primary group sudo"},
		{"zero", "", "0", "number 0"}, {"Level", "", "", "level 9"}, {"both", "", "", "level 9"}} {
		o := model.Object{Name: a.name, Attributes: model.Pack(model.Attribute{Name: model.PrimaryGroup, Values: []string{a.group}},
			model.Attribute{Name: model.Number, Values: []string{a.number}},
			model.Attribute{Name: model.Elevation, Values: []string{a.told}})}
		p.Account(&o)
	}
	c := p.Course()
	for name, want := range map[string]string{"ODD": "[group sudo]", "EVA": "[primary group sudo]", "zero": "[number 0]",
		"level": "[level 9]", "nobody": "[]"} {
		if got := fmt.Sprint(c.Ways(name)); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	p.Values("level", []string{"9"})
	p.Account(&model.Object{Name: "kai", Attributes: model.Pack(model.Attribute{Name: "level", Values: []string{"9"}},
		model.Attribute{Name: model.Elevation, Values: []string{"level 9"}})})
	set := func(name, attribute, before, after string) model.Act {
		change := model.Change{Attribute: attribute, Before: []string{before}, After: []string{after}}
		return model.Act{Verb: model.Modify, Object: model.Account, Name: name, Changes: []model.Change{change}}
	}
	for _, x := range []struct {
		a                  model.Act
		concerns, is, lost string
	}{{set("eva", model.PrimaryGroup, "sudo", "crew"), "true", "[]", "[]"},
		{set("kari", model.Number, "7", "0"), "true", "[number 0]", "[]"},
		{set("kari", "shell", "a", "b"), "false", "[]", "[]"}, {set("level", "shell", "a", "b"), "true", "[level 9]", "[level 9]"},
		{set("kai", "level", "9", "1"), "true", "[]", "[]"}, {set("kari", "level", "1", "9"), "true", "[level 9]", "[]"},
		{set("kai", "shell", "a", "b"), "false", "[level 9]", "[level 9]"},
		{set("kari", model.PrimaryGroup, "crew", "SUDO"), "true", "[primary group SUDO]", "[]"}} {
		if got := fmt.Sprint(c.Concerns(x.a)); got != x.concerns {
			t.Errorf("%v concerns: %s", x.a, got)
		}
		if got := fmt.Sprint(c.WaysAfter(x.a)); got != x.is {
			t.Errorf("%v: %s, want %s", x.a, got, x.is)
		}
		less := p.Course()
		less.Take(x.a, true)
		if got := fmt.Sprint(less.Ways(x.a.Name)); got != x.lost {
			t.Errorf("%v, losses alone: %s, want %s", x.a, got, x.lost)
		}
	}
	var none *power.Power
	none.Account(&model.Object{})
	x := none.Course()
	if x.Gives(model.Named{}) || x.Ways("a") != nil || x.Concerns(model.Act{}) || x.WaysAfter(model.Act{}) != nil {
		t.Error("without a superuser somebody is one")
	}
}
