package scim

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// pageMost is how many resources are asked for at once; a server gives fewer when it likes.
const pageMost = 500

// most bounds what is read of one server.
const most = 2_000_000

// keptMost bounds, in bytes, what is kept of one server until all of it is known.
const keptMost = 128 << 20

// staleMost is how many pages in a row may bring nothing that was not read before: a list that goes on so has no end.
const staleMost = 3

// progress notes what pages bring, and says when a list is to be read no further.
type progress struct {
	endpoint    string
	here, stale int
}

func (p *progress) page(s *session, resources, fresh int) error {
	if p.stale++; fresh > 0 {
		p.stale = 0
	}
	switch p.here += resources; {
	case p.here > most:
		return fmt.Errorf("there is more than %d of %s", most, p.endpoint)
	case s.kept > keptMost:
		return fmt.Errorf("%s has more than %d MB to be kept, the most that is", p.endpoint, keptMost>>20)
	case p.stale >= staleMost:
		return fmt.Errorf("%s goes on and on and brings nothing new: %d pages in a row had been read before", p.endpoint, staleMost)
	}
	return nil
}

// passesMost is how often a list is read that changes while it is read.
const passesMost = 4

// Survey implements connect.Session.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	all, err := s.everything(ctx, func(*user) {})
	if err != nil {
		return s.fail("survey", err)
	}
	sets := map[model.ObjectKind]map[string][]string{model.RightKind: {}, model.LicenceKind: {}}
	names := make(map[string]bool, len(all.users))
	for _, id := range all.order {
		p, there := all.users[id]
		if !there {
			continue
		}
		o := p.object
		if p.manager != "" {
			o.Attributes = o.Attributes.With(manager, cmp.Or(all.logins[p.manager], "id "+shown(p.manager)))
		}
		low := strings.ToLower(o.Name)
		if names[low] {
			o.Name, o.Marked = o.Name+" #"+id, true
			o.Attributes = o.Attributes.With(model.Odd, "there is another of that login; whom the server takes it for nobody can tell")
		}
		names[low] = true
		for kind, list := range map[model.ObjectKind][]value{model.RightKind: p.roles, model.LicenceKind: p.entitled} {
			for _, v := range list {
				if n, why := connect.Fit(v.Value); why == "" && n != "" {
					sets[kind][n] = append(sets[kind][n], o.Name)
				}
			}
		}
		if err := found(o); err != nil {
			return err
		}
	}
	if err := s.sets(ctx, all, sets, found); err != nil {
		return err
	}
	if s.access.Settings[mighty] != "" {
		right := model.Object{Kind: model.RightKind, Name: model.Superuser}
		right.Attributes = right.Attributes.With(model.Allows, s.powers()...)
		if err := found(right); err != nil {
			return err
		}
	}
	return found(model.Object{Kind: model.SystemKind, Name: model.Itself, System: true, Attributes: model.Pack(
		model.Attribute{Name: model.System, Values: []string{"SCIM 2.0"}}, model.Attribute{Name: "offers", Values: s.offers()},
		model.Attribute{Name: model.ClockOff, Values: []string{s.clock}})})
}

