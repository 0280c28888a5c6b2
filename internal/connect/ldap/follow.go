package ldap

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// mark is from where a survey can go on.
type mark struct {
	People []byte `json:"people"` // cookies
	Groups []byte `json:"groups"`
	Names  string `json:"names"`  // hash of what the numbers of groups mean: people's primary groups are told by name
	Places string `json:"places"` // hash of the tree
}

const nothing = "(!(objectClass=*))" // a filter that nothing fits

// Since implements connect.Offers by content synchronisation. A whole survey
// asks for the cookies before it reads, so that what changes meanwhile is told
// again the next time; of a directory that does not synchronise there is no mark.
func (s *session) Since(ctx context.Context, from string, found func(model.Object) error, gone func(connect.Gone) error) (string, error) {
	if from == "" {
		next, err := s.mark(ctx)
		if err != nil {
			return "", err
		}
		odd := 0
		err = s.Survey(ctx, func(o model.Object) error {
			if o.Marked {
				odd++
			}
			return found(o)
		})
		if odd > 0 { // one of several with a login may become the one that has it, though it does not change
			next = ""
		}
		return next, err
	}
	var m mark
	if json.Unmarshal([]byte(from), &m) != nil {
		return "", connect.ErrVoid
	}
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	defer stop()
	return s.changes(m, found, gone)
}

// mark is where the directory stands; "" when it does not synchronise.
func (s *session) mark(ctx context.Context) (string, error) {
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	defer stop()
	var m mark
	for base, cookie := range map[string]*[]byte{"people": &m.People, "groups": &m.Groups} {
		r, err := s.synchronise(base, nothing, nil, nil)
		if errors.Is(err, connect.ErrVoid) || err == nil && (len(r.cookie) == 0 || len(r.cookie) > cookieMost) {
			return "", nil
		}
		if err != nil {
			return "", s.fail("ask where it stands", err)
		}
		*cookie = r.cookie
	}
	var err error
	if m.Names, err = s.names(); err != nil {
		return "", err
	}
	if m.Places, err = s.placesHash(); err != nil {
		return "", err
	}
	b, err := json.Marshal(m)
	return string(b), err
}

func (s *session) synchronise(base, filter string, attributes []string, cookie []byte) (*refresh, error) {
	f, err := goldap.CompileFilter(filter)
	if err != nil {
		return nil, err
	}
	return s.read.since(query{base: s.access.Settings[base], filter: f.Bytes(), attributes: attributes}, cookie)
}

// names is a hash of the names and numbers of all groups.
func (s *session) names() (string, error) {
	var list []string
	err := s.find(s.access.Settings["groups"], s.groupFilter, []string{s.groupName, s.number}, func(e *entry) error {
		list = append(list, e.dn+" "+e.one(s.groupName)+" "+e.one(s.number))
		return nil
	})
	if err != nil {
		return "", s.fail("read the names of groups", err)
	}
	slices.Sort(list)
	return hashed(list), nil
}

// placesHash is a hash of the tree: where it has changed, all is read anew.
func (s *session) placesHash() (string, error) {
	list, err := s.places()
	if err != nil {
		return "", s.fail("read the tree", err)
	}
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Name
	}
	return hashed(names), nil
}

func hashed(list []string) string {
	h := fnv.New64a()
	h.Write([]byte(strings.Join(list, "\n")))
	return fmt.Sprintf("%x", h.Sum64())
}

// changes hands on what changed since a mark. What cannot be told from the
// changed entries alone makes the mark void.
func (s *session) changes(m mark, found func(model.Object) error, gone func(connect.Gone) error) (string, error) {
	groups, err := s.synchronise("groups", s.groupFilter, append(s.ofGroups(), s.member), m.Groups)
	if err != nil {
		return "", err
	}
	people, err := s.synchronise("people", s.signerFilter, s.ofPeople(), m.People)
	if err != nil {
		return "", err
	}
	// Of what changed elsewhere in its database a directory says that it is not here.
	groups.gone, people.gone = s.without(groups.gone, people.changed), s.without(people.gone, groups.changed)
	if len(groups.changed)+len(groups.gone) > 0 {
		if names, err := s.names(); err != nil || names != m.Names {
			return "", errors.Join(connect.ErrVoid, err)
		}
	}
	if places, err := s.placesHash(); err != nil || places != m.Places {
		return "", errors.Join(connect.ErrVoid, err)
	}
	t := s.newTree()
	list, err := s.changedPeople(t, people.changed)
	if err != nil {
		return "", err
	}
	for _, e := range groups.changed {
		v := t.groupOf(e)
		t.resolveMembers(v)
		for _, name := range v.object.Attributes.Get(model.Members) {
			if strings.HasSuffix(normal(name), ","+t.people) { // known by a login that only its own entry tells
				return "", connect.ErrVoid
			}
		}
		list = append(list, v.object)
	}
	for _, o := range list {
		if err := found(o); err != nil {
			return "", err
		}
	}
	for kind, ids := range map[model.ObjectKind][]string{model.Account: people.gone, model.GroupKind: groups.gone} {
		for _, id := range ids {
			if err := gone(connect.Gone{Named: model.Named{Kind: kind}, Unique: id}); err != nil {
				return "", err
			}
		}
	}
	m.People, m.Groups = people.cookie, groups.cookie
	b, err := json.Marshal(m)
	return string(b), err
}

// without leaves out the ids of entries.
func (f *flavour) without(ids []string, entries []*entry) []string {
	here := make(map[string]bool, len(entries))
	for _, e := range entries {
		here[e.one(f.unique)] = true
	}
	return slices.DeleteFunc(ids, func(id string) bool { return here[id] })
}

// changedPeople are the accounts of changed entries. Where another entry has the
// same login, or there is none, nothing is as simple.
func (s *session) changedPeople(t *tree, changed []*entry) ([]model.Object, error) {
	logins, numbers := map[string]bool{}, map[string]bool{}
	for _, e := range changed {
		if n := e.one(s.number); n != "" {
			numbers[n] = true
		}
	}
	if err := s.named(t, s.number, numbers); err != nil {
		return nil, err
	}
	var out []model.Object
	for _, e := range changed {
		o := t.personOf(e).object
		if o.Marked || logins[strings.ToLower(o.Name)] {
			return nil, connect.ErrVoid
		}
		logins[strings.ToLower(o.Name)] = true
		out = append(out, o)
	}
	for filter := range orFilters(s.login, logins) {
		n := 0
		err := s.find(s.access.Settings["people"], filter, []string{"1.1"}, func(*entry) error { n++; return nil })
		if err != nil {
			return nil, s.fail("look for logins that several have", err)
		}
		if n > strings.Count(filter, "("+s.login+"=") {
			return nil, connect.ErrVoid
		}
	}
	return out, nil
}
