package service

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// letters writes a number in letters, as names of accounts are here.
func letters(n int) string {
	s := ""
	for ; n > 0; n /= 26 {
		s = string(rune('a'+n%26)) + s
	}
	return "hand." + s
}

// town is a declaration large enough to be read in parts.
func town(people int) string {
	var b strings.Builder
	b.WriteString("roost: 1\nroles:\n  crew: {gives: [{at: {kind: tern}, groups: [deck]}]}\n  mate: {gives: [{at: {kind: tern}, groups: " +
		"[bridge]}]}\n  extra: {gives: [{at: {kind: tern}, groups: [rare]}]}\n" +
		"groups: {deck: {}, bridge: {}, rare: {}}\ntargets:\n")
	for _, name := range []string{"arctic", "sooty"} {
		fmt.Fprintf(&b, "  %s: {kind: tern, address: \"%s:1\", login: {as: root, secret: key}, unexpected: disable, "+
			"protect: [\"svc*\"]}\n", name, name)
	}
	b.WriteString("users:\n")
	for i := range people {
		fmt.Fprintf(&b, "  %s:\n    name: Hand %d\n    number: %d\n    details: {note: \"%s\"}\n    roles: [crew]\n", letters(i+1), i,
			2000+i, strings.Repeat("x", 60))
	}
	return b.String()
}

