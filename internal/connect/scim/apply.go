package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	before, err := s.lookup(ctx, acts)
	if err != nil {
		return nil, s.fail("read", err)
	}
	return &batch{Usual: connect.Usual{Schema: schema}, View: before, session: s, before: before, ids: map[model.Named]string{},
		versions: map[string]string{}}, nil
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	if b.Batch = x; b.Lost == nil {
		b.flush(ctx)
	}
	v, err := x.After(func(sent []connect.Act) (connect.View, error) { return b.lookup(ctx, sent) })
	if err != nil {
		return nil, b.fail("change", err)
	}
	return v, nil
}

// Answer implements connect.Carrier.
func (b *batch) Answer(a connect.Act, after connect.View, trouble error) connect.Answer {
	out := b.Usual.Answer(a, after, trouble)
	var e *protocol.Error
	if errors.As(trouble, &e) && e.Status == 412 && out.Outcome == connect.Failed { // somebody else wrote since we read
		out.Outcome = connect.Moved
	}
	return out
}

// batch is some acts that are carried out.
type batch struct {
	connect.Usual
	connect.View
	*connect.Batch
	*session
	before   *seen
	waiting  []*call // for a request that takes many
	frees    bool    // one of those gives a seat back
	mu       sync.Mutex
	ids      map[model.Named]string // of what was made, or in a request of many: a reference to what will be
	versions map[string]string      // by id: as we know them; "": not any more
}

// call is one change of one resource, for one act or for several that are alike.
type call struct {
	acts   []int
	method string
	of     model.Named // what it changes
	ops    func() ([]protocol.Change, error)
	guard  bool // it goes by what was read: not if somebody else wrote since
}

// Carry implements connect.Carrier: what gives something back before what takes.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.Batch = x
	var gives, takes []int
	for _, i := range ready {
		a := b.Acts[i]
		if words := b.before.doubt(a); words != "" {
			b.Trouble[i] = errors.New(words)
			continue
		}
		switch a.Verb {
		case model.AdoptIt:
		case model.LeaveIt, model.Remove, model.Disable:
			gives = append(gives, i)
		default:
			takes = append(takes, i)
		}
	}
	for _, wave := range [][]int{gives, takes} {
		b.wave(ctx, b.calls(wave))
	}
}

// calls are what carries out some acts; those that move members of one group, or roles of one account, are one.
func (b *batch) calls(list []int) (out []*call) {
	moves := map[model.Named]*call{}
	for _, i := range list {
		a := b.Acts[i]
		if !a.Moves() {
			out = append(out, b.alone(i))
			continue
		}
		of := a.Of()
		if a.Object != model.GroupKind {
			of = model.Named{Kind: a.MemberKind, Name: a.Member}
		}
		if moves[of] == nil {
			moves[of] = &call{method: "PATCH", of: of}
			out = append(out, moves[of])
		}
		moves[of].acts = append(moves[of].acts, i)
	}
	for _, c := range moves {
		c.ops = b.moving(c.acts)
	}
	return out
}

// moving are the changes that bring members in, or out.
func (b *batch) moving(acts []int) func() ([]protocol.Change, error) {
	return func() (out []protocol.Change, err error) {
		for _, i := range acts {
			a := b.Acts[i]
			list, what, sort := "members", "", ""
			switch a.Object {
			case model.RightKind:
				list, what = "roles", a.Name
			case model.LicenceKind:
				list, what = "entitlements", a.Name
			default:
				sort = map[bool]string{true: "User", false: "Group"}[a.MemberKind == model.Account]
				if what = b.id(model.Named{Kind: a.MemberKind, Name: a.Member}); what == "" {
					return nil, fmt.Errorf("%s %s is not there", a.MemberKind, a.Member)
				}
			}
			if a.Verb == model.LeaveIt {
				out = append(out, protocol.Change{Op: "remove", Path: list + "[value eq " + protocol.Quote(what) + "]"})
				continue
			}
			out = append(out, protocol.Change{Op: "add", Path: list, Value: text([]value{{Value: what, Type: sort}})})
		}
		return out, nil
	}
}

// alone is what carries out an act that moves nobody.
func (b *batch) alone(i int) *call {
	a := b.Acts[i]
	c := &call{acts: []int{i}, method: "PATCH", of: a.Of(), guard: true}
	switch a.Verb {
	case model.Create:
		c.method, c.guard = "POST", false
	case model.Remove:
		c.method = "DELETE"
	}
	c.ops = func() ([]protocol.Change, error) {
		if a.Object == model.GroupKind || a.Verb == model.Remove {
			return nil, nil
		}
		return b.changes(a)
	}
	return c
}

func text(v any) json.RawMessage {
	out, err := json.Marshal(v)
	if err != nil {
		panic(err) // of what is written here there is none
	}
	return out
}

// id is the id of an account or a group, or a reference to one that is made in the same request; "" for none.
func (b *batch) id(n model.Named) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if id := b.ids[n]; id != "" {
		return id
	}
	if n.Kind == model.Account {
		if u := b.before.one(n.Name); u != nil {
			return u.ID
		}
	} else if g := b.before.group(n.Name); g != nil {
		return g.ID
	}
	return ""
}

