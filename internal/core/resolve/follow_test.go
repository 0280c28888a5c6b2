package resolve_test

import (
	"maps"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// next is the declaration with some users as another text has them.
func next(t *testing.T, p *resolve.Plan, old, new string, ids ...string) *model.Declaration {
	t.Helper()
	text := strings.Replace(company, old, new, 1)
	if text == company {
		t.Fatal("nothing was replaced")
	}
	other, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
	if err != nil {
		t.Fatal(err)
	}
	d := *p.Declaration()
	d.Users, d.Starts = maps.Clone(d.Users), maps.Clone(d.Starts)
	maps.Copy(d.Starts, other.Starts)
	for _, id := range ids {
		if d.Users[id] = other.Users[id]; d.Users[id] == nil {
			delete(d.Users, id)
		}
	}
	return &d
}

// A plan that follows another says what a plan made anew says, shares who did
// not change, and leaves the one before as it was.
func TestFollow(t *testing.T) {
	before := must(t)
	was := map[string]string{}
	for name, d := range before.Targets {
		was[name] = sketch(d)
	}
	for _, c := range []struct {
		name, old, new string
		ids            []string
		changed, anew  string
	}{
		{"nothing", "params: {domain", "params:  {domain", []string{"olga"}, "", ""},
		{"a number", "number: 1002", "number: 1099", []string{"olga"}, "olga", ""},
		{"a role that nobody held alone", "roles: [bosun], details", "roles: [deck], details", []string{"marit.fell"}, "marit.fell",
			"arctic-tern northquay sooty-tern"},
		{"somebody new", "groups:\n", "  nina: {name: Nina, number: 1100, roles: [deck]}\ngroups:\n", []string{"nina"}, "nina", ""},
		{"somebody gone", "  robot: {name: Robot, service: true, number: 1003, roles: [deck], keys: []}\n", "", []string{"robot"},
			"robot", ""},
		{"a word about a target", "arctic-tern: {name: op}", "arctic-tern: {name: oper}", []string{"olga"}, "olga", ""},
		{"two at once", "olga: {name: Olga, number: 1002", "olga: {name: Olga B, number: 1102", []string{"olga", "robot"}, "olga", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := next(t, before, c.old, c.new, c.ids...)
			after, change, err := before.Follow(d, c.ids)
			if err != nil {
				t.Fatal(err)
			}
			anew, err := resolve.Resolve(d, schemas, day, nil)
			if err != nil {
				t.Fatal(err)
			}
			for name := range before.Targets {
				if got, want := sketch(after.Targets[name]), sketch(anew.Targets[name]); got != want {
					t.Errorf("%s:\n%s\nwant\n%s", name, got, want)
				}
				if sketch(before.Targets[name]) != was[name] {
					t.Errorf("the plan before asks otherwise of %s", name)
				}
			}
			var changed []string
			for _, pair := range change.People {
				changed = append(changed, pair.ID())
			}
			var targets []string
			for name := range change.Anew {
				targets = append(targets, name)
			}
			if got := strings.Join(changed, " "); got != c.changed {
				t.Errorf("changed %q, want %q", got, c.changed)
			}
			if len(targets) != len(strings.Fields(c.anew)) {
				t.Errorf("other groups on %v, want %s", targets, c.anew)
			}
			for _, p := range before.People {
				if q, ok := after.Person(p.ID); ok && p != q && !strings.Contains(strings.Join(c.ids, " "), p.ID) {
					t.Errorf("%s is not shared", p.ID)
				}
			}
		})
	}
}

// What is wrong with somebody keeps a plan from following; Resolve says it better.
func TestFollowFaults(t *testing.T) {
	before := must(t)
	d := next(t, before, "given: Marit, family: Fell", "given: Marit", "marit.fell")
	d.Users["marit.fell"].Name.Raw = "${user.details.nothing}"
	if _, _, err := before.Follow(d, []string{"marit.fell"}); err == nil || !strings.Contains(err.Error(), "name of marit.fell") {
		t.Error(err)
	}
}

