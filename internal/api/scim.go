package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"hen-roost/internal/scim"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
)

// scimAt is where other systems push people in, over SCIM 2.0.
const scimAt = "/scim/v2"

// Limits of what is pushed.
const (
	scimBody  = 8 << 20
	scimMany  = 1000
	scimPage  = 500
	roleModel = "urn:hen-roost:params:scim:schemas:1.0:Role"
)

// pushing are the routes by which other systems push people in (RFC 7644). Users are those that the system itself has pushed;
// groups and roles are the declaration's, to be read.
func pushing(r chi.Router, s *service.Service) {
	p := &pusher{s}
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		refuseSCIM(w, scim.NewError(404, "", "there is nothing here"))
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, _ *http.Request) {
		refuseSCIM(w, scim.NewError(405, "", "that cannot be done here"))
	})
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if who(r.Context()).Name == "" || !strings.HasPrefix(r.Header.Get("Authorization"), "Bearer ") { // no browser's cookie
				w.Header().Set("WWW-Authenticate", `Bearer realm="scim"`)
				refuseSCIM(w, scim.NewError(401, "", "show the token of an operator with the duty push"))
				return
			}
			r.Body = http.MaxBytesReader(w, r.Body, scimBody)
			next.ServeHTTP(w, r)
		})
	})
	told := func(path string, list func(*http.Request) ([]scim.Resource, error)) {
		r.Get(path, func(w http.ResponseWriter, r *http.Request) {
			all, err := list(r)
			p.list(w, r, all, err)
		})
		r.Get(path+"/{id}", func(w http.ResponseWriter, r *http.Request) {
			all, err := list(r)
			p.one(w, all, chi.URLParam(r, "id"), err)
		})
	}
	r.Get("/ServiceProviderConfig", func(w http.ResponseWriter, _ *http.Request) { tellSCIM(w, 200, scimConfig()) })
	told("/ResourceTypes", func(*http.Request) ([]scim.Resource, error) { return plain(scimTypes), nil })
	told("/Schemas", func(*http.Request) ([]scim.Resource, error) { return plain(scimSchemas), nil })
	told("/Groups", p.groups)
	told("/Roles", p.roles)
	r.Get("/Users", p.find)
	r.Post("/Users/.search", p.find)
	r.Get("/Users/{id}", p.read)
	r.Post("/Users", p.change)
	for _, m := range []string{http.MethodPut, http.MethodPatch, http.MethodDelete} {
		r.Method(m, "/Users/{id}", http.HandlerFunc(p.change))
	}
	r.Post("/Bulk", p.bulk)
}

type pusher struct{ *service.Service }

func tellSCIM(w http.ResponseWriter, status int, what any) {
	w.Header().Set("Content-Type", scim.MediaType)
	w.WriteHeader(status)
	if what != nil {
		_ = json.NewEncoder(w).Encode(what)
	}
}

// refuseSCIM answers what was refused, in the words of the standard (RFC 7644 §3.12).
func refuseSCIM(w http.ResponseWriter, err error) { e := scimError(err); tellSCIM(w, int(e.Status), e) }

func scimError(err error) *scim.Error {
	var e *scim.Error
	if errors.As(err, &e) {
		return e
	}
	p := door.ProblemOf(err)
	status := statusOf[p.Kind]
	if status == 0 || status == http.StatusInternalServerError {
		return scim.NewError(http.StatusInternalServerError, "", "something went wrong here; nothing of it was kept")
	}
	return scim.NewError(status, "", p.Words)
}

// scimPerson is somebody as they are answered.
func scimPerson(r *http.Request, p intake.Person) scim.Resource {
	out := p.Resource.Copy()
	out["id"] = p.ID
	out["meta"] = map[string]any{"resourceType": "User", "location": location(r, "Users", p.ID), "version": scimTag(p.Version),
		"created": p.Made.UTC().Format(time.RFC3339Nano), "lastModified": p.At.UTC().Format(time.RFC3339Nano)}
	return out
}

func scimTag(version int) string { return `W/"` + strconv.Itoa(version) + `"` }

// versionAsked is the version that a request is for; 0 for any, and less for one that is none of ours.
func versionAsked(tag string) int {
	if tag == "" || tag == "*" {
		return 0
	}
	n, err := strconv.Atoi(strings.Trim(strings.TrimPrefix(tag, "W/"), `"`))
	if err != nil || n <= 0 {
		return -1
	}
	return n
}

func (p *pusher) read(w http.ResponseWriter, r *http.Request) {
	x, err := p.Intake.One(r.Context(), who(r.Context()), chi.URLParam(r, "id"))
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	w.Header().Set("ETag", scimTag(x.Version))
	if r.Header.Get("If-None-Match") == scimTag(x.Version) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	tellSCIM(w, 200, scim.Project(scimPerson(r, x), r.URL.Query().Get("attributes"), r.URL.Query().Get("excludedAttributes")))
}

