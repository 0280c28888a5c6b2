package round_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
	"hen-roost/internal/core/power/powertest"
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
	file := []model.Change{{Attribute: "member", Before: []string{"no"}, After: []string{"yes"},
		Why: model.Why{At: model.Location{File: "groups.yaml", Line: 7}}}}
	for _, c := range []struct {
		act                                    model.Act
		what, subject, before, after, why, say string
	}{
		{model.Act{Verb: model.Create, Object: model.Account, Name: "marit", Changes: changed("number", "", "1001")}, "create account",
			"marit", "", "number 1001", "role deck-crew", "create account marit: number 1001"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "marit", Changes: changed("shell", "/bin/sh", "/bin/bash")},
			"change account", "marit", "shell /bin/sh", "shell /bin/bash", "role deck-crew",
			"change account marit: shell /bin/sh → shell /bin/bash"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "marit", Changes: changed("home", "", "/home/m")}, "change account",
			"marit", "no home", "home /home/m", "role deck-crew", "change account marit: no home → home /home/m"},
		{model.Act{Verb: model.AdoptIt, Object: model.Account, Name: "mf", User: "marit"}, "adopt account", "mf", "nobody’s", "marit", "",
			"adopt account mf: nobody’s → marit"},
		{model.Act{Verb: model.AdoptIt, Object: model.Account, Name: "mf", User: "marit", Changes: changed("name", "mfell", "mf")},
			"adopt account", "mf", "known as mfell", "known as mf", "role deck-crew", "adopt account mf: known as mfell → known as mf"},
		{model.Act{Verb: model.AdoptIt, Object: model.Account, Name: "mf", User: "marit", Changes: changed("owner", "marit", "nobody")},
			"adopt account", "mf", "marit", "nobody’s", "role deck-crew", "adopt account mf: marit → nobody’s"},
		{model.Act{Verb: model.Disable, Object: model.Account, Name: "jarle",
			Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}, "disable account",
			"jarle", "open", "shut", "not declared", "disable account jarle: open → shut"},
		{model.Act{Verb: model.Enable, Object: model.Account, Name: "gunnar",
			Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"partly"}, After: []string{"no"}}}}, "enable account",
			"gunnar", "half shut", "open", "", "enable account gunnar: half shut → open"},
		{model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "marit", MemberKind: model.Account, Changes: file},
			"join group", "marit · crew", "", "crew", "groups.yaml line 7", "join group crew: marit"},
		{model.Act{Verb: model.LeaveIt, Object: model.GroupKind, Name: "crew", Member: "marit", MemberKind: model.Account}, "leave group",
			"marit · crew", "crew", "", "not declared", "leave group crew: marit"},
		{model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "deck", MemberKind: model.GroupKind},
			"put group inside", "deck · crew", "", "crew", "", "put group inside crew: deck"},
		{model.Act{Verb: model.LeaveIt, Object: model.GroupKind, Name: "crew", Member: "deck", MemberKind: model.GroupKind},
			"take group out", "deck · crew", "crew", "", "not declared", "take group out crew: deck"},
		{model.Act{Verb: model.Create, Object: model.GroupKind, Name: "crew"}, "create group", "crew", "", "", "", "create group crew"},
		{model.Act{Object: model.Account, Name: "kari"}, "for a person to decide", "kari", "", "", "", "for a person to decide kari"},
		{model.Act{Verb: model.Modify, Object: model.Account, Name: "m",
			Changes: []model.Change{{Attribute: "keys", After: []string{"a", "b"}}}}, "change account", "m", "0 keys", "2 keys", "",
			"change account m: 0 keys → 2 keys"},
	} {
		got := []string{round.What(c.act), round.Subject(c.act), round.Before(c.act), round.After(c.act), round.Because(c.act),
			round.Say(c.act)}
		if want := []string{c.what, c.subject, c.before, c.after, c.why, c.say}; !slices.Equal(got, want) {
			t.Errorf("got  %q\nwant %q", got, want)
		}
	}
}

func find(target, verb, object, name, member, user string, kind model.FindingKind) model.Finding {
	return model.Finding{Kind: kind, Act: model.Act{Target: target, Verb: model.Verb(verb), Object: model.KindNamed(object), Name: name,
		Member: member, User: user}}
}

