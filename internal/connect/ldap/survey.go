package ldap

import (
	"context"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const pageSize = 1000

// tree is what one reading of the directory holds for its own use: what names
// and numbers mean.
type tree struct {
	*flavour
	people, groups string                // normalised bases
	dnOf           map[string]string     // normalised DN → account, where it does not follow from the DN itself
	groupByDN      map[string]string     // normalised DN → group
	groupByNumber  map[string]string     // number → group
	accounts       map[string]*entryView // by folded name; only filled by a lookup
	members        map[[2]model.Named]bool
	found          map[string]*entryView // groups by folded name
	twins          map[string][]string   // DNs of several entries with one login, by folded login
	placeholder    string
	own            string // the DN of our login, normalised
	changer        string // who changed the entry that was read last
	changerOurs    bool
}

// entryView is an entry with the object we make of it.
type entryView struct {
	dn      string
	classes []string
	members []string // normalised DNs
	object  model.Object
}

func (s *session) newTree() *tree {
	return &tree{flavour: s.flavour, people: normal(s.access.Settings["people"]), groups: normal(s.access.Settings["groups"]),
		dnOf: map[string]string{}, groupByDN: map[string]string{}, groupByNumber: map[string]string{},
		accounts: map[string]*entryView{}, members: map[[2]model.Named]bool{}, found: map[string]*entryView{},
		twins: map[string][]string{}, placeholder: normal(s.placeholder), own: normal(s.access.As)}
}

// normal is a DN as it compares: escapes and spaces as RFC 4514 writes them, case folded.
func normal(dn string) string {
	// The usual DN has nothing to normalise but its case, and parsing costs thirty times as much.
	if !strings.ContainsAny(dn, "\\\" +") && !strings.Contains(dn, "#") {
		return strings.ToLower(dn)
	}
	p, err := goldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return strings.ToLower(p.String())
}

// rdn returns the value of a DN's first part if it is of the given attribute.
func rdn(dn, attribute string) (string, bool) {
	if !strings.HasPrefix(dn, attribute+"=") {
		return "", false
	}
	if i := strings.IndexByte(dn, ','); i > 0 && !strings.ContainsAny(dn[:i], "\\\"+") {
		return dn[len(attribute)+1 : i], true
	}
	p, err := goldap.ParseDN(dn)
	if err != nil || len(p.RDNs) == 0 || !strings.EqualFold(p.RDNs[0].Attributes[0].Type, attribute) {
		return "", false
	}
	return p.RDNs[0].Attributes[0].Value, true
}

// Survey implements connect.Session.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	defer stop()
	itself, err := s.details()
	if err != nil {
		return s.fail("read what it is", err)
	}
	places, err := s.places()
	if err != nil {
		return s.fail("survey of the tree", err)
	}
	for _, o := range append(places, itself) {
		if err := found(o); err != nil {
			return err
		}
	}
	t := s.newTree()
	if err := s.readGroups(t); err != nil {
		return s.fail("survey of groups", err)
	}
	var refused error
	seen, again := map[uint64]bool{}, []string{}
	err = s.find(s.access.Settings["people"], s.signerFilter, s.ofPeople(), func(e *entry) error {
		o := &t.personOf(e).object
		mark := maphash.String(hashSeed, strings.ToLower(o.Name))
		if seen[mark] {
			again = append(again, o.Name)
			return nil
		}
		seen[mark] = true
		refused = found(*o)
		return refused
	})
	if refused != nil {
		return refused
	}
	if err != nil {
		return s.fail("survey of people", err)
	}
	if err := s.twice(t, again, found); err != nil {
		return err
	}
	for _, v := range t.found {
		t.resolveMembers(v)
		if err := found(v.object); err != nil {
			return err
		}
	}
	return nil
}

var hashSeed = maphash.MakeSeed()

// twice tells of logins that several entries have: none of them counts as the
// account of that login, and each is shown by its DN.
func (s *session) twice(t *tree, names []string, found func(model.Object) error) error {
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		f, err := goldap.CompileFilter("(" + s.login + "=" + goldap.EscapeFilter(name) + ")")
		if err != nil {
			return s.fail("survey of people", err)
		}
		var all []model.Object
		var whole, dns []string
		err = s.read.search(query{base: s.access.Settings["people"], filter: f.Bytes(), attributes: s.ofPeople(), page: pageSize},
			func(e *entry) error {
				if len(all) >= twinsMost {
					return fmt.Errorf("more than %d entries have the login %s", twinsMost, name)
				}
				all, whole = append(all, t.personOf(e).object), append(whole, connect.Printable(e.dn))
				return nil
			})
		if err != nil {
			return s.fail("survey of people", err)
		}
		if len(all) < 2 { // one of them is gone by now, or only its hash was another's
			for _, o := range all {
				if err := found(o); err != nil {
					return err
				}
			}
			continue
		}
		dns = slices.Sorted(slices.Values(whole))
		odd := fmt.Sprintf("%d entries have the login %s: %s; give all but one of them another login in the directory", len(all), name,
			strings.Join(dns, " and "))
		one := model.Object{Kind: model.Account, Name: name, Marked: true,
			Attributes: model.Pack(model.Attribute{Name: model.Odd, Values: []string{odd}})}
		for i, o := range append(all, one) {
			if i < len(all) {
				o.Name, o.Marked, o.Attributes = whole[i], true, o.Attributes.With(model.Odd,
					"it is one of several entries with the login "+name)
			}
			if err := found(o); err != nil {
				return err
			}
		}
	}
	return nil
}

