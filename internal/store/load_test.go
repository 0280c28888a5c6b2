package store_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// Many rows at once are written as they are, by either way to the server, and one
// that cannot be is an error.
func TestManyRows(t *testing.T) {
	s, db := open(t)
	odd := []string{"tab\there", "line\nhere", `back\slash`, `\N`, "nul\x00here", "Ærøskøbing", "'\"", "", "\\\t\\\n"}
	var objects []model.Object
	var members []string
	for i := range 600 {
		objects = append(objects, model.Object{Kind: model.Account, Name: fmt.Sprintf("hand.%04d %s", i, odd[i%2+5]), Unique: fmt.Sprint(i),
			System: i%3 == 0, Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{odd[i%len(odd)], fmt.Sprint(i)}})})
		members = append(members, objects[i].Name)
	}
	for i := range 300 {
		objects = append(objects, model.Object{Kind: model.GroupKind, Name: fmt.Sprintf("group %04d", i),
			Attributes: model.Pack(model.Attribute{Name: model.Members, Values: members[i : i+2]})})
	}
	put := func(target string, list []model.Object) error {
		g, err := s.Sight(ctx, target, now)
		if err == nil {
			err = g.Put(ctx, list)
		}
		if err == nil {
			_, err = g.Done(ctx)
		}
		return err
	}
	t.Cleanup(func() { db.Exec("SET GLOBAL local_infile = 1"); store.LoadAgain() })
	for target, allowed := range map[string]int{"a": 1, "b": 0} {
		if _, err := db.Exec(fmt.Sprint("SET GLOBAL local_infile = ", allowed)); err != nil {
			t.Fatal(err)
		}
		if allowed == 1 {
			store.LoadAgain()
		}
		if err := put(target, objects); err != nil {
			t.Fatal(err)
		}
		accounts, others, _, err := s.Holding(ctx, target)
		if err != nil || len(accounts) != 600 || len(others) != 300 {
			t.Fatalf("%s: %d and %d, %v", target, len(accounts), len(others), err)
		}
		for i, o := range accounts {
			want := objects[i]
			if o.Name != want.Name || o.Unique != want.Unique || o.System != want.System || o.Attributes != want.Attributes {
				t.Fatalf("%s: %+v\nwant %+v", target, o, want)
			}
		}
		if got := others[7].Attributes.Get(model.Members); !slices.Equal(got, members[7:9]) {
			t.Errorf("%s: %v", target, got)
		}
		long := slices.Clone(objects[:300])
		long[250].Name = strings.Repeat("long", 100)
		if err := put("long-"+target, long); err == nil {
			t.Errorf("%s: a name that does not fit was written", target)
		}
	}
}
