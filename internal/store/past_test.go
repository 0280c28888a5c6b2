package store_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// What became of an object is told whole and in order, however it is paged.
func TestHistory(t *testing.T) {
	s, _ := open(t)
	r := rand.New(rand.NewPCG(7, 7))
	crew := model.Named{Kind: model.GroupKind, Name: "crew"}
	in, number := map[string]bool{}, 0
	there := false
	var want []string // the newest first
	at := now
	for step := range 60 {
		at = at.Add(time.Minute)
		came, left := []string{}, []string{}
		wasThere, was := there, number
		gone := there && r.IntN(20) == 0
		if there = !gone; gone {
			left = slices.Sorted(maps.Keys(in))
			clear(in)
		} else {
			if r.IntN(4) == 0 {
				number++
			}
			for range r.IntN(1500) * r.IntN(2) {
				m := fmt.Sprintf("hand.%04d", r.IntN(4000))
				if in[m] = !in[m]; in[m] {
					came = append(came, m)
				} else {
					left = append(left, m)
					delete(in, m)
				}
			}
		}
		came, left = told(came, left)
		g, err := s.Sight(ctx, "a", at)
		if err == nil && there {
			err = g.Put(ctx, []model.Object{{Kind: crew.Kind, Name: crew.Name, Attributes: model.Pack(
				model.Attribute{Name: model.Members, Values: slices.Sorted(maps.Keys(in))},
				model.Attribute{Name: model.Number, Values: []string{fmt.Sprint(number)}})}})
		}
		if err == nil {
			_, err = g.Done(ctx)
		}
		if err != nil {
			t.Fatal(step, err)
		}
		if there != wasThere || was != number && there || len(came)+len(left) > 0 {
			before, after := "", ""
			if wasThere && (!there || was != number) {
				before = fmt.Sprint(was)
			}
			if there && (!wasThere || was != number) {
				after = fmt.Sprint(number)
			}
			want = append([]string{line(at, before, after, came, left)}, want...)
		}
	}
	for _, size := range []int{1, 3, 100} {
		var got []string
		for before, more := at.Add(time.Hour), true; more; {
			var list []store.Moment
			var err error
			if list, more, err = s.History(ctx, "a", crew, before, size); err != nil {
				t.Fatal(err)
			}
			for _, m := range list {
				value := func(o *model.Object) string {
					if o == nil {
						return ""
					}
					return o.Attributes.One(model.Number)
				}
				got = append(got, line(m.At, value(m.Before), value(m.After), namesOf(m.Came), namesOf(m.Left)))
				before = m.At
			}
			if more && len(list) == 0 {
				t.Fatal("a page holds nothing, and more is to come")
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("by %d:\n%s\nwant\n%s", size, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// told leaves out who came and left again.
func told(came, left []string) ([]string, []string) {
	n := map[string]int{}
	for _, m := range came {
		n[m]++
	}
	for _, m := range left {
		n[m]--
	}
	came, left = []string{}, []string{}
	for _, m := range slices.Sorted(maps.Keys(n)) {
		if n[m] > 0 {
			came = append(came, m)
		} else if n[m] < 0 {
			left = append(left, m)
		}
	}
	return came, left
}

func line(at time.Time, before, after string, came, left []string) string {
	return fmt.Sprintf("%s %s>%s +%v -%v", at.UTC().Format("15:04"), before, after, came, left)
}

func namesOf(list []model.Named) []string {
	out := []string{}
	for _, n := range list {
		out = append(out, n.Name)
	}
	return out
}

// A matrix has everybody who is in one of its sets, once, page by page.
func TestAcross(t *testing.T) {
	s, _ := open(t)
	r := rand.New(rand.NewPCG(9, 9))
	names := []string{"all-hands", "crew", "deck", "nobody"}
	want := map[string][]int{}
	var objects []model.Object
	for i, most := range []int{3000, 200, 1, 0} {
		members := map[string]bool{}
		for len(members) < most {
			members[fmt.Sprintf("%s.%04d", []string{"hand", "møller", "z"}[r.IntN(3)], r.IntN(5000))] = true
		}
		list := slices.Sorted(maps.Keys(members))
		for _, m := range list {
			want[m] = append(want[m], i)
		}
		objects = append(objects, model.Object{Kind: model.GroupKind, Name: names[i],
			Attributes: model.Pack(model.Attribute{Name: model.Members, Values: list})})
	}
	g, err := s.Sight(ctx, "a", now)
	if err == nil {
		err = g.Put(ctx, objects)
	}
	if err == nil {
		_, err = g.Done(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, prefix := range []string{"", "mø", "x"} {
		left := maps.Clone(want)
		maps.DeleteFunc(left, func(m string, _ []int) bool { return !strings.HasPrefix(m, prefix) })
		after := ""
		for more := true; more; {
			var list []store.Standing
			if list, more, err = s.Across(ctx, "a", model.GroupKind, names, model.Account, prefix, after, 97); err != nil {
				t.Fatal(err)
			}
			for _, x := range list {
				slices.Sort(x.In)
				if !slices.Equal(left[x.Name], x.In) || x.Name <= after {
					t.Fatalf("%q behind %q: in %v, want %v", x.Name, after, x.In, left[x.Name])
				}
				after = x.Name
				delete(left, x.Name)
			}
			if more && len(list) != 97 {
				t.Fatalf("a page of %d, and more is to come", len(list))
			}
		}
		if len(left) > 0 {
			t.Errorf("with %q %d were not told", prefix, len(left))
		}
	}
}
