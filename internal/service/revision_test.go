package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func TestRevisions(t *testing.T) {
	s, _ := surveyed(t, "# the crew\n"+declaration)
	edits := []declare.Edit{{Section: "users", Name: "hanne", Key: "roles", Do: declare.Take, Value: "crew"},
		{Section: "users", Name: "olav", Do: declare.Set, Value: map[string]any{"name": "Olav", "roles": []any{"crew"}}}}
	m, changed, err := s.MeansEdits(ctx, odd, edits)
	if err != nil || m.People != 2 || m.Moves[0].Say != "loses an account on arctic" ||
		m.Moves[1].Say != "is new; gains an account on arctic" || len(changed) != 1 || changed[0].Line != 5 || len(changed[0].After) != 2 {
		t.Fatalf("%+v %v", m, err)
	}
	if r, err := s.Edit(ctx, odd, 0, edits, "hanne left, olav came"); err != nil || r.Number != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	if _, err := s.Edit(ctx, odd, 0, []declare.Edit{{Section: "users", Name: "olav", Key: "roles", Do: declare.Add, Value: "nothing"}},
		"x"); door.ProblemOf(err).Kind != door.Faulty {
		t.Errorf("a role that is not there: %v", err)
	}
	if _, err := s.Edit(ctx, odd, 0, []declare.Edit{{Section: "users", Name: "per", Do: declare.Take}},
		"x"); door.ProblemOf(err).Kind != door.Invalid {
		t.Errorf("nobody to take away: %v", err)
	}
	c, err := s.CompareRevisions(ctx, odd, 1, 2)
	if err != nil || c.People != 2 || len(c.Lines) == 0 || c.Lines[0].File != "c.yaml" {
		t.Errorf("%+v %v", c, err)
	}
	if r, err := s.Restore(ctx, odd, 1, 0, "called off"); err != nil || r.Number != 3 ||
		r.Because != "revision 1 brought back: called off" {
		t.Errorf("%+v %v", r, err)
	}
	_, first, err := s.Files(ctx, odd, 1)
	_, last, err2 := s.Files(ctx, odd, 0)
	if err != nil || err2 != nil || first[0] != last[0] {
		t.Errorf("%v %v, not the same files", err, err2)
	}
	if list, total, err := s.Revisions(ctx, odd, door.Page{}); err != nil || total != 3 || list[0].Number != 3 {
		t.Errorf("%+v %v", list, err)
	}
	var p *door.Problem
	if _, err := s.Restore(ctx, odd, 9, 0, "x"); !errors.As(err, &p) || p.Kind != door.Unknown {
		t.Errorf("%v", err)
	}
}

func line(user, target, what string) rounds.BulkLine {
	return rounds.BulkLine{User: user, Target: target, What: what}
}

