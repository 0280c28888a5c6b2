package scim_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/scim"
	"hen-roost/internal/core/model"
)

// liar is a server that says what a test has it say: by method and path without the query, else nothing is found.
type liar map[string]func(w http.ResponseWriter, r *http.Request)

func says(text string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
}

const (
	config = `{"patch":{"supported":true},"filter":{"supported":true,"maxResults":9},"bulk":{"supported":%v,"maxOperations":3,"maxPayloadSize":4000},
		"pagination":{"cursor":%v,"index":true},"etag":{"supported":true}}`
	types   = `{"Resources":[{"name":"User","endpoint":"/Users","schema":"urn:ietf:params:scim:schemas:core:2.0:User"}]}`
	schemas = `{"Resources":[{"id":"urn:ietf:params:scim:schemas:core:2.0:User","attributes":[{"name":"groups"}]},7,{"id":""}]}`
	nobody  = `{"totalResults":0,"Resources":[]}`
)

func (l liar) start(t *testing.T, bulk, cursor bool) connect.Access {
	t.Helper()
	for path, text := range map[string]string{"GET /ServiceProviderConfig": fmt.Sprintf(config, bulk, cursor), "GET /ResourceTypes": types,
		"GET /Schemas": schemas, "GET /Groups": nobody, "GET /Users": nobody} {
		if l[path] == nil {
			l[path] = says(text)
		}
	}
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if f := l[r.Method+" "+strings.TrimPrefix(r.URL.Path, "/scim/v2")]; f != nil {
			f(w, r)
			return
		}
		http.NotFound(w, r)
	}))
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.StartTLS()
	t.Cleanup(s.Close)
	return connecttest.Accept(t, scim.Connector{}, connect.Access{Target: "liar", Address: s.Listener.Addr().String(), Secret: []byte("t"),
		Wait: 3 * time.Second})
}

// What a server offers is asked anew each time: between two surveys it may come to have licences, and change what users tell.
func TestSchemaThatChanges(t *testing.T) {
	at := atomic.Int32{}
	turn := func(first, then string) func(http.ResponseWriter, *http.Request) {
		return func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, map[bool]string{true: first, false: then}[at.Load() == 0])
		}
	}
	const extended = "urn:x:desk"
	l := liar{
		"GET /ResourceTypes": turn(types,
			`{"Resources":[{"name":"User","endpoint":"/Users","schema":"urn:ietf:params:scim:schemas:core:2.0:User",
			"schemaExtensions":[{"schema":"`+extended+`","required":false}]},{"name":"Licence","endpoint":"/Licences","schema":"urn:x:l"}]}`),
		"GET /Schemas": turn(schemas, `{"Resources":[{"id":"urn:x:l","attributes":[{"name":"displayName"},{"name":"seats"}]},
			{"id":"`+extended+`","attributes":[{"name":"desk","type":"string"}]}]}`),
		"GET /Users": says(`{"totalResults":1,"Resources":[{"id":"1","userName":"ulla","` + extended + `":{"desk":"4"},
			"entitlements":[{"value":"desk"}]}]}`),
		"GET /Licences": says(`{"totalResults":1,"Resources":[{"id":"l","displayName":"desk","seats":4}]}`)}
	a := l.start(t, false, false)
	for turn, want := range []string{"", "4"} {
		at.Store(int32(turn))
		all := connecttest.Surveyed(t, connecttest.Open(t, scim.Connector{}, a))
		licence := all[model.Named{Kind: model.LicenceKind, Name: "desk"}]
		if got := licence.Attributes.One(model.Seats); got != want {
			t.Errorf("survey %d: %q seats, want %q", turn+1, got, want)
		}
		if u := all[model.Named{Kind: model.Account, Name: "ulla"}]; u.Name == "" {
			t.Errorf("survey %d: %v", turn+1, all)
		}
	}
}