// told lists all findings there are, and what the day has counted so far.
func told(t *testing.T, s *Service) string {
	t.Helper()
	rows, _, err := s.Store.Findings(ctx, store.FindingFilter{}, "", 10_000)
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, r := range rows {
		lines = append(lines, fmt.Sprintf("%s %+v", r.Key, r.Finding))
	}
	days, err := s.Store.Trend(ctx, time.Time{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range days {
		if d.N > 0 {
			lines = append(lines, fmt.Sprintf("%s %s %d", d.Target, d.Kind, d.N))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// Edits of few people, compared within their reach, leave what a comparison of everything finds.
func TestFollow(t *testing.T) {
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 3))
	s, f := start(t)
	const people = 650
	for i := range people - 50 { // the last fifty have no account yet
		number := fmt.Sprint(2000 + i)
		if i%97 == 0 {
			number = fmt.Sprint(9000 + i)
		}
		f.Add(letters(i+1), number, "full-name", fmt.Sprintf("Hand %d", i))
	}
	f.Add("stray", "2649", "full-name", "Hand 7")
	f.Add("svc", "700")
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "town.yaml", Text: town(people)}}, "t"); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSecret(ctx, door.Itself, "key", []byte("hunter2-hunter2")); err != nil {
		t.Fatal(err)
	}
	survey(t, s)
	r, err := s.Draft(ctx, door.Itself, rounds.DraftRequest{Choice: declared.Choice{Kinds: []string{"different"}}, Because: "t"})
	if err != nil {
		t.Fatal(err)
	}
	s.Begin()
	defer s.Close()
	carried(t, s, r)
	followed := 0
	for i := range 40 {
		who := letters(1 + random.IntN(people))
		e := declare.Edit{Section: "users", Name: who, Do: declare.Set}
		switch random.IntN(9) {
		case 0:
			e.Key, e.Value = "name", fmt.Sprintf("Hand %d", random.IntN(people))
		case 1:
			e.Key, e.Value = "number", 3000+i
		case 2:
			e.Key, e.Value = "roles", []any{"crew", "mate"}
		case 3:
			e.Key, e.Value = "until", "2020-01-01"
		case 4:
			e.Name, e.Value = "new."+letters(i+1), map[string]any{"name": fmt.Sprintf("New %d", i), "number": 5000 + i,
				"roles": []any{"crew"}}
		case 5:
			e.Do = declare.Take
		case 6:
			e.Key, e.Value = "accounts", map[string]any{"arctic": "none"}
		case 7:
			e.Key, e.Value = "roles", []any{"extra"}
		case 8:
			e.Name, e.Value = "old."+letters(i+1), map[string]any{"name": "Old", "number": 9000 + 97*random.IntN(5)}
		}
		before := s.Newest(ctx)
		means, _, err := s.MeansEdits(ctx, door.Itself, []declare.Edit{e})
		rev, derr := s.Edit(ctx, door.Itself, 0, []declare.Edit{e}, "t")
		if (err == nil) != (derr == nil) {
			t.Fatalf("seed %d, step %d, %+v: %v, %v", seed, i, e, err, derr)
		}
		if err != nil {
			continue // taken away before, or a number that somebody has
		}
		if means.Findings != rev.Findings {
			t.Errorf("seed %d, step %d, %+v: %d findings were foretold, and there are %d", seed, i, e, means.Findings, rev.Findings)
		}
		after := s.Newest(ctx)
		if p := before.Plan.People[0]; p.ID != e.Name && after.Plan.People[0] == p {
			followed++
		}
		got := told(t, s)
		if err := s.CompareAll(ctx); err != nil {
			t.Fatal(err)
		}
		if want := told(t, s); got != want {
			t.Fatalf("seed %d, step %d, %+v:\n%s\nwant\n%s", seed, i, e, less(got, want), less(want, got))
		}
	}
	if followed < 20 {
		t.Errorf("seed %d: only %d edits were followed", seed, followed)
	}
	// Another service reads what this one stored, and finds it the same.
	other, err := New(configOf(s))
	if err != nil {
		t.Fatal(err)
	}
	a, b := s.Newest(ctx), other.Newest(ctx)
	if b == nil || a.Revision != b.Revision || !slices.Equal(a.Source.Files(), b.Source.Files()) ||
		len(a.Plan.People) != len(b.Plan.People) {
		t.Error("another service reads something else")
	}
	// Edits of what somebody else has changed meanwhile are refused, and lose nothing.
	if _, err := other.Edit(ctx, door.Itself, 0, []declare.Edit{{Section: "groups", Name: "deck", Key: "about", Do: declare.Set,
		Value: "x"}},
		"t"); err != nil {
		t.Fatal(err)
	}
	third, err := New(configOf(s))
	if err != nil {
		t.Fatal(err)
	}
	if third.Newest(ctx) == nil {
		t.Error("what another service stored, on text that it had cut itself, cannot be read")
	}
	files, err := a.Source.Apply([]declare.Edit{{Section: "groups", Name: "deck", Key: "about", Do: declare.Set, Value: "y"}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.DeclareFrom(ctx, door.Itself, a.Revision, files, "t"); err == nil ||
		!strings.Contains(err.Error(), "changes the same lines") {
		t.Error(err)
	}
}

// less are the lines of one text that the other has not.
func less(a, b string) string {
	other := strings.Split(b, "\n")
	return strings.Join(slices.DeleteFunc(strings.Split(a, "\n"), func(l string) bool { return slices.Contains(other, l) }), "\n")
}

// A survey that sees nothing new compares nothing, and one that does compares.
func TestNothingNew(t *testing.T) {
	s, f := surveyed(t, declaration, "marit", "1501")
	compared := func() int64 {
		row, err := s.Store.Target(ctx, "arctic")
		if err != nil {
			t.Fatal(err)
		}
		return row.Comparisons
	}
	first, list := compared(), told(t, s)
	for range 2 {
		survey(t, s)
	}
	if n := compared(); n != first || told(t, s) != list {
		t.Errorf("compared %d times more though nothing was new", n-first)
	}
	f.Change("marit", "number", "1502")
	survey(t, s)
	if n := compared(); n != first+1 || told(t, s) == list {
		t.Errorf("compared %d times after a change", n-first)
	}
	first = compared()
	tomorrow := s.Now().AddDate(0, 0, 1)
	s.Clock = func() time.Time { return tomorrow }
	survey(t, s)
	if n := compared(); n != first+1 {
		t.Errorf("compared %d times on another day", n-first)
	}
	// What a round changes is compared when it is over, and not taken for known before.
	settle(t, s)
	if row, err := s.Store.Target(ctx, "arctic"); err != nil || row.Compared != 1 || told(t, s) == list {
		t.Errorf("%+v %v", row, err)
	}
}