func TestBulk(t *testing.T) {
	s, _ := surveyed(t, declaration)
	settle(t, s)
	out, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "leave", Lines: []rounds.BulkLine{
		line("marit", "arctic", "disable"), line("hanne", "*", "enable"), line("marit", "*", "disable"), line("mrit", "arctic", "disable"),
		line("hanne", "arctic", "join nothing"), line("hanne", "arctic", "explode"), line("hanne", "arctic", "change full-name=Hanne V."),
		line("hanne", "arctic", "change nonsense=1")}})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, l := range out.Lines {
		got = append(got, fmt.Sprintf("%d %s %s", l.Line, l.Outcome, l.Words))
	}
	want := []string{"1 drafted ", "2 already-so ", "3 refused an earlier line asks for it",
		`4 refused no user is called "mrit"; did you mean "marit"?`, `5 refused arctic was not seen to hold the group "nothing"`,
		`6 refused "explode" is not one of disable, enable, remove, join GROUP, leave GROUP, change ATTRIBUTE=VALUE`,
		"7 drafted against the declaration (role crew): it lasts until the next round; to keep it until a day: --until DAY",
		`8 refused "change nonsense=1": write change ATTRIBUTE=VALUE, with an attribute of one value that can be set on arctic`}
	if !slices.Equal(got, want) || out.Round.Steps != 2 {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if r := carried(t, s, out.Round); r.State != rounds.Complete {
		t.Errorf("%+v", r)
	}
	if got := kinds(t, s, seen.DriftRequest{}); strings.Contains(got, "contested") ||
		!strings.Contains(got, "different enable account marit") {
		t.Errorf("what was asked for is contested: %s", got)
	}
	out, err = s.Bulk(ctx, odd, rounds.BulkRequest{Because: "table", CSV: "what,user,target\n\ndisable,hanne,arctic\nenable,nobody,*\n"})
	if err != nil || len(out.Lines) != 2 || out.Lines[0].Line != 3 || out.Lines[0].Outcome != "drafted" || out.Lines[1].Line != 4 ||
		out.Lines[1].Outcome != "refused" {
		t.Errorf("%+v %v", out, err)
	}
	if _, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "table", CSV: "who,what\n"}); door.ProblemOf(err).Field != "csv" {
		t.Errorf("a table without its columns: %v", err)
	}
	out, err = s.Bulk(ctx, odd, rounds.BulkRequest{Because: "all", Where: "user.number > 1000", What: "enable"})
	if err != nil || len(out.Lines) != 2 || out.Round.Steps != 1 {
		t.Errorf("%+v %v", out, err)
	}
	for where, field := range map[string]string{"user.number >": "where", "user.number > 9000": "where", "'x'": "where"} {
		if _, err := s.Bulk(ctx, odd, rounds.BulkRequest{Because: "x", Where: where, What: "enable"}); door.ProblemOf(err).Field != field {
			t.Errorf("%s: %v", where, err)
		}
	}
}

// Other params, for one round: nothing of it is stored but the round.
func TestParams(t *testing.T) {
	s, _ := surveyed(t, strings.Replace(strings.Replace(declaration, "users:", "params: {title: Marit}\nusers:", 1), "name: Marit Fell",
		`name: "${params.title} Fell"`, 1))
	settle(t, s)
	if _, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x",
		Params: map[string]string{"titel": "x"}}); door.ProblemOf(err).Kind != door.Invalid ||
		!strings.Contains(err.Error(), `did you mean "title"?`) {
		t.Errorf("%v", err)
	}
	r, err := s.Draft(ctx, odd, rounds.DraftRequest{Because: "x", Params: map[string]string{"title": "Captain"}})
	if err != nil || r.Steps != 1 || r.Params["title"] != "Captain" {
		t.Fatalf("%+v %v", r, err)
	}
	steps, _ := s.RoundSteps(ctx, odd, r.ID, rounds.StepChoice{}, 0)
	if steps.Items[0].After != "full name Captain Fell" {
		t.Errorf("%+v", steps.Items)
	}
	if got := kinds(t, s, seen.DriftRequest{}); got != "" {
		t.Error(got)
	}
}

