package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/scim"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
	"hen-roost/internal/service/servicetest"
)

const company = `roost: 1
users:
  odd: {name: Odd Strand}
  ulla: {name: Ulla Niemi, mail: "${user.id}@ternsound.example", roles: [hand]}
  siri: {name: Siri Dahl, until: 2020-01-01}
roles: {hand: {gives: []}}
`

// office is a service with a personnel system that pushes people in.
type office struct {
	*testing.T
	*Service
	admin, personnel door.Operator
}

func newOffice(t *testing.T, x intake.Settings) office {
	t.Helper()
	h := servicetest.Open(t)
	s, err := New(Config{Store: h.Store, Kinds: h.Kinds, KeyFile: h.KeyFile, Log: h.Log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	ctx := context.Background()
	o := office{t, s, door.Operator{Name: "odd.strand", Duties: door.Duties}, door.Operator{Name: "personnel",
		Duties: []door.Duty{door.Push}}}
	if _, err := s.FirstOperator(ctx, "odd.strand", "", "a long enough password"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperator(ctx, door.Itself, "personnel", "", "a long enough password", []string{"push"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Declare(ctx, o.admin, []declare.File{{Name: "crew.yaml", Text: company}}, "begin"); err != nil {
		t.Fatal(err)
	}
	if err := s.Intake.Set(ctx, o.admin, "personnel", x); err != nil {
		t.Fatal(err)
	}
	return o
}

func (o office) push(format string, args ...any) string {
	o.Helper()
	p, err := o.Intake.Add(context.Background(), o.personnel, fmt.Appendf(nil, format, args...))
	if err != nil {
		o.Fatal(err)
	}
	return p.ID
}

func (o office) proposes() intake.Proposal {
	o.Helper()
	p, err := o.Intake.Propose(context.Background(), o.admin, "personnel")
	if err != nil {
		o.Fatal(err)
	}
	return p
}

// What is pushed becomes users as the settings say, what cannot be read is told, and the others go on.
func TestIntakeMapping(t *testing.T) {
	o := newOffice(t, intake.Settings{Roles: []string{"hand"}, File: "crew.yaml", Fields: map[string]string{"id": "externalId",
		"details.base": "addresses.locality", "number": "urn:x:payroll:number", "from": "urn:x:payroll:begins"}})
	o.push(`{"userName":"ulla@corp","externalId":"ulla","displayName":"Ulla Niemi","emails":[{"value":"ulla@ternsound.example"}]}`)
	boss := o.push(`{"userName":"new@corp","externalId":"liv.strom","displayName":"Liv Strøm","addresses":[{"locality":"quay"}],
		"urn:x:payroll":{"number":1900,"begins":"2031-02-03"}}`)
	o.push(`{"userName":"led@corp","externalId":"per","displayName":"Per","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":
		{"manager":{"value":"%s"},"department":"Deck"}}`, boss)
	o.push(`{"userName":"lost@corp","externalId":"kim","displayName":"Kim","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":
		{"manager":{"value":"nobody known"}}}`)
	o.push(`{"userName":"odd@corp","externalId":"jo","displayName":"Jo","urn:x:payroll":{"number":"many"}}`)
	o.push(`{"userName":"nameless@corp","externalId":"x"}`)
	o.push(`{"userName":"sly@corp","externalId":"sly","displayName":"${params.domain}"}`)
	o.push(`{"userName":"twice@corp","externalId":"per","displayName":"Per Two"}`)
	p := o.proposes()
	if p.New != 3 || p.Same != 1 || p.Changed != 0 || len(p.Faults) != 4 {
		t.Errorf("%+v", p)
	}
	words := fmt.Sprint(p.Edits, p.Faults)
	for _, want := range []string{"base:quay", "number:1900", "from:2031-02-03", "manager:liv.strom", "department:Deck", "roles:[hand]",
		"odd@corp", "has no name", "stands twice", "holds ${"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not told: %s", want, words)
		}
	}
	if strings.Contains(words, "nobody known") {
		t.Errorf("a manager whom nobody knows: %s", words)
	}
	if _, err := o.Intake.Take(context.Background(), o.admin, "personnel", p.Mark, "spring", 0); err != nil {
		t.Fatal(err)
	}
	if p := o.proposes(); !p.Empty() || p.Same != 4 {
		t.Errorf("once more: %+v", p)
	}
}

// Who comes and goes, and comes again; a name that was given up may be another's.
func TestIntakeComeAndGo(t *testing.T) {
	o := newOffice(t, intake.Settings{})
	ctx := context.Background()
	ulla := o.push(`{"userName":"ulla","displayName":"Ulla Niemi"}`)
	o.push(`{"userName":"siri","displayName":"Siri Dahl"}`)
	if p := o.proposes(); len(p.Back) != 1 || p.Back[0] != "siri" || len(p.Leaving) != 0 {
		t.Errorf("%+v", p)
	}
	if err := o.Intake.Remove(ctx, o.personnel, ulla, 9); !is(err, 412) {
		t.Errorf("of another version: %v", err)
	}
	if err := o.Intake.Remove(ctx, o.personnel, ulla, 1); err != nil {
		t.Fatal(err)
	}
	if err := o.Intake.Remove(ctx, o.personnel, ulla, 0); !is(err, 404) {
		t.Errorf("twice: %v", err)
	}
	if p := o.proposes(); len(p.NotTheirs) != 1 || p.NotTheirs[0] != "ulla" || len(p.Leaving) != 0 {
		t.Errorf("somebody who was here before leaves by it: %+v", p)
	}
	if _, err := o.Intake.Give(ctx, o.admin, "personnel", []string{"ula"}); err == nil || !strings.Contains(err.Error(), `"ulla"`) {
		t.Errorf("a name that is wrong: %v", err)
	}
	if n, err := o.Intake.Give(ctx, o.admin, "personnel", []string{"ulla"}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	p := o.proposes()
	if len(p.Leaving) != 1 || p.Leaving[0] != "ulla" || p.Held != "" {
		t.Errorf("%+v", p)
	}
	if _, err := o.Intake.Take(ctx, o.admin, "personnel", p.Mark, "autumn", 0); err != nil {
		t.Fatal(err)
	}
	c, err := o.Current(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if u := c.Declared.Users["ulla"]; u.Span.Until != time.Now().UTC().AddDate(0, 0, -1).Format(time.DateOnly) {
		t.Errorf("her last day: %+v", u.Span)
	}
	if u := c.Declared.Users["siri"]; u.Span.Until != "" {
		t.Errorf("she is back: %+v", u.Span)
	}
	if !o.isEmpty() {
		t.Error("it is not settled")
	}
	o.push(`{"userName":"ulla","displayName":"Ulla Niemi"}`)
	if p := o.proposes(); len(p.Back) != 1 || p.Back[0] != "ulla" {
		t.Errorf("she comes again: %+v", p)
	}
}

func (o office) isEmpty() bool { p := o.proposes(); return p.Empty() }

func is(err error, status scim.Status) bool {
	var e *scim.Error
	return errors.As(err, &e) && e.Status == status
}

// Who may do what, and what is refused.
func TestIntakeDoors(t *testing.T) {
	o := newOffice(t, intake.Settings{})
	ctx := context.Background()
	if _, err := o.Intake.Add(ctx, o.admin, []byte(`{"userName":"x"}`)); !is(err, 403) {
		t.Errorf("somebody who was not set up: %v", err)
	}
	if _, err := o.Intake.Propose(ctx, o.personnel, "personnel"); door.ProblemOf(err).Kind != door.Forbidden {
		t.Errorf("it may not look: %v", err)
	}
	if _, err := o.Sources(ctx); err != nil {
		t.Error(err)
	}
	for body, want := range map[string]scim.Status{`{"userName":"a\u0000"}`: 400, `{"userName":"` + strings.Repeat("a", 300) + `"}`: 400,
		`{"userName":"b","note":"` + strings.Repeat("a", 300<<10) + `"}`: 413, `null`: 400} {
		if _, err := o.Intake.Add(ctx, o.personnel, []byte(body)); !is(err, want) {
			t.Errorf("%.40s: %v", body, err)
		}
	}
	for _, x := range []intake.Settings{{Roles: []string{"captain"}}, {File: "none.yaml"}, {Share: 101},
		{Fields: map[string]string{"shoe": "x"}},
		{Fields: map[string]string{"details.": "x"}}, {Fields: map[string]string{"mail": ""}}} {
		if err := o.Intake.Set(ctx, o.admin, "personnel", x); err == nil {
			t.Errorf("%+v is taken", x)
		}
	}
	id := o.push(`{"userName":"kim","displayName":"Kim"}`)
	same, err := o.Intake.Change(ctx, o.personnel, id, 0, func(r scim.Resource) (scim.Resource, error) { return r, nil })
	if err != nil || same.Version != 1 {
		t.Errorf("nothing changed: %+v %v", same.Version, err)
	}
	o.push(`{"userName":"per","displayName":"Per"}`)
	if _, err := o.Intake.Change(ctx, o.personnel, id, 0, func(r scim.Resource) (scim.Resource, error) {
		r["userName"] = "PER"
		return r, nil
	}); !is(err, 409) {
		t.Errorf("another's name: %v", err)
	}
	page, total, err := o.Intake.Find(ctx, o.personnel, `displayName sw "k" or displayName eq "per"`, 2, 5)
	if err != nil || total != 2 || len(page) != 1 {
		t.Errorf("%d of %d, %v", len(page), total, err)
	}
}

// Sources is what an operator is told of those that push.
func (o office) Sources(ctx context.Context) ([]intake.Source, error) {
	list, err := o.Intake.Sources(ctx, o.admin)
	if err == nil && (len(list) != 1 || list[0].Name != "personnel") {
		err = fmt.Errorf("%+v", list)
	}
	return list, err
}

// A file that a system drops says of people what they would be pushed as: each line is answered, and who is in no line is gone,
// where a file holds everybody and all of it could be read.
func TestDrop(t *testing.T) {
	o := newOffice(t, intake.Settings{Fields: map[string]string{"number": "Payroll no", "details.base": "addresses.locality"}})
	o.push(`{"userName":"odd","displayName":"Odd Strand"}`)
	drop := func(csv, everybody bool, text string) (string, error) {
		list, err := o.Intake.Drop(ctx, "personnel", csv, everybody, []byte(text))
		var out []string
		for _, a := range list {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%d %s %s %s", a.Line, a.Name, a.Outcome, a.Words)))
		}
		return strings.Join(out, "\n"), err
	}
	const head = "userName,displayName,name.givenName,emails,Payroll no,addresses.locality,manager,active\r\n"
	for _, c := range []struct {
		csv, everybody bool
		text, want     string
	}{
		{true, false, "\ufeff" + head + "per,\"Aune, Per\",Per,per@x.example,1900,Quay,odd,\r\n" + "short,one\r\n" + ",Nobody,,,,,,\r\n" +
			"per,Again,,,,,,\r\nliv,Liv,,,,,,perhaps\r\nodd,Odd Strand,,,,,,\r\n",
			"2 per new\n3  not read it has 2 cells, and there are 8 columns\n" +
				"4  not read userName is missing, longer than 255 bytes, or has control characters in it\n" +
				"5 per not read it stands on line 2 already\n6 liv not read active is true or false, not \"perhaps\"\n7 odd the same"},
		{true, true, head + "per,Per Aune,,,,,,no\nliv,Liv,,,,,,maybe\n",
			"2 per changed\n3 liv not read active is true or false, not \"maybe\"\n" +
				"0 odd the same it is not in the file, and is not taken for gone, since lines could not be read"},
		{false, true, "{\"userName\":\"per\",\"displayName\":\"Per\",\"password\":\"s3cret-s3cret\"}\n\nnot json\n",
			"1 per changed\n3  not read a user is a JSON object\n" +
				"0 odd the same it is not in the file, and is not taken for gone, since lines could not be read"},
		{false, true, "{\"displayName\":\"Per\",\"userName\":\"PER\"}\n", "1 per changed\n0 odd gone it is not in the file"},
		{false, false, "{\"userName\":\"odd\",\"displayName\":\"Odd\"}\n", "1 odd new"},
	} {
		if got, err := drop(c.csv, c.everybody, c.text); err != nil || got != c.want {
			t.Errorf("%q:\n%s\n%v, want\n%s", c.text, got, err, c.want)
		}
	}
	for _, bad := range []string{"", "name,mail\nx,y\n", head + "a,\"b\n"} {
		if got, err := drop(true, true, bad); err == nil || got != "" {
			t.Errorf("%q: %s", bad, got)
		}
	}
	if _, err := drop(false, true, strings.Repeat("x", 300<<10)); err == nil {
		t.Error("a line without an end is read")
	}
	if _, err := o.Intake.Drop(ctx, "nobody", true, true, []byte(head)); err == nil {
		t.Error("somebody drops who may not")
	}
	if p := o.proposes(); p.New != 1 || p.Changed != 1 || len(p.Leaving) != 0 {
		t.Errorf("%+v", p)
	}
}
