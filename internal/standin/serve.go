package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"hen-roost/internal/scim"
)

// prefix is where the protocol is.
const prefix = "/scim/v2"

// bodyMost bounds what it is sent.
const bodyMost = 16 << 20

func (a *Application) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", a.token)
	told := func(path string, what any) {
		mux.HandleFunc("GET "+prefix+path, func(w http.ResponseWriter, r *http.Request) { tell(w, 200, what) })
	}
	list := func(path string, n int, what any) {
		told(path, map[string]any{"schemas": []string{scim.ListMessage}, "totalResults": n, "Resources": what})
	}
	told("/ServiceProviderConfig", a.choices.config())
	types, schemas := a.choices.types(), a.choices.schemas()
	list("/ResourceTypes", len(types), types)
	list("/Schemas", len(schemas), schemas)
	mux.HandleFunc("POST "+prefix+"/Bulk", a.serveBulk)
	mux.HandleFunc("POST "+prefix+"/{kind}/.search", a.search)
	mux.HandleFunc("GET "+prefix+"/{kind}", a.search)
	mux.HandleFunc("GET "+prefix+"/{kind}/{id}", a.read)
	mux.HandleFunc("POST "+prefix+"/{kind}", a.change)
	for _, m := range []string{"PUT", "PATCH", "DELETE"} {
		mux.HandleFunc(m+" "+prefix+"/{kind}/{id}", a.change)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.asked.Add(1)
		r.Body = http.MaxBytesReader(w, r.Body, bodyMost)
		if r.URL.Path != "/token" {
			if !a.admitted(r) {
				w.Header().Set("WWW-Authenticate", "Bearer")
				refuse(w, scim.NewError(401, "", "no valid token was shown"))
				return
			}
			if !a.spoilt(w) {
				return
			}
		}
		mux.ServeHTTP(w, r)
	})
}

// spoilt spoils an answer as the switches say; false when it was given.
func (a *Application) spoilt(w http.ResponseWriter) bool {
	time.Sleep(a.now().Slow)
	switch {
	case a.take(func(t *Trouble) *int { return &t.Busy }):
		w.Header().Set("Retry-After", "1")
		refuse(w, scim.NewError(429, "", "too many requests"))
	case a.take(func(t *Trouble) *int { return &t.Broken }):
		refuse(w, scim.NewError(500, "", "something broke"))
	default:
		return true
	}
	return false
}

// cut ends the connection in place of an answer.
func cut() { panic(http.ErrAbortHandler) }

func (a *Application) admitted(r *http.Request) bool {
	shown, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		return false
	}
	if a.choices.Token != "" && subtle.ConstantTimeCompare([]byte(shown), []byte(a.choices.Token)) == 1 {
		return true
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return time.Now().Before(a.tokens[shown])
}

// token gives a token for the client's secret (RFC 6749 §4.4), and for a user's password one that opens nothing (§4.3): who
// gets it could sign in.
func (a *Application) token(w http.ResponseWriter, r *http.Request) {
	fail := func(why string) { tell(w, 400, map[string]string{"error": why}) }
	if r.ParseForm() != nil {
		fail("invalid_request")
		return
	}
	switch r.PostForm.Get("grant_type") {
	case "client_credentials":
		id, secret, _ := r.BasicAuth() // each encoded as in a form (§2.3.1)
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
		if a.choices.Client == "" || id != a.choices.Client || secret != a.choices.Secret {
			tell(w, 401, map[string]string{"error": "invalid_client"})
			return
		}
		t := rand.Text()
		a.mu.Lock()
		a.tokens[t] = time.Now().Add(time.Minute)
		a.mu.Unlock()
		tell(w, 200, map[string]any{"access_token": t, "token_type": "Bearer", "expires_in": 60})
	case "password":
		a.state.mu.Lock()
		defer a.state.mu.Unlock()
		u := a.state.named(users, r.PostForm.Get("username"))
		if u == nil || u.body.Get("active") != true || !opens(u.body.Text("password"), r.PostForm.Get("password")) {
			fail("invalid_grant")
			return
		}
		tell(w, 200, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "scope": "nothing"})
	default:
		fail("unsupported_grant_type")
	}
}

func tell(w http.ResponseWriter, status int, what any) {
	w.Header().Set("Content-Type", scim.MediaType)
	w.WriteHeader(status)
	if what != nil {
		_ = json.NewEncoder(w).Encode(what)
	}
}

func refuse(w http.ResponseWriter, e *scim.Error) { tell(w, int(e.Status), e) }

func (a *Application) read(w http.ResponseWriter, r *http.Request) {
	kind := r.PathValue("kind")
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	k := a.state.kinds[kind]
	if k == nil || k.byID[r.PathValue("id")] == nil {
		refuse(w, scim.NewError(404, "", "there is no such resource"))
		return
	}
	rec := k.byID[r.PathValue("id")]
	w.Header().Set("ETag", tag(rec))
	if r.Header.Get("If-None-Match") == tag(rec) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	tell(w, 200, scim.Project(a.state.shown(kind, rec), r.FormValue("attributes"), r.FormValue("excludedAttributes")))
}

