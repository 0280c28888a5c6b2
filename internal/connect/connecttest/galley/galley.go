// Package galley speaks to a made-up application: the list of who eats aboard, in which mess and at which table. It is the
// example of "Write a connector" in docs/connectors.md, and passes the suite like any other.
//
// The application takes JSON over HTTPS, with a token:
//
//	POST /look      {"people": […], "messes": […], "keys": […]}   those of these names, with who is in them
//	GET  /all       ?after=NAME                                    everything, some at a time
//	POST /orders    [{"do": …}, …]                                 several at once; it answers each with what is wrong, or ""
//	POST /door      {"login": …, "password": …}                    whether somebody is let in
//	GET  /present                                                  who is signed in
//
// A survey takes a round trip for a page, a batch one before, one for each stage, and one after.
package galley

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Kind is what such targets are called in a declaration.
const Kind = "galley"

// Connector speaks to galleys.
type Connector struct{}

// table is where somebody sits.
const table = "table"

var schema = model.Schema{Kind: Kind, About: "a made-up application", Kinds: []model.KindSchema{
	{Kind: model.GroupKind, About: "messes", Name: model.OnePart("name", `^[\pL\pN -]{1,64}$`), Members: []model.ObjectKind{model.Account},
		Verbs:      []model.Verb{model.Create, model.Modify, model.Remove, model.JoinIt, model.LeaveIt},
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true}}},
	{Kind: model.RightKind, About: "what its keys open", Name: model.OnePart("name", "."), Watched: true,
		Verbs: []model.Verb{model.JoinIt, model.LeaveIt}, Members: []model.ObjectKind{model.Account}},
	{Kind: model.Account, Name: model.OnePart("login", `^[^\pC]{1,64}$`),
		Verbs: []model.Verb{model.Create, model.Modify, model.Remove, model.Disable, model.Enable, model.AdoptIt},
		Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true, From: "number"},
			{Name: model.FullName, Settable: true, From: "name"}, {Name: table, Settable: true}, {Name: model.Password, Sealed: true},
			{Name: model.Disabled}}},
	{Kind: model.SessionKind},
}}

// Schema implements connect.Connector.
func (Connector) Schema() model.Schema { return schema }

// Knows implements connect.Connector.
func (Connector) Knows() connect.Knows { return connect.Knows{} }

// person, mess and key are as the application tells of them.
type (
	person struct {
		Login  string `json:"login"`
		Name   string `json:"name,omitempty"`
		Number int    `json:"number,omitempty"`
		Table  string `json:"table,omitempty"`
		Shut   bool   `json:"shut,omitempty"`
	}
	set struct {
		Name   string   `json:"name"`
		Number int      `json:"number,omitempty"`
		People []string `json:"people"`
	}
	told struct {
		People []person `json:"people"`
		Messes []set    `json:"messes"`
		Keys   []set    `json:"keys"`
		Next   string   `json:"next"` // to go on after; "": that is all
	}
	order struct {
		Do     string            `json:"do"` // make, change, shut, open, remove, enter, leave, end
		Person string            `json:"person,omitempty"`
		Mess   string            `json:"mess,omitempty"`
		Key    string            `json:"key,omitempty"`
		Visit  string            `json:"visit,omitempty"`
		Values map[string]string `json:"values,omitempty"`
		Secret []byte            `json:"secret,omitempty"`
	}
	visit struct {
		ID    string `json:"id"`
		Login string `json:"login"`
		Ours  bool   `json:"ours,omitempty"`
	}
)

// session is a signed-in connection.
type session struct {
	access connect.Access
	http   *http.Client
	ctx    context.Context // ends whatever is under way
	end    context.CancelFunc
}

// saysMost is how many bytes a galley may say in one session.
const saysMost = 64 << 20

// Open implements connect.Connector. The secret is a token.
func (Connector) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	a = a.Bounded(saysMost)
	host, _, err := net.SplitHostPort(a.Address)
	if err != nil {
		return nil, &connect.Error{Target: a.Target, Op: "connect to " + a.Address, Err: err}
	}
	s := &session{access: a, http: connect.Client(a, host, 1)}
	s.ctx, s.end = context.WithCancel(context.Background())
	if err := s.ask(ctx, http.MethodGet, "/present", nil, &[]visit{}); err != nil {
		s.Close()
		if k := new(connect.KeyError); errors.As(err, &k) {
			return nil, k
		}
		return nil, s.fail("connect to "+a.Address, err)
	}
	return s, nil
}

