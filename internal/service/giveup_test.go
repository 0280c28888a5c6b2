package service

import (
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
)

// What a round put right and something changes back can be left to that: only what was changed back, and never what power hangs on.
func TestGiveUp(t *testing.T) {
	s, f := surveyed(t, declaration, "marit", "1001", "hanne", "1014")
	settle(t, s)
	survey(t, s)
	f.Change("marit", model.FullName, "Marit the Second")
	survey(t, s)
	contested := func() []seen.Finding {
		t.Helper()
		list, err := s.Drift(ctx, door.Itself, seen.DriftRequest{}, 100)
		if err != nil {
			t.Fatal(err)
		}
		return slices.DeleteFunc(list.Items, func(x seen.Finding) bool { return x.Kind != string(model.Contested) })
	}
	list := contested()
	if len(list) != 1 || !strings.Contains(list[0].Note, "put right once") {
		t.Fatalf("%+v", list)
	}
	key := list[0].Key
	for _, c := range []struct {
		who     door.Operator
		keys    []string
		because string
		want    string
	}{
		{door.Operator{Name: "jo", Duties: []door.Duty{door.Look}}, []string{key}, "b", "draft"},
		{door.Itself, nil, "b", "name between 1 and"},
		{door.Itself, []string{"0000"}, "b", `no finding "0000"`},
		{door.Itself, []string{key}, "", "reason"},
	} {
		if _, err := s.GiveUp(ctx, c.who, c.keys, c.because); err == nil || !strings.Contains(strings.ToLower(err.Error()), c.want) {
			t.Errorf("%q: %v, want %q", c.keys, err, c.want)
		}
	}
	r, err := s.GiveUp(ctx, door.Itself, []string{key}, "the ship's own list names people")
	if err != nil || r.Number != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	c, err := s.Current(ctx)
	if err != nil || !slices.Equal(c.Declared.Targets["arctic"].Leaves, []string{model.FullName}) {
		t.Fatalf("%+v %v", c.Declared.Targets["arctic"].Leaves, err)
	}
	if left := contested(); len(left) != 0 {
		t.Errorf("%+v", left)
	}
	// Who is new gets it all the same.
	text := strings.Replace(declaration, "  hanne:", "  kari: {name: Kari Berg, number: 1010, roles: [crew]}\n  hanne:", 1)
	text = strings.Replace(text, "unexpected:", "leaves: [full-name], unexpected:", 1)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "c.yaml", Text: text}}, "somebody new"); err != nil {
		t.Fatal(err)
	}
	settle(t, s)
	survey(t, s)
	f.Mu.Lock()
	kari, marit := f.Objects["accountkari"], f.Objects["accountmarit"]
	f.Mu.Unlock()
	if kari.Attributes.One(model.FullName) != "Kari Berg" || marit.Attributes.One(model.FullName) != "Marit the Second" {
		t.Errorf("%v %v", kari.Attributes.Map(), marit.Attributes.Map())
	}
	// A finding that is none of the kind, and a number, are not given up.
	f.Change("kari", model.Number, "1099")
	survey(t, s)
	all, err := s.Drift(ctx, door.Itself, seen.DriftRequest{}, 100)
	if err != nil || len(all.Items) == 0 {
		t.Fatalf("%+v %v", all, err)
	}
	if _, err := s.GiveUp(ctx, door.Itself, []string{all.Items[0].Key}, "no"); err == nil {
		t.Errorf("%+v was given up", all.Items[0])
	}
}
