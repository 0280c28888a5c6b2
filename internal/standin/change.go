package standin

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/scim"
)

// request is one change that is asked for, by itself or among many.
type request struct {
	method, kind, id string
	version          string // that it must have; "": any
	body             []byte
}

// do carries a request out. The state is locked.
func (a *Application) do(q request) (r *record, err *scim.Error) {
	k := a.state.kinds[q.kind]
	if k == nil || q.kind == licences {
		return nil, scim.NewError(404, "", "there is no "+q.kind+" to be changed")
	}
	if q.method != "POST" {
		if r = k.byID[q.id]; r == nil {
			return nil, scim.NewError(404, "", "there is no resource "+q.id)
		}
		if a.take(func(t *Trouble) *int { return &t.Behind }) {
			a.state.keep(q.kind, r)
		}
		if q.version != "" && q.version != "*" && q.version != tag(r) && !a.choices.NoETag {
			return nil, scim.NewError(412, "", "it is now at version "+tag(r))
		}
	}
	lie := a.take(func(t *Trouble) *int { return &t.Lie })
	if q.method == "DELETE" {
		if !lie {
			a.state.remove(q.kind, r)
		}
		return r, nil
	}
	body, err := a.bodyAfter(q, r)
	if err != nil {
		return nil, err
	}
	if err := a.check(q.kind, r, body); err != nil {
		return nil, err
	}
	if lie {
		if r == nil {
			r = &record{id: newID(), version: 1}
		}
		return &record{r.id, body, r.version + 1, r.made, r.changed}, nil
	}
	if r == nil {
		r = a.state.add(q.kind, body)
	} else {
		a.state.change(q.kind, r, body)
	}
	if t := a.now(); q.kind == users && t.Later > 0 && len(t.PutBack) > 0 {
		time.AfterFunc(t.Later, func() { a.putBack(r.id, t.PutBack) })
	}
	return r, nil
}

// putBack sets attributes of a user to values of the application's own, behind the back of whoever changed them.
func (a *Application) putBack(id string, values map[string]string) {
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	if r := a.state.kinds[users].byID[id]; r != nil {
		body := r.body.Copy()
		for n, v := range values {
			body[n] = v
		}
		a.state.change(users, r, body)
	}
}

// bodyAfter is a resource as a request leaves it.
func (a *Application) bodyAfter(q request, r *record) (scim.Resource, *scim.Error) {
	var body scim.Resource
	switch q.method {
	case "PATCH":
		var p scim.Patch
		if a.choices.NoPatch {
			return nil, scim.NewError(501, "", "this server has no PATCH")
		}
		if err := json.Unmarshal(q.body, &p); err != nil {
			return nil, scim.NewError(400, "invalidSyntax", err.Error())
		}
		body = r.body.Copy()
		if _, err := p.Apply(body); err != nil {
			e, _ := err.(*scim.Error)
			return nil, e
		}
	case "POST", "PUT":
		if err := json.Unmarshal(q.body, &body); err != nil || body == nil {
			return nil, scim.NewError(400, "invalidSyntax", "a resource is a JSON object")
		}
	default:
		return nil, scim.NewError(405, "", q.method+" is not offered")
	}
	for _, k := range []string{"id", "meta", "groups"} { // RFC 7643 §2.2: what is read-only is not taken
		for n := range body {
			if strings.EqualFold(n, k) {
				delete(body, n)
			}
		}
	}
	kept := ""
	if r != nil {
		kept = r.body.Text("password")
	}
	for n, v := range body {
		if !strings.EqualFold(n, "password") {
			continue
		}
		delete(body, n)
		if s, _ := v.(string); s != kept {
			kept = hashed(newID(), s)
		}
	}
	if kept != "" {
		body["password"] = kept
	}
	if q.kind == users {
		if body.Get("active") == nil {
			body["active"] = true
		}
		if t := a.now(); t.Later == 0 {
			for n, v := range t.PutBack {
				body[n] = v
			}
		}
	}
	return body, nil
}

// check refuses what cannot be.
func (a *Application) check(kind string, r *record, body scim.Resource) *scim.Error {
	name := nameOf(kind, body)
	if name == "" {
		return scim.NewError(400, "invalidValue", "it has no name")
	}
	if other := a.state.named(kind, name); other != nil && other != r {
		return scim.NewError(409, "uniqueness", "there is one of that name already")
	}
	var had []string
	if r != nil {
		had = entitled(kind, r.body)
	}
	for _, l := range entitled(kind, body) {
		seats, known := a.state.seats[l]
		if !known {
			return scim.NewError(400, "invalidValue", "there is no licence "+l)
		}
		if !slices.Contains(had, l) && a.state.used[l] >= seats {
			return scim.NewError(409, "tooMany", "no seat of "+l+" is left")
		}
	}
	if kind == groups {
		for _, m := range valuesOf(body, "members") {
			if a.state.kinds[users].byID[m] == nil && a.state.kinds[groups].byID[m] == nil {
				return scim.NewError(400, "invalidValue", "there is no resource "+m)
			}
		}
	}
	return nil
}

// bulk carries out many requests, each for itself. Those that name what another makes wait for it. The state is locked.
func (a *Application) bulk(b scim.Bulk) (out scim.Answers, whole bool) {
	out.Schemas = []string{scim.BulkAnswer}
	out.Operations = make([]scim.Answer, len(b.Operations))
	made := map[string]string{}
	half := a.now().HalfBulk
	failed, done := 0, 0
	waiting := make([]int, len(b.Operations))
	for i := range waiting {
		waiting[i] = i
	}
	for progress := true; progress && len(waiting) > 0; {
		progress = false
		var later []int
		for _, i := range waiting {
			q := b.Operations[i]
			if q.Resolve(made) {
				later = append(later, i)
				continue
			}
			progress = true
			if half > 0 && done == half {
				a.mu.Lock()
				a.trouble.HalfBulk = 0
				a.mu.Unlock()
				return out, false
			}
			done++
			out.Operations[i] = a.one(q, made)
			if out.Operations[i].Status >= 400 {
				failed++
			}
			if b.FailOn > 0 && failed >= b.FailOn {
				return out, true
			}
		}
		waiting = later
	}
	for _, i := range waiting {
		q := b.Operations[i]
		text, _ := json.Marshal(scim.NewError(409, "invalidValue", "it names what nothing here makes"))
		out.Operations[i] = scim.Answer{Method: q.Method, ID: q.ID, Status: 409, Response: text}
	}
	return out, true
}

func (a *Application) one(q scim.Request, made map[string]string) scim.Answer {
	kind, id, _ := strings.Cut(strings.TrimPrefix(q.Path, "/"), "/")
	r, err := a.do(request{q.Method, kind, id, q.Version, q.Data})
	out := scim.Answer{Method: q.Method, ID: q.ID, Status: 200}
	if err != nil {
		out.Status = err.Status
		out.Response, _ = json.Marshal(err)
		return out
	}
	switch q.Method {
	case "POST":
		out.Status = 201
		made[q.ID] = r.id
	case "DELETE":
		out.Status = 204
	}
	out.Version, out.Location = tag(r), prefix+"/"+kind+"/"+r.id
	return out
}