// Close implements connect.Session.
func (s *session) Close() error {
	s.end()
	s.http.CloseIdleConnections()
	return nil
}

// Offers implements connect.Session.
func (s *session) Offers() connect.Offers {
	return connect.Offers{Prove: s.prove, Admits: s.admits, Sessions: s.sessions, End: s.endSessions}
}

func (s *session) fail(op string, err error) error {
	return &connect.Error{Target: s.access.Target, Op: op, Err: err}
}

// answerMost is how many bytes one answer may have.
const answerMost = 8 << 20

// ask sends a request and reads the answer.
func (s *session) ask(ctx context.Context, method, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	defer context.AfterFunc(s.ctx, cancel)()
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, "https://"+s.access.Address+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+string(s.access.Secret))
	r.Header.Set("User-Agent", s.access.As)
	got, err := s.http.Do(r)
	if err != nil {
		return err
	}
	defer got.Body.Close()
	text, err := io.ReadAll(io.LimitReader(got.Body, answerMost))
	switch {
	case err != nil:
		return err
	case got.StatusCode == http.StatusUnauthorized:
		return &connect.Refused{Err: errors.New("it does not take the token")}
	case got.StatusCode != http.StatusOK:
		return fmt.Errorf("it answers %d: %.200s", got.StatusCode, connect.Printable(string(text)))
	}
	return json.Unmarshal(text, out)
}

// objects are what is told, by kind and name.
func (t told) objects() connect.Objects {
	out := connect.Objects{}
	put := func(kind model.ObjectKind, name string, attributes ...model.Attribute) {
		o := &model.Object{Kind: kind, Name: connect.Printable(name)}
		for _, a := range attributes {
			a.Values = slices.DeleteFunc(a.Values, func(v string) bool { return v == "" })
			for i := range a.Values {
				a.Values[i] = connect.Printable(a.Values[i])
			}
			if slices.Sort(a.Values); len(a.Values) > 0 {
				o.Attributes = o.Attributes.With(a.Name, a.Values...)
			}
		}
		out[model.Named{Kind: kind, Name: o.Name}] = o
	}
	one := func(name, value string) model.Attribute { return model.Attribute{Name: name, Values: []string{value}} }
	for _, p := range t.People {
		put(model.Account, p.Login, one(model.Number, number(p.Number)), one(model.FullName, p.Name), one(table, p.Table),
			one(model.Disabled, map[bool]string{true: "yes", false: "no"}[p.Shut]))
	}
	for _, m := range t.Messes {
		put(model.GroupKind, m.Name, one(model.Number, number(m.Number)), model.Attribute{Name: model.Members, Values: m.People})
	}
	for _, k := range t.Keys {
		put(model.RightKind, k.Name, model.Attribute{Name: model.Members, Values: k.People})
	}
	return out
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Survey implements connect.Session.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	after := ""
	for {
		var page told
		if err := s.ask(ctx, http.MethodGet, "/all?after="+url.QueryEscape(after), nil, &page); err != nil {
			return s.fail("survey", err)
		}
		for _, o := range page.objects() {
			if err := found(*o); err != nil {
				return err
			}
		}
		if page.Next == "" {
			return nil
		}
		if page.Next <= after {
			return s.fail("survey", errors.New("its pages do not go on"))
		}
		after = page.Next
	}
}

// look reads what acts speak of.
func (s *session) look(ctx context.Context, acts []connect.Act) (connect.Objects, error) {
	names := map[string][]string{"people": {}, "messes": {}, "keys": {}}
	for _, a := range acts {
		for _, n := range []model.Named{a.Of(), {Kind: a.MemberKind, Name: a.Member}} {
			list := map[model.ObjectKind]string{model.Account: "people", model.GroupKind: "messes", model.RightKind: "keys"}[n.Kind]
			if n.Name != "" && !slices.Contains(names[list], n.Name) {
				names[list] = append(names[list], n.Name)
			}
		}
	}
	var t told
	err := s.ask(ctx, http.MethodPost, "/look", names, &t)
	return t.objects(), err
}

// batch is some acts that are carried out.
type batch struct {
	connect.Usual
	connect.Objects // as they were before
	*session
}

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	before, err := s.look(ctx, acts)
	if err != nil {
		return nil, s.fail("read", err)
	}
	return &batch{connect.Usual{Schema: schema}, before, s}, nil
}

