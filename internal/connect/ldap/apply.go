package ldap

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const (
	connections = 2   // for many changes: a directory writes one at a time, but decodes and answers beside it
	manyChanges = 50  // from which on the second connection pays for itself
	inFlight    = 8   // requests under way at once over all connections: more bring nothing
	namesAtOne  = 200 // names looked up in one search
)

// Apply implements connect.Session, stage by stage: a stage's reading back is the next one's reading before.
func (s *session) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	defer stop()
	answers := make([]connect.Answer, len(acts))
	for from := 0; from < len(acts); {
		to := from + 1
		for to < len(acts) && acts[to].Stage == acts[from].Stage {
			to++
		}
		copy(answers[from:to], s.stage(ctx, acts[from:to]))
		from = to
	}
	return answers
}

func (s *session) stage(ctx context.Context, acts []connect.Act) []connect.Answer {
	before, err := s.lookup(acts)
	if err != nil {
		return connect.All(acts, connect.Unsure, err.Error())
	}
	answers := make([]connect.Answer, len(acts))
	var todo []int
	for i, a := range acts {
		if words := before.doubt(a.Act); words != "" {
			answers[i] = connect.Answer{Outcome: connect.Moved, Words: words}
			continue
		}
		standing, words := connect.Judge(a.Act, schema, before.view)
		if standing == connect.Ready {
			todo = append(todo, i)
			continue
		}
		answers[i] = connect.Found(a, standing, words, before.view)
	}
	if len(todo) == 0 {
		return answers
	}
	trouble := s.change(ctx, before, acts, todo)
	after, err := s.lookup(acts)
	for _, i := range todo {
		if err != nil {
			answers[i] = connect.Answer{Outcome: connect.Unsure, Words: err.Error()}
			continue
		}
		words, lost := "", false
		if e := trouble[i]; e != nil {
			words, lost = e.Error(), goldap.IsErrorWithCode(e, goldap.ErrorNetwork)
		}
		if goldap.IsErrorWithCode(trouble[i], goldap.LDAPResultEntryAlreadyExists) {
			standing, differs := connect.Judge(acts[i].Act, schema, after.view)
			answers[i] = connect.Found(acts[i], standing, differs, after.view)
			continue
		}
		answers[i] = connect.Verify(acts[i], schema, after.view, words)
		if lost && answers[i].Outcome != connect.Done {
			answers[i].Outcome = connect.Unsure
		} else if lost {
			answers[i].Words = "the connection was lost, but the change is there"
		}
	}
	return answers
}

// change carries out the acts that are ready and returns what the directory complained of.
func (s *session) change(ctx context.Context, t *tree, acts []connect.Act, todo []int) map[int]error {
	var mu sync.Mutex
	trouble := map[int]error{}
	report := func(err error, which ...int) {
		if err == nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		for _, i := range which {
			trouble[i] = err
		}
	}
	conns, err := s.writers(ctx, len(todo))
	if err != nil {
		report(err, todo...)
		return trouble
	}
	var jobs []func(*goldap.Conn)
	groups := map[string][]int{}
	for _, i := range todo {
		switch a := acts[i]; {
		case a.Verb == model.AdoptIt:
		case a.Object == model.Membership:
			groups[strings.ToLower(a.Name)] = append(groups[strings.ToLower(a.Name)], i)
		default:
			jobs = append(jobs, func(conn *goldap.Conn) { report(s.one(conn, t, a.Act), i) })
		}
	}
	for _, which := range groups {
		jobs = append(jobs, func(conn *goldap.Conn) { s.members(conn, t, acts, which, report) })
	}
	var wg sync.WaitGroup
	queue := make(chan func(*goldap.Conn))
	for i := range min(inFlight, len(jobs)) {
		wg.Go(func() {
			for job := range queue {
				job(conns[i%len(conns)])
			}
		})
	}
	for _, job := range jobs {
		queue <- job
	}
	close(queue)
	wg.Wait()
	return trouble
}

