package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// stands writes a matrix line by line.
func stands(t *testing.T, s *Service, kind string, q seen.MatrixQuery) string {
	t.Helper()
	m, err := s.TargetMatrix(ctx, odd, "stores", kind, q)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, x := range m.Lines {
		words := x.Name + " of " + x.User + ":"
		for _, set := range slices.Sorted(maps.Keys(x.Stands)) {
			words += " " + set + " " + x.Stands[set]
		}
		out = append(out, words)
	}
	return strings.Join(out, "; ")
}

// Of a target of any kind it is shown who has what, as declared or not, and what
// became of each thing, by what its schema says.
func TestWhoHasWhat(t *testing.T) {
	s, m := onMemory(t)
	if got := stands(t, s, "right", seen.MatrixQuery{}); got != "" {
		t.Errorf("before anything was done: %s", got)
	}
	filled(t, s)
	survey(t, s)
	if got, want := stands(t, s, "right", seen.MatrixQuery{Prefix: "ma"}),
		"marit@10.1.% of marit: sell as declared; marit@localhost of marit: sell as declared"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	// Somebody takes one away and gives another by hand.
	right := model.Named{Kind: model.RightKind, Name: "sell"}
	m.Part(right, model.Named{Kind: model.Account, Name: "marit@localhost"})
	m.Enter(right, model.Named{Kind: model.Account, Name: "jarle@%"})
	m.Put(model.Object{Kind: model.RightKind, Name: "audit"})
	m.Enter(model.Named{Kind: model.RightKind, Name: "audit"}, model.Named{Kind: model.Account, Name: "marit@localhost"})
	survey(t, s)
	if got, want := stands(t, s, "right", seen.MatrixQuery{Of: "account", Size: 3}), "hanne@localhost of hanne: sell as declared; "+
		"jarle@% of : sell found; marit@10.1.% of marit: sell as declared"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if got, want := stands(t, s, "right", seen.MatrixQuery{After: "marit@10.1.%", Size: 1}),
		"marit@localhost of marit: audit found sell missing"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if got, want := stands(t, s, "licence", seen.MatrixQuery{Size: 1}), "hanne@localhost of hanne: seat as declared"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if _, err := s.TargetMatrix(ctx, odd, "stores", "account", seen.MatrixQuery{}); err == nil {
		t.Error("accounts have members")
	}

	past := func(kind, name string, before time.Time) string {
		t.Helper()
		h, err := s.ObjectHistory(ctx, odd, "stores", kind, name, before, 10)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, p := range h.Items {
			words := fmt.Sprintf("%s +%v -%v", p.State, p.Came, p.Left)
			for _, v := range p.Values {
				words += fmt.Sprintf(" %s %v>%v", v.Attribute, v.Before, v.After)
			}
			out = append(out, words)
		}
		return strings.Join(out, "; ")
	}
	if got := past("right", "sell", time.Time{}); !strings.HasPrefix(got, "changed +[jarle@%] -[marit@localhost]; ") ||
		!strings.Contains(got, "first seen") {
		t.Error(got)
	}
	m.Put(holding("jarle@%", "bash"))
	survey(t, s)
	if got := past("account", "jarle@%", time.Time{}); !strings.HasPrefix(got, "changed +[] -[] disabled [yes]>[no] shell [sh]>[bash]; ") {
		t.Error(got)
	}
	if _, err := s.ObjectHistory(ctx, odd, "stores", "group", "nope", time.Time{}, 0); door.ProblemOf(err).Kind != door.Unknown {
		t.Error(err)
	}
}

// A round that is held says whose approval counts, and whose does not yet and until when.
func TestApproversAreNamed(t *testing.T) {
	tight := strings.Replace(declaration, "unexpected: disable", "unexpected: disable, limits: {disable: 1}", 1)
	s, _ := surveyed(t, tight, "jarle", "1701", "wilma", "1702")
	if _, err := s.FirstOperator(ctx, odd.Name, "Odd Strand", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperator(ctx, odd, "kari", "Kari Berg", "", []string{"look", "approve"}); err != nil {
		t.Fatal(err)
	}
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "clean up"})
	if err != nil || r.State != rounds.OnHold || len(r.Approvers) != 0 || !r.Alone || len(r.Later) != 1 ||
		!strings.Contains(r.Later[0], "kari from ") || !strings.Contains(r.Later[0], "roost operator confirm kari") {
		t.Errorf("%q %q %v", r.Approvers, r.Later, err)
	}
}