// Carry implements connect.Carrier: the acts of a stage are one request.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	var orders []order
	var which []int
	for _, i := range ready {
		if x.Acts[i].Verb != model.AdoptIt {
			orders, which = append(orders, orderOf(x.Acts[i])), append(which, i)
		}
	}
	if len(orders) == 0 {
		return
	}
	said := make([]string, len(orders))
	if x.Lost = b.ask(ctx, http.MethodPost, "/orders", orders, &said); x.Lost == nil && len(said) != len(which) {
		x.Lost = fmt.Errorf("it answers %d of %d orders", len(said), len(which))
	}
	for k, i := range which {
		if x.Lost == nil && said[k] != "" {
			x.Trouble[i] = errors.New(connect.Printable(said[k]))
		}
	}
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	v, err := x.After(func(sent []connect.Act) (connect.View, error) { return b.look(ctx, sent) })
	if err != nil {
		return nil, b.fail("change", err)
	}
	return v, nil
}

// verbs are what the application calls what can be done.
var verbs = map[model.Verb]string{model.Create: "make", model.Modify: "change", model.Remove: "remove", model.Disable: "shut",
	model.Enable: "open", model.JoinIt: "enter", model.LeaveIt: "leave"}

func orderOf(a connect.Act) order {
	o := order{Do: verbs[a.Verb], Person: a.Member, Values: map[string]string{}}
	switch a.Object {
	case model.Account:
		o.Person = a.Name
	case model.GroupKind:
		o.Mess = a.Name
	case model.RightKind:
		o.Key = a.Name
	}
	for _, c := range a.Changes {
		if c.Sealed != "" {
			o.Secret = a.Secrets[c.Attribute].Reveal()
			o.Values["secret"] = "given"
		} else if c.Attribute != model.Disabled && !a.Moves() {
			o.Values[c.Attribute] = cmp.Or(append(slices.Clone(c.After), "")...)
		}
	}
	return o
}

// prove implements Prove of connect.Offers: the application says whether it lets the account in.
func (s *session) prove(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	var in bool
	err := s.ask(ctx, http.MethodPost, "/door", map[string]any{"login": as, "password": secret.Reveal()}, &in)
	if err != nil {
		return false, s.fail("sign in as "+as, err)
	}
	return in, nil
}

// admits implements Admits of connect.Offers. An account that is not disabled is let in.
func (s *session) admits(ctx context.Context, accounts []string) []connect.Admission {
	names := make([]model.Named, len(accounts))
	for i, n := range accounts {
		names[i] = model.Named{Kind: model.Account, Name: n}
	}
	there, err := s.look(ctx, connect.About(names...))
	if err != nil {
		return connect.NotKnown(len(accounts), s.fail("read", err).Error())
	}
	out := make([]connect.Admission, len(accounts))
	for i, n := range names {
		switch o := there[n]; {
		case o == nil:
			out[i] = connect.Admission{State: connect.KeptOut, Words: "there is no such person"}
		case o.Attributes.One(model.Disabled) == "yes":
			out[i] = connect.Admission{State: connect.KeptOut, Words: "the application tells that it is shut"}
		default:
			out[i] = connect.Admission{State: connect.LetIn, Words: "the application tells that it is open"}
		}
	}
	return out
}

// sessions implements Sessions of connect.Offers.
func (s *session) sessions(ctx context.Context) ([]model.Object, error) {
	var list []visit
	if err := s.ask(ctx, http.MethodGet, "/present", nil, &list); err != nil {
		return nil, s.fail("see who is signed in", err)
	}
	out := []model.Object{}
	for _, v := range list {
		if !v.Ours {
			out = append(out, model.Object{Kind: model.SessionKind, Name: connect.Printable(v.ID),
				Attributes: model.Pack(model.Attribute{Name: model.HeldBy, Values: []string{connect.Printable(v.Login)}})})
		}
	}
	return out, nil
}

// endSessions implements End of connect.Offers.
func (s *session) endSessions(ctx context.Context, names []string) []connect.Answer {
	out := make([]connect.Answer, len(names))
	orders, said := make([]order, len(names)), make([]string, len(names))
	for i, n := range names {
		orders[i] = order{Do: "end", Visit: n}
	}
	err := s.ask(ctx, http.MethodPost, "/orders", orders, &said)
	for i := range out {
		switch {
		case err != nil:
			out[i] = connect.Answer{Outcome: connect.Unsure, Words: err.Error()}
		case i < len(said) && said[i] == "":
			out[i] = connect.Answer{Outcome: connect.Done}
		default:
			out[i] = connect.Answer{Outcome: connect.AlreadySo}
		}
	}
	return out
}
