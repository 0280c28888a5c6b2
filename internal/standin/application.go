// Package standin is small honest servers that stand in for what a company has and no demo can: applications that are
// looked after over SCIM 2.0. Each keeps its own state on disk and has switches for its own trouble.
package standin

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/scim"
)

// Choices are what an application offers: servers of one standard differ.
type Choices struct {
	Name     string
	NoPatch  bool // changes are whole resources (PUT)
	NoFilter bool
	NoBulk   bool
	NoETag   bool
	Cursors  bool           // pages by cursor beside those by index
	Page     int            // resources of a page at most; 0: 500
	BulkMost int            // operations of a bulk request at most; 0: 1,000
	Licences map[string]int // pools, and how many seats each has
	Token    string         // whoever shows it may do everything
	Client   string         // that gets such a token for Secret (RFC 6749 §4.4); "": none
	Secret   string
}

// Application is one that runs.
type Application struct {
	Address string // host:port
	choices Choices
	server  *http.Server
	state   *state
	mu      sync.Mutex
	trouble Trouble
	tokens  map[string]time.Time // given out for Secret, until when each is good
	asked   atomic.Int64
}

// Asked is how many requests it has been sent.
func (a *Application) Asked() int { return int(a.asked.Load()) }

// Start starts an application on an address, with the state of a folder.
func Start(dir, address string, cert tls.Certificate, c Choices) (*Application, error) {
	if c.Page == 0 {
		c.Page = 500
	}
	if c.BulkMost == 0 {
		c.BulkMost = 1000
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	st, err := load(filepath.Join(dir, "state.jsonl"), c.Licences)
	if err != nil {
		return nil, err
	}
	a := &Application{choices: c, state: st, tokens: map[string]time.Time{}}
	l, err := tls.Listen("tcp", address, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{cert},
		NextProtos: []string{"http/1.1"}})
	if err != nil {
		return nil, errors.Join(err, st.file.Close())
	}
	a.Address = l.Addr().String()
	a.server = &http.Server{Handler: a.handler(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	go func() { _ = a.server.Serve(l) }()
	return a, nil
}

// Stop ends it. What it was told is on disk.
func (a *Application) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if a.server.Shutdown(ctx) != nil {
		_ = a.server.Close()
	}
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	_ = a.state.file.Close()
}

// Set sets its trouble.
func (a *Application) Set(t Trouble) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.trouble = t
}

// Trouble is what goes wrong with an application. Numbers count down with each request that they spoil.
type Trouble struct {
	Slow     time.Duration     `json:"slow,omitempty"`      // before each answer
	Busy     int               `json:"busy,omitempty"`      // answers of 429, come back in a second
	Broken   int               `json:"broken,omitempty"`    // answers of 500
	Cut      int               `json:"cut,omitempty"`       // changes after which the connection is cut
	Lie      int               `json:"lie,omitempty"`       // changes that are told done and not made
	PutBack  map[string]string `json:"put-back,omitempty"`  // attributes of users that are set back to a value of its own
	Later    time.Duration     `json:"later,omitempty"`     // after which they are; 0: at once
	HalfBulk int               `json:"half-bulk,omitempty"` // operations of a bulk request after which the connection is cut
	Behind   int               `json:"behind,omitempty"`    // changes before which somebody else writes the same resource
	Shifting int               `json:"shifting,omitempty"`  // pages between which somebody else removes the first user
}

// take counts one of a kind down; false when there is none.
func (a *Application) take(n func(*Trouble) *int) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if *n(&a.trouble) == 0 {
		return false
	}
	*n(&a.trouble)--
	return true
}

func (a *Application) now() Trouble {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.trouble
}

// Restore gives every resource another id, as an application does that is set up anew from a copy.
func (a *Application) Restore() { a.state.renumber() }

// SignedIn notes that somebody signed in.
func (a *Application) SignedIn(login string, at time.Time) {
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	if r := a.state.named(users, login); r != nil {
		ext, _ := r.body[Extension].(map[string]any)
		if ext == nil {
			ext = map[string]any{}
			r.body[Extension] = ext
		}
		ext["lastSignIn"] = at.UTC().Format(time.RFC3339)
		a.state.keep(users, r)
	}
}

// Put keeps a resource as if the application's own people had made it; its id.
func (a *Application) Put(kind string, body scim.Resource) string {
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	r := a.state.add(kind, body)
	return r.id
}

// Load keeps resources as its own people had made them: of lines {"kind": "Users", "resource": {…}}. Members of groups are
// named by their logins.
func (a *Application) Load(lines []byte) error {
	d := json.NewDecoder(bytes.NewReader(lines))
	for d.More() {
		var l struct {
			Kind     string        `json:"kind"`
			Resource scim.Resource `json:"resource"`
		}
		if err := d.Decode(&l); err != nil {
			return err
		}
		if members, ok := l.Resource["members"].([]any); ok {
			a.state.mu.Lock()
			for i, m := range members {
				login, _ := m.(string)
				u := a.state.named(users, login)
				if u == nil {
					a.state.mu.Unlock()
					return fmt.Errorf("nobody is called %q", login)
				}
				members[i] = map[string]any{"value": u.id, "type": "User"}
			}
			a.state.mu.Unlock()
		}
		a.Put(l.Kind, l.Resource)
	}
	return nil
}