// version is that which a resource must still have; "" for any.
func (b *batch) version(n model.Named, id string) string {
	if !b.config.ETag.Supported {
		return ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if v, known := b.versions[id]; known {
		return v
	}
	if n.Kind == model.Account {
		if u := b.before.one(n.Name); u != nil {
			return u.Meta.Version
		}
	} else if g := b.before.group(n.Name); g != nil {
		return g.Meta.Version
	}
	return ""
}

func endpoint(kind model.ObjectKind) string {
	if kind == model.Account {
		return "/Users"
	}
	return "/Groups"
}

// request is a call as it is sent.
func (b *batch) request(c *call) (method, path string, body any, version string, err error) {
	ops, err := c.ops()
	if err != nil {
		return "", "", nil, "", err
	}
	path = endpoint(c.of.Kind)
	if c.method == "POST" {
		r, err := b.fresh(c.of, ops)
		return c.method, path, r, "", err
	}
	id := b.id(c.of)
	if id == "" {
		return "", "", nil, "", fmt.Errorf("%s %s is not there", c.of.Kind, c.of.Name)
	}
	if c.guard {
		version = b.version(c.of, id)
	}
	path += "/" + url.PathEscape(id)
	if strings.HasPrefix(id, protocol.Reference) { // in a request of many
		path = endpoint(c.of.Kind) + "/" + id
	}
	if c.method == "DELETE" {
		return c.method, path, nil, version, nil
	}
	return c.method, path, protocol.Patch{Schemas: []string{protocol.PatchMessage}, Operations: ops}, version, nil
}

// fresh is a resource that is to be made.
func (b *batch) fresh(n model.Named, ops []protocol.Change) (protocol.Resource, error) {
	if n.Kind == model.GroupKind {
		return b.freshGroup(n.Name)
	}
	r := protocol.Resource{"userName": n.Name, "active": true}
	if err := (protocol.Patch{Operations: ops}).Make(r); err != nil {
		return nil, err
	}
	schemas := []any{protocol.UserSchema}
	for k := range r {
		if strings.HasPrefix(k, "urn:") {
			schemas = append(schemas, k)
		}
	}
	r["schemas"] = schemas
	return r, nil
}

// wave carries out calls that do not depend on each other.
func (b *batch) wave(ctx context.Context, calls []*call) {
	if b.bulk() {
		takes, frees := false, false
		for _, c := range calls {
			for _, i := range c.acts {
				licence := b.Acts[i].Object == model.LicenceKind || b.Acts[i].Object == model.Account
				takes = takes || licence && (b.Acts[i].Verb == model.JoinIt || b.Acts[i].Verb == model.Create)
				frees = frees || licence && !takes
			}
		}
		if takes && b.frees { // in what order a server goes about many requests is its own matter
			b.flush(ctx)
		}
		for _, c := range calls {
			if c.method == "POST" {
				b.ids[c.of] = protocol.Reference + name(b.Acts[c.acts[0]], c.acts[0])
			}
		}
		b.waiting, b.frees = append(b.waiting, calls...), b.frees || frees
		return
	}
	_ = b.each(len(calls), func(i int) error {
		b.mu.Lock()
		lost := b.Lost
		b.mu.Unlock()
		if lost == nil {
			b.run(ctx, calls[i])
		}
		return nil
	})
}

// name is what a request is called among many.
func name(a connect.Act, place int) string { return a.Object.String() + strconv.Itoa(place) }

// run sends a call by itself. One for several acts that is refused is sent again for each.
func (b *batch) run(ctx context.Context, c *call) {
	id, version, err := b.send(ctx, c)
	var e *protocol.Error
	var lost *lostError
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case err == nil:
		if c.method == "POST" {
			b.ids[c.of] = id
		}
		b.versions[id] = version
	case errors.As(err, &lost):
		b.Lost = err
	case len(c.acts) > 1 && errors.As(err, &e):
		b.mu.Unlock()
		b.apart(ctx, c)
		b.mu.Lock()
	default:
		for _, i := range c.acts {
			b.Trouble[i] = err
		}
	}
}

// apart sends a call for several acts again for each of them.
func (b *batch) apart(ctx context.Context, c *call) {
	for _, i := range c.acts {
		b.run(ctx, &call{acts: []int{i}, method: c.method, of: c.of, ops: b.moving([]int{i})})
	}
}

// send sends a call; the id and the version of its resource as the server then tells.
func (b *batch) send(ctx context.Context, c *call) (id, version string, err error) {
	method, path, body, version, err := b.request(c)
	if err != nil {
		return "", "", err
	}
	if method == "PATCH" && !b.config.Patch.Supported {
		return b.replace(ctx, path, body.(protocol.Patch), c.guard, version)
	}
	var got group // of a user too: its id and version
	if err := b.ask(ctx, method, path, body, version, &got); err != nil {
		return "", "", err
	}
	if got.ID == "" {
		got.ID = b.id(c.of)
	}
	return got.ID, got.Meta.Version, nil
}

// replaceTries is how often a resource is read and written anew that others write too.
const replaceTries = 4

// replace changes a resource of a server that takes whole ones only: it is read, changed here, and put back, unless somebody
// else wrote it meanwhile: then once more or, when what is wanted went by what was read before, not at all.
func (b *batch) replace(ctx context.Context, path string, p protocol.Patch, guard bool, version string) (id, now string, err error) {
	for range replaceTries {
		var r protocol.Resource
		if err := b.ask(ctx, "GET", path, nil, "", &r); err != nil {
			return "", "", err
		}
		read := r.Text("meta.version")
		if guard && version != "" && read != version {
			return "", "", protocol.NewError(412, "", "somebody else changed it since it was read")
		}
		changed, err := p.Apply(r)
		if err != nil {
			return "", "", err
		}
		if !changed && !slices.ContainsFunc(p.Operations, func(c protocol.Change) bool { return c.Path == "password" }) {
			return r.Text("id"), read, nil
		}
		var got group
		err = b.ask(ctx, "PUT", path, r, map[bool]string{true: read}[b.config.ETag.Supported], &got)
		var e *protocol.Error
		if errors.As(err, &e) && e.Status == 412 && !guard {
			continue
		}
		return got.ID, got.Meta.Version, err
	}
	return "", "", protocol.NewError(412, "", fmt.Sprintf("others wrote it each time, %d times", replaceTries))
}
