package scim

import (
	"cmp"
	"context"
	"encoding/json"
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

// filterMost is how long a filter gets: what is written of it in an address stays below the 8,000 bytes that all servers
// should take (RFC 9110 §4.1).
const filterMost = 5000

// seen is what was read of a server for some acts. It is a connect.View.
type seen struct {
	*session
	users  map[string][]*user // by login, in lower case; several where the server has several
	groups map[string][]*group
	logins map[string]string // by id
	inside map[string]map[string]bool
}

// lookup reads what acts speak of.
func (s *session) lookup(ctx context.Context, acts []connect.Act) (*seen, error) {
	logins, groups, whole := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, a := range acts {
		switch {
		case a.Object == model.Account:
			logins[strings.ToLower(a.Name)] = true
			for _, c := range a.Changes {
				if c.Attribute == manager {
					for _, n := range slices.Concat(c.Before, c.After) {
						logins[strings.ToLower(n)] = true
					}
				}
			}
		case a.Object == model.GroupKind:
			groups[strings.ToLower(a.Name)] = true
			if a.Moves() && (a.MemberKind == model.GroupKind || !s.groupsOfUsers()) {
				whole[strings.ToLower(a.Name)] = true
			}
		}
		if a.Moves() && a.MemberKind == model.Account {
			logins[strings.ToLower(a.Member)] = true
		} else if a.Moves() {
			groups[strings.ToLower(a.Member)] = true
		}
	}
	v := &seen{s, map[string][]*user{}, map[string][]*group{}, map[string]string{}, map[string]map[string]bool{}}
	if !s.config.Filter.Supported {
		return v, v.readAll(ctx, logins, groups)
	}
	if err := find(ctx, v, "/Users", "userName", logins, "", readUser, v.keep); err != nil {
		return nil, err
	}
	var rest []string // managers are told by their ids
	for _, list := range v.users {
		for _, u := range list {
			if id := u.manager(); id != "" && v.logins[id] == "" {
				rest = append(rest, id)
			}
		}
	}
	for _, id := range unique(rest) {
		var raw json.RawMessage
		switch err := s.ask(ctx, "GET", "/Users/"+url.PathEscape(id)+"?attributes=userName", nil, "", &raw); {
		case gone(err):
		case err != nil:
			return nil, err
		default:
			v.logins[id] = readUser(raw).Login
		}
	}
	some := map[string]bool{}
	for n := range groups {
		some[n] = !whole[n]
	}
	if err := find(ctx, v, "/Groups", "displayName", only(some, true), "&excludedAttributes=members", theGroup, v.takeGroup); err != nil {
		return nil, err
	}
	return v, find(ctx, v, "/Groups", "displayName", only(some, false), "", theGroup, v.takeGroup)
}

func only(all map[string]bool, which bool) map[string]bool {
	out := map[string]bool{}
	for n, x := range all {
		if x == which {
			out[n] = true
		}
	}
	return out
}

// readAll reads everything, of a server that has no filters, and keeps what is asked for.
func (v *seen) readAll(ctx context.Context, logins, groups map[string]bool) error {
	asked := map[string]*user{} // by id: one may come again, the newest last
	all, err := v.everything(ctx, func(u *user) {
		if logins[strings.ToLower(u.Login)] {
			asked[u.ID] = u
		}
	})
	if err != nil {
		return err
	}
	v.logins = all.logins
	for id, u := range asked {
		if _, there := all.users[id]; there {
			v.keep(u)
		}
	}
	for _, g := range all.groups {
		if groups[strings.ToLower(g.Name)] {
			v.takeGroup(g.group)
		}
	}
	return nil
}

func (v *seen) keep(u *user) {
	v.logins[u.ID] = u.Login
	n := strings.ToLower(u.Login)
	v.users[n] = append(v.users[n], u)
}

func theGroup(raw json.RawMessage) *group {
	g, _ := readGroup(raw)
	return g
}

func (v *seen) takeGroup(g *group) {
	n := strings.ToLower(g.Name)
	v.groups[n] = append(v.groups[n], g)
	in := map[string]bool{}
	for _, m := range g.Members {
		in[m.Value] = true
	}
	v.inside[g.ID] = in
}

// foundMost bounds what a server may find of the names of one filter.
const foundMost = 5000

// find asks for resources by their names, many in a request and several requests at once, and reads each answer while others
// are still on their way.
func find[T any](ctx context.Context, v *seen, endpoint, attribute string, names map[string]bool, more string,
	read func(json.RawMessage) T, take func(T)) error {
	filters := filtersFor(attribute, names)
	found := make([][]T, len(filters))
	err := v.each(len(filters), func(i int) error {
		for { // a server may give fewer than it found
			var p protocol.List
			path := endpoint + "?startIndex=" + strconv.Itoa(len(found[i])+1) + "&count=200&filter=" + url.QueryEscape(filters[i]) + more
			if err := v.ask(ctx, "GET", path, nil, "", &p); err != nil {
				return err
			}
			for _, raw := range p.Resources {
				found[i] = append(found[i], read(raw))
			}
			if len(found[i]) > foundMost {
				return fmt.Errorf("%s answers a question for a few names with more than %d resources", endpoint, foundMost)
			}
			if len(p.Resources) == 0 || len(found[i]) >= p.Total {
				return nil
			}
		}
	})
	for _, list := range found {
		for _, x := range list {
			take(x)
		}
	}
	return err
}

// filtersFor are filters that choose what has one of some names, as many as it takes.
func filtersFor(attribute string, names map[string]bool) (out []string) {
	var b strings.Builder
	for name := range names {
		one := attribute + " eq " + protocol.Quote(name)
		if b.Len() > 0 && b.Len()+len(one) > filterMost {
			out = append(out, b.String())
			b.Reset()
		}
		if b.Len() > 0 {
			b.WriteString(" or ")
		}
		b.WriteString(one)
	}
	if b.Len() > 0 {
		out = append(out, b.String())
	}
	return out
}

// each does something for each of n, several at once, and returns the first error.
func (s *session) each(n int, do func(i int) error) error {
	var wg sync.WaitGroup
	var once sync.Once
	var first error
	next := make(chan int)
	for range min(s.at, n) {
		wg.Go(func() {
			for i := range next {
				if err := do(i); err != nil {
					once.Do(func() { first = err })
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
	return first
}

// one is the user of a login, nil when there is none or more than one.
func (v *seen) one(login string) *user {
	if list := v.users[strings.ToLower(login)]; len(list) == 1 {
		return list[0]
	}
	return nil
}

func (v *seen) group(name string) *group {
	if list := v.groups[strings.ToLower(name)]; len(list) == 1 {
		return list[0]
	}
	return nil
}

// Object implements connect.View. A role, and a licence, is there as soon as somebody has it.
func (v *seen) Object(n model.Named) *model.Object {
	switch n.Kind {
	case model.Account:
		if u := v.one(n.Name); u != nil {
			o := v.object(u)
			if id := u.manager(); id != "" {
				o.Attributes = o.Attributes.With(manager, cmp.Or(v.logins[id], "id "+shown(id)))
			}
			return o
		}
	case model.GroupKind:
		if g := v.group(n.Name); g != nil {
			return &model.Object{Kind: n.Kind, Name: n.Name, Unique: g.ID}
		}
	case model.RightKind, model.LicenceKind:
		return &model.Object{Kind: n.Kind, Name: n.Name}
	}
	return nil
}

// Member implements connect.View.
func (v *seen) Member(in, member model.Named) bool {
	if member.Kind == model.GroupKind {
		g, m := v.group(in.Name), v.group(member.Name)
		return g != nil && m != nil && v.inside[g.ID][m.ID]
	}
	u := v.one(member.Name)
	if u == nil {
		return false
	}
	has := func(list []value, want string) bool {
		return slices.ContainsFunc(list, func(x value) bool { return strings.EqualFold(x.Value, want) })
	}
	switch in.Kind {
	case model.RightKind:
		return has(u.Roles, in.Name)
	case model.LicenceKind:
		return has(u.Entitled, in.Name)
	}
	g := v.group(in.Name)
	if g == nil {
		return false
	}
	if v.groupsOfUsers() && v.config.Filter.Supported {
		return slices.ContainsFunc(u.Groups, func(x value) bool { return x.Value == g.ID && x.Type != "indirect" })
	}
	return v.inside[g.ID][u.ID]
}

// doubt says why an act cannot be judged: the server has several of a name. "" when it can.
func (v *seen) doubt(a connect.Act) string {
	for _, x := range []struct {
		kind model.ObjectKind
		name string
	}{{a.Object, a.Name}, {a.MemberKind, a.Member}} {
		if x.name != "" && (x.kind == model.Account && len(v.users[strings.ToLower(x.name)]) > 1 ||
			x.kind == model.GroupKind && len(v.groups[strings.ToLower(x.name)]) > 1) {
			return "the server has several called " + x.name
		}
	}
	return ""
}
