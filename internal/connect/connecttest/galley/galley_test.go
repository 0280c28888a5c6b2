package galley

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// kitchen is the application itself.
type kitchen struct {
	mu      sync.Mutex
	people  map[string]*person
	secrets map[string]string
	messes  map[string]*set
	keys    map[string]*set
	visits  []visit
}

const token = "a-token-of-the-galley"

func (k *kitchen) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if r.Header.Get("Authorization") != "Bearer "+token || r.Header.Get("User-Agent") != "hen-roost" {
		http.Error(w, "who are you?", http.StatusUnauthorized)
		return
	}
	read := func(into any) { _ = json.NewDecoder(r.Body).Decode(into) }
	var out any
	switch r.URL.Path {
	case "/present":
		out = append([]visit{{ID: "0", Login: "hen-roost", Ours: true}}, k.visits...)
	case "/door":
		var who struct {
			Login    string
			Password []byte
		}
		read(&who)
		p := k.people[who.Login]
		out = p != nil && !p.Shut && k.secrets[who.Login] != "" && k.secrets[who.Login] == string(who.Password)
	case "/look":
		var names map[string][]string
		read(&names)
		out = k.tell(names, "", "")
	case "/all": // a page for everybody, and one for all else
		if out = k.tell(nil, "", "-"); r.URL.Query().Get("after") == "" {
			out = k.tell(nil, "people", "people")
		}
	case "/orders":
		var list []order
		read(&list)
		said := make([]string, len(list))
		for i, o := range list {
			said[i] = k.do(o)
		}
		out = said
	}
	_ = json.NewEncoder(w).Encode(out)
}

// tell tells of what is named, or of everything: of people, or of all else.
func (k *kitchen) tell(names map[string][]string, next, part string) told {
	t := told{Next: next}
	named := func(list, name string) bool { return names == nil || slices.Contains(names[list], name) }
	for n, p := range k.people {
		if part != "-" && named("people", n) {
			t.People = append(t.People, *p)
		}
	}
	for n, m := range k.messes {
		if part != "people" && named("messes", n) {
			t.Messes = append(t.Messes, *m)
		}
	}
	for n, s := range k.keys {
		if part != "people" && named("keys", n) {
			t.Keys = append(t.Keys, *s)
		}
	}
	return t
}

func (k *kitchen) do(o order) string {
	p, s := k.people[o.Person], k.messes[o.Mess]
	if o.Key != "" {
		s = k.keys[o.Key]
	}
	out := func(s *set) {
		s.People = slices.DeleteFunc(s.People, func(n string) bool { return n == o.Person })
	}
	switch {
	case o.Do == "end":
		was := len(k.visits)
		if k.visits = slices.DeleteFunc(k.visits, func(v visit) bool { return v.ID == o.Visit }); len(k.visits) == was {
			return "nobody is here under " + o.Visit
		}
	case o.Do == "make" && o.Mess != "":
		n, _ := strconv.Atoi(o.Values["number"])
		k.messes[o.Mess] = &set{Name: o.Mess, Number: n}
	case o.Do == "remove" && o.Mess != "":
		delete(k.messes, o.Mess)
	case o.Do == "remove":
		delete(k.people, o.Person)
		delete(k.secrets, o.Person)
		for _, all := range []map[string]*set{k.messes, k.keys} {
			for _, s := range all {
				out(s)
			}
		}
	case p == nil && o.Do != "make", s == nil && (o.Do == "enter" || o.Do == "leave"):
		return "there is nothing of the name " + strings.TrimSpace(o.Person+" "+o.Mess+o.Key)
	case o.Do == "enter":
		s.People = append(s.People, o.Person)
	case o.Do == "leave":
		out(s)
	default:
		return k.change(p, o)
	}
	return ""
}

func (k *kitchen) change(p *person, o order) string {
	if o.Values["secret"] != "" && len(o.Secret) == 0 {
		return "a password of no letters"
	}
	if p == nil {
		p = &person{Login: o.Person}
		k.people[o.Person] = p
	}
	for name, value := range o.Values {
		switch name {
		case "number":
			p.Number, _ = strconv.Atoi(value)
		case "full-name":
			p.Name = value
		case table:
			p.Table = value
		case "secret":
			k.secrets[o.Person] = string(o.Secret)
		}
	}
	switch o.Do {
	case "shut":
		p.Shut = true
	case "open":
		p.Shut = false
	}
	return ""
}

// A connector that is written in a day passes the suite.
func TestSuite(t *testing.T) {
	k := &kitchen{people: map[string]*person{}, secrets: map[string]string{}, messes: map[string]*set{}, keys: map[string]*set{}}
	server := httptest.NewTLSServer(k)
	t.Cleanup(server.Close)
	a := connecttest.Accept(t, Connector{}, connect.Access{Target: "galley", Address: server.Listener.Addr().String(), As: "hen-roost",
		Secret: []byte(token)})
	connecttest.Run(t, connecttest.Subject{Connector: Connector{}, Access: a, Login: "suite.o'neil \"x\" ünal", Number: "1999",
		Proves: true, Gate: true, Attribute: model.Change{Attribute: table, Before: []string{"3"}, After: []string{`4, "by the" Ø`}},
		SignedIn: func(*testing.T) string {
			k.mu.Lock()
			defer k.mu.Unlock()
			k.visits = append(k.visits, visit{ID: "7", Login: "suite.o'neil \"x\" ünal"})
			return "7"
		}})
}