// Resources are all of a kind, in the order in which they were made.
func (a *Application) Resources(kind string) (out []scim.Resource) {
	a.state.mu.Lock()
	defer a.state.mu.Unlock()
	for _, r := range a.state.kinds[kind].order {
		out = append(out, a.state.shown(kind, r))
	}
	return out
}

// The kinds of resource.
const (
	users    = "Users"
	groups   = "Groups"
	licences = "Licences"
)

// Extension is the schema of what the application tells of a user beside the standard.
const Extension = "urn:ternsound:params:scim:schemas:tickets:2.0:User"

// licenceSchema is of a pool of seats.
const licenceSchema = "urn:ternsound:params:scim:schemas:tickets:2.0:Licence"

func text(name string, more ...func(*scim.Attribute)) scim.Attribute {
	a := scim.Attribute{Name: name, Type: "string", Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
	for _, f := range more {
		f(&a)
	}
	return a
}

func many(sub ...string) func(*scim.Attribute) {
	return func(a *scim.Attribute) {
		a.Type, a.Many = "complex", true
		for _, s := range sub {
			a.Attributes = append(a.Attributes, text(s))
		}
	}
}

func readOnly(a *scim.Attribute) { a.Mutability = "readOnly" }

// schemas are what the application says of its resources.
func (c Choices) schemas() []scim.Schema {
	values := many("value", "display", "type", "primary")
	user := scim.Schema{ID: scim.UserSchema, Name: "User", Attributes: []scim.Attribute{
		text("userName", func(a *scim.Attribute) { a.Required, a.Uniqueness = true, "server" }), text("externalId"), text("displayName"),
		text("name", func(a *scim.Attribute) {
			a.Type = "complex"
			for _, s := range []string{"formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix"} {
				a.Attributes = append(a.Attributes, text(s))
			}
		}), text("nickName"), text("title"), text("userType"), text("preferredLanguage"), text("locale"), text("timezone"),
		text("active", func(a *scim.Attribute) { a.Type = "boolean" }),
		text("password", func(a *scim.Attribute) { a.Mutability, a.Returned = "writeOnly", "never" }),
		text("emails", values), text("phoneNumbers", values), text("groups", many("value", "display", "type"), readOnly),
		text("entitlements", values), text("roles", values)}}
	out := []scim.Schema{user,
		{ID: scim.GroupSchema, Name: "Group", Attributes: []scim.Attribute{text("displayName"), text("members", many("value", "type",
			"display"))}},
		{ID: scim.EnterpriseSchema, Name: "Enterprise user", Attributes: []scim.Attribute{text("employeeNumber"), text("costCenter"),
			text("organization"), text("division"), text("department"), text("manager", func(a *scim.Attribute) {
				a.Type, a.Attributes = "complex", []scim.Attribute{text("value"), text("displayName", readOnly)}
			})}},
		{ID: Extension, Name: "Ticketing user", Attributes: []scim.Attribute{text("desk"), text("lastSignIn", readOnly),
			text("changePassword", func(a *scim.Attribute) { a.Type = "boolean" })}}}
	if len(c.Licences) > 0 {
		out = append(out, scim.Schema{ID: licenceSchema, Name: "Licence", Attributes: []scim.Attribute{text("displayName"),
			text("seats", func(a *scim.Attribute) { a.Type = "integer" }), text("used", readOnly)}})
	}
	return out
}

func (c Choices) types() []scim.Type {
	one := func(name, endpoint, schema string, more ...string) scim.Type {
		t := scim.Type{Schemas: []string{scim.TypeSchema}, ID: name, Name: name, Endpoint: "/" + endpoint, Schema: schema}
		for _, e := range more {
			t.Extensions = append(t.Extensions, scim.Extension{Schema: e})
		}
		return t
	}
	out := []scim.Type{one("User", users, scim.UserSchema, scim.EnterpriseSchema, Extension), one("Group", groups, scim.GroupSchema)}
	if len(c.Licences) > 0 {
		out = append(out, one("Licence", licences, licenceSchema))
	}
	return slices.Clip(out)
}

func (c Choices) config() scim.Config {
	out := scim.Config{Schemas: []string{scim.ConfigSchema}, Patch: scim.Offered{Supported: !c.NoPatch},
		Password: scim.Offered{Supported: true},
		ETag:     scim.Offered{Supported: !c.NoETag},
		SignIn:   []scim.Scheme{{Type: "oauthbearertoken", Name: "Token", Text: "a bearer token"}}}
	out.Bulk.Supported, out.Bulk.Operations, out.Bulk.Bytes = !c.NoBulk, c.BulkMost, bulkBytes
	out.Filter.Supported, out.Filter.Results = !c.NoFilter, c.Page
	out.Pages.Index, out.Pages.Cursor, out.Pages.Most = true, c.Cursors, c.Page
	return out
}

const bulkBytes = 4 << 20