func TestImportExport(t *testing.T) {
	s, _ := surveyed(t, declaration)
	for _, format := range declared.Formats {
		text, err := s.WriteUsers(ctx, odd, format, "ou=People,dc=x")
		if err != nil || !strings.Contains(text, "Marit Fell") {
			t.Fatalf("%s: %v %s", format, err, text)
		}
		back, err := s.ReadUsers(ctx, odd, declared.ImportRequest{Format: format, Text: text})
		if err != nil || back.Same != 2 || len(back.Edits) != 0 || len(back.Faults) != 0 {
			if format == "csv" || back.Changed > 0 && back.Edits[0].Key != "family" { // LDIF must say a family name
				t.Errorf("%s: %+v %v", format, back, err)
			}
		}
	}
	in, err := s.ReadUsers(ctx, odd, declared.ImportRequest{Format: "csv", Text: "id,name,number\nmarit,Marit Strand,1001\nolav,Olav,\nx\n",
		Roles: []string{"crew"}})
	if err != nil || in.New != 1 || in.Changed != 1 || len(in.Faults) != 1 || len(in.Edits) != 2 {
		t.Fatalf("%+v %v", in, err)
	}
	if r, err := s.Edit(ctx, odd, 0, in.Edits, "from the crewing office"); err != nil || r.Users != 3 {
		t.Errorf("%+v %v", r, err)
	}
	if u, err := s.User(ctx, odd, "olav"); err != nil || !slices.Equal(u.Roles, []string{"crew"}) || u.State != "active" {
		t.Errorf("%+v %v", u, err)
	}
	for name, err := range map[string]error{"format": second(s.ReadUsers(ctx, odd, declared.ImportRequest{Format: "xls"})),
		"role":   second(s.ReadUsers(ctx, odd, declared.ImportRequest{Format: "csv", Roles: []string{"crow"}})),
		"export": second(s.WriteUsers(ctx, odd, "xls", ""))} {
		if door.ProblemOf(err).Kind != door.Unknown {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Two people begin from one revision: what does not touch comes along, what does is told with both sides, and what changes nothing is no
// revision.
func TestBesideEachOther(t *testing.T) {
	s, _ := start(t)
	text := "roost: 1\n\nusers:\n  marit: {name: Marit Fell, number: 1001, roles: [crew]}\n\n  hanne: {name: Hanne Vik, number: 1014, " +
		"roles: [crew]}\n\nroles:\n" +
		"  crew: {gives: [{at: {kind: tern}}]}\n\ntargets:\n  arctic: {kind: tern, address: \"a:1\", login: {as: root, secret: key}}\n"
	one := func(old, new string) []declare.File {
		return []declare.File{{Name: "c.yaml", Text: strings.Replace(text, old, new, 1)}}
	}
	if _, err := s.DeclareFrom(ctx, odd, 0, one("", ""), "begin"); err != nil {
		t.Fatal(err)
	}
	if r, err := s.DeclareFrom(ctx, odd, 1, one("", ""), "nothing"); err != nil || !r.Unchanged || r.Number != 1 {
		t.Errorf("what changes nothing: %+v %v", r, err)
	}
	if r, err := s.Edit(ctx, odd, 0, []declare.Edit{{Section: "users", Name: "marit", Key: "number", Do: declare.Set, Value: "1001"}},
		"nothing"); err != nil || !r.Unchanged {
		t.Errorf("an edit that changes nothing: %+v %v", r, err)
	}
	if r, err := s.DeclareFrom(ctx, odd, 1, one("1014", "1015"), "hanne"); err != nil || r.Number != 2 {
		t.Fatalf("%+v %v", r, err)
	}
	m, err := s.MeansFrom(ctx, odd, 1, one("1001", "1002"))
	if err != nil || m.Revision != 2 || len(m.Merged) != 1 {
		t.Errorf("%+v %v", m, err)
	}
	r, err := s.DeclareFrom(ctx, odd, 1, one("1001", "1002"), "marit")
	if err != nil || r.Number != 3 || r.Beside != 2 || len(r.Merged) != 1 {
		t.Fatalf("%+v %v", r, err)
	}
	_, files, err := s.Files(ctx, odd, 0)
	if err != nil || !strings.Contains(files[0].Text, "1015") || !strings.Contains(files[0].Text, "1002") {
		t.Errorf("one of the two was lost: %s %v", files[0].Text, err)
	}
	_, err = s.DeclareFrom(ctx, odd, 1, one("1014", "1099"), "hanne again")
	p := door.ProblemOf(err)
	if p.Kind != door.Conflict || len(p.Clashes) != 1 || !strings.Contains(p.Clashes[0].Theirs[0], "1015") ||
		!strings.Contains(p.Clashes[0].Mine[0], "1099") {
		t.Errorf("%+v", p)
	}
	if _, err := s.DeclareFrom(ctx, odd, 0, one("1014", "1099"), "from nothing"); err == nil ||
		!strings.Contains(err.Error(), "revision 3 is declared; begin from it (you began from none)") {
		t.Errorf("%v", err)
	}
	if r, err := s.Edit(ctx, odd, 2, []declare.Edit{{Section: "roles", Name: "crew", Key: "about", Do: declare.Set, Value: "Crew"}},
		"looked at 2"); err != nil || r.Number != 4 || r.Beside != 3 {
		t.Errorf("%+v %v", r, err)
	}
	if _, err := s.Restore(ctx, odd, 1, 3, "back"); err == nil ||
		!strings.Contains(err.Error(), "revision 4 is declared since you looked") {
		t.Errorf("%v", err)
	}
}
