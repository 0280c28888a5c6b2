package host

import (
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

// Days, sizes and counts are told in one form, whatever the host has for "not at all".
func TestForms(t *testing.T) {
	for line, want := range map[string]string{
		"20000:0:99999:7::": "password-changed 2024-10-04, password-min-age 0, password-max-age never, password-warning 7, " +
			"password-inactive never, expires never",
		"0:1:90:14:30:22583": "password-min-age 1, password-max-age 90, password-warning 14, password-inactive 30, expires " +
			"2031-10-31",
		":::::": "password-min-age 0, password-max-age never, password-warning 0, password-inactive never, " +
			"expires never",
		"x:-1:99999999:y:z:-5": "password-min-age 0, password-max-age never, password-warning 0, password-inactive never, " +
			"expires never",
		"1:2:3":                     "",
		"99999999999:0:0:0:0:99999": "password-min-age 0, password-max-age 0, password-warning 0, password-inactive 0, expires 2243-10-16",
	} {
		got := map[string]string{}
		for _, a := range ageOf(line) {
			got[a.Name] = a.Values[0]
		}
		var parts []string
		for _, name := range []string{changed, least, most, warning, inactive, expires} {
			if got[name] != "" {
				parts = append(parts, name+" "+got[name])
			}
		}
		if s := strings.Join(parts, ", "); s != want {
			t.Errorf("%q: %s\nwant %s", line, s, want)
		}
	}
	for day, want := range map[string]string{"1970-01-02": "1", "2031-10-31": "22583", "never": "", "soon": ""} {
		if got := numberOf(day); got != want {
			t.Errorf("%s is day %q, want %q", day, got, want)
		}
	}
	for n, want := range map[int]string{9: "9", 12: "10", 999: "900", 4711: "4000"} {
		if got := about(n); got != want {
			t.Errorf("about %d: %s", n, got)
		}
	}
	for n, want := range map[int64]string{0: "0", 99: "99", 12345: "12000"} {
		if got := roughly(n); got != want {
			t.Errorf("roughly %d: %s", n, got)
		}
	}
}

// A command comes back from our own file as it went in, and no sign of sudoers' own gets through.
func TestElevationLines(t *testing.T) {
	for _, command := range []string{"all", "/bin/reboot", `/usr/bin/id -u --x=a,b:c`, `/bin/echo "two words" \ # no comment`, "/bin/x !y"} {
		for _, asks := range []bool{true, false} {
			line := ruleOf("marit.fell", command, asks)
			got, ok := givenOf(line)
			if !ok || got.account != "marit.fell" || got.command != command || strings.Contains(line, "NOPASSWD") == asks {
				t.Errorf("%q became %q and %+v", command, line, got)
			}
		}
	}
	for _, line := range []string{"", "# a comment", "Defaults !authenticate", "marit ALL=(root) ALL", "%sudo ALL = (ALL) ALL"} {
		if got, ok := givenOf(line); ok {
			t.Errorf("%q is taken for one of ours: %+v", line, got)
		}
	}
	for member, want := range map[string]bool{"marit.fell": true, "%sudo": false, "ALL": false, "#0": false, "a,b": false, "+net": false,
		"!x": false, "x y": false} {
		act := model.Act{Verb: model.JoinIt, Object: model.ElevationKind, Name: "all", Member: member}
		if got := unfitElevation(act) == ""; got != want {
			t.Errorf("%s can be elevated: %v", member, got)
		}
	}
}

// Who doas and su let become superuser.
func TestDoasAndSu(t *testing.T) {
	p := newPower()
	for _, line := range []string{"permit nopass marit", "permit :deck", "permit ulla as root", "permit kari as postgres", "deny hanne",
		"permit setenv { PS1=x } siri cmd reboot", "# permit nobody", "permit", "permit persist keepenv :crew # all of them"} {
		p.doas(line)
	}
	for _, name := range []string{"marit", "ulla", "siri"} {
		if p.accounts[name] != "doas" {
			t.Errorf("%s cannot", name)
		}
	}
	for _, name := range []string{"kari", "hanne", "nobody"} {
		if p.accounts[name] != "" {
			t.Errorf("%s can", name)
		}
	}
	for _, group := range []string{"deck", "crew"} {
		if p.groups[group] != "doas" {
			t.Errorf("group %s cannot", group)
		}
	}
	p.su("auth required pam_wheel.so group=rowers")
	p.su("auth required pam_wheel.so deny group=guests")
	if p.groups["rowers"] != "su" || p.groups["guests"] != "" {
		t.Errorf("%v", p.groups)
	}
}

// What a home's line says is read, and one that says too little is refused.
func TestHomeLines(t *testing.T) {
	r, err := newAnswer(strings.NewReader("seen:marit:Nov 26 2026 08:27:36 +0100\nhome:1001:12345:1700000000:1:marit:/home/a "+
		"b:c\nhome:1990:0:0:0::/home/x\nZ:\n"), "root").read()
	if err != nil || len(r.homes) != 2 {
		t.Fatalf("%v %v", r, err)
	}
	list := r.folders()
	if a := list[0].Attributes; list[0].Name != "/home/a b:c" || a.One(model.LastUse) != "2026-11-26" || a.One(model.InUse) != "yes" ||
		a.One(model.Size) != "12000" || a.One(model.HeldBy) != "marit" {
		t.Errorf("%s %v", list[0].Name, a.Map())
	}
	if a := list[1].Attributes; a.Has(model.LastUse) || a.Has(model.HeldBy) || a.Has(model.InUse) {
		t.Errorf("%v", a.Map())
	}
	if _, err := newAnswer(strings.NewReader("home:1:2:3\n"), "root").read(); err == nil {
		t.Error("a line that is too short is taken")
	}
}
