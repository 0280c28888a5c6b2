package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	connector "hen-roost/internal/connect/scim"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo"
	"hen-roost/internal/scim"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/standin"
)

// pusher makes the operator by which a personnel system pushes people in, and returns its token.
func pusher(t *testing.T, d *demo.Demo) string {
	t.Helper()
	if _, err := d.Server.Service.AddOperator(context.Background(), door.Itself, "personnel", "", "a long enough password",
		[]string{"push"}); err != nil {
		t.Fatal(err)
	}
	_, secret, _, err := d.Server.Service.SignIn(context.Background(), "personnel", "a long enough password", "test", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	return secret
}

// A personnel system pushes people in: they wait, are seen, and are taken; leavers above the share need a word more.
func TestIntake(t *testing.T) {
	d := prepared(t)
	c := calling(t, d)
	token := pusher(t, d)
	at := func(want int, method, path, body string, header ...string) scim.Resource {
		t.Helper()
		status, text, _ := c.call(method, "/scim/v2"+path, token, body, header...)
		if status != want {
			t.Errorf("%s %s: %d %s, want %d", method, path, status, text, want)
		}
		var r scim.Resource
		_ = json.Unmarshal([]byte(text), &r)
		return r
	}
	if r := at(403, "GET", "/Users", ""); !strings.Contains(r.Text("detail"), "not set up to push") || r.Text("status") != "403" {
		t.Errorf("%v", r)
	}
	expect(t, d, 1, "a system that pushes people in is an operator with the duty push and no other", "intake", "set", "odd.strand")
	expect(t, d, 0, "personnel may push people in", "intake", "set", "personnel", "--role", "deck-crew", "--file", "deck.yaml",
		"--field", "details.base=addresses.locality")
	made := at(201, "POST", "/Users",
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"liv.strom","name":{"givenName":"Liv",
		"familyName":"Strøm"},"displayName":"Liv Strøm","active":true,"password":"never kept","emails":[{"value":"liv.strom@ternsound.example",
		"primary":true}],"addresses":[{"type":"work","locality":"northquay"}]}`)
	id := made.Text("id")
	if id == "" || made.Get("password") != nil || made.Text("meta.resourceType") != "User" || made.Text("meta.version") != `W/"1"` {
		t.Errorf("%v", made)
	}
	if r := at(409, "POST", "/Users", `{"userName":"LIV.STROM","displayName":"Another"}`); r.Text("scimType") != "uniqueness" {
		t.Errorf("%v", r)
	}
	for body, typ := range map[string]string{`{"displayName":"x"}`: "invalidValue", `[]`: "invalidSyntax",
		`{"userName":"a","active":"yes"}`: "invalidValue",
		`{`:                               "invalidSyntax"} {
		if r := at(400, "POST", "/Users", body); r.Text("scimType") != typ {
			t.Errorf("%s: %v", body, r)
		}
	}
	at(412, "PATCH", "/Users/"+id, `{"Operations":[{"op":"replace","path":"displayName","value":"x"}]}`, "If-Match", `W/"9"`)
	patched := at(200, "PATCH", "/Users/"+id, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"Replace",
		"path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department","value":"Deck"}]}`, "If-Match", `W/"1"`)
	if patched.Text("meta.version") != `W/"2"` || patched.Text(scim.EnterpriseSchema+":department") != "Deck" {
		t.Errorf("%v", patched)
	}
	at(400, "GET", "/Users?filter=userName+is+3", "")
	at(404, "GET", "/Users/nobody", "")
	if r := at(200, "GET", "/Users?filter=userName+eq+%22Liv.Strom%22&attributes=userName", ""); r.Get("totalResults") != 1.0 ||
		strings.Contains(fmt.Sprint(r), "displayName") {
		t.Errorf("%v", r)
	}
	if r := at(200, "GET", "/Groups?count=2&startIndex=2", ""); r.Get("itemsPerPage") != 2.0 || r.Get("totalResults") != 13.0 {
		t.Errorf("%v", r)
	}
	if r := at(200, "GET", "/Roles/bosun", ""); !strings.Contains(r.Text("about"), "cupboard") {
		t.Errorf("%v", r)
	}
	at(405, "POST", "/Groups", `{}`)
	many := at(200, "POST", "/Bulk", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"Operations":[
		{"method":"POST","path":"/Users","bulkId":"a","data":{"userName":"per.aune","displayName":"Per Aune",
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"`+id+`"}}}},
		{"method":"POST","path":"/Users","bulkId":"b","data":{"userName":"kari.berg","displayName":"Kari Berg-Lund",
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"bulkId:a"}}}},
		{"method":"DELETE","path":"/Users/nobody"},{"method":"POST","path":"/Groups","bulkId":"c","data":{}}]}`)
	text, _ := json.Marshal(many)
	if got := strings.Count(string(text), `"status":"201"`); got != 2 || strings.Count(string(text), `"status":"404"`) != 4 {
		t.Errorf("%s", text)
	}
	if p := decode[intake.Proposal](t, must(t, d, "intake", "show", "personnel", "-o", "json")); p.New != 2 || len(p.Edits) != 4 {
		t.Error("programs are told nothing")
	}
	out := expect(t, d, 0, "", "intake", "show", "personnel")
	for _, want := range []string{"2 new, 1 changed, 0 leaving", "liv.strom", "kari.berg", "Kari Berg-Lund",
		"roost intake take personnel " + mark(t, d)} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not told:\n%s", want, out)
		}
	}
	before := mark(t, d)
	late := at(201, "POST", "/Users", `{"userName":"late","displayName":"Late","active":true}`).Text("id")
	expect(t, d, 1, "look again: roost intake show personnel", "intake", "take", "personnel", before, "--because", "what was seen is gone")
	at(204, "DELETE", "/Users/"+late, "")
	odd := at(201, "POST", "/Users", `{"userName":"ola nordmann","displayName":"Ola Nordmann"}`)
	if again := at(200, "GET", "/Users/"+odd.Text("id"), ""); odd.Get("schemas") == nil ||
		again.Text("meta.created") != odd.Text("meta.created") {
		t.Errorf("%v, then %v", odd, again)
	}
	if p := decode[intake.Proposal](t, must(t, d, "intake", "show", "personnel", "-o", "json")); p.New != 2 || len(p.Faults) != 1 ||
		!strings.Contains(p.Faults[0].Words, `"ola nordmann" cannot be the name of an account`) {
		t.Errorf("somebody who cannot be declared keeps others out: %+v", p)
	}
	at(204, "DELETE", "/Users/"+odd.Text("id"), "")
	expect(t, d, 0, "is declared: 62 users", "intake", "take", "personnel", mark(t, d), "--because", "new season")
	if y := must(t, d, "user", "show", "liv.strom"); !strings.Contains(y, "deck-crew") {
		t.Errorf("%s", y)
	}
	expect(t, d, 0, "Nothing would change.", "intake", "show", "personnel")
	expect(t, d, 1, "nothing that personnel has pushed would change", "intake", "take", "personnel", mark(t, d), "--because", "again")
	leavers(t, d, at)
}

// mark is of what the system's pushes would change now.
func mark(t *testing.T, d *demo.Demo) string {
	t.Helper()
	return decode[intake.Proposal](t, must(t, d, "intake", "show", "personnel", "-o", "json")).Mark
}

// leavers are taken away by the system, more of them than it may take by itself.
func leavers(t *testing.T, d *demo.Demo, at func(int, string, string, string, ...string) scim.Resource) {
	names := []string{"liv.strom", "per.aune", "kari.berg"}
	for _, n := range []string{"helene.roux", "brian.mccarthy"} {
		at(201, "POST", "/Users", `{"userName":"`+n+`","active":false}`)
		names = append(names, n)
	}
	for i, n := range names[:3] {
		r := at(200, "GET", "/Users?filter=userName+eq+%22"+n+"%22", "")
		list, _ := r.Get("Resources").([]any)
		one, _ := list[0].(map[string]any)
		id := scim.Resource(one).Text("id")
		if i == 0 {
			at(204, "DELETE", "/Users/"+id, "")
			at(404, "GET", "/Users/"+id, "")
			continue
		}
		at(200, "PATCH", "/Users/"+id, `{"Operations":[{"op":"replace","value":{"active":false}}]}`)
	}
	expect(t, d, 0, "3 users would leave, whom personnel neither brought nor was given", "intake", "show", "personnel")
	expect(t, d, 0, "3 users may leave by what personnel pushes", "intake", "give", "personnel", "kari.berg", "helene.roux",
		"brian.mccarthy")
	expect(t, d, 0, "Held: 5 of 62 users would leave, which is more than 5 %", "intake", "show", "personnel")
	expect(t, d, 1, "--leaving 5", "intake", "take", "personnel", mark(t, d), "--because", "autumn")
	expect(t, d, 0, "is declared", "intake", "take", "personnel", mark(t, d), "--because", "autumn", "--leaving", "5")
	if y := must(t, d, "user", "show", "helene.roux"); !strings.Contains(y, "disable account open") {
		t.Errorf("%s", y)
	}
	at(201, "POST", "/Users", `{"userName":"liv.strom","displayName":"Liv Strøm","active":true}`)
	expect(t, d, 0, "0 new, 0 changed, 0 leaving, 1 back", "intake", "show", "personnel")
	must(t, d, "intake", "set", "personnel", "--at-once")
	await(t, "what was pushed to be taken by itself", func() bool {
		list := decode[[]declared.Revision](t, must(t, d, "revision", "list", "-o", "json"))
		return len(list) > 0 && strings.Contains(list[0].Because, "pushed in: 1 back") && list[0].Operator == "personnel"
	})
}

// A system that speaks no protocol drops files, which are taken in when they lie still, and answered line by line.
func TestDrops(t *testing.T) {
	d := prepared(t)
	pusher(t, d)
	must(t, d, "intake", "set", "personnel", "--role", "deck-crew", "--everybody", "--field", "details.base=base")
	must(t, d, "intake", "set", "personnel", "--share", "1")
	list := decode[[]intake.Source](t, must(t, d, "intake", "list", "-o", "json"))
	if x := list[0].Settings; !x.Everybody || x.Share != 1 || len(x.Roles) != 1 || x.Fields["details.base"] != "base" {
		t.Errorf("what was not said did not stay: %+v", x)
	}
	drops := filepath.Join(filepath.Dir(d.Declaration), "drops")
	dir := filepath.Join(drops, "personnel")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(dir, "sly.csv")); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"people.csv": "userName,displayName,base\nliv.strom,Liv Strøm,quay\n,Nobody,\n",
		"half.csv": "id\n1\n", "people.csv.part": "userName\n", strings.Repeat("n", 240) + ".csv": "userName\nlong\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	answers := func(folder string) string {
		files, _ := filepath.Glob(filepath.Join(drops, folder, "personnel", "*.answers.csv"))
		text := ""
		for _, f := range files {
			b, _ := os.ReadFile(f)
			text += string(b)
		}
		return text
	}
	await(t, "the files to be taken in", func() bool {
		return answers("taken") != "" && strings.Contains(answers("refused"), "more than 180 bytes") &&
			strings.Contains(answers("refused"), "no column")
	})
	if got := answers("taken"); !strings.Contains(got, "2,liv.strom,new,\n3,,not read,\"userName is missing") {
		t.Errorf("%s", got)
	}
	if got := answers("refused"); !strings.Contains(got, ",,refused,\"no column is called userName, and none is the id's") {
		t.Errorf("%s", got)
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*.*"))
	if len(left) != 2 { // what is no file, and what is still written
		t.Errorf("%v", left)
	}
	expect(t, d, 0, "1 new, 0 changed, 0 leaving, 0 back", "intake", "show", "personnel")
	await(t, "the record to tell", func() bool {
		out := must(t, d, "record")
		return strings.Contains(out, "took in the file people.csv: 1 new, 1 not read") && strings.Contains(out, "refused the file half.csv")
	})
}

// Our own client finds our own server to be as the standard says.
func TestIntakeByTheBook(t *testing.T) {
	d := prepared(t)
	token := pusher(t, d)
	must(t, d, "intake", "set", "personnel")
	a := connecttest.Accept(t, connector.Connector{}, connect.Access{Target: "ourselves", Address: strings.TrimPrefix(d.Server.Address,
		"https://"),
		Secret: []byte(token), Wait: 10 * time.Second})
	s := connecttest.Open(t, connector.Connector{}, a)
	var acts []connect.Act
	for i := range 300 {
		acts = append(acts, connecttest.Act(model.Create, model.Account, fmt.Sprintf("new.%03d", i), model.Change{Attribute: model.FullName,
			After: []string{"New O'Neil \"Ünal\""}}))
	}
	if n := connecttest.Tally(connect.Apply(context.Background(), s, acts)); n[connect.Done] != len(acts) {
		t.Fatal(n)
	}
	connecttest.Outcomes(t, connect.Apply(context.Background(), s, []connect.Act{
		connecttest.Act(model.Modify, model.Account, "new.007", model.Change{Attribute: "department", After: []string{"Deck"}}),
		connecttest.Act(model.Disable, model.Account, "new.008", model.Change{Attribute: model.Disabled, Before: []string{"no"},
			After: []string{"yes"}}),
		connecttest.Act(model.Remove, model.Account, "new.009")}), "done ", "done ", "done ")
	all := connecttest.Surveyed(t, s)
	if n := len(all); all[model.Named{Kind: model.Account, Name: "new.008"}].Attributes.One(model.Disabled) != "yes" || n < 299 {
		t.Errorf("%d are seen", n)
	}
	expect(t, d, 0, "298 new", "intake", "show", "personnel")
}

// What an application puts back by itself is contested, counted, and can be given up to it.
func TestContested(t *testing.T) {
	d := prepared(t)
	d.Ticketing.Set(standin.Trouble{PutBack: map[string]string{"title": "Guest"}, Later: 200 * time.Millisecond})
	for n := 1; n <= 2; n++ {
		must(t, d, "draft", "--target", "ticketing", "--because", "spring")
		must(t, d, "approve", fmt.Sprint(n))
		must(t, d, "run", fmt.Sprint(n))
		time.Sleep(300 * time.Millisecond)
		must(t, d, "survey", "ticketing")
	}
	expect(t, d, 3, "put right once, last by round 2 on", "drift", "--target", "ticketing", "--kind", "contested")
	expect(t, d, 3, "find out what changes it, or leave it to that: roost give-up", "drift", "--target", "ticketing")
	list := decode[[]seen.Finding](t, expect(t, d, 3, "", "drift", "--target", "ticketing", "--kind", "contested", "-o", "json"))
	if len(list) < 2 || list[0].Before != "title Guest" {
		t.Fatalf("%+v", list)
	}
	expect(t, d, 1, "is missing, not contested", "give-up", "--kind", "missing", "--because", "no")
	expect(t, d, 0, "is declared", "give-up", "--target", "ticketing", "--because", "the desk's own rules set titles")
	if text := must(t, d, "revision", "show"); !strings.Contains(text, "leaves: [title]") {
		t.Errorf("%s", text)
	}
	expect(t, d, 3, "leaves none title odd.strand", "revision", "pending", "ticketing")
	approves(t, d)
	if left := expect(t, d, 0, "", "drift", "--target", "ticketing"); strings.Contains(left, "Guest") {
		t.Errorf("%s", left)
	}
}

// Licences and people who were pushed in, in the console.
func TestApplicationPages(t *testing.T) {
	d := prepared(t)
	c := calling(t, d)
	token := pusher(t, d)
	must(t, d, "intake", "set", "personnel", "--role", "deck-crew")
	for _, n := range []string{"liv.strom", "per.aune"} {
		if status, text, _ := c.call("POST", "/scim/v2/Users", token,
			`{"userName":"`+n+`","displayName":"`+n+` of the crew"}`); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
	}
	p := signedIn(t, d, "/")
	p.sees("Sign out")
	p.do(chromedp.Navigate(p.url + "/targets/ticketing"))
	p.sees("An application at")
	p.sees("counter-seat 10 6 4 8 5 3")
	p.until(`document.querySelector('canvas').height > 0 && document.querySelector('[role=img]').ariaLabel.includes('6 of 10 seats taken')`)
	p.click("counter-seat")
	p.sees("First those who could give theirs up. Account Whose Declared Open Last sign-in Note rolf.eide")
	p.until(`(document.querySelector('canvas').scrollIntoView(), true)`)
	p.shot("seats")
	p.sees("Seats shared with other targets")
	p.sees("passenger-suite 20 6 14 14 11 3 counter-seat on ticketing (6), planner-seat on crew-portal (0)")
	p.click("passenger-suite")
	p.sees("Who has a seat of passenger-suite First those who could give theirs up. Who Declared Last sign-in Accounts")
	p.do(chromedp.Navigate(p.url + "/rounds/bulk"))
	p.sees("or drop one on this page")
	p.do(chromedp.SendKeys(css("textarea"), "helene.roux,ticketing,join licence counter-seat\nnobody,ticketing,disable\n"))
	p.sees("What would become of 2 lines: 2 refused.")
	p.sees(`no user is called "nobody"`)
	p.do(chromedp.Navigate(p.url + "/targets"))
	p.click("Dialects")
	p.sees("4 kinds of targets are taught by dialects.")
	p.sees("harbour-switch.yaml 1 as recorded northquay-switch")
	p.click("harbour-switch")
	p.sees("confirm: sheet stays")
	p.shot("dialects")
	p.do(chromedp.Navigate(p.url + "/targets/northquay-switch"))
	p.sees("A harbour-switch at")
	p.shot("switch")
	p.click("Users")
	p.click("Pushed in by other systems")
	p.sees("1 system pushes people in.")
	p.sees("2 new, 0 changed, 0 leaving, 0 back, 0 the same.")
	p.sees("liv.strom of the crew")
	p.shot("intake")
	p.click("Take 2 changes")
	p.do(chromedp.WaitVisible(css("dialog input, [role=dialog] input")), chromedp.SendKeys(css("dialog input, [role=dialog] input"),
		"spring"))
	p.click("Take")
	p.sees("It changes something for 2 people.")
	if out := must(t, d, "revision", "list"); !strings.Contains(out, "spring") {
		t.Error(out)
	}
}