// find answers a page of users (RFC 7644 §3.4.2, §3.4.3).
func (p *pusher) find(w http.ResponseWriter, r *http.Request) {
	q, err := scim.ReadSearch(r)
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	start, count := max(q.Start, 1), scimPage
	if q.Count != nil {
		count = min(max(*q.Count, 0), scimPage)
	}
	page, total, err := p.Intake.Find(r.Context(), who(r.Context()), q.Filter, start, count)
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	out := scim.List{Schemas: []string{scim.ListMessage}, Total: total, Start: start, Count: len(page), Resources: []json.RawMessage{}}
	for _, x := range page {
		text, _ := json.Marshal(scim.Project(scimPerson(r, x), strings.Join(q.Attributes, ","), strings.Join(q.Excluded, ",")))
		out.Resources = append(out.Resources, text)
	}
	tellSCIM(w, 200, out)
}

// change carries out one request that changes somebody.
func (p *pusher) change(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		refuseSCIM(w, scim.NewError(413, "", "a request has at most 8 MB"))
		return
	}
	x, status, err := p.do(r, r.Method, chi.URLParam(r, "id"), r.Header.Get("If-Match"), body)
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	if status == http.StatusNoContent {
		w.WriteHeader(status)
		return
	}
	w.Header().Set("ETag", scimTag(x.Version))
	w.Header().Set("Location", location(r, "Users", x.ID))
	tellSCIM(w, status, scimPerson(r, x))
}

// do carries out one request, by itself or of many.
func (p *pusher) do(r *http.Request, method, id, version string, body []byte) (x intake.Person, status int, err error) {
	ctx, by, at := r.Context(), who(r.Context()), versionAsked(version)
	switch {
	case method == http.MethodPost && id == "":
		x, err = p.Intake.Add(ctx, by, body)
		return x, http.StatusCreated, err
	case method == http.MethodDelete:
		return x, http.StatusNoContent, p.Intake.Remove(ctx, by, id, at)
	case method == http.MethodPut:
		x, err = p.Intake.Change(ctx, by, id, at, func(scim.Resource) (scim.Resource, error) {
			var fresh scim.Resource
			if json.Unmarshal(body, &fresh) != nil || fresh == nil {
				return nil, scim.NewError(400, "invalidSyntax", "a user is a JSON object")
			}
			return fresh, nil
		})
	case method == http.MethodPatch:
		var patch scim.Patch
		if err := json.Unmarshal(body, &patch); err != nil {
			return x, 0, scim.NewError(400, "invalidSyntax", "the changes cannot be read: "+err.Error())
		}
		x, err = p.Intake.Change(ctx, by, id, at, func(r scim.Resource) (scim.Resource, error) {
			_, err := patch.Apply(r)
			return r, err
		})
	default:
		return x, 0, scim.NewError(405, "", method+" cannot be done here")
	}
	return x, http.StatusOK, err
}

// bulk carries out many requests, each for itself (RFC 7644 §3.7).
func (p *pusher) bulk(w http.ResponseWriter, r *http.Request) {
	var b scim.Bulk
	if err := json.NewDecoder(r.Body).Decode(&b); err != nil {
		refuseSCIM(w, scim.NewError(400, "invalidSyntax", "the requests cannot be read: "+err.Error()))
		return
	}
	if len(b.Operations) > scimMany {
		refuseSCIM(w, scim.NewError(413, "tooMany", fmt.Sprintf("there are more than %d requests in one", scimMany)))
		return
	}
	out := scim.Answers{Schemas: []string{scim.BulkAnswer}, Operations: []scim.Answer{}}
	made, failed := map[string]string{}, 0
	for _, q := range b.Operations {
		a := scim.Answer{Method: q.Method, ID: q.ID}
		var x intake.Person
		status, err := 0, error(nil)
		if q.Resolve(made) {
			err = scim.NewError(409, "invalidValue", "it names what no request before it makes")
		} else if kind, id, _ := strings.Cut(strings.TrimPrefix(q.Path, "/"), "/"); kind != "Users" {
			err = scim.NewError(404, "", "only Users can be changed here")
		} else {
			x, status, err = p.do(r, strings.ToUpper(q.Method), id, q.Version, q.Data)
		}
		if a.Status = scim.Status(status); err != nil {
			e := scimError(err)
			a.Status = e.Status
			a.Response, _ = json.Marshal(e)
			failed++
		} else if x.ID != "" {
			a.Location, a.Version = location(r, "Users", x.ID), scimTag(x.Version)
			if q.ID != "" {
				made[q.ID] = x.ID
			}
		}
		out.Operations = append(out.Operations, a)
		if b.FailOn > 0 && failed >= b.FailOn {
			break
		}
	}
	tellSCIM(w, 200, out)
}

// list answers what is only to be read, a page of it.
func (p *pusher) list(w http.ResponseWriter, r *http.Request, all []scim.Resource, err error) {
	var q scim.Search
	if err == nil {
		q, err = scim.ReadSearch(r)
	}
	if err == nil && q.Filter != "" {
		var f scim.Filter
		if f, err = scim.ParseFilter(q.Filter); err == nil {
			all = slices.DeleteFunc(all, func(r scim.Resource) bool { return !f.Match(r) })
		}
	}
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	start, count := min(max(q.Start, 1), len(all)+1), scimPage
	if q.Count != nil {
		count = min(max(*q.Count, 0), scimPage)
	}
	page := append([]scim.Resource{}, all[start-1:min(start-1+count, len(all))]...) // none is an empty list
	tellSCIM(w, 200, map[string]any{"schemas": []string{scim.ListMessage}, "totalResults": len(all), "startIndex": start,
		"itemsPerPage": len(page), "Resources": page})
}

