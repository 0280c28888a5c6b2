package guard

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
)

// unguarded are the fields of a target by which nobody gains power or a secret, and why.
var unguarded = map[string]string{"Name": "is what it is known by", "Tags": "choose roles, whose grants are seen and held",
	"Match": "adoption of what has power is held", "Dormant": "is only told", "UnusedSeats": "is only told", "After": "is an order",
	"Pos": "is a place in a file", "InForce": "is what is approved"}

// guardedFields are those that targetValues looks at, and the settings that they are in the list by.
var guardedFields = map[string]string{"Kind": "kind", "Address": "address", "Login": "login.as", "Settings": "settings.x",
	"Unexpected": "unexpected", "Protect": "protect", "Lent": "lends", "Leaves": "leaves", "Via": "via", "Homes": "homes.under",
	"Removal": "removal.home", "Limits": "limits.remove", "Window": "window", "Repeat": "repeat.survey"}

// A field that targets come to have is guarded, or said not to be.
func TestEveryFieldIsThoughtOf(t *testing.T) {
	for _, f := range reflect.VisibleFields(reflect.TypeFor[model.Target]()) {
		setting, is := guardedFields[f.Name]
		if is == (unguarded[f.Name] != "") {
			t.Errorf("nothing says whether %s of a target is guarded", f.Name)
		}
		if _, known := About(Target, setting); is && !known {
			t.Errorf("%s is not in the list", setting)
		}
	}
}

func target(change func(*model.Target)) *model.Declaration {
	t := &model.Target{Name: "arctic", Kind: "host", Login: model.Login{Secret: "key"}, Protect: []string{"svc-*"}, Lent: []string{"www"},
		Unexpected: "disable", Limits: model.Limits{Remove: 5, Disable: 20, RemoveShare: 10, DisableShare: 10, FailShare: 25},
		Removal: model.Removal{Home: "keep"}, Window: model.Window{Days: []time.Weekday{1}, From: 60, Till: 120}}
	if change != nil {
		change(t)
	}
	return &model.Declaration{Targets: map[string]*model.Target{"arctic": t}}
}

func reach(address string) map[string]model.Reach {
	return map[string]model.Reach{"arctic": {Address: address, As: "root", Settings: map[string]string{"people": "ou=x"}}}
}

