package standin_test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/demo/world"
	"hen-roost/internal/scim"
	"hen-roost/internal/standin"
)

const token = "a-token-31"

// visitor asks an application over its interface.
type visitor struct {
	*testing.T
	*world.Application
	http *http.Client
}

func visit(t *testing.T, dir string, c standin.Choices) visitor {
	t.Helper()
	c.Name, c.Token = "tickets", token
	app, err := world.StartApplication(dir, "127.0.7.41", c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(app.Stop)
	return visitor{t, app, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
}

func (v visitor) ask(want int, method, path, body string, header ...string) scim.Resource {
	v.Helper()
	r, err := http.NewRequest(method, "https://"+v.Address+"/scim/v2"+path, bytes.NewReader([]byte(body)))
	if err != nil {
		v.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	a, err := v.http.Do(r)
	if err != nil {
		if want != 0 {
			v.Errorf("%s %s: %v", method, path, err)
		}
		return nil
	}
	defer a.Body.Close()
	text, _ := io.ReadAll(a.Body)
	if a.StatusCode != want {
		v.Errorf("%s %s: %d %s, want %d", method, path, a.StatusCode, text, want)
	}
	var out scim.Resource
	_ = json.Unmarshal(text, &out)
	return out
}

// What it was told is on disk: another that starts from the same folder holds the same, its ids and versions too.
func TestKept(t *testing.T) {
	dir := t.TempDir()
	v := visit(t, dir, standin.Choices{Licences: map[string]int{"counter-seat": 2}})
	ulla := v.ask(201, "POST", "/Users", `{"userName":"Ulla","password":"slack water","entitlements":[{"value":"counter-seat"}]}`)
	v.ask(201, "POST", "/Users", `{"userName":"rolf"}`)
	gone := v.ask(200, "GET", `/Users?filter=userName+eq+"rolf"`, "").Get("Resources").([]any)[0].(map[string]any)["id"].(string)
	v.ask(201, "POST", "/Groups", `{"displayName":"deck","members":[{"value":"`+ulla.Text("id")+`"},{"value":"`+gone+`"}]}`)
	v.ask(204, "DELETE", "/Users/"+gone, "")
	v.ask(200, "PATCH", "/Users/"+ulla.Text("id"), `{"Operations":[{"op":"add","path":"title","value":"Mate"}]}`)
	v.Stop()
	w := visit(t, dir, standin.Choices{Licences: map[string]int{"counter-seat": 2}})
	got := w.ask(200, "GET", "/Users/"+ulla.Text("id"), "")
	if got.Text("title") != "Mate" || got.Text("meta.version") != `W/"2"` || len(got.Get("groups").([]any)) != 1 {
		t.Errorf("%v", got)
	}
	w.ask(404, "GET", "/Users/"+gone, "")
	deck := w.ask(200, "GET", "/Groups", "").Get("Resources").([]any)[0].(map[string]any)
	if n := len(deck["members"].([]any)); n != 1 {
		t.Errorf("%d in the group", n)
	}
	if l := w.ask(200, "GET", "/Licences", "").Get("Resources").([]any)[0].(map[string]any); l["seats"] != 2.0 || l["used"] != 1.0 {
		t.Errorf("%v", l)
	}
}

// The standard's letter: errors, versions, what is not taken, what is never told.
func TestByTheBook(t *testing.T) {
	v := visit(t, t.TempDir(), standin.Choices{Licences: map[string]int{"counter-seat": 1}, Page: 3})
	one := v.ask(201, "POST", "/Users", `{"id":"mine","userName":"ulla","password":"x","groups":[{"value":"y"}]}`)
	id := one.Text("id")
	if id == "mine" || one.Get("password") != nil || one.Get("groups") != nil || one.Get("active") != true {
		t.Errorf("%v", one)
	}
	for _, c := range []struct {
		status       int
		method, path string
		body, typ    string
	}{{409, "POST", "/Users", `{"userName":"ULLA"}`, "uniqueness"}, {400, "POST", "/Users", `{}`, "invalidValue"},
		{400, "POST", "/Users", `nothing`, "invalidSyntax"}, {404, "PATCH", "/Users/nobody", `{}`, ""},
		{400, "PATCH", "/Users/" + id, `{"Operations":[]}`, "invalidSyntax"}, {400, "GET", "/Users?filter=x", "", "invalidFilter"},
		{400, "GET", "/Users?count=few", "", "invalidValue"},
		{400, "PATCH", "/Users/" + id, `{"Operations":[{"op":"replace","path":"emails[","value":1}]}`, "invalidPath"},
		{404, "POST", "/Licences", `{"displayName":"more"}`, ""}, {400, "POST", "/Groups", `{"displayName":"g","members":[{"value":"no"}]}`,
			"invalidValue"}, {400, "PATCH", "/Users/" + id,
			`{"Operations":[{"op":"add","path":"entitlements","value":[{"value":"none"}]}]}`,
			"invalidValue"}} {
		r := v.ask(c.status, c.method, c.path, c.body)
		if r.Text("scimType") != c.typ || r.Text("status") != fmt.Sprint(c.status) || r.Text("detail") == "" ||
			!strings.Contains(fmt.Sprint(r.Get("schemas")), scim.ErrorMessage) {
			t.Errorf("%s %s: %v", c.method, c.path, r)
		}
	}
	v.ask(412, "PUT", "/Users/"+id, `{"userName":"ulla"}`, "If-Match", `W/"7"`)
	v.ask(200, "PUT", "/Users/"+id, `{"userName":"ulla","title":"Mate"}`, "If-Match", `W/"1"`)
	v.ask(304, "GET", "/Users/"+id, "", "If-None-Match", `W/"2"`)
	if r := v.ask(200, "GET", "/Users/"+id+"?attributes=title", ""); r.Text("title") != "Mate" || r.Get("userName") != nil ||
		r.Text("id") != id {
		t.Errorf("%v", r)
	}
	if r := v.ask(200, "GET", "/Users/"+id+"?excludedAttributes=title,meta", ""); r.Get("title") != nil || r.Text("userName") != "ulla" {
		t.Errorf("%v", r)
	}
	for i := range 6 {
		v.ask(201, "POST", "/Users", fmt.Sprintf(`{"userName":"u%d"}`, i))
	}
	if r := v.ask(200, "GET", "/Users?startIndex=6&count=50", ""); r.Get("itemsPerPage") != 2.0 || r.Get("totalResults") != 7.0 {
		t.Errorf("%v", r)
	}
	if r := v.ask(200, "POST", "/Users/.search",
		`{"filter":"userName sw \"u\" and not (userName eq \"u3\")","count":2,"startIndex":2}`); r.Get(
		"totalResults") != 6.0 || r.Get("itemsPerPage") != 2.0 {
		t.Errorf("%v", r)
	}
}

// Seats are counted: one that is not there is not given, and one that was given back is.
func TestSeats(t *testing.T) {
	v := visit(t, t.TempDir(), standin.Choices{Licences: map[string]int{"counter-seat": 1}})
	seat := `{"Operations":[{"op":"add","path":"entitlements","value":[{"value":"counter-seat"}]}]}`
	a := v.ask(201, "POST", "/Users", `{"userName":"a"}`).Text("id")
	b := v.ask(201, "POST", "/Users", `{"userName":"b"}`).Text("id")
	v.ask(200, "PATCH", "/Users/"+a, seat)
	v.ask(200, "PATCH", "/Users/"+a, seat)
	if r := v.ask(409, "PATCH", "/Users/"+b, seat); !strings.Contains(r.Text("detail"), "no seat of counter-seat is left") {
		t.Errorf("%v", r)
	}
	v.ask(200, "PATCH", "/Users/"+a, `{"Operations":[{"op":"remove","path":"entitlements[value eq \"counter-seat\"]"}]}`)
	v.ask(200, "PATCH", "/Users/"+b, seat)
	v.ask(204, "DELETE", "/Users/"+b, "")
	v.ask(200, "PATCH", "/Users/"+a, seat)
}

// Many requests in one: each for itself, in the order that their references ask for.
func TestBulk(t *testing.T) {
	v := visit(t, t.TempDir(), standin.Choices{BulkMost: 6})
	r := v.ask(200, "POST", "/Bulk", `{"Operations":[
		{"method":"POST","path":"/Groups","bulkId":"g","data":{"displayName":"deck","members":[{"value":"bulkId:u"}]}},
		{"method":"POST","path":"/Users","bulkId":"u","data":{"userName":"ulla"}},
		{"method":"PATCH","path":"/Users/bulkId:u","data":{"Operations":[{"op":"add","path":"title","value":"Mate"}]}},
		{"method":"PATCH","path":"/Users/bulkId:none","data":{}},{"method":"POST","path":"/Users","bulkId":"v","data":{"userName":"ULLA"}}]}`)
	var got []string
	for _, x := range r.Get("Operations").([]any) {
		got = append(got, scim.Resource(x.(map[string]any)).Text("status"))
	}
	if want := []string{"201", "201", "200", "409", "409"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if d := v.Resources("Groups"); len(d) != 1 || len(d[0].Get("members").([]any)) != 1 {
		t.Errorf("%v", d)
	}
	stopped := v.ask(200, "POST", "/Bulk", `{"failOnErrors":1,"Operations":[{"method":"DELETE","path":"/Users/x"},
		{"method":"POST","path":"/Users","bulkId":"z","data":{"userName":"zara"}}]}`)
	if strings.Contains(fmt.Sprint(stopped), "201") {
		t.Errorf("it went on: %v", stopped)
	}
	v.ask(413, "POST", "/Bulk", `{"Operations":[`+strings.Repeat(`{"method":"DELETE","path":"/Users/x"},`,
		6)+`{"method":"DELETE","path":"/Users/x"}]}`)
}

// Whoever has the password gets in, whoever is shut does not; tokens are for who knows the secret.
func TestSignIn(t *testing.T) {
	v := visit(t, t.TempDir(), standin.Choices{Client: "roost", Secret: "s"})
	id := v.ask(201, "POST", "/Users", `{"userName":"ulla","password":"slack water"}`).Text("id")
	try := func(want int, form url.Values, user, secret string) {
		t.Helper()
		r, _ := http.NewRequest("POST", "https://"+v.Address+"/token", strings.NewReader(form.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if user != "" {
			r.SetBasicAuth(user, secret)
		}
		a, err := v.http.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		a.Body.Close()
		if a.StatusCode != want {
			t.Errorf("%v: %d, want %d", form, a.StatusCode, want)
		}
	}
	as := func(password string) url.Values {
		return url.Values{"grant_type": {"password"}, "username": {"ULLA"}, "password": {password}}
	}
	try(200, as("slack water"), "", "")
	try(400, as("neap tide"), "", "")
	v.ask(200, "PATCH", "/Users/"+id, `{"Operations":[{"op":"replace","path":"active","value":false}]}`)
	try(400, as("slack water"), "", "")
	try(200, url.Values{"grant_type": {"client_credentials"}}, "roost", "s")
	try(401, url.Values{"grant_type": {"client_credentials"}}, "roost", "t")
	try(400, url.Values{"grant_type": {"magic"}}, "", "")
	r, _ := http.NewRequest("GET", "https://"+v.Address+"/scim/v2/Users", nil)
	if a, err := v.http.Do(r); err != nil || a.StatusCode != 401 {
		t.Errorf("without a token: %v %v", a, err)
	}
}

// Each switch spoils what it says, as often as it says.
func TestSwitches(t *testing.T) {
	v := visit(t, t.TempDir(), standin.Choices{})
	id := v.ask(201, "POST", "/Users", `{"userName":"ulla"}`).Text("id")
	title := `{"Operations":[{"op":"replace","path":"title","value":"Mate"}]}`
	v.Set(standin.Trouble{Busy: 1, Broken: 1, Slow: time.Millisecond})
	v.ask(429, "GET", "/Users", "")
	v.ask(500, "GET", "/Users", "")
	v.ask(200, "GET", "/Users", "")
	v.Set(standin.Trouble{Lie: 1})
	v.ask(200, "PATCH", "/Users/"+id, title)
	if r := v.ask(200, "GET", "/Users/"+id, ""); r.Get("title") != nil {
		t.Errorf("it did not lie: %v", r)
	}
	v.Set(standin.Trouble{Cut: 1})
	v.ask(0, "PATCH", "/Users/"+id, title)
	if r := v.ask(200, "GET", "/Users/"+id, ""); r.Text("title") != "Mate" {
		t.Errorf("nothing was done before the cut: %v", r)
	}
	v.Set(standin.Trouble{PutBack: map[string]string{"title": "Guest"}})
	v.ask(200, "PATCH", "/Users/"+id, title)
	if r := v.ask(200, "GET", "/Users/"+id, ""); r.Text("title") != "Guest" {
		t.Errorf("it was not put back: %v", r)
	}
	v.Set(standin.Trouble{})
	v.Restore()
	v.ask(404, "GET", "/Users/"+id, "")
	if n := v.Asked(); n != 11 {
		t.Errorf("%d requests", n)
	}
	if err := v.Load([]byte(`{"kind":"Groups","resource":{"displayName":"x","members":["nobody"]}}`)); err == nil {
		t.Error("a member that is nobody was taken")
	}
}