func (p *pusher) one(w http.ResponseWriter, all []scim.Resource, id string, err error) {
	if err != nil {
		refuseSCIM(w, err)
		return
	}
	for _, x := range all {
		if x.Text("id") == id {
			tellSCIM(w, 200, x)
			return
		}
	}
	refuseSCIM(w, scim.NewError(404, "", "there is none called "+id))
}

// groups are the declared groups, which only the declaration changes.
func (p *pusher) groups(r *http.Request) (out []scim.Resource, err error) {
	groups, _, err := p.Intake.Names(r.Context(), who(r.Context()))
	for _, name := range groups {
		out = append(out, readable(r, "Groups", scim.GroupSchema, name, nil))
	}
	return out, err
}

func (p *pusher) roles(r *http.Request) (out []scim.Resource, err error) {
	_, roles, err := p.Intake.Names(r.Context(), who(r.Context()))
	for _, name := range slices.Sorted(maps.Keys(roles)) {
		out = append(out, readable(r, "Roles", roleModel, name, scim.Resource{"about": roles[name]}))
	}
	return out, err
}

// location is the address of a resource (RFC 7643 §3.1), as whoever asks knows us.
func location(r *http.Request, kind, id string) string {
	return "https://" + r.Host + scimAt + "/" + kind + "/" + url.PathEscape(id)
}

func readable(r *http.Request, kind, schema, name string, more scim.Resource) scim.Resource {
	out := scim.Resource{"schemas": []any{schema}, "id": name, "displayName": name, "meta": map[string]any{
		"resourceType": strings.TrimSuffix(kind, "s"), "location": location(r, kind, name)}}
	maps.Copy(out, more)
	return out
}

// scimConfig says what can be asked of us (RFC 7643 §5).
func scimConfig() scim.Config {
	c := scim.Config{Schemas: []string{scim.ConfigSchema}, Patch: scim.Offered{Supported: true}, ETag: scim.Offered{Supported: true},
		SignIn: []scim.Scheme{{Type: "oauthbearertoken", Name: "Token", Text: "the token of an operator with the duty push"}}}
	c.Bulk.Supported, c.Bulk.Operations, c.Bulk.Bytes = true, scimMany, scimBody
	c.Filter.Supported, c.Filter.Results = true, scimPage
	c.Pages.Index, c.Pages.Most = true, scimPage
	return c
}

// plain are values as resources.
func plain(of func() []any) []scim.Resource {
	var out []scim.Resource
	text, _ := json.Marshal(of())
	_ = json.Unmarshal(text, &out)
	return out
}

func scimTypes() []any {
	one := func(name, schema string, more ...scim.Extension) scim.Type {
		return scim.Type{Schemas: []string{scim.TypeSchema}, ID: name, Name: name, Endpoint: "/" + name + "s", Schema: schema,
			Extensions: more}
	}
	return []any{one("User", scim.UserSchema, scim.Extension{Schema: scim.EnterpriseSchema}), one("Group", scim.GroupSchema),
		one("Role", roleModel)}
}

func scimSchemas() []any {
	a := func(name string, more ...scim.Attribute) scim.Attribute {
		x := scim.Attribute{Name: name, Type: "string", Mutability: "readWrite", Returned: "default", Uniqueness: "none", Attributes: more}
		if more != nil {
			x.Type = "complex"
		}
		return x
	}
	readOnly := func(x scim.Attribute) scim.Attribute { x.Mutability = "readOnly"; return x }
	login := a("userName")
	login.Required, login.Uniqueness = true, "server"
	active := a("active")
	active.Type = "boolean"
	mails := a("emails", a("value"), a("type"), a("primary"))
	mails.Many = true
	return []any{
		scim.Schema{Schemas: []string{scim.SchemaSchema}, ID: scim.UserSchema, Name: "User", Attributes: []scim.Attribute{login,
			a("externalId"),
			a("displayName"), a("name", a("formatted"), a("familyName"), a("givenName")), active, mails}},
		scim.Schema{Schemas: []string{scim.SchemaSchema}, ID: scim.EnterpriseSchema, Name: "Enterprise user", Attributes: []scim.Attribute{
			a("employeeNumber"), a("department"), a("manager", a("value"))}},
		scim.Schema{Schemas: []string{scim.SchemaSchema}, ID: scim.GroupSchema, Name: "Group", Attributes: []scim.Attribute{
			readOnly(a("displayName"))}},
		scim.Schema{Schemas: []string{scim.SchemaSchema}, ID: roleModel, Name: "Role",
			Attributes: []scim.Attribute{readOnly(a("displayName")),
				readOnly(a("about"))}},
	}
}
