package test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/demo"
	"hen-roost/internal/service/door"
)

var bodies = map[string]string{
	"end-sessions": `{"sessions":["1-1"],"because":"b"}`,
	"sign-in":      `{"name":"x","password":"y"}`, "check": `{"files":[{"name":"f","text":"roost: 1"}]}`,
	"declare":          `{"files":[{"name":"f","text":"roost: 1"}],"because":"b","from":0}`,
	"meaning":          `{"files":[{"name":"f","text":"roost: 1"}]}`,
	"edit":             `{"edits":[{"section":"users","name":"x","do":"take"}],"because":"b"}`,
	"edit-meaning":     `{"edits":[{"section":"users","name":"x","do":"take"}]}`,
	"restore-revision": `{"because":"b"}`, "accept": `{"keys":["ab"],"because":"b"}`, "assign": `{"keys":["ab"]}`,
	"comment-finding": `{"text":"t"}`, "set-intake": `{}`, "take-intake": `{"mark":"m","because":"b"}`,
	"adopt":       `{"target":"arctic-tern","account":"x","user":"marit.fell","theirs":true,"because":"b"}`,
	"give-up":     `{"keys":["x"],"because":"b"}`,
	"try-dialect": `{"target":"x","file":"y","text":"z"}`,
	"bulk":        `{"lines":[{"user":"x","target":"y","what":"disable"}],"because":"b"}`,
	"import":      `{"format":"csv","text":"id"}`, "schedule": `{}`, "stop": `{"because":"b"}`, "undo": `{}`,
	"round-difference": `{"target":"x"}`,
	"accept-key":       `{"print":"x"}`, "survey": `{}`, "draft": `{"because":"b"}`, "reconcile": `{"because":"b"}`, "comment": `{"text":"t"}`,
	"reset-password": `{"password":"a long enough password"}`, "change-password": `{"old":"x","new":"a long enough password"}`,
	"suspend": `{"users":["marit.fell"],"because":"b"}`, "restore-user": `{"because":"b"}`,
	"rotate-passwords": `{"users":["marit.fell"],"because":"b"}`, "expire-passwords": `{"users":["marit.fell"],"because":"b"}`,
	"rotate-secret": `{"because":"b"}`, "rotate-key": `{"because":"b"}`, "rotate-certificate": `{"because":"b"}`,
	"unlock": `{"users":["marit.fell"],"because":"b"}`, "try-password": `{"password":"x"}`, "withdraw-handover": `{"because":"b"}`,
	"print-handovers": `{"batch":"b"}`, "seal-handovers": `{"batch":"b","to":["k"]}`, "look-behind-link": `{"link":"x"}`,
	"collect": `{"link":"x","code":"1"}`, "join": `{"people":[{"id":"x","name":"X"}],"no-passwords":true,"because":"b"}`,
	"return-archive": `{"because":"b"}`, "allot": `{"because":"b"}`, "renumber": `{"account":"x","number":7,"because":"b"}`,
	"draft-homes": `{"how":"archive","because":"b"}`, "commission": `{"administrator":"odd.strand","because":"b"}`,
	"move": `{"to":["mate"],"because":"b"}`, "rename": `{"to":"x","because":"b"}`, "leave": `{"because":"b"}`,
	"extend-user":      `{"until":"2031-01-31","because":"b"}`,
	"approve-settings": `{"revision":1}`, "give-people": `{"all":true}`,
	"add-operator": `{"name":"n","duties":["look"]}`, "set-operator": `{"duties":["look"]}`, "set-secret": `{"value":"eA=="}`,
}

var queries = map[string]string{"explain": "user=marit.fell&target=arctic-tern", "list-members": "set=crew",
	"list-history":    "object=crew",
	"compare-targets": "one=arctic-tern&other=sooty-tern",
	"who-has":         "what=account&target=arctic-tern",
	"forget-decision": "target=arctic-tern&account=x&user=marit.fell"}

type caller struct {
	t       *testing.T
	address string
	http    *http.Client
	host    string // to ask for, if not what the address says
}