// Of what kind a group is stands where the settings say; those that are made are of the kind that they say.
func TestGroupKinds(t *testing.T) {
	made := ""
	groups := `{"id":"1","displayName":"deck","urn:x:g":{"kind":"mail"}},{"id":"2","displayName":"bridge","urn:x:g":{"kind":["security","mail"]}},
		{"id":"3","displayName":"engine"}`
	l := liar{"GET /Groups": func(w http.ResponseWriter, r *http.Request) {
		all := groups
		if made != "" {
			all += `,{"id":"4","displayName":"stores","urn:x:g":{"kind":"security"}}`
		}
		if f := r.FormValue("filter"); f != "" {
			all = strings.TrimPrefix(all, groups)
			all = strings.TrimPrefix(all, ",")
		}
		fmt.Fprintf(w, `{"totalResults":%d,"Resources":[%s]}`, strings.Count(all, `"id"`), all)
	}, "POST /Groups": func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		made = string(b)
		w.WriteHeader(http.StatusCreated)
		fmt.Fprint(w, `{"id":"4","displayName":"stores"}`)
	}}
	a := l.start(t, false, false)
	a.Settings = map[string]string{"new-groups": "security"}
	if _, err := (scim.Connector{}).Open(context.Background(), a); err == nil || !strings.Contains(err.Error(),
		"group-kind-in does not say") {
		t.Errorf("%v", err)
	}
	a.Settings["group-kind-in"] = "urn:x:g:kind"
	s := connecttest.Open(t, scim.Connector{}, a)
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{connecttest.Act(model.Create, model.GroupKind, "stores")}), "done ")
	if !strings.Contains(made, `"urn:x:g":{"kind":"security"}`) || !strings.Contains(made,
		`"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group","urn:x:g"]`) {
		t.Errorf("%s", made)
	}
	all := connecttest.Surveyed(t, s)
	for name, want := range map[string]string{"deck": "mail", "bridge": "mail, security", "engine": "", "stores": "security"} {
		if got := all[model.Named{Kind: model.GroupKind, Name: name}].Attributes.One("group-kind"); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
}

// What cannot be opened says why.
func TestNotOpened(t *testing.T) {
	for what, c := range map[string]struct {
		path, text, want string
		status           int
	}{
		"not JSON":        {"GET /ServiceProviderConfig", "<html>", "is not what the standard says", 200},
		"no users":        {"GET /ResourceTypes", nobody, "it says that it has no users; is the path right?", 200},
		"another place":   {"GET /Schemas", "", "301", 301},
		"refused":         {"GET /ServiceProviderConfig", `{"detail":"no\u001b"}`, "the target refuses our login", 403},
		"no such path":    {"GET /ServiceProviderConfig", "", "404", 404},
		"too much of it":  {"GET /Schemas", strings.Repeat(" ", 33<<20), "it answers with more than 32 MB", 200},
		"broken for long": {"GET /Schemas", "", "500", 500},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			l := liar{}
			a := l.start(t, false, false)
			l[c.path] = func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Location", "https://127.0.0.1:1/")
				w.WriteHeader(c.status)
				fmt.Fprint(w, c.text)
			}
			_, err := scim.Connector{}.Open(context.Background(), a)
			if err == nil || !strings.Contains(err.Error(), c.want) || strings.ContainsRune(err.Error(), '\x1b') {
				t.Errorf("%v, want %s", err, c.want)
			}
			var e *connect.Error
			if !errors.As(err, &e) || e.Target != "liar" {
				t.Errorf("it does not name its target: %v", err)
			}
		})
	}
}

