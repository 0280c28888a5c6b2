package connect_test

import (
	"fmt"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Names that could do harm where they are shown are cleaned, and two stay two.
func TestFit(t *testing.T) {
	for _, name := range []string{"", "marit.fell@10.1.%", "O'Neill \"x\"", "نور", "a`b"} {
		if fit, words := connect.Fit(name); fit != name || words != "" {
			t.Errorf("%q is told as %q: %s", name, fit, words)
		}
	}
	seen := map[string]string{}
	for _, name := range []string{"a\nb", "a\rb", "a b\x00", "x\xffy", "root\u202etoor", "a\tb"} {
		fit, words := connect.Fit(name)
		if words == "" || model.Unfit(fit, false) != "" || seen[fit] != "" {
			t.Errorf("%q is told as %q (%s), as %q is", name, fit, words, seen[fit])
		}
		seen[fit] = name
	}
}

// Whoever is in something mighty is mighty, however far, in circles too; what all are in makes all.
func TestPower(t *testing.T) {
	account := func(n string) model.Named { return model.Named{Kind: model.Account, Name: n} }
	group := func(n string) model.Named { return model.Named{Kind: model.GroupKind, Name: n} }
	members := map[model.Named][]model.Named{group("admins"): {group("helpers"), account("ada")}, group("helpers"): {group("admins"),
		account("ada"), account("bo")}, account("root"): {account("cy"), group("dbas")}, group("dbas"): {account("di")},
		account("di"): {account("eva")}, group("crew"): {account("fay")}}
	how, right := connect.Power(map[model.Named][]string{group("admins"): nil, account("root"): {"right SUPER", "right SUPER"}}, members, "all")
	want := "map[ada:[group admins group helpers] bo:[group helpers] cy:[account root] di:[group dbas] eva:[account di] root:[right SUPER]]"
	if got := fmt.Sprint(how); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if got := fmt.Sprint(right.Attributes.Map()); got != "map[member-groups:[admins dbas] members:[root]]" {
		t.Error(got)
	}
	_, right = connect.Power(map[model.Named][]string{group("all"): nil}, nil, "all")
	if got := right.Attributes.One(model.Members); got != model.Everyone {
		t.Errorf("what all have makes %q superuser", got)
	}
}

func TestClockOff(t *testing.T) {
	for by, want := range map[time.Duration]string{0: "0", 4 * time.Second: "0", -4 * time.Second: "0", time.Hour: "3600", -time.Hour: "-3600"} {
		if got := connect.ClockOff(time.Now().Add(by)); got != want {
			t.Errorf("%s: %s, want %s", by, got, want)
		}
	}
}
