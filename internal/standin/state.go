package standin

import (
	"bufio"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/scim"
)

// state is what an application holds: in memory, and on disk as a line for each change.
type state struct {
	mu    sync.Mutex
	kinds map[string]*kind
	in    map[string]map[string]bool // by member: ids of groups
	seats map[string]int             // of licences
	used  map[string]int
	file  *os.File
}

// kind is the resources of one kind.
type kind struct {
	byID   map[string]*record
	byName map[string]*record // of users their login, of others their displayName, in lower case
	order  []*record
}

// record is one resource.
type record struct {
	id      string
	body    scim.Resource // as it is kept: without what is worked out, the password as a hash
	version int
	made    time.Time
	changed time.Time
}

// line is one change as it stands on disk.
type line struct {
	Kind    string        `json:"kind"`
	ID      string        `json:"id"`
	Version int           `json:"version,omitempty"`
	Made    time.Time     `json:"made,omitzero"`
	Changed time.Time     `json:"changed,omitzero"`
	Body    scim.Resource `json:"body,omitempty"` // none: it is gone
}

func load(path string, seats map[string]int) (*state, error) {
	st := &state{kinds: map[string]*kind{}, in: map[string]map[string]bool{}, seats: seats, used: map[string]int{}}
	for _, k := range []string{users, groups, licences} {
		st.kinds[k] = &kind{byID: map[string]*record{}, byName: map[string]*record{}}
	}
	if f, err := os.Open(path); err == nil {
		defer f.Close()
		lines := json.NewDecoder(bufio.NewReader(f))
		for {
			var l line
			if lines.Decode(&l) != nil { // the last line may have been cut off
				break
			}
			k := st.kinds[l.Kind]
			if r := k.byID[l.ID]; r != nil {
				st.drop(l.Kind, r)
			}
			if l.Body != nil {
				st.index(l.Kind, &record{l.ID, l.Body, l.Version, l.Made, l.Changed})
			}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	fresh := path + ".new"
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	st.file = f
	for k, in := range st.kinds {
		slices.SortStableFunc(in.order, func(a, b *record) int { return a.made.Compare(b.made) })
		for _, r := range in.order {
			st.write(line{k, r.id, r.version, r.made, r.changed, r.body})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(seats)) {
		if st.named(licences, name) == nil {
			st.add(licences, scim.Resource{"schemas": []any{licenceSchema}, "displayName": name})
		}
	}
	return st, os.Rename(fresh, path)
}

func (st *state) write(l line) {
	b, err := json.Marshal(l)
	if err == nil {
		_, err = st.file.Write(append(b, '\n'))
	}
	if err != nil {
		panic(err) // a stand-in that cannot keep its state is of no use
	}
}

// nameOf is what a resource is called.
func nameOf(kind string, r scim.Resource) string {
	if kind == users {
		return strings.ToLower(r.Text("userName"))
	}
	return strings.ToLower(r.Text("displayName"))
}

func (st *state) named(kind, name string) *record {
	return st.kinds[kind].byName[strings.ToLower(name)]
}

func (st *state) index(kind string, r *record) {
	k := st.kinds[kind]
	k.byID[r.id], k.byName[nameOf(kind, r.body)] = r, r
	k.order = append(k.order, r)
	st.count(kind, r, 1)
}

// count keeps in step what is worked out of a resource: who is in which group, which seats are taken.
func (st *state) count(kind string, r *record, by int) {
	for _, l := range entitled(kind, r.body) {
		st.used[l] += by
	}
	if kind != groups {
		return
	}
	for _, m := range valuesOf(r.body, "members") {
		if by < 0 {
			delete(st.in[m], r.id)
			continue
		}
		if st.in[m] == nil {
			st.in[m] = map[string]bool{}
		}
		st.in[m][r.id] = true
	}
}

func entitled(kind string, r scim.Resource) []string {
	if kind != users {
		return nil
	}
	return valuesOf(r, "entitlements")
}

func valuesOf(r scim.Resource, attribute string) (out []string) {
	list, _ := r.Get(attribute + ".value").([]any)
	for _, x := range list {
		if s, ok := x.(string); ok {
			out = append(out, s)
		}
	}
	return out
}

func (st *state) drop(kind string, r *record) {
	k := st.kinds[kind]
	delete(k.byID, r.id)
	if k.byName[nameOf(kind, r.body)] == r {
		delete(k.byName, nameOf(kind, r.body))
	}
	k.order = slices.DeleteFunc(k.order, func(x *record) bool { return x == r })
	st.count(kind, r, -1)
}

func newID() string {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

func (st *state) add(kind string, body scim.Resource) *record {
	now := time.Now().UTC()
	r := &record{newID(), body, 1, now, now}
	st.index(kind, r)
	st.write(line{kind, r.id, 1, now, now, body})
	return r
}

// change puts another body in the place of a resource's.
func (st *state) change(kind string, r *record, body scim.Resource) {
	k := st.kinds[kind]
	st.count(kind, r, -1)
	delete(k.byName, nameOf(kind, r.body))
	r.body = body
	k.byName[nameOf(kind, body)] = r
	st.count(kind, r, 1)
	st.keep(kind, r)
}

func (st *state) keep(kind string, r *record) {
	r.version++
	r.changed = time.Now().UTC()
	st.write(line{kind, r.id, r.version, r.made, r.changed, r.body})
}

// remove takes a resource away, and a user out of the groups.
func (st *state) remove(kind string, r *record) {
	st.drop(kind, r)
	st.write(line{Kind: kind, ID: r.id})
	for id := range st.in[r.id] {
		if g := st.kinds[groups].byID[id]; g != nil {
			body := g.body.Copy()
			p := scim.Patch{Operations: []scim.Change{{Op: "remove", Path: "members[value eq " + scim.Quote(r.id) + "]"}}}
			if _, err := p.Apply(body); err == nil {
				st.change(groups, g, body)
			}
		}
	}
}

// renumber gives every resource another id.
func (st *state) renumber() {
	st.mu.Lock()
	defer st.mu.Unlock()
	fresh := map[string]string{}
	for _, k := range []string{users, groups, licences} {
		in := st.kinds[k]
		for _, r := range in.order {
			st.write(line{Kind: k, ID: r.id})
			st.count(k, r, -1)
			fresh[r.id] = newID()
			r.id = fresh[r.id]
		}
	}
	for _, k := range []string{users, groups, licences} {
		in := st.kinds[k]
		in.byID = map[string]*record{}
		for _, r := range in.order {
			r.body = r.body.Copy() // somebody may be told of it at this moment
			if list, ok := r.body.Get("members").([]any); ok {
				for _, m := range list {
					if m, ok := m.(map[string]any); ok {
						m["value"] = fresh[scim.Resource(m).Text("value")]
					}
				}
			}
			in.byID[r.id] = r
			st.count(k, r, 1)
			st.keep(k, r)
		}
	}
}

// hashed is a password as it is kept.
func hashed(salt, password string) string {
	sum := sha256.Sum256([]byte(salt + password))
	return salt + "$" + hex.EncodeToString(sum[:])
}

// opens says whether a password is the one that is kept.
func opens(kept, password string) bool {
	salt, _, ok := strings.Cut(kept, "$")
	return ok && hashed(salt, password) == kept
}

// shown is a resource as it is told.
func (st *state) shown(kind string, r *record) scim.Resource {
	out := scim.Resource{}
	for k, v := range r.body {
		if !strings.EqualFold(k, "password") {
			out[k] = v
		}
	}
	out["id"] = r.id
	out["meta"] = map[string]any{"resourceType": strings.TrimSuffix(kind, "s"), "location": prefix + "/" + kind + "/" + r.id,
		"version": tag(r), "created": r.made.Format(time.RFC3339Nano), "lastModified": r.changed.Format(time.RFC3339Nano)}
	switch kind {
	case users:
		var in []any
		for id := range st.in[r.id] {
			in = append(in, map[string]any{"value": id, "display": st.kinds[groups].byID[id].body.Text("displayName"), "type": "direct"})
		}
		if in != nil {
			out["groups"] = in
		}
	case licences:
		name := r.body.Text("displayName")
		out["seats"], out["used"] = st.seats[name], st.used[name]
	}
	return out
}

// tag is the version of a resource (RFC 7644 §3.14).
func tag(r *record) string { return `W/"` + strconv.Itoa(r.version) + `"` }