// Lists that lie: a cursor that goes round, a total that is never reached, two of one login and two of one id.
func TestLists(t *testing.T) {
	ulla := `{"id":"1","userName":"ulla"}`
	survey := func(l liar, cursor bool) (string, error) {
		s := connecttest.Open(t, scim.Connector{}, l.start(t, false, cursor))
		var names []string
		err := s.Survey(context.Background(), func(o model.Object) error {
			if o.Kind == model.Account {
				names = append(names, o.Name)
			}
			return nil
		})
		return strings.Join(names, " "), err
	}
	if _, err := survey(liar{"GET /Users": says(`{"totalResults":2,"nextCursor":"a","Resources":[` + ulla + `]}`)}, true); err == nil ||
		!strings.Contains(err.Error(), "go round in a circle") {
		t.Errorf("cursors: %v", err)
	}
	var asked atomic.Int64
	grows := func(w http.ResponseWriter, _ *http.Request) {
		n := asked.Add(1)
		fmt.Fprintf(w, `{"totalResults":%d,"Resources":[{"id":"%d","userName":"u%d"}]}`, n+1, n, n)
	}
	if _, err := survey(liar{"GET /Users": func(w http.ResponseWriter, r *http.Request) {
		if asked.Load() > 40 {
			fmt.Fprint(w, `{"totalResults":99,"Resources":[]}`)
			return
		}
		grows(w, r)
	}}, false); err != nil || asked.Load() > 45 {
		t.Errorf("a list that is never as long as it says: %d requests, %v", asked.Load(), err)
	}
	got, err := survey(liar{"GET /Users": says(`{"totalResults":3,"Resources":[` + ulla +
		`,{"id":"2","userName":"ULLA"},{"id":"3","userName":"per"}]}`)}, false)
	if err != nil || got != "ulla ULLA #2 per" {
		t.Errorf("two of one login: %s %v", got, err)
	}
	if _, err := survey(liar{"GET /Users": says(`{"totalResults":1,"Resources":"none"}`)}, false); err == nil {
		t.Error("a page that is none is taken")
	}
}

// A server that has two of a login is told so, and neither is touched.
func TestTwoOfALogin(t *testing.T) {
	l := liar{"GET /Users": says(`{"totalResults":2,"Resources":[{"id":"1","userName":"ulla"},{"id":"2","userName":"Ulla"}]}`),
		"PATCH /Users/1": func(http.ResponseWriter, *http.Request) { t.Error("one of them is written") }}
	s := connecttest.Open(t, scim.Connector{}, l.start(t, false, false))
	got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, "ulla",
		model.Change{Attribute: "title", After: []string{"Mate"}}), connecttest.Act(model.Create, model.Account, "ulla")})
	if got[0].Outcome == connect.Done || got[1].Outcome == connect.Done || !strings.Contains(got[1].Words, "several called ulla") {
		t.Errorf("%+v", got)
	}
	if a := connect.Admits(context.Background(), s, []string{"ulla"}); a[0].State != connect.NotTold {
		t.Errorf("%+v", a)
	}
}

// Requests of many whose answers are odd: none of them, less than asked, refused for their size.
func TestOddBulks(t *testing.T) {
	var there atomic.Value
	there.Store("")
	users := func(w http.ResponseWriter, r *http.Request) {
		var list []string
		for n := range strings.FieldsSeq(there.Load().(string)) {
			if strings.Contains(r.URL.Query().Get("filter"), `"`+n+`"`) {
				list = append(list, fmt.Sprintf(`{"id":"i-%s","userName":"%[1]s"}`, n))
			}
		}
		fmt.Fprintf(w, `{"totalResults":%d,"Resources":[%s]}`, len(list), strings.Join(list, ","))
	}
	var sizes []int
	answer := func(most int, known bool) func(http.ResponseWriter, *http.Request) {
		return func(w http.ResponseWriter, r *http.Request) {
			var b struct {
				Operations []struct {
					ID   string `json:"bulkId"`
					Data struct {
						Login string `json:"userName"`
					}
				}
			}
			_ = json.NewDecoder(r.Body).Decode(&b)
			sizes = append(sizes, len(b.Operations))
			if len(b.Operations) > most {
				w.WriteHeader(413)
				return
			}
			var list []string
			for _, o := range b.Operations {
				there.Store(there.Load().(string) + " " + o.Data.Login)
				if known {
					list = append(list, fmt.Sprintf(`{"method":"POST","bulkId":"%s","status":"201","location":"x/i-%s"}`, o.ID,
						o.Data.Login))
				}
			}
			fmt.Fprintf(w, `{"Operations":[%s]}`, strings.Join(list, ","))
		}
	}
	for what, c := range map[string]struct {
		most  int
		known bool
		want  connect.Outcome
	}{"nothing is said of any": {3, false, connect.Done}, "it takes two though it says three": {2, true, connect.Done},
		"it takes none": {0, true, connect.Failed}} {
		there.Store("")
		sizes = nil
		s := connecttest.Open(t, scim.Connector{}, liar{"GET /Users": users, "POST /Bulk": answer(c.most, c.known)}.start(t, true, false))
		var acts []connect.Act
		for _, n := range []string{"a", "b", "c", "d"} {
			acts = append(acts, connecttest.Act(model.Create, model.Account, n))
		}
		for i, a := range connecttest.Apply(s, acts) {
			if a.Outcome != c.want {
				t.Errorf("%s: %d ended %s (%s)", what, i, a.Outcome, a.Words)
			}
		}
		for _, n := range sizes {
			if n > 3 {
				t.Errorf("%s: %d in one request", what, n)
			}
		}
	}
}