// sets hands on groups, roles and licences.
func (s *session) sets(ctx context.Context, all *everything, sets map[model.ObjectKind]map[string][]string,
	found func(model.Object) error) error {
	seats := map[string]string{}
	if s.licences != "" {
		if err := s.list(ctx, s.licences, func(raw json.RawMessage) string {
			g, odd := readGroup(raw)
			if n, why := connect.Fit(g.Name); odd == "" && why == "" {
				seats[n] = s.seats(g)
				if _, there := sets[model.LicenceKind][n]; !there {
					sets[model.LicenceKind][n] = nil
				}
			}
			return g.ID
		}, func(string) {}); err != nil {
			return s.fail("survey the licences", err)
		}
	}
	groups := map[string]string{}
	for _, g := range all.groups {
		groups[g.ID], _ = connect.Fit(g.Name)
	}
	names := map[string]int{}
	for _, g := range all.groups {
		names[strings.ToLower(groups[g.ID])]++
	}
	for _, id := range slices.Sorted(maps.Keys(all.groups)) {
		g := all.groups[id]
		o := g.object(g.odd, all.logins, groups)
		if kind := s.groupKind(g.group); kind != "" {
			o.Attributes = o.Attributes.With(groupKind, kind)
		}
		if names[strings.ToLower(o.Name)] > 1 { // the standard lets groups have one name
			o.Name, o.Marked = o.Name+" #"+id, true
			o.Attributes = o.Attributes.With(model.Odd, "there is another group of that name; give one of them another")
		}
		if err := found(*o); err != nil {
			return err
		}
	}
	for kind, of := range sets {
		for n, members := range of {
			o := model.Object{Kind: kind, Name: n, Attributes: model.Pack(model.Attribute{Name: model.Members, Values: unique(members)})}
			if x := seats[n]; x != "" && kind == model.LicenceKind {
				o.Attributes = o.Attributes.With(model.Seats, x)
			}
			if err := found(o); err != nil {
				return err
			}
		}
	}
	return nil
}

// everything is the users and groups of a server, by their ids.
type everything struct {
	users  map[string]person
	order  []string
	logins map[string]string
	groups map[string]oddGroup
}

// What is kept of each user and of each value, roughly and in bytes, beside their texts.
const perUser, perValue = 250, 100

// person is what is kept of a user until all are known: the account, but for its manager, and its roles and licences.
type person struct {
	object          model.Object
	manager         string // by id
	roles, entitled []value
}

type oddGroup struct {
	*group
	odd string
}

// everything reads all users, each of whom is shown to look, and all groups.
func (s *session) everything(ctx context.Context, look func(*user)) (*everything, error) {
	all := &everything{users: map[string]person{}, logins: map[string]string{}, groups: map[string]oddGroup{}}
	s.kept = 0
	err := s.list(ctx, "/Users", func(raw json.RawMessage) string {
		u := readUser(raw)
		if u.ID == "" {
			return ""
		}
		look(u)
		if _, there := all.users[u.ID]; !there {
			all.order = append(all.order, u.ID)
		}
		o := s.object(u)
		all.users[u.ID] = person{*o, u.manager(), u.Roles, u.Entitled}
		s.kept += len(o.Name) + len(o.Attributes) + perUser + perValue*(len(u.Roles)+len(u.Entitled))
		all.logins[u.ID] = o.Name
		return u.ID
	}, func(id string) {
		delete(all.users, id)
		delete(all.logins, id)
	})
	if err != nil {
		return nil, err
	}
	err = s.list(ctx, "/Groups", func(raw json.RawMessage) string {
		g, odd := readGroup(raw)
		if g.ID != "" {
			all.groups[g.ID] = oddGroup{g, odd}
			s.kept += len(raw) + perValue*len(g.Members)
		}
		return g.ID
	}, func(id string) { delete(all.groups, id) })
	return all, err
}

// page is one of a list, or why there is none.
type page struct {
	protocol.List
	err error
}

// list reads all resources of an endpoint, and hands each on, perhaps more than once, the newest last; take returns its id, ""
// for one that has none. While others write, pages by index repeat and skip (RFC 7644 §3.4.2.4): then it is read again, and
// what the last reading did not have is looked for by its id; drop takes those that are gone.
func (s *session) list(ctx context.Context, endpoint string, take func(json.RawMessage) string, drop func(id string)) error {
	if s.config.Pages.Cursor {
		err := s.cursor(ctx, endpoint, take)
		var e *protocol.Error
		if !errors.As(err, &e) || e.Status != 400 { // a cursor that led nowhere any more
			return err
		}
	}
	seen := map[string]int{}
	for pass := 1; ; pass++ {
		repeated, here, fresh := false, 0, 0
		total, steady, err := s.indexed(ctx, endpoint, func(raw json.RawMessage) bool {
			id := take(raw)
			here++
			at := seen[id]
			switch {
			case id == "":
				return false
			case at == pass:
				repeated = true
			case at == 0:
				fresh++
			}
			seen[id] = pass
			return at != pass
		})
		switch steady = steady && !repeated && here == total; {
		case err != nil:
			return err
		case steady && pass == 1:
			return nil
		case steady, fresh == 0 && pass > 2:
			return s.missed(ctx, endpoint, seen, pass, take, drop)
		case pass == passesMost:
			return fmt.Errorf("%s changes faster than it can be read: it was read %d times", endpoint, pass)
		}
	}
}