var findings = []model.Finding{
	find("sooty", "disable", "account", "jarle", "", "", model.Unexpected),
	find("sooty", "join", "group", "crew", "marit", "marit", model.Missing),
	find("sooty", "leave", "group", "crew", "jarle", "", model.Unexpected),
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
		{"one person brings the groups along", round.Filter{Users: []string{"marit"}},
			"sooty create group crew\nsooty create account marit\nsooty join group crew: marit", 0},
		{"one kind", round.Filter{Kinds: []string{"different"}, Targets: []string{"sooty"}},
			"sooty adopt account hanne: nobody’s → hanne\nsooty change account hanne", 0},
		{"undecided only", round.Filter{Kinds: []string{"unmatched"}}, "", 1},
		{"nobody", round.Filter{Users: []string{"nobody"}}, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			turned := slices.Clone(findings)
			slices.Reverse(turned)
			for _, list := range [][]model.Finding{findings, turned} {
				steps, undecided := round.Draft(list, c.filter, round.Order{})
				if got := lines(steps); got != c.want || len(undecided) != c.undecided {
					t.Errorf("%d undecided, want %d; got\n%s\nwant\n%s", len(undecided), c.undecided, got, c.want)
				}
			}
		})
	}
}

func group(name string, in ...string) *model.Group {
	g := &model.Group{Name: name}
	for _, i := range in {
		g.In = append(g.In, model.Ref{Name: i})
	}
	return g
}

// For every pair of steps of which one leans on the other, in any order they
// are given, the one that is leaned on comes first.
func TestArrange(t *testing.T) {
	var acts []model.Act
	put := func(verb model.Verb, object model.ObjectKind, name, member string) {
		for _, target := range []string{"directory", "arctic", "ticketing"} {
			acts = append(acts, model.Act{Target: target, Verb: verb, Object: object, Name: name, Member: member})
		}
	}
	for _, g := range []string{"deck", "crew", "all"} {
		put(model.Create, model.GroupKind, g, "")
		put(model.Remove, model.GroupKind, "old-"+g, "")
	}
	put(model.Create, model.PlaceKind, "people", "")
	put(model.Remove, model.PlaceKind, "attic", "")
	put(model.Create, model.RightKind, "counter", "")
	put(model.Create, model.Account, "marit", "")
	put(model.JoinIt, model.GroupKind, "deck", "marit")
	put(model.LeaveIt, model.GroupKind, "old-deck", "jarle")
	put(model.Disable, model.Account, "jarle", "")
	put(model.Remove, model.Account, "olav", "")
	put(model.SetRule, model.PolicyKind, "staff", "")
	order := round.Order{
		Groups: map[string]*model.Group{"deck": group("deck", "crew"), "crew": group("crew", "all"), "all": group("all"),
			"old-deck": group("old-deck", "old-crew"), "old-crew": group("old-crew", "old-all"), "old-all": group("old-all")},
		Targets: map[string]*model.Target{"directory": {}, "arctic": {After: []model.Ref{{Name: "directory"}}},
			"ticketing": {After: []model.Ref{{Name: "arctic"}}}},
	}
	chain := []string{"create container people", "create group all", "create group crew", "create group deck", "create right counter",
		"create account marit", "leave group old-deck: jarle",
		"join group deck: marit", "set policy policy staff", "disable account jarle: open → open", "remove account olav",
		"remove group old-deck", "remove group old-crew", "remove group old-all", "remove container attic"}
	var want []string
	for _, target := range []string{"directory", "arctic", "ticketing"} {
		for _, s := range chain {
			want = append(want, target+" "+s)
		}
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		random.Shuffle(len(acts), func(i, j int) { acts[i], acts[j] = acts[j], acts[i] })
		if got := lines(round.Arrange(acts, order)); got != strings.Join(want, "\n") {
			t.Fatalf("got\n%s\nwant\n%s", got, strings.Join(want, "\n"))
		}
	}
	order.First = round.FirstOfEach(acts, map[string]*model.Target{"directory": {Kind: "directory"}, "arctic": {Kind: "host"},
		"ticketing": {Kind: "host"}}, 1)
	for _, s := range round.Arrange(acts, order) {
		if (s.Target == "ticketing") != (s.Wave == 2) {
			t.Fatalf("%s is in wave %d", s.Target, s.Wave)
		}
	}
}