// twinsMost bounds how many entries may have one login.
const twinsMost = 1000

// find hands on every entry below a place that a filter chooses.
func (s *session) find(base, filter string, attributes []string, each func(*entry) error) error {
	f, err := goldap.CompileFilter(filter)
	if err != nil {
		return err
	}
	return s.read.search(query{base: base, filter: f.Bytes(), attributes: attributes, page: pageSize}, each)
}

func (s *session) readGroups(t *tree) error {
	return s.find(s.access.Settings["groups"], s.groupFilter, append(s.ofGroups(), s.member), func(e *entry) error {
		t.groupOf(e)
		return nil
	})
}

func (t *tree) groupOf(e *entry) *entryView {
	dn := normal(e.dn)
	name, ok := rdn(e.dn, t.groupName)
	if !ok {
		name = e.one(t.groupName)
	}
	v := &entryView{dn: e.dn, classes: e.get("objectClass"), members: e.get(t.member)}
	v.object = model.Object{Kind: model.GroupKind, Name: connect.Printable(name), Unique: e.one(t.unique)}
	if n := e.one(t.number); n != "" {
		v.object.Attributes = v.object.Attributes.With(model.Number, n)
		t.groupByNumber[n] = v.object.Name
	}
	t.groupByDN[dn] = v.object.Name
	t.found[strings.ToLower(name)] = v
	return v
}

// resolveMembers turns the DNs of a group's members into names, once all groups are known.
func (t *tree) resolveMembers(v *entryView) {
	var accounts, groups []string
	for _, m := range v.members {
		dn := normal(m)
		if dn == t.placeholder {
			continue
		}
		if name, ok := t.groupByDN[dn]; ok {
			groups = append(groups, name)
		} else if name, ok := t.dnOf[dn]; ok {
			accounts = append(accounts, name)
		} else if name, ok := rdn(m, t.login); ok && strings.HasSuffix(dn, ","+t.people) {
			accounts = append(accounts, connect.Printable(name))
		} else if name, ok := rdn(m, t.groupName); ok && t.groups != t.people && strings.HasSuffix(dn, ","+t.groups) {
			groups = append(groups, connect.Printable(name)) // one that this reading did not ask for
		} else {
			accounts = append(accounts, connect.Printable(m)) // somebody outside the part we look after: shown by DN
		}
	}
	slices.Sort(accounts)
	if len(accounts) > 0 {
		v.object.Attributes = v.object.Attributes.With(model.Members, accounts...)
	}
	if len(groups) > 0 {
		v.object.Attributes = v.object.Attributes.With(model.MemberGroups, groups...)
	}
}

// personOf makes an account of an entry. One without a login is known by its DN.
func (t *tree) personOf(e *entry) *entryView {
	name, ok := rdn(e.dn, t.login)
	if !ok {
		name = e.one(t.login)
		t.dnOf[normal(e.dn)] = connect.Printable(name)
	}
	v := &entryView{dn: e.dn, classes: e.get("objectClass")}
	v.object = model.Object{Kind: model.Account, Name: connect.Printable(name), Unique: e.one(t.unique), Ours: t.isOurs(e.dn)}
	list := make([]model.Attribute, 0, len(t.fields)+3)
	values := make([]string, 0, len(t.fields)+3) // one array for all of them
	put := func(name, value string) {
		values = append(values, connect.Printable(value))
		list = append(list, model.Attribute{Name: name, Values: values[len(values)-1:]})
	}
	for i := range t.fields {
		f := &t.fields[i]
		value := e.one(f.theirs)
		if f.read != nil {
			value = f.read(t, value)
		}
		if f.loose {
			value = spaced(value)
		}
		if value != "" {
			put(f.ours, value)
		}
	}
	for _, a := range t.told(e) { // not by put: whoever is handed that makes all of it escape to the heap, for each entry
		put(a.Name, a.Values[0])
	}
	if by, at := e.one("modifiersName"), e.one("modifyTimestamp"); by != "" && !t.byUs(by) {
		put(model.ChangedBy, strings.TrimSpace(by+" "+at))
	}
	if name == "" {
		v.object.Name, v.object.Marked = connect.Printable(e.dn), true
		t.dnOf[normal(e.dn)] = v.object.Name
		put(model.Odd, "it can sign in by its DN, and has no login ("+t.login+") that Hen Roost could look after it by")
	}
	v.object.Attributes = model.Pack(list...)
	return v
}

// byUs is isOurs for who changed an entry: that is mostly who changed the entry before, and its DN mostly one to be taken apart.
func (t *tree) byUs(dn string) bool {
	if dn != t.changer {
		t.changer, t.changerOurs = dn, t.isOurs(dn)
	}
	return t.changerOurs
}

// isOurs says whether a DN is that of our login, however it is written.
func (t *tree) isOurs(dn string) bool {
	const slack = 32 // spaces and escapes that another spelling may have
	return len(dn) < len(t.own)+slack && normal(dn) == t.own
}