// search answers a page.
func (a *Application) search(w http.ResponseWriter, r *http.Request) {
	kind := r.PathValue("kind")
	q, bad := scim.ReadSearch(r)
	if bad != nil {
		refuse(w, bad.(*scim.Error))
		return
	}
	out, shown, err := a.page(kind, q)
	if err != nil {
		refuse(w, err)
		return
	}
	for _, x := range shown { // others are answered meanwhile
		b, _ := json.Marshal(scim.Project(x, strings.Join(q.Attributes, ","), strings.Join(q.Excluded, ",")))
		out.Resources = append(out.Resources, b)
	}
	tell(w, 200, out)
	if kind == users && len(shown) > 0 && q.Filter == "" && a.take(func(t *Trouble) *int { return &t.Shifting }) {
		a.state.mu.Lock()
		defer a.state.mu.Unlock()
		a.state.remove(users, a.state.kinds[users].order[0])
	}
}

// page is what a search finds, and of it the resources of the page.
func (a *Application) page(kind string, q scim.Search) (out scim.List, shown []scim.Resource, err *scim.Error) {
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	if a.state.kinds[kind] == nil {
		return out, nil, scim.NewError(404, "", "there is no "+kind)
	}
	list, err := a.chosen(kind, q.Filter)
	if err != nil {
		return out, nil, err
	}
	start, count := max(q.Start, 1), a.choices.Page
	if q.Count != nil {
		count = min(max(*q.Count, 0), count)
	}
	byCursor := q.Cursor != nil && a.choices.Cursors
	if byCursor && *q.Cursor != "" { // the id of the last one of the page before
		at := -1
		for i, x := range list {
			if x.id == *q.Cursor {
				at = i
			}
		}
		if at < 0 {
			return out, nil, scim.NewError(400, "invalidCursor", "the cursor leads nowhere")
		}
		start = at + 2
	}
	from := min(start-1, len(list))
	page := list[from:min(from+count, len(list))]
	out = scim.List{Schemas: []string{scim.ListMessage}, Total: len(list), Count: len(page), Resources: []json.RawMessage{}}
	if !byCursor {
		out.Start = start
	} else if from+len(page) < len(list) {
		out.Next = page[len(page)-1].id
	}
	for _, x := range page {
		shown = append(shown, a.state.shown(kind, x))
	}
	return out, shown, nil
}

// chosen are the resources that a filter chooses.
func (a *Application) chosen(kind, text string) ([]*record, *scim.Error) {
	k := a.state.kinds[kind]
	if text == "" {
		return k.order, nil
	}
	if a.choices.NoFilter {
		return nil, scim.NewError(400, "invalidFilter", "this server has no filter")
	}
	f, err := scim.ParseFilter(text)
	if err != nil {
		e, _ := err.(*scim.Error)
		return nil, e
	}
	var out []*record
	for attribute, by := range map[string]map[string]*record{"userName": k.byName, "id": k.byID} {
		values, ok := f.AnyOf(attribute)
		if !ok || attribute != "id" && kind != users { // groups may share a name
			continue
		}
		for _, v := range values {
			if attribute != "id" {
				v = strings.ToLower(v)
			}
			if r := by[v]; r != nil {
				out = append(out, r)
			}
		}
		return out, nil
	}
	for _, r := range k.order {
		if f.Match(a.state.shown(kind, r)) {
			out = append(out, r)
		}
	}
	return out, nil
}

func (a *Application) change(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		refuse(w, scim.NewError(413, "", err.Error()))
		return
	}
	kind := r.PathValue("kind")
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	rec, e := a.do(request{r.Method, kind, r.PathValue("id"), r.Header.Get("If-Match"), body})
	if a.take(func(t *Trouble) *int { return &t.Cut }) {
		cut()
	}
	if e != nil {
		refuse(w, e)
		return
	}
	w.Header().Set("ETag", tag(rec))
	w.Header().Set("Location", fmt.Sprintf("%s/%s/%s", prefix, kind, rec.id))
	switch r.Method {
	case "POST":
		tell(w, 201, a.state.shown(kind, rec))
	case "DELETE":
		w.WriteHeader(http.StatusNoContent)
	default:
		tell(w, 200, a.state.shown(kind, rec))
	}
}

func (a *Application) serveBulk(w http.ResponseWriter, r *http.Request) {
	var b scim.Bulk
	if a.choices.NoBulk {
		refuse(w, scim.NewError(501, "", "this server has no bulk"))
		return
	}
	if err := json.NewDecoder(r.Body).Decode(&b); err != nil {
		refuse(w, scim.NewError(400, "invalidSyntax", err.Error()))
		return
	}
	if len(b.Operations) > a.choices.BulkMost || r.ContentLength > bulkBytes {
		refuse(w, scim.NewError(413, "tooMany", fmt.Sprintf("a bulk request has at most %d operations and %d bytes", a.choices.BulkMost,
			bulkBytes)))
		return
	}
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	out, whole := a.bulk(b)
	if !whole || a.take(func(t *Trouble) *int { return &t.Cut }) {
		cut()
	}
	tell(w, 200, out)
}