// lookup reads just the entries the acts speak of.
func (s *session) lookup(acts []connect.Act) (*tree, error) {
	t := s.newTree()
	accounts, groups, numbers := map[string]bool{}, map[string]bool{}, false
	for _, a := range acts {
		if a.Object == model.Account {
			accounts[a.Name] = true
		} else {
			groups[a.Name] = true
		}
		if a.MemberKind == model.GroupKind {
			groups[a.Member] = true
		} else if a.Member != "" {
			accounts[a.Member] = true
		}
		numbers = numbers || a.After().Has(model.PrimaryGroup)
	}
	if numbers { // the names of all groups, to know what their numbers mean
		if err := s.readGroups(t, groupFilter); err != nil {
			return nil, s.fail("read groups", err)
		}
	} else {
		for filter := range orFilters("cn", groups) {
			if err := s.readGroups(t, "(&"+groupFilter+filter+")"); err != nil {
				return nil, s.fail("read groups", err)
			}
		}
	}
	for filter := range orFilters("uid", accounts) {
		err := s.each(s.access.Settings["people"], "(&"+peopleFilter+filter+")", personAttributes, func(e *entry) error {
			v := t.person(e)
			login := strings.ToLower(v.object.Name)
			if other := t.accounts[login]; other != nil {
				if t.twins[login] == nil {
					t.twins[login] = []string{other.dn}
				}
				t.twins[login] = append(t.twins[login], v.dn)
			}
			t.accounts[login] = v
			return nil
		})
		if err != nil {
			return nil, s.fail("read people", err)
		}
	}
	for _, g := range t.found {
		t.resolveMembers(g)
	}
	return t, nil
}

// orFilters yields filters that together choose all names.
func orFilters(attribute string, names map[string]bool) func(func(string) bool) {
	return func(yield func(string) bool) {
		var b strings.Builder
		n := 0
		for name := range names {
			fmt.Fprintf(&b, "(%s=%s)", attribute, goldap.EscapeFilter(name))
			if n++; n%namesAtOne == 0 {
				if !yield("(|" + b.String() + ")") {
					return
				}
				b.Reset()
			}
		}
		if b.Len() > 0 {
			yield("(|" + b.String() + ")")
		}
	}
}

// doubt says that an act speaks of a login that several entries have: which of
// them is meant nobody can know.
func (t *tree) doubt(a model.Act) string {
	for _, name := range []string{a.Account(), a.Member} {
		if dns := t.twins[strings.ToLower(name)]; name != "" && dns != nil && a.MemberKind != model.GroupKind {
			return fmt.Sprintf("%d entries have the login %s: %s; nothing was changed", len(dns), name, connect.Printable(strings.Join(dns, " and ")))
		}
	}
	return ""
}

func (t *tree) view(kind model.ObjectKind, name string) *model.Object {
	from := t.accounts
	if kind == model.GroupKind {
		from = t.found
	}
	if v := from[strings.ToLower(name)]; v != nil {
		return &v.object
	}
	return nil
}

// one carries out an act on an entry of its own.
func (s *session) one(conn *goldap.Conn, t *tree, a model.Act) error {
	switch {
	case a.Object == model.GroupKind && a.Verb == model.Create:
		return conn.Add(s.newGroup(a))
	case a.Object == model.GroupKind:
		g := t.found[strings.ToLower(a.Name)]
		m := goldap.NewModifyRequest(g.dn, nil)
		if !hasClass(g.classes, "posixGroup") {
			m.Add("objectClass", []string{"posixGroup"})
		}
		m.Replace("gidNumber", a.After().Get(model.Number))
		return conn.Modify(m)
	case a.Verb == model.Create:
		return conn.Add(s.newPerson(t, a))
	default:
		return conn.Modify(changePerson(t, a))
	}
}

func (s *session) newGroup(a model.Act) *goldap.AddRequest {
	r := goldap.NewAddRequest("cn="+goldap.EscapeDN(a.Name)+","+s.access.Settings["groups"], nil)
	classes := []string{"groupOfNames"}
	if n := a.After().Get(model.Number); n != nil {
		classes = append(classes, "posixGroup")
		r.Attribute("gidNumber", n)
	}
	r.Attribute("objectClass", classes)
	r.Attribute("cn", []string{a.Name})
	r.Attribute("member", []string{s.placeholder})
	return r
}

func (s *session) newPerson(t *tree, a model.Act) *goldap.AddRequest {
	r := goldap.NewAddRequest("uid="+goldap.EscapeDN(a.Name)+","+s.access.Settings["people"], nil)
	want := a.After()
	classes := []string{"inetOrgPerson"}
	r.Attribute("uid", []string{a.Name})
	if number := want.One(model.Number); number != "" {
		classes = append(classes, "posixAccount")
		for name, value := range posixDefaults(t, a.Name, want) {
			r.Attribute(name, []string{value})
		}
	}
	r.Attribute("objectClass", classes)
	if !want.Has(model.FullName) {
		r.Attribute("cn", []string{a.Name})
	}
	if !want.Has(surname) {
		r.Attribute("sn", []string{lastWord(want.One(model.FullName), a.Name)})
	}
	for _, c := range a.Changes {
		if theirs := ldapName[c.Attribute]; theirs != "" && c.Attribute != model.PrimaryGroup && len(c.After) > 0 {
			r.Attribute(theirs, c.After)
		}
	}
	return r
}