func TestHolds(t *testing.T) {
	target := &model.Target{Name: "arctic", Protect: []string{"svc-*"},
		Limits: model.Limits{Remove: 2, RemoveShare: 10, Disable: 5, DisableShare: 25}}
	many := func(verb model.Verb, n int) []model.Act {
		var out []model.Act
		for i := range n {
			out = append(out, model.Act{Target: "arctic", Verb: verb, Object: model.Account, Name: fmt.Sprintf("hand-%d", i)})
		}
		return out
	}
	one := func(verb model.Verb, name string, more ...string) []model.Act {
		return []model.Act{{Target: "arctic", Verb: verb, Object: model.Account, Name: name, User: strings.Join(more, "")}}
	}
	sudo := one(model.Modify, "marit", "marit")
	both := map[string]bool{"odd": true, "eva": true}
	right := func(named ...string) *model.Object {
		return &model.Object{Attributes: model.Pack(model.Attribute{Name: model.Members, Values: named},
			model.Attribute{Name: model.MemberGroups, Values: []string{"sudo", "wheel"}},
			model.Attribute{Name: model.Number, Values: []string{"0"}})}
	}
	powerful := func(named []string, sets ...string) *power.Power {
		p, err := power.Of(right(named...), nil, []model.Named{{Kind: model.GroupKind, Name: "loose"}}, nil, false, powertest.Sets(sets...))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	seen := map[string]*model.Object{"toor": {Kind: model.Account, Name: "toor", System: true},
		"henry": {Kind: model.Account, Name: "henry", Ours: true},
		"boss": {Kind: model.Account, Name: "boss", Attributes: model.Pack(model.Attribute{Name: model.Elevation,
			Values: []string{"group sudo"}})},
		"shut": {Kind: model.Account, Name: "shut", Attributes: model.Pack(model.Attribute{Name: model.Elevation,
			Values: []string{"group sudo", "sudoers"}})}}
	joins := func(verb model.Verb, group string, names ...string) (out []model.Act) {
		for _, n := range names {
			out = append(out, model.Act{Target: "arctic", Verb: verb, Object: model.GroupKind, Name: group, Member: n,
				MemberKind: model.Account})
		}
		return out
	}
	inside := func(verb model.Verb, outer, inner string) []model.Act {
		return []model.Act{{Target: "arctic", Verb: verb, Object: model.GroupKind, Name: outer, Member: inner, MemberKind: model.GroupKind}}
	}
	byNumber := powerful(nil)
	byNumber.Account(&model.Object{Name: "eva", Attributes: model.Pack(model.Attribute{Name: model.Number, Values: []string{"0"}})})
	seats := func(verb model.Verb, names ...string) []model.Act {
		out := joins(verb, "desk", names...)
		for i := range out {
			out[i].Object = model.LicenceKind
		}
		return out
	}
	with := func(verb model.Verb, name, attribute, before, after string) []model.Act {
		a := one(verb, name)
		a[0].Changes = changed(attribute, before, after)
		return a
	}
	sealed := func(name string) []model.Act {
		a := one(model.Modify, name)
		a[0].Changes = []model.Change{{Attribute: model.Password, Sealed: "sealed"}}
		return a
	}
	homed := func(home string) []model.Act {
		a := one(model.Create, "marit")
		a[0].Changes = []model.Change{{Attribute: model.Home, After: []string{home}}}
		return a
	}
	sudo[0].Changes = []model.Change{{Attribute: model.Elevation, After: []string{"all"}}}
	for _, c := range []struct {
		name  string
		acts  []model.Act
		facts round.Facts
		want  string
		firm  bool
	}{
		{name: "nothing to see", acts: many(model.Disable, 3), facts: round.Facts{Accounts: 4}},
		{name: "as many as may be", acts: many(model.Remove, 2), facts: round.Facts{Accounts: 100}},
		{name: "one more", acts: many(model.Remove, 3), facts: round.Facts{Accounts: 100},
			want: "removals: it would remove 3 accounts on arctic, and the limit is 2: hand-0, hand-1, hand-2"},
		{name: "too large a share", acts: many(model.Disable, 5), facts: round.Facts{Accounts: 19},
			want: "disables: it would disable 5 of 19 accounts on arctic, and the limit is 25%: hand-0, hand-1, hand-2, hand-3, hand-4"},
		{name: "many", acts: many(model.Disable, 9), facts: round.Facts{Accounts: 1000},
			want: "disables: it would disable 9 accounts on arctic, and the limit is 5: hand-0, hand-1, hand-2, hand-3, hand-4 and 4 more"},
		{name: "home among homes", acts: homed("/home/marit"), facts: round.Facts{Accounts: 4}},
		{name: "home of the system's", acts: homed("/etc/systemd/system/ssh.service.d"), facts: round.Facts{Accounts: 4},
			want: "home: homes on arctic outside /home, where the homes of people are: marit at /etc/systemd/system/ssh.service.d"},
		{name: "home by a detour", acts: homed("/home/../etc"), facts: round.Facts{Accounts: 4},
			want: "home: homes on arctic outside /home, where the homes of people are: marit at /home/../etc"},
		{name: "protected", acts: one(model.Modify, "svc-backup"),
			want: `protected: change account of svc-backup on arctic: protected by "svc-*"; take the step out, or the name out of protect`, firm: true},
		{name: "our own branch", acts: one(model.Disable, "hen"),
			want: `own login: disable account of hen on arctic: Hen Roost signs in with it; take the step out, or the name out of protect`, firm: true},
		{name: "the last administrator", acts: append(one(model.Disable, "odd"), one(model.Remove, "eva")...),
			facts: round.Facts{Administrators: both, Accounts: 100},
			want: "last administrator: remove account eva on arctic would leave nobody there who can administer it; make another " +
				"administrator first", firm: true},
		{name: "not the last", acts: one(model.Disable, "odd"), facts: round.Facts{Administrators: both, Accounts: 100}},
		{name: "found, and then the last", acts: append(one(model.AdoptIt, "boss", "odd"), joins(model.LeaveIt, "sudo", "boss")...),
			facts: round.Facts{Accounts: 100},
			want: "last administrator: leave group boss · sudo on arctic would leave nobody there who can administer it; make another " +
				"administrator first", firm: true},
		{name: "superuser rights", acts: sudo, want: "elevation: superuser rights on arctic for marit (all)"},
		{name: "through a group", acts: joins(model.JoinIt, "sudo", "marit", "hanne"),
			want: "elevation: superuser rights on arctic for hanne (group sudo), marit (group sudo)"},
		{name: "a group that gives nothing", acts: joins(model.JoinIt, "crew", "marit")},
		{name: "through a primary group", acts: with(model.Create, "marit", model.PrimaryGroup, "", "wheel"),
			want: "elevation: superuser rights on arctic for marit (primary group wheel)"},
		{name: "through a number", acts: with(model.Modify, "marit", model.Number, "1001", "0"),
			want: "elevation: superuser rights on arctic for marit (number 0)"},
		{name: "named in a file before it is there", acts: one(model.Create, "ghost"),
			want: "elevation: superuser rights on arctic for ghost (named where superusers are)"},
		{name: "opened again", acts: one(model.Enable, "shut"),
			want: "elevation: superuser rights on arctic for shut (group sudo and sudoers)"},
		{name: "a new key for who has them", acts: with(model.Modify, "shut", model.Keys, "ssh-ed25519 AAAA", "ssh-ed25519 BBBB"),
			want: "elevation: superuser rights on arctic for shut (a new key of an account with group sudo and sudoers)"},
		{name: "another way in for who has them", acts: with(model.Modify, "shut", model.SignIn, "password", "unix_socket odd"),
			want: "elevation: superuser rights on arctic for shut (a new way to sign in of an account with group sudo and sudoers)"},
		{name: "a key taken from who has them", acts: with(model.Modify, "shut", model.Keys, "ssh-ed25519 AAAA", "")},
		{name: "a new key for who has none", acts: with(model.Modify, "henriette", model.Keys, "", "ssh-ed25519 BBBB")},
		{name: "a new password for who has them", acts: sealed("shut"),
			want: "elevation: superuser rights on arctic for shut (a new password of an account with group sudo and sudoers)"},
		{name: "a new password for who has none", acts: sealed("henriette")},
		{name: "the last leaves the group", acts: joins(model.LeaveIt, "sudo", "eva", "odd"),
			facts: round.Facts{Administrators: both, Power: powerful(nil, "group sudo: odd eva")},
			want: "last administrator: leave group odd · sudo on arctic would leave nobody there who can administer it; make another " +
				"administrator first", firm: true},
		{name: "one of two ways", acts: joins(model.LeaveIt, "sudo", "eva", "odd"), facts: round.Facts{Administrators: both,
			Power: powerful([]string{"odd"}, "group sudo: odd eva")}},
		{name: "the last by a group within", acts: inside(model.LeaveIt, "sudo", "inner"),
			facts: round.Facts{Administrators: both, Power: powerful(nil, "group sudo: +inner", "group inner: odd eva")},
			want: "last administrator: take group out inner · sudo on arctic would leave nobody there who can administer it; make " +
				"another administrator first", firm: true},
		{name: "the outer group goes", acts: []model.Act{{Target: "arctic", Verb: model.Remove, Object: model.GroupKind, Name: "sudo"}},
			facts: round.Facts{Administrators: both, Power: powerful(nil, "group sudo: +inner", "group inner: odd eva")},
			want: "last administrator: remove group sudo on arctic would leave nobody there who can administer it; make another " +
				"administrator first", firm: true},
		{name: "the last twice", acts: append(joins(model.LeaveIt, "sudo", "eva"), one(model.Disable, "eva")...),
			facts: round.Facts{Administrators: map[string]bool{"eva": true}, Power: powerful(nil, "group sudo: eva")},
			want: "last administrator: leave group eva · sudo on arctic would leave nobody there who can administer it; make another " +
				"administrator first\nlast administrator: disable account eva on arctic would leave nobody there who can administer it; " +
				"make another administrator first", firm: true},
		{name: "a group within that two lead to", acts: inside(model.LeaveIt, "sudo", "inner"),
			facts: round.Facts{Administrators: both,
				Power: powerful(nil, "group sudo: +inner", "group wheel: +inner", "group inner: odd eva")}},
		{name: "a whole group gains", acts: inside(model.JoinIt, "sudo", "loose"),
			facts: round.Facts{Power: powerful(nil, "group loose: ulla kari")},
			want:  "elevation: superuser rights on arctic for ulla, kari in group loose (group sudo)"},
		{name: "a group gains, and who comes into it", acts: append(inside(model.JoinIt, "sudo", "loose"),
			joins(model.JoinIt, "loose", "marit")...),
			facts: round.Facts{Power: powerful(nil)},
			want:  "elevation: superuser rights on arctic for marit in group loose (group sudo)"},
		{name: "the last by number", acts: with(model.Modify, "eva", model.Number, "0", "1001"),
			facts: round.Facts{Administrators: map[string]bool{"eva": true}, Power: byNumber},
			want: "last administrator: change account eva on arctic would leave nobody there who can administer it; make another " +
				"administrator first", firm: true},
		{name: "the system's own", acts: with(model.Modify, "toor", model.Number, "0", "1001"),
			want: "protected: change account of toor on arctic: the system's own; take the step out, or the name out of protect",
			firm: true},
		{name: "the system's own by name", acts: one(model.Disable, "daemon"),
			want: "protected: disable account of daemon on arctic: the system's own; take the step out, or the name out of protect",
			firm: true},
		{name: "ours under another name", acts: one(model.Disable, "henry"),
			want: "own login: disable account of henry on arctic: Hen Roost signs in with it; take the step out, or the name out of " +
				"protect", firm: true},
		{name: "too few seats", acts: append(seats(model.LeaveIt, "old"), seats(model.JoinIt, "a", "b", "c")...),
			facts: round.Facts{Pools: map[string]round.Pool{"desk": {Seats: 4, Taken: 3}}},
			want: "seats: licence desk on arctic has 4 seats, 3 of them taken and 1 freed here; 3 are to be taken: 1 too few. Buy more, " +
				"or take steps out; who has one: roost target seats arctic desk"},
		{name: "enough seats", acts: append(seats(model.LeaveIt, "old"), seats(model.JoinIt, "a", "b")...),
			facts: round.Facts{Pools: map[string]round.Pool{"desk": {Seats: 4, Taken: 3}}}},
		{name: "who has one takes none", acts: append(seats(model.LeaveIt, "gone"), seats(model.JoinIt, "a", "b")...),
			facts: round.Facts{Pools: map[string]round.Pool{"desk": {Seats: 2, Taken: 2, In: map[string]bool{"a": true, "b": true}}}}},
		{name: "no seats at all", acts: seats(model.JoinIt, "a"), facts: round.Facts{Pools: map[string]round.Pool{"desk": {}}},
			want: "seats: licence desk on arctic has 0 seats, 0 of them taken and 0 freed here; 1 are to be taken: 1 too few. Buy more, " +
				"or take steps out; who has one: roost target seats arctic desk"},
		{name: "too few shared seats", acts: append(seats(model.LeaveIt, "old"), seats(model.JoinIt, "a", "b")...),
			facts: round.Facts{Shared: []round.SharedPool{{Name: "suite", Seats: 4, Taken: 3, After: 5,
				Licences: map[string]bool{"desk": true}}}},
			want: "seats: the pool suite has 4 seats, 3 of them taken; 5 would be taken after this round: 1 too few. Buy more, or take " +
				"steps out; who has one: roost pool show suite"},
		{name: "a shared pool that is no worse", acts: seats(model.JoinIt, "a"),
			facts: round.Facts{Shared: []round.SharedPool{{Name: "suite", Seats: 4, Taken: 6, After: 6,
				Licences: map[string]bool{"desk": true}}}}},
		{name: "seats that nobody counts", acts: seats(model.JoinIt, "a", "b")},
		{name: "roles that clash", acts: one(model.Create, "both", "both"),
			want: "never-with: both holds both auditor and deck-crew, which nobody may (never-with)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.facts.Target, c.facts.Shield = target, model.Shield{Target: target, Login: "hen", System: []string{"daemon"}}
			if c.facts.Seen = seen; c.facts.Power == nil {
				c.facts.Power = powerful([]string{"ghost"}, "group sudo: boss")
				c.facts.Power.Account(seen["boss"])
			}
			holds := round.Holds(round.Arrange(c.acts, round.Order{}), map[string]round.Facts{"arctic": c.facts},
				func(user string) (string, string, bool) { return "auditor", "deck-crew", user == "both" })
			var got []string
			for _, h := range holds {
				got = append(got, h.Kind+": "+h.Words)
				if h.Firm != c.firm {
					t.Errorf("%s: firm is %v", h.Words, h.Firm)
				}
			}
			if s := strings.Join(got, "\n"); s != c.want {
				t.Errorf("got  %s\nwant %s", s, c.want)
			}
		})
	}
}