// What a declaration asks for is what it would have an act leave behind, whatever the account was found to be called.
func TestAsks(t *testing.T) {
	p := must(t)
	account := func(verb model.Verb, user, name string, changes ...model.Change) model.Act {
		return model.Act{Target: "arctic-tern", Verb: verb, Object: model.Account, Name: name, User: user, Changes: changes}
	}
	move := func(verb model.Verb, user, name, group string) model.Act {
		return model.Act{Target: "arctic-tern", Verb: verb, Object: model.GroupKind, Name: group, Member: name, MemberKind: model.Account,
			User: user}
	}
	shell := func(to string) model.Change { return model.Change{Attribute: "shell", After: []string{to}} }
	for i, c := range []struct {
		a    model.Act
		want bool
	}{{account(model.Create, "marit.fell", "marit.fell"), true}, {account(model.Create, "nobody", "nobody"), false},
		{account(model.Modify, "marit.fell", "mfell", shell("/bin/bash")), true},
		{account(model.Modify, "marit.fell", "mfell", shell("/bin/sh")), false},
		{account(model.Disable, "marit.fell", "mfell"), false}, {account(model.Disable, "gone", "gone"), true},
		{account(model.Disable, "", "stranger"), false}, // such are reported only
		{account(model.Remove, "marit.fell", "marit.fell"), false}, {account(model.Remove, "gone", "gone"), true},
		{account(model.AdoptIt, "marit.fell", "mfell"), true},
		{move(model.JoinIt, "marit.fell", "mfell", "deck"), true}, {move(model.LeaveIt, "marit.fell", "mfell", "deck"), false},
		{move(model.LeaveIt, "gone", "gone", "deck"), true}, {move(model.LeaveIt, "gone", "gone", "wheel"), false},
		{model.Act{Target: "arctic-tern", Verb: model.Create, Object: model.GroupKind, Name: "deck"}, true},
		{model.Act{Target: "arctic-tern", Verb: model.Remove, Object: model.GroupKind, Name: "deck"}, false},
		{model.Act{Target: "none", Verb: model.Create, Object: model.GroupKind, Name: "deck"}, false}} {
		if got := p.Asks(c.a); got != c.want {
			t.Errorf("%d: %+v: %v", i, c.a, got)
		}
	}
}

// Every change of a finding is told with the line that asks for it now.
func TestTrace(t *testing.T) {
	p := must(t)
	change := func(attribute string) []model.Change { return []model.Change{{Attribute: attribute}} }
	for _, c := range []struct {
		act  model.Act
		want string
	}{
		{model.Act{Target: "arctic-tern", Object: model.Account, Name: "marit.fell", User: "marit.fell", Changes: change("shell")},
			"deck c.yaml:15"},
		{model.Act{Target: "arctic-tern", Object: model.Account, Name: "marit.fell", User: "marit.fell", Changes: change(model.Number)},
			"bosun c.yaml:4"},
		{model.Act{Target: "arctic-tern", Object: model.Account, Name: "marit.fell", User: "marit.fell", Changes: change(model.Owner)},
			"bosun c.yaml:16"},
		{model.Act{Target: "arctic-tern", Verb: model.JoinIt, Object: model.GroupKind, Name: "stores", Member: "marit.fell",
			MemberKind: model.Account, User: "marit.fell", Changes: change("member")}, "bosun c.yaml:16"},
		{model.Act{Target: "staff", Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "deck",
			MemberKind: model.GroupKind, Changes: change("member")}, " c.yaml:10"},
		{model.Act{Target: "arctic-tern", Object: model.GroupKind, Name: "deck", Changes: change(model.Number)}, "bosun c.yaml:10"},
		{model.Act{Target: "arctic-tern", Object: model.Account, Name: "stranger", Changes: change(model.Disabled)}, " "},
		{model.Act{Target: "nowhere", Object: model.Account, Changes: change("shell")}, " "},
	} {
		shared := c.act
		p.Trace(&c.act)
		why := c.act.Changes[0].Why
		got := why.Role + " " + strings.TrimSuffix(why.At.String(), why.At.String()[max(0, strings.LastIndex(why.At.String(), ":")):])
		if !strings.HasPrefix(got, c.want) || (c.want == " ") != (got == " ") {
			t.Errorf("%s %s: %q, want %q", c.act.Object, c.act.Name, got, c.want)
		}
		if c.act.Target != "nowhere" && shared.Changes[0].Why.Role != "" {
			t.Error("who shares the changes notices")
		}
	}
}