// Where a password cannot be tried, that is said.
func TestNotProved(t *testing.T) {
	l := liar{}
	a := l.start(t, false, false)
	if p, words := connect.Prove(context.Background(), connecttest.Open(t, scim.Connector{}, a), "ulla", connect.Seal([]byte("x"))); p !=
		connect.NotProved || !strings.Contains(words, "setting prove-at") {
		t.Errorf("%s %s", p, words)
	}
	a.Settings = map[string]string{"prove-at": "/scim/v2/odd"}
	l["POST /odd"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }
	if p, words := connect.Prove(context.Background(), connecttest.Open(t, scim.Connector{}, a), "ulla", connect.Seal([]byte("x"))); p !=
		connect.NotProved || !strings.Contains(words, "status 500") {
		t.Errorf("%s %s", p, words)
	}
	if p, _ := connect.Prove(context.Background(), connecttest.Open(t, scim.Connector{}, a), "ulla",
		connect.Seal(nil)); p != connect.NotProved {
		t.Errorf("without a password: %s", p)
	}
}

// A server that means no good is borne with: it ends within a bound, little is kept, and our token is nowhere repeated.
func TestHostileServers(t *testing.T) {
	connecttest.Survives(t, scim.Connector{}, connect.Access{})
	person := func(id int) string {
		return fmt.Sprintf(`{"id":"%d","userName":"u%d","displayName":"%s"}`, id, id, strings.Repeat("x", 2000))
	}
	pages := func(next func(n int32) int) func(http.ResponseWriter, *http.Request) {
		n := atomic.Int32{}
		return func(w http.ResponseWriter, r *http.Request) {
			list := make([]string, 500)
			for i := range list {
				list[i] = person(next(n.Add(1)))
			}
			fmt.Fprintf(w, `{"totalResults":100000000,"nextCursor":"c%d","Resources":[%s]}`, n.Load(), strings.Join(list, ","))
		}
	}
	for what, c := range map[string]struct {
		users  func(http.ResponseWriter, *http.Request)
		cursor bool
		want   string
	}{
		"pages without end":      {pages(func(n int32) int { return int(n) }), false, "MB"},
		"cursors without end":    {pages(func(n int32) int { return int(n) }), true, "MB"},
		"the same page for ever": {pages(func(n int32) int { return int(n % 500) }), false, "brings nothing new"},
		"the same, by cursors":   {pages(func(n int32) int { return int(n % 500) }), true, "brings nothing new"},
		"empty pages, by cursors": {func() func(http.ResponseWriter, *http.Request) {
			n := atomic.Int32{}
			return func(w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"totalResults":9,"nextCursor":"c%d","Resources":[]}`, n.Add(1))
			}
		}(), true, "brings nothing new"},
		"repeats the token": {func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(400)
			fmt.Fprintf(w, `{"detail":"no: %s"}`, r.Header.Get("Authorization"))
		}, false, "(sealed)"},
		"sends us elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://127.0.0.1:1/", http.StatusTemporaryRedirect)
		}, false, "307"},
	} {
		t.Run(what, func(t *testing.T) {
			a := liar{"GET /Users": c.users}.start(t, false, c.cursor)
			a.Secret, a.Wait = []byte(connecttest.HostileSecret[:20]), 5*time.Second
			if words := connecttest.Bears(t, scim.Connector{}, a); !strings.Contains(words, c.want) {
				t.Errorf("%q", words)
			}
		})
	}
}