func TestUndo(t *testing.T) {
	closed := []model.Change{{Attribute: model.Disabled, Before: []string{"partly"}, After: []string{"yes"}}}
	done := []model.Act{
		{Target: "a", Verb: model.Create, Object: model.GroupKind, Name: "crew"},
		{Target: "a", Verb: model.AdoptIt, Object: model.Account, Name: "mf", User: "marit"},
		{Target: "a", Verb: model.Modify, Object: model.Account, Name: "mf", User: "marit",
			Changes: changed("shell", "/bin/sh", "/bin/bash")},
		{Target: "a", Verb: model.Create, Object: model.Account, Name: "hanne", User: "hanne"},
		{Target: "b", Verb: model.Create, Object: model.Account, Name: "hanne", User: "hanne"},
		{Target: "a", Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "mf", MemberKind: model.Account},
		{Target: "a", Verb: model.LeaveIt, Object: model.GroupKind, Name: "crew", Member: "jarle", MemberKind: model.Account},
		{Target: "a", Verb: model.Disable, Object: model.Account, Name: "jarle", Changes: closed},
		{Target: "a", Verb: "set password", Object: model.Account, Name: "mf"},
	}
	none := func(int) *round.Kept { return nil }
	acts, lost := round.Undo(done, func(target string) bool { return target == "b" }, none)
	if got, want := lines(round.Arrange(acts, round.Order{})), `a change account mf: shell /bin/bash → shell /bin/sh
a adopt account mf: marit → nobody’s
a enable account jarle: shut → open
a leave group crew: mf
a join group crew: jarle
a disable account hanne: open → shut
b remove account hanne`; sorted(got) != sorted(want) {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	var words []string
	for _, l := range lost {
		words = append(words, l.Words)
	}
	if got, want := strings.Join(words, "\n"), `set password account of mf on a cannot be taken back
account jarle on a was half shut before, and will be open
account hanne on a was made and stays, but is shut
group crew on a was made and stays: it can be removed there by hand`; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	// Taking back what was taken back is what was done, where nothing was lost.
	again, lost := round.Undo(acts[4:5], func(string) bool { return false }, none)
	if len(lost) != 0 || len(again) != 1 {
		t.Errorf("%v %v", again, lost)
	}
}

func sorted(s string) string {
	l := strings.Split(s, "\n")
	slices.Sort(l)
	return strings.Join(l, "\n")
}

// What was approved may run; what nobody approved may not, though the round was drafted without it.
func TestRefused(t *testing.T) {
	target := &model.Target{Name: "arctic", Limits: model.Limits{Remove: -1, RemoveShare: -1, Disable: 2, DisableShare: -1}}
	disable := func(names ...string) (out []round.Step) {
		for _, n := range names {
			out = append(out, round.Step{Act: model.Act{Target: "arctic", Verb: model.Disable, Object: model.Account, Name: n}})
		}
		return out
	}
	facts := round.Facts{Target: target, Shield: model.Shield{Target: target}}
	three := disable("a", "b", "c")
	approved := []round.Hold{{Kind: round.Disables, Target: "arctic", Steps: []int{11, 12, 13}}}
	for name, c := range map[string]struct {
		steps []round.Step
		seqs  []int
		facts func(*round.Facts)
		held  []round.Hold
		want  string
	}{
		"within the limit":             {three[:2], []int{11, 12}, nil, nil, ""},
		"over it, and approved":        {three, []int{11, 12, 13}, nil, approved, ""},
		"over it, others approved":     {three, []int{21, 22, 23}, nil, approved, round.Disables},
		"approved by an early version": {three, []int{21, 22, 23}, nil, []round.Hold{{Kind: round.Disables, Target: "arctic"}}, ""},
		"the rest of the round counts": {three[:1], []int{11}, func(f *round.Facts) { f.Closed.Disabled = 2 }, nil, round.Disables},
		"protected since": {three[:1], []int{11},
			func(f *round.Facts) { f.Shield.Target = &model.Target{Protect: []string{"a"}} }, approved, round.GuardedObject},
		"no administrator left": {three[:1], []int{11},
			func(f *round.Facts) { f.Administrators = map[string]bool{"a": true} }, approved, round.LastAdmin},
	} {
		f := facts
		if c.facts != nil {
			c.facts(&f)
		}
		got := ""
		h, some := round.Refused(c.steps, c.seqs, f, c.held, nil)
		if h != nil {
			got = h.Kind
		}
		for _, why := range some {
			got, _, _ = strings.Cut(why, ":")
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// What is done to an account that may not be made is left out with its making.
func TestLeftOutWithIt(t *testing.T) {
	target := &model.Target{Name: "arctic"}
	join := func(who string) round.Step {
		return round.Step{Act: model.Act{Target: "arctic", Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: who,
			MemberKind: model.Account}}
	}
	steps := []round.Step{{Act: model.Act{Target: "arctic", Verb: model.Create, Object: model.Account, Name: "marit", User: "marit"}},
		join("marit"), join("eva")}
	f := round.Facts{Target: target, Shield: model.Shield{Target: target}, Suspended: map[string]bool{"marit": true}}
	all, some := round.Refused(steps, []int{1, 2, 3}, f, nil, nil)
	if all != nil || len(some) != 2 || !strings.HasPrefix(some[1], "its account is not made: suspended: ") {
		t.Errorf("%v %v", all, some)
	}
}

// An account that was removed is made again from what was written down of it, and shut.
func TestUndoOfRemoval(t *testing.T) {
	removed := model.Act{Target: "pier", Verb: model.Remove, Object: model.Account, Name: "jarle", User: "jarle", Changes: []model.Change{
		{Attribute: model.Disabled, Before: []string{"yes"}}, {Attribute: model.Number, Before: []string{"1701"}},
		{Attribute: model.PrimaryGroup, Before: []string{"jarle"}}, {Attribute: model.Home, Before: []string{"/home/jarle"},
			After: []string{"archive"}}}}
	acts, lost := round.Undo([]model.Act{removed}, func(string) bool { return true }, nothing)
	if len(acts) != 2 || acts[0].Verb != model.Create || acts[0].After().One(model.Number) != "1701" ||
		acts[0].After().One(model.Home) != "/home/jarle" ||
		acts[0].After().Has(model.PrimaryGroup) || acts[1].Verb != model.Disable || len(lost) != 1 {
		t.Errorf("%+v %+v", acts, lost)
	}
	bare := model.Act{Target: "pier", Verb: model.Remove, Object: model.HomeKind, Name: "/home/x"}
	if acts, lost := round.Undo([]model.Act{bare}, nil, nothing); len(acts) != 0 || len(lost) != 1 {
		t.Errorf("%+v %+v", acts, lost)
	}
}

// Closing the superuser's password that a target was delivered with is let through whatever the account is; nothing else is.
func TestClosingTheFactory(t *testing.T) {
	root := &model.Object{Kind: model.Account, Name: "root", System: true, Ours: true,
		Attributes: model.Pack(model.Attribute{Name: model.Locked, Values: []string{"no"}})}
	facts := map[string]round.Facts{"pier": {Target: &model.Target{Name: "pier"},
		Shield: model.Shield{Target: &model.Target{Name: "pier"}, Login: "root"},
		Seen:   map[string]*model.Object{"root": root}}}
	for _, c := range []struct {
		changes []model.Change
		verb    model.Verb
		held    bool
	}{{changed(model.Locked, "no", "yes"), model.Modify, false}, {changed("shell", "/bin/sh", "/bin/false"), model.Modify, true},
		{changed(model.Disabled, "no", "yes"), model.Disable, true}} {
		holds := round.Holds([]round.Step{{Act: model.Act{Target: "pier", Verb: c.verb, Object: model.Account, Name: "root",
			Changes: c.changes}}}, facts, nil)
		if (len(holds) > 0) != c.held {
			t.Errorf("%+v: %+v", c, holds)
		}
	}
}

// What was kept of an account before it was removed makes it again, and puts it where it was.
func TestUndoOfKept(t *testing.T) {
	gone := model.Act{Target: "a", Verb: model.Remove, Object: model.Account, Name: "ulla@%", User: "ulla"}
	kept := &round.Kept{Changes: append(changed("sessions-most", "", "3"), model.Change{Attribute: model.PasswordKept, Sealed: "id"}),
		Sets: []model.Named{{Kind: model.GroupKind, Name: "deck"}, {Kind: model.RightKind, Name: "SELECT ON stores.*"}}}
	acts, lost := round.Undo([]model.Act{gone}, nil, func(int) *round.Kept { return kept })
	if got, want := lines(round.Arrange(acts, round.Order{})), `a create account ulla@%: sessions at most 3 · its password as it was
a join group deck: ulla@%
a give right SELECT ON stores.*: ulla@%`; sorted(got) != sorted(want) || len(lost) != 0 || acts[0].Changes[1].Sealed != "id" {
		t.Errorf("%s %v", got, lost)
	}
}

func nothing(int) *round.Kept { return nil }

// A right that makes superuser is elevation whether the target tells of it or not.
func TestMightyRights(t *testing.T) {
	right := model.Object{Kind: model.RightKind, Name: model.Superuser}
	right.Attributes = right.Attributes.With(model.Allows, "ALL ON *.*")
	target := &model.Target{Name: "a"}
	gains := func(mighty func(string) bool, join model.Act) string {
		p, err := power.Of(&right, nil, nil, mighty, false, func([]model.Named) ([]model.Object, error) { return nil, nil })
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range round.Holds([]round.Step{{Act: join}}, map[string]round.Facts{"a": {Target: target,
			Shield: model.Shield{Target: target}, Power: p}}, nil) {
			return h.Words
		}
		return ""
	}
	mighty := func(p string) bool { return strings.HasSuffix(p, "mysql.*") }
	for name, want := range map[string]string{"ALL ON *.*": "superuser rights on a for ulla@% (right ALL ON *.*)",
		"UPDATE ON mysql.*": "superuser rights on a for ulla@% (right UPDATE ON mysql.*)", "SELECT ON stores.*": ""} {
		join := model.Act{Target: "a", Verb: model.JoinIt, Object: model.RightKind, Name: name, Member: "ulla@%", MemberKind: model.Account}
		if got := gains(mighty, join); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
		join.Verb = model.LeaveIt
		if got := gains(mighty, join); got != "" {
			t.Errorf("who loses %s gains %q", name, got)
		}
	}
	alone := model.Act{Target: "a", Verb: model.JoinIt, Object: model.RightKind, Name: "UPDATE ON mysql.*", Member: "x"}
	if got := gains(nil, alone); got != "" {
		t.Errorf("without anybody who says so: %q", got)
	}
}

// Who minds a group is set once their account has been made, and goes with the group when that is taken back.
func TestAdministratorsLate(t *testing.T) {
	minders := func(names ...string) []model.Change {
		return []model.Change{{Attribute: model.Administrators, After: names}}
	}
	acts := []model.Act{{Target: "crewing", Verb: model.Create, Object: model.GroupKind, Name: "deck", Changes: minders("ulla")},
		{Target: "crewing", Verb: model.Create, Object: model.GroupKind, Name: "engine", Changes: minders("there")},
		{Target: "crewing", Verb: model.Create, Object: model.Account, Name: "ulla"},
		{Target: "crewing", Verb: model.JoinIt, Object: model.GroupKind, Name: "deck", Member: "ulla", MemberKind: model.Account}}
	want := "crewing create group deck\ncrewing create group engine: administrators there\ncrewing create account ulla\n" +
		"crewing change group deck: no administrators → administrators ulla\ncrewing join group deck: ulla"
	steps := round.Arrange(acts, round.Order{})
	if got := lines(steps); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	done := make([]model.Act, len(steps))
	for i, s := range steps {
		done[i] = s.Act
	}
	undo, lost := round.Undo(done, func(string) bool { return true }, func(int) *round.Kept { return nil })
	for _, a := range undo {
		if a.Verb == model.Modify {
			t.Errorf("%+v", a)
		}
	}
	if len(undo) != 4 || len(lost) != 0 {
		t.Errorf("%+v %+v", undo, lost)
	}
}