func calling(t *testing.T, d *demo.Demo) caller {
	return caller{t: t, address: d.Server.Address,
		http: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
}

func (c caller) as(host string) caller { c.host = host; return c }

func (c caller) call(method, path, token, body string, header ...string) (int, string, http.Header) {
	c.t.Helper()
	req, err := http.NewRequest(method, c.address+path, strings.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Host = c.host
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := c.http.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	return resp.StatusCode, string(b), resp.Header
}

// Every operation names its duty in the document, and refuses those who are
// nobody and those without it.
func TestEveryDoor(t *testing.T) {
	d := prepared(t)
	c := calling(t, d)
	tokens := map[door.Duty]string{}
	ctx := context.Background()
	for name, duties := range map[door.Duty][]string{"none": {"look"}, door.Look: {"look"}, door.Draft: {"draft"},
		door.Approve: {"approve"}, door.Run: {"run"}, door.Suspend: {"suspend"}, door.Restore: {"restore"},
		door.Credential: {"credential"},
		door.Administer: {"administer"}, door.Push: {"push"}} {
		operator := "op-" + string(name)
		if _, err := d.Server.Service.AddOperator(ctx, door.Itself, operator, "", "a long enough password", duties); err != nil {
			t.Fatal(err)
		}
		_, secret, _, err := d.Server.Service.SignIn(ctx, operator, "a long enough password", "test", "127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		tokens[name] = secret
	}
	status, text, _ := c.call("GET", "/api/openapi.json", "", "")
	var doc struct {
		Paths map[string]map[string]struct {
			ID   string    `json:"operationId"`
			Duty door.Duty `json:"x-duty"`
		}
	}
	if err := json.Unmarshal([]byte(text), &doc); err != nil || status != 200 {
		t.Fatalf("%d %v", status, err)
	}
	fill := strings.NewReplacer("{id}", "1", "{name}", "arctic-tern", "{seq}", "1", "{number}", "1", "{key}", "ab", "{kind}", "group")
	for path, methods := range doc.Paths {
		for method, op := range methods {
			duty := op.Duty
			if duty == "open to all" && slices.Contains([]string{"sign-in", "look-behind-link", "collect", "show-authority",
				"list-withdrawn"}, op.ID) {
				continue
			}
			if duty != "any operator" && !slices.Contains(door.Duties, duty) {
				t.Errorf("operation %s names no duty: %q", op.ID, duty)
				continue
			}
			method, at := strings.ToUpper(method), fill.Replace(path)
			if query, ok := queries[op.ID]; ok {
				at += "?" + query
			}
			if status, text, _ := c.call(method, at, "", bodies[op.ID]); status != 401 && !strings.Contains(text, `"status":401`) {
				t.Errorf("%s lets nobody in: %d %s", op.ID, status, text)
			}
			if status, _, _ := c.call(method, at, "roost-FORGED", bodies[op.ID]); status != 401 && op.ID != "follow-round" &&
				op.ID != "watch" {
				t.Errorf("%s takes a forged token: %d", op.ID, status)
			}
			for _, have := range door.Duties {
				if duty == "any operator" || have == duty || duty == door.Look && have != door.Push {
					continue // whoever may do anything may look, but for a system that only tells
				}
				status, text, header := c.call(method, at, tokens[have], bodies[op.ID])
				if status != 403 || !strings.Contains(text, `needs the duty`) || header.Get("Content-Type") != "application/problem+json" {
					t.Errorf("%s lets somebody in who may only %s: %d %s", op.ID, have, status, text)
				}
			}
		}
	}
}

// The document in the repository, from which the console's client is made, is the one that is served.
func TestDocumentIsCurrent(t *testing.T) {
	want, _, code := roost(t, "", "", "openapi")
	if code != 0 {
		t.Fatal(want)
	}
	file := filepath.Join("..", "web", "openapi.json")
	got, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	trim := func(s string) string { return s[strings.Index(s, `"paths"`):] } // the version differs from build to build
	if trim(string(got)) != trim(want) {
		t.Errorf("%s is out of date: bin/roost openapi > web/openapi.json, then npm run client in web", file)
	}
}

func TestSignIn(t *testing.T) {
	d := start(t)
	c := calling(t, d)
	good := `{"name":"odd.strand","password":"` + d.Password + `"}`
	status, _, header := c.call("POST", "/api/session", "", good)
	cookie := header.Get("Set-Cookie")
	for _, want := range []string{"__Host-roost=", "Path=/", "HttpOnly", "Secure", "SameSite=Strict"} {
		if status != 200 || !strings.Contains(cookie, want) {
			t.Errorf("%d, the cookie lacks %s: %s", status, want, cookie)
		}
	}
	session := strings.SplitN(cookie, ";", 2)[0]
	if status, text, _ := c.call("GET", "/api/session", "", "", "Cookie", session); status != 200 || !strings.Contains(text, "Odd Strand") {
		t.Errorf("%d %s", status, text)
	}
	if status, text, _ := c.call("POST", "/api/surveys", "", "{}", "Cookie", session, "Sec-Fetch-Site", "cross-site"); status != 403 ||
		!strings.Contains(text, "another origin") {
		t.Errorf("another origin's page is let in: %d %s", status, text)
	}
	if status, text, _ := c.call("POST", "/api/session", "",
		`{"name":"odd.strand","password":{"secret":"hunter2-hunter2"}}`); status != 422 || strings.Contains(text, "hunter2") {
		t.Errorf("a refusal echoes what was sent: %d %s", status, text)
	}
	refused := 0
	for i := range 6 {
		if status, _, header := c.call("POST", "/api/session", "",
			fmt.Sprintf(`{"name":"odd.strand","password":"no %d"}`, i)); status == 429 && header.Get("Retry-After") != "" {
			refused++
		}
	}
	if refused == 0 {
		t.Error("six failed sign-ins in a row were not slowed down")
	}
	c.call("DELETE", "/api/session", "", "", "Cookie", session)
	if status, _, _ := c.call("GET", "/api/session", "", "", "Cookie", session); status != 401 {
		t.Errorf("a session lives on after sign-out: %d", status)
	}
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "roost_record_entries_total"} {
		if status, text, _ := c.call("GET", path, "", ""); status != 200 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	if status, text, _ := c.call("GET", "/api/nothing", "", ""); status != 404 || !strings.Contains(text, "no such operation") {
		t.Errorf("%d %s", status, text)
	}
}

// A secret is nowhere to be found but sealed: not in the database, the log, the record, nor in what is printed.
func TestSecretsStaySealed(t *testing.T) {
	d := start(t)
	const secret = "correct-horse-battery-staple"
	if _, said, code := roost(t, d.Profile, secret, "secret", "set", "spare", "--file", "-"); code != 0 {
		t.Fatal(said)
	}
	printed := must(t, d, "secret", "list", "-o", "json") + must(t, d, "record", "-o", "json", "--size", "1000")
	if strings.Contains(printed, secret) || strings.Contains(printed, d.Password) {
		t.Error("a secret is printed")
	}
	d.Server.Close()
	err := filepath.WalkDir(d.Data, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err == nil && slices.ContainsFunc([]string{secret, d.Password, d.Directory.Password},
			func(s string) bool { return bytes.Contains(b, []byte(s)) }) {
			t.Errorf("%s holds a secret in the clear", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Whoever is nobody is refused before a byte of what they send is read, and
// nobody who is somebody can hold more open than their share, or for longer than they may look.
func TestBounds(t *testing.T) {
	d := start(t)
	c := calling(t, d)
	read := &counted{left: 100 << 20}
	req, err := http.NewRequest("POST", d.Server.Address+"/api/revisions", read)
	if err != nil {
		t.Fatal(err)
	}
	req.ContentLength = read.left
	if resp, err := c.http.Do(req); err != nil || resp.StatusCode != 401 || read.given > 8<<20 {
		t.Errorf("%v after %d bytes: %v", resp, read.given, err)
	} else {
		resp.Body.Close()
	}
	if status, text, _ := c.call("POST", "/api/session", "",
		`{"name":"odd.strand","password":"`+strings.Repeat("x", 64<<10)+`"}`); status != 413 {
		t.Errorf("a sign-in of 64 KB: %d %s", status, text)
	}
	if status, text, _ := c.as("evil.example").call("GET", "/api/session", "", ""); status != 421 ||
		!strings.Contains(text, "not called so") {
		t.Errorf("another name: %d %s", status, text)
	}
	c.call("BREW", "/api/nothing", "", "")
	if _, text, _ := c.call("GET", "/metrics", "", ""); strings.Contains(text, "BREW") || !strings.Contains(text, `method="other"`) {
		t.Error("what is asked for makes labels of its own")
	}

	ctx := context.Background()
	if _, err := d.Server.Service.AddOperator(ctx, door.Itself, "wanda.ross", "", "a long enough password",
		[]string{"look"}); err != nil {
		t.Fatal(err)
	}
	_, secret, _, err := d.Server.Service.SignIn(ctx, "wanda.ross", "a long enough password", "watching", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	open := func() *http.Response {
		t.Helper()
		req, err := http.NewRequest("GET", d.Server.Address+"/api/watch", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+secret)
		resp, err := c.http.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	first := open()
	for range 7 {
		if resp := open(); resp.StatusCode != 200 {
			t.Errorf("%d of the first eight", resp.StatusCode)
		}
	}
	if resp := open(); resp.StatusCode != 429 || resp.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("a ninth: %d %v", resp.StatusCode, resp.Header)
	}
	if err := d.Server.Service.RemoveOperator(ctx, door.Itself, "wanda.ross"); err != nil {
		t.Fatal(err)
	}
	rest, err := io.ReadAll(first.Body) // it ends, or this test does not
	if err != nil || !strings.Contains(string(rest), `"status":401`) {
		t.Errorf("the stream of somebody removed: %v %.300s", err, rest)
	}
	if resp := open(); resp.StatusCode != 401 {
		t.Errorf("somebody removed: %d", resp.StatusCode)
	}
}

// counted is a body that counts what is read of it.
type counted struct{ left, given int64 }

func (c *counted) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	n := min(int64(len(p)), c.left)
	c.left, c.given = c.left-n, c.given+n
	return int(n), nil
}
