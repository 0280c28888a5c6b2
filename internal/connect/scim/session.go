package scim

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	protocol "hen-roost/internal/scim"
)

type session struct {
	access connect.Access
	base   string // https://host:port/path
	http   *http.Client
	at     int // requests under way at once
	kept   int // bytes, roughly, that a survey keeps until all is known; see keptMost

	mu     sync.Mutex
	bearer string
	until  time.Time // when it must be asked for again; zero: never
	clock  string    // by how much the server's is ahead; "" until it has answered

	config   protocol.Config
	schemas  map[string]*protocol.Schema
	user     protocol.Type
	licences string             // endpoint, "" for none
	end      context.CancelFunc // ends whatever is under way
	ctx      context.Context
}

// saysMost is how many bytes a server may say in one session; what is kept of them is bounded too.
const saysMost = 320 << 20

// Open implements connect.Connector. The secret is a bearer token, the client's secret or, for a certificate, that and its
// key in PEM.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	a = a.Bounded(saysMost)
	s := &session{access: a, at: 8, schemas: map[string]*protocol.Schema{}}
	s.ctx, s.end = context.WithCancel(context.Background())
	host, _, err := net.SplitHostPort(a.Address)
	if err == nil {
		err = s.prepare(host)
	}
	if err != nil {
		s.end()
		return nil, s.fail("connect to "+a.Address, err)
	}
	if err := s.discover(ctx); err != nil {
		s.Close()
		return nil, s.opening(ctx, err)
	}
	return s, nil
}

// opening says what went wrong while a session was opened.
func (s *session) opening(ctx context.Context, err error) error {
	var e *protocol.Error
	var k *connect.KeyError
	switch {
	case errors.As(err, &k):
		return k
	case errors.As(err, &e) && (e.Status == 401 || e.Status == 403):
		return s.fail("sign in", &connect.Refused{Err: err})
	case ctx.Err() != nil, errors.Is(err, context.DeadlineExceeded):
		err = fmt.Errorf("it took the connection but said nothing for %s", s.access.Patience())
	}
	return s.fail("connect to "+s.access.Address, err)
}

func (s *session) setting(name, usual string) string {
	if v := strings.TrimSpace(s.access.Settings[name]); v != "" {
		return v
	}
	return usual
}

// prepare makes the client, whose connections are TLS to the server whose key was accepted.
func (s *session) prepare(host string) error {
	s.base = "https://" + s.access.Address + "/" + strings.Trim(s.setting(pathAt, "scim/v2"), "/")
	var as []tls.Certificate
	switch by := s.setting(signInBy, "token"); by {
	case "token":
		if s.bearer = strings.TrimSpace(string(s.access.Secret)); strings.ContainsAny(s.bearer, " \r\n") {
			return errors.New("a bearer token has no spaces in it")
		}
	case "client":
		if s.access.Settings[tokenAt] == "" {
			return fmt.Errorf("the target's settings do not say where tokens are asked for (%s)", tokenAt)
		}
	case "certificate":
		c, err := tls.X509KeyPair(s.access.Secret, s.access.Secret)
		if err != nil {
			return errors.New("the secret is not a certificate with its key in PEM")
		}
		as = append(as, c)
	default:
		return fmt.Errorf("%s is %q; it is token, client or certificate", signInBy, by)
	}
	if s.setting(newGroups, "") != "" && s.setting(groupKindIn, "") == "" {
		return fmt.Errorf("%s says of what kind new groups are, and %s does not say in what attribute that stands", newGroups, groupKindIn)
	}
	if n := s.setting(atOnce, ""); n != "" {
		at, err := strconv.Atoi(n)
		if err != nil || at < 1 || at > 64 {
			return fmt.Errorf("%s is %q; it is a number from 1 to 64", atOnce, n)
		}
		s.at = at
	}
	s.http = connect.Client(s.access, host, s.at, as...)
	return nil
}

// discover asks what the server offers (RFC 7644 §4).
func (s *session) discover(ctx context.Context) error {
	if err := s.ask(ctx, "GET", "/ServiceProviderConfig", nil, "",
		&s.config); err != nil { // alone: it is the one that makes the connection
		return err
	}
	var types, schemas protocol.List
	errs := make([]error, 2)
	var wg sync.WaitGroup
	wg.Go(func() { errs[0] = s.ask(ctx, "GET", "/ResourceTypes", nil, "", &types) })
	wg.Go(func() { errs[1] = s.ask(ctx, "GET", "/Schemas", nil, "", &schemas) })
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}
	for _, raw := range schemas.Resources {
		var x protocol.Schema
		if json.Unmarshal(raw, &x) == nil && x.ID != "" {
			s.schemas[x.ID] = &x
		}
	}
	want := s.setting(licencesAt, "")
	for _, raw := range types.Resources {
		var x protocol.Type
		if json.Unmarshal(raw, &x) != nil {
			continue
		}
		switch {
		case strings.EqualFold(strings.Trim(x.Endpoint, "/"), "Users"):
			s.user = x
		case strings.EqualFold(strings.Trim(x.Endpoint, "/"), strings.Trim(want, "/")), want == "" && s.pools(x):
			s.licences = "/" + strings.Trim(x.Endpoint, "/")
		}
	}
	if s.user.Endpoint == "" {
		return errors.New("it says that it has no users; is the path right? (setting " + pathAt + ")")
	}
	if want != "" && s.licences == "" {
		return fmt.Errorf("%s is %q, and the server has no such resources", licencesAt, want)
	}
	return nil
}

// pools says whether resources of a type are plainly pools of seats.
func (s *session) pools(t protocol.Type) bool {
	x := s.schemas[t.Schema]
	return x.Find("displayName") != nil && x.Find(s.setting(seatsIn, "seats")) != nil
}

// offers are the words for what the server can.
func (s *session) offers() (out []string) {
	for _, x := range []struct {
		has  bool
		word string
	}{{s.config.Patch.Supported, "patch"}, {s.bulk(), "bulk"}, {s.config.Filter.Supported, "filter"}, {s.config.ETag.Supported, "versions"},
		{s.config.Pages.Cursor, "cursors"}, {s.config.Password.Supported, "passwords"}, {s.licences != "", "licences"}} {
		if x.has {
			out = append(out, x.word)
		}
	}
	slices.Sort(out)
	return out
}

func (s *session) bulk() bool { return s.config.Bulk.Supported && s.config.Bulk.Operations > 1 }

// groupsOfUsers says whether users tell which groups they are in, so that groups of thousands need not be read for each member.
func (s *session) groupsOfUsers() bool {
	switch s.setting(groupsLists, "") {
	case "user":
		return true
	case "group":
		return false
	}
	return s.schemas[protocol.UserSchema].Find("groups") != nil
}

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers { return connect.Offers{Prove: s.Prove, Admits: s.Admits} }

// Close implements connect.Session.
func (s *session) Close() error {
	s.end()
	s.http.CloseIdleConnections()
	return nil
}