// missed looks by their ids for resources that the last reading of a list did not have.
func (s *session) missed(ctx context.Context, endpoint string, seen map[string]int, pass int, take func(json.RawMessage) string,
	drop func(string)) error {
	for id, at := range seen {
		if at == pass {
			continue
		}
		var raw json.RawMessage
		switch err := s.ask(ctx, "GET", endpoint+"/"+url.PathEscape(id), nil, "", &raw); {
		case gone(err):
			drop(id)
		case err != nil:
			return err
		default:
			take(raw)
		}
	}
	return nil
}

func gone(err error) bool {
	var e *protocol.Error
	return errors.As(err, &e) && e.Status == 404
}

// overlapFrom is from how many resources on a page begins with the last one of the page before, which shows whether the list
// was moved in between.
const overlapFrom = 20

// indexed reads a list once, page by page, the next under way while one is read. It was steady if nothing showed that it
// changed meanwhile. take says whether a resource was not met before in this reading.
func (s *session) indexed(ctx context.Context, endpoint string, take func(json.RawMessage) (fresh bool)) (total int, steady bool,
	err error) {
	get := func(start int) page {
		var p page
		p.err = s.ask(ctx, "GET", endpoint+"?startIndex="+strconv.Itoa(start)+"&count="+strconv.Itoa(pageMost), nil, "", &p.List)
		return p
	}
	now := get(1)
	total, steady = now.Total, true
	var last json.RawMessage // of the page before, where this one begins with it
	far := progress{endpoint: endpoint}
	for start := 1; ; {
		n, fresh := len(now.Resources), 0
		if now.err != nil {
			return 0, false, now.err
		}
		steady = steady && now.Total == total
		over := 0
		if n >= overlapFrom {
			over = 1
		}
		more := n > 0 && start+n <= now.Total
		start += n - over
		var next chan page
		if more {
			next = make(chan page, 1)
			go func(at int) { next <- get(at) }(start)
		}
		for i, raw := range now.Resources {
			if i == 0 && last != nil {
				if steady = steady && idOf(raw) == idOf(last); idOf(raw) == idOf(last) {
					continue
				}
			}
			if take(raw) {
				fresh++
			}
		}
		if err := far.page(s, n, fresh); err != nil {
			return 0, false, err
		}
		if !more {
			return now.Total, steady, nil
		}
		if last = nil; over > 0 {
			last = now.Resources[n-1]
		}
		now = <-next
	}
}

func idOf(raw json.RawMessage) string {
	var x struct {
		ID string `json:"id"`
	}
	_ = json.Unmarshal(raw, &x)
	return x.ID
}

// cursor reads a list by cursors (RFC 9865 §2), which neither repeat nor skip.
func (s *session) cursor(ctx context.Context, endpoint string, take func(json.RawMessage) string) error {
	get := func(at string) page {
		var p page
		p.err = s.ask(ctx, "GET", endpoint+"?cursor="+url.QueryEscape(at)+"&count="+strconv.Itoa(pageMost), nil, "", &p.List)
		return p
	}
	far := progress{endpoint: endpoint}
	met, seen := map[string]bool{}, map[string]bool{}
	now := get("")
	for {
		if now.err != nil {
			return now.err
		}
		fresh := 0
		at := now.Next
		if met[at] {
			return errors.New("its cursors go round in a circle")
		}
		met[at] = true
		var next chan page
		if at != "" {
			next = make(chan page, 1)
			go func() { next <- get(at) }()
		}
		for _, raw := range now.Resources {
			if id := take(raw); id != "" && !seen[id] {
				seen[id] = true
				fresh++
			}
		}
		if at == "" {
			return nil
		}
		if err := far.page(s, len(now.Resources), fresh); err != nil {
			return err
		}
		now = <-next
	}
}