// posixDefaults are what posixAccount cannot be without (RFC 2307 §3), as far as the declaration is silent.
func posixDefaults(t *tree, name string, want model.Attributes) map[string]string {
	out := map[string]string{"gidNumber": want.One(model.Number)}
	if g := t.found[strings.ToLower(want.One(model.PrimaryGroup))]; g != nil {
		out["gidNumber"] = g.object.Attributes.One(model.Number)
	}
	if !want.Has("home") {
		out["homeDirectory"] = "/home/" + name
	}
	return out
}

// lastWord is the surname of somebody of whom only the full name is known.
func lastWord(full, otherwise string) string {
	if f := strings.Fields(full); len(f) > 0 {
		return f[len(f)-1]
	}
	return otherwise
}

func changePerson(t *tree, a model.Act) *goldap.ModifyRequest {
	v := t.accounts[strings.ToLower(a.Name)]
	m := goldap.NewModifyRequest(v.dn, nil)
	want := a.After()
	if want.Has(model.Number) && !hasClass(v.classes, "posixAccount") {
		m.Add("objectClass", []string{"posixAccount"})
		for name, value := range posixDefaults(t, a.Name, want) {
			m.Add(name, []string{value})
		}
	}
	for _, c := range a.Changes {
		switch theirs := ldapName[c.Attribute]; {
		case c.Attribute == model.Disabled && one(c.After) == "yes":
			m.Replace(theirs, []string{lockedForever})
		case c.Attribute == model.Disabled:
			m.Replace(theirs, []string{}) // takes it away, and is no error when it is gone already
		case c.Attribute == model.PrimaryGroup:
			if g := t.found[strings.ToLower(one(c.After))]; g != nil {
				m.Replace(theirs, g.object.Attributes.Get(model.Number))
			}
		default:
			m.Replace(theirs, c.After)
		}
	}
	return m
}

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}

func hasClass(classes []string, want string) bool {
	return slices.ContainsFunc(classes, func(c string) bool { return strings.EqualFold(c, want) })
}

// members carries out all joins and leaves of one group in one request. If the
// directory refuses it, each is tried alone, so that one bad member does not keep out the rest.
func (s *session) members(conn *goldap.Conn, t *tree, acts []connect.Act, which []int, report func(error, ...int)) {
	g := t.found[strings.ToLower(acts[which[0]].Name)]
	dns := map[int]string{}
	var ready []int
	for _, i := range which {
		dn, err := t.memberDN(acts[i].Act)
		if err != nil {
			report(err, i)
			continue
		}
		dns[i] = dn
		ready = append(ready, i)
	}
	try := func(which []int) error {
		m := goldap.NewModifyRequest(g.dn, nil)
		var join, leave []string
		for _, i := range which {
			if acts[i].Verb == model.JoinIt {
				join = append(join, dns[i])
			} else {
				leave = append(leave, dns[i])
			}
		}
		if len(join) > 0 {
			m.Add("member", join)
		}
		if len(leave) > 0 {
			if len(g.members)+len(join) <= len(leave) && !slices.Contains(g.members, t.placeholder) {
				m.Add("member", []string{s.placeholder}) // groupOfNames may not be empty (RFC 4519 §3.5)
			}
			m.Delete("member", leave)
		}
		return conn.Modify(m)
	}
	if len(ready) == 0 {
		return
	}
	err := try(ready)
	if err == nil || len(ready) == 1 || goldap.IsErrorWithCode(err, goldap.ErrorNetwork) {
		report(err, ready...)
		return
	}
	for _, i := range ready {
		report(try([]int{i}), i)
	}
}

func (t *tree) memberDN(a model.Act) (string, error) {
	from := t.accounts
	if a.MemberKind == model.GroupKind {
		from = t.found
	}
	if v := from[strings.ToLower(a.Member)]; v != nil {
		return v.dn, nil
	}
	g := t.found[strings.ToLower(a.Name)]
	if i := slices.Index(g.members, normal(a.Member)); a.Verb == model.LeaveIt && i >= 0 {
		return g.members[i], nil // a member from elsewhere, known by its DN only
	}
	if a.Verb == model.LeaveIt {
		dn := "uid=" + goldap.EscapeDN(a.Member) + "," + t.people
		if slices.Contains(g.members, normal(dn)) {
			return dn, nil // the member's own entry is gone
		}
	}
	return "", errors.New(a.MemberKind.String() + " " + a.Member + " is not there")
}