// What is loosened waits, and the stricter of both is in force; what is tightened counts at once.
func TestGuard(t *testing.T) {
	arctic := Thing{Target, "arctic"}
	first := Enforce(target(nil), reach("a:1"), nil, nil, "ann", 1)
	if s := first.States[arctic]; !s.Fresh() || s.Pending["address"] != (Pending{"a:1", "ann", 1}) {
		t.Fatalf("a new target: %+v", s)
	}
	known := map[Thing]State{arctic: first.States[arctic].Approve(nil, "bo")}
	if g := Enforce(target(nil), reach("a:1"), nil, known, "ann", 2); len(g.States[arctic].Pending) != 0 ||
		g.Targets["arctic"].InForce != nil {
		t.Errorf("nothing changed: %+v", g.States)
	}
	for what, c := range map[string]struct {
		change  func(*model.Target)
		address string
		waits   string
		force   func(*model.Target) bool
	}{
		"another address": {nil, "evil:1", "address",
			func(t *model.Target) bool { return t.InForce.Address == "a:1" && t.InForce.As == "root" }},
		"another secret": {func(t *model.Target) { t.Login.Secret = "other" }, "a:1", "login.secret",
			func(t *model.Target) bool { return t.Login.Secret == "key" }},
		"nothing protected": {func(t *model.Target) { t.Protect = nil }, "a:1", "protect",
			func(t *model.Target) bool { return slices.Equal(t.Protect, []string{"svc-*"}) }},
		"something else protected": {func(t *model.Target) { t.Protect = []string{"kiosk"} }, "a:1", "protect",
			func(t *model.Target) bool { return slices.Equal(t.Protect, []string{"kiosk", "svc-*"}) }},
		"more protected": {func(t *model.Target) { t.Protect = []string{"kiosk", "svc-*"} }, "a:1", "", nil},
		"a higher limit": {func(t *model.Target) { t.Limits.Disable = 1000 }, "a:1", "limits.disable",
			func(t *model.Target) bool { return t.Limits.Disable == 20 && t.Limits.Remove == 5 }},
		"no limit": {func(t *model.Target) { t.Limits.Disable = -1 }, "a:1", "limits.disable",
			func(t *model.Target) bool { return t.Limits.Disable == 20 }},
		"a lower limit": {func(t *model.Target) { t.Limits.Disable = 1 }, "a:1", "", nil},
		"more lent": {func(t *model.Target) { t.Lent = []string{"www", "root"} }, "a:1", "lends",
			func(t *model.Target) bool { return slices.Equal(t.Lent, []string{"www"}) }},
		"less lent": {func(t *model.Target) { t.Lent = nil }, "a:1", "", nil},
		"it repeats itself": {func(t *model.Target) { t.Repeat.Reconcile = time.Minute }, "a:1", Reconciles,
			func(t *model.Target) bool { return t.Repeat.Reconcile == 0 }},
		"any time of the week": {func(t *model.Target) { t.Window = model.Window{} }, "a:1", "window",
			func(t *model.Target) bool { return t.Window.From == 60 && t.Window.Days[0] == 1 }},
		"homes of the system's": {func(t *model.Target) { t.Homes.Under = []string{"/etc"} }, "a:1", "homes.under",
			func(t *model.Target) bool { return t.Homes.Under == nil }},
	} {
		d := target(c.change)
		g := Enforce(d, reach(c.address), nil, known, "eve", 3)
		waits := strings.Join(slices.Sorted(maps.Keys(g.States[arctic].Pending)), " ")
		if waits != c.waits || c.force != nil && !c.force(g.Targets["arctic"]) {
			t.Errorf("%s: %q waits, and in force is %+v", what, waits, g.Targets["arctic"])
		}
		if c.change != nil && c.force != nil && d.Targets["arctic"] == g.Targets["arctic"] {
			t.Errorf("%s: the declaration itself was changed", what)
		}
		if c.waits == "" { // it is what loosening is measured against from then on
			if back := Enforce(target(nil), reach("a:1"), nil, g.States, "eve", 4); len(back.States[arctic].Pending) == 0 {
				t.Errorf("%s: loosened again, and nothing waits", what)
			}
		}
	}
	other := Enforce(target(func(t *model.Target) { t.Kind = "mariadb" }), reach("a:1"), nil, known, "eve", 3)
	if !other.States[arctic].Fresh() {
		t.Errorf("of another kind it is no new target: %+v", other.States[arctic])
	}
	if gone := Enforce(&model.Declaration{}, nil, nil, first.States, "eve", 3); len(gone.States[arctic].Pending) != 0 {
		t.Errorf("a target that is no longer declared waits: %+v", gone.States)
	}
	if back := Enforce(target(nil), reach("evil:1"), nil, Enforce(&model.Declaration{}, nil, nil, known, "eve", 3).States, "eve",
		4); back.States[arctic].Fresh() || len(back.States[arctic].Pending) != 1 {
		t.Errorf("taken out and declared again: %+v", back.States)
	}
	taught := Enforce(target(nil), reach("a:1"), map[string]model.Schema{"host": {Digest: "another"}}, known, "eve", 3)
	if p := taught.States[arctic].Pending; len(p) != 1 || p["dialect"].Value != "another" {
		t.Errorf("another file teaches its kind: %+v", p)
	}
	repeats := Enforce(target(func(t *model.Target) { t.Repeat.Reconcile = time.Hour }), reach("a:1"), nil, known, "eve", 3)
	if got := repeats.States[arctic].Approve(nil, "bo").By; got != [2]string{"eve", "bo"} {
		t.Errorf("it repeats in the names of %q", got)
	}
}

// Roles are kept apart, and weak passwords kept out, until somebody else agrees; a policy that is taken out is in force still.
func TestGuardedRolesAndPolicies(t *testing.T) {
	declare := func(apart []string, screening string, policy bool) *model.Declaration {
		r := &model.Role{Name: "auditor"}
		for _, n := range apart {
			r.NeverWith = append(r.NeverWith, model.Ref{Name: n})
		}
		d := &model.Declaration{Roles: map[string]*model.Role{"auditor": r, "clerk": {Name: "clerk"}}, Policies: map[string]*model.Policy{}}
		if policy {
			d.Policies["staff"] = &model.Policy{Name: "staff", At: []model.Selector{{Kind: "host"}}, Values: []model.Setting{
				{Name: model.PolicyScreening, Values: []string{screening}}, {Name: model.PolicyWords, Values: []string{"ferry"}}}}
		}
		return d
	}
	first := Enforce(declare([]string{"clerk"}, "refuse", true), nil, nil, nil, "ann", 1)
	if len(first.States[Thing{Role, "auditor"}].Pending)+len(first.States[Thing{Policy, "staff"}].Pending) != 0 { // nothing is loosened
		t.Errorf("%+v", first.States)
	}
	known := maps.Clone(first.States)
	known[Thing{Policy, "staff"}] = known[Thing{Policy, "staff"}].Approve(nil, "bo")
	g := Enforce(declare(nil, "watch", true), nil, nil, known, "eve", 2)
	if r := g.Roles["auditor"].NeverWith; len(r) != 1 || r[0].Name != "clerk" {
		t.Errorf("roles are no longer kept apart: %+v", r)
	}
	if v := g.Policies["staff"].Value(model.PolicyScreening); len(v) != 0 {
		t.Errorf("screening is %q", v)
	}
	g = Enforce(declare(nil, "", false), nil, nil, known, "eve", 2)
	if p := g.Policies["staff"]; p == nil || !slices.Equal(p.Value(model.PolicyWords), []string{"ferry"}) || p.At[0].Kind != "host" {
		t.Errorf("a policy that was taken out: %+v", p)
	}
}
