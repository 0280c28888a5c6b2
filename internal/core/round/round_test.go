package round_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
)

func changed(attribute, before, after string) []model.Change {
	c := model.Change{Attribute: attribute, Why: model.Why{Role: "deck-crew"}}
	if before != "" {
		c.Before = []string{before}
	}
	if after != "" {
		c.After = []string{after}
	}
	return []model.Change{c}
}

func TestWords(t *testing.T) {
	file := []model.Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"}, Why: model.Why{At: model.Pos{File: "groups.yaml", Line: 7}}}}
	for _, c := range []struct {
		act                                    model.Act
		what, subject, before, after, why, say string
	}{
		{model.Act{Verb: model.Create, Object: model.Account, Name: "marit", Changes: changed("number", "", "1001")}, "create account", "marit", "", "number 1001", "role deck-crew", "create account marit: number 1001"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "marit", Changes: changed("shell", "/bin/sh", "/bin/bash")}, "change account", "marit", "shell /bin/sh", "shell /bin/bash", "role deck-crew", "change account marit: shell /bin/sh → shell /bin/bash"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "marit", Changes: changed("home", "", "/home/m")}, "change account", "marit", "no home", "home /home/m", "role deck-crew", "change account marit: no home → home /home/m"},
		{model.Act{Verb: model.AdoptIt, Object: model.Account, Name: "mf", User: "marit"}, "adopt account", "mf", "nobody’s", "marit", "", "adopt account mf: nobody’s → marit"},
		{model.Act{Verb: model.Disable, Object: model.Account, Name: "jarle", Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}, "disable account", "jarle", "open", "shut", "not declared", "disable account jarle: open → shut"},
		{model.Act{Verb: model.Enable, Object: model.Account, Name: "gunnar", Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"partly"}, After: []string{"no"}}}}, "enable account", "gunnar", "half shut", "open", "", "enable account gunnar: half shut → open"},
		{model.Act{Verb: model.JoinIt, Object: model.Membership, Name: "crew", Member: "marit", MemberKind: model.Account, Changes: file}, "join group", "marit · crew", "", "crew", "groups.yaml line 7", "join group crew: marit"},
		{model.Act{Verb: model.LeaveIt, Object: model.Membership, Name: "crew", Member: "marit", MemberKind: model.Account}, "leave group", "marit · crew", "crew", "", "not declared", "leave group crew: marit"},
		{model.Act{Verb: model.JoinIt, Object: model.Membership, Name: "crew", Member: "deck", MemberKind: model.GroupKind}, "put group inside", "deck · crew", "", "crew", "", "put group inside crew: deck"},
		{model.Act{Verb: model.LeaveIt, Object: model.Membership, Name: "crew", Member: "deck", MemberKind: model.GroupKind}, "take group out", "deck · crew", "crew", "", "not declared", "take group out crew: deck"},
		{model.Act{Verb: model.Create, Object: model.GroupKind, Name: "crew"}, "create group", "crew", "", "", "", "create group crew"},
		{model.Act{Object: model.Account, Name: "kari"}, "for a person to decide", "kari", "", "", "", "for a person to decide kari"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "m", Changes: []model.Change{{Attribute: "keys", After: []string{"a", "b"}}}}, "change account", "m", "0 keys", "2 keys", "", "change account m: 0 keys → 2 keys"},
	} {
		got := []string{round.What(c.act), round.Subject(c.act), round.Before(c.act), round.After(c.act), round.Because(c.act), round.Say(c.act)}
		if want := []string{c.what, c.subject, c.before, c.after, c.why, c.say}; !slices.Equal(got, want) {
			t.Errorf("got  %q\nwant %q", got, want)
		}
	}
}

func find(target, verb, object, name, member, user string, kind model.FindingKind) model.Finding {
	return model.Finding{Kind: kind, Act: model.Act{Target: target, Verb: model.Verb(verb), Object: model.ObjectKind(object), Name: name, Member: member, User: user}}
}

var findings = []model.Finding{
	find("sooty", "disable", "account", "jarle", "", "", model.Unexpected),
	find("sooty", "join group", "membership", "crew", "marit", "marit", model.Missing),
	find("sooty", "leave group", "membership", "crew", "jarle", "", model.Unexpected),
	find("sooty", "create", "account", "marit", "", "marit", model.Missing),
	find("sooty", "change", "account", "hanne", "", "hanne", model.Different),
	find("sooty", "adopt", "account", "hanne", "", "hanne", model.Different),
	find("sooty", "create", "group", "crew", "", "", model.Missing),
	find("sooty", "create", "group", "stores", "", "", model.Missing),
	find("arctic", "enable", "account", "gunnar", "", "gunnar", model.Different),
	find("arctic", "", "account", "kari", "", "kari", model.Unmatched),
}

func lines(steps []round.Step) string {
	var out []string
	for _, s := range steps {
		out = append(out, fmt.Sprintf("%s %s", s.Target, round.Say(s.Act)))
	}
	return strings.Join(out, "\n")
}

func TestDraft(t *testing.T) {
	for _, c := range []struct {
		name      string
		filter    round.Filter
		want      string
		undecided int
	}{
		{"all, in an order that works", round.Filter{}, `arctic enable account gunnar: open → open
sooty create group crew
sooty create group stores
sooty adopt account hanne: nobody’s → hanne
sooty change account hanne
sooty create account marit
sooty leave group crew: jarle
sooty join group crew: marit
sooty disable account jarle: open → open`, 1},
		{"one target", round.Filter{Targets: []string{"arctic"}}, "arctic enable account gunnar: open → open", 1},
		{"one person brings the groups along", round.Filter{Users: []string{"marit"}}, "sooty create group crew\nsooty create account marit\nsooty join group crew: marit", 0},
		{"one kind", round.Filter{Kinds: []string{"different"}, Targets: []string{"sooty"}}, "sooty adopt account hanne: nobody’s → hanne\nsooty change account hanne", 0},
		{"undecided only", round.Filter{Kinds: []string{"unmatched"}}, "", 1},
		{"nobody", round.Filter{Users: []string{"nobody"}}, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			turned := slices.Clone(findings)
			slices.Reverse(turned)
			for _, list := range [][]model.Finding{findings, turned} {
				steps, undecided := round.Draft(list, c.filter)
				if got := lines(steps); got != c.want || len(undecided) != c.undecided {
					t.Errorf("%d undecided, want %d; got\n%s\nwant\n%s", len(undecided), c.undecided, got, c.want)
				}
			}
		})
	}
}
