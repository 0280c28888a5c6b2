package ldap

import (
	"context"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const (
	connections = 2  // for many changes: a directory writes one at a time, but decodes and answers beside it
	manyChanges = 50 // from which on the second connection pays for itself
	inFlight    = 8  // requests under way at once over all connections: more bring nothing
)

// Apply implements connect.Session: what the acts speak of is read once before,
// the changes are made stage by stage, and it is read once again after.
func (s *session) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	defer stop()
	b := batch{session: s, acts: acts, answers: make([]connect.Answer, len(acts)), trouble: map[int]error{}}
	var err error
	if b.before, err = s.lookup(acts); err != nil {
		return connect.All(acts, connect.Unsure, err.Error())
	}
	b.view = connect.Expect(b.before)
	for from := 0; from < len(acts); {
		to := from + 1
		for to < len(acts) && acts[to].Stage == acts[from].Stage {
			to++
		}
		b.stage(ctx, from, to)
		from = to
	}
	b.conclude(ctx)
	b.proveShut(ctx)
	return b.answers
}

// proveShut asks whether accounts that were shut are refused, and says of those of
// which the directory does not say so that it is not proved.
func (b *batch) proveShut(ctx context.Context) {
	var names []string
	var which []int
	for i, a := range b.acts {
		if a.Verb == model.Disable && b.answers[i].Outcome == connect.Done {
			names, which = append(names, a.Name), append(which, i)
		}
	}
	for k, x := range connect.Admits(ctx, b.session, names) {
		if a := &b.answers[which[k]]; x.State != connect.KeptOut {
			a.Words = strings.TrimPrefix(a.Words+"; not proved: "+x.Words, "; ")
		}
	}
}

// batch is some acts that are carried out.
type batch struct {
	*session
	acts    []connect.Act
	answers []connect.Answer
	before  *tree
	view    *connect.Expected
	begun   []int       // acts that were ready
	unruled atomic.Bool // the directory has no password policy that could ask for another password

	mu      sync.Mutex
	trouble map[int]error // what the directory complained of
}

// stage carries out the acts of one stage that are ready.
func (b *batch) stage(ctx context.Context, from, to int) {
	var ready []int
	for i := from; i < to; i++ {
		a := b.acts[i]
		standing, words := b.judge(a)
		if standing != connect.Ready {
			b.answers[i] = connect.Found(a, standing, words, b.before)
			continue
		}
		ready = append(ready, i)
	}
	for _, i := range ready {
		b.view.Take(b.acts[i].Act)
	}
	b.begun = append(b.begun, ready...)
	b.change(ctx, ready)
	for _, i := range ready {
		b.expect(i)
	}
}

// judge is connect.Judge, but that who is in a group is not read: whether
// somebody can join or leave is for the directory itself to say.
func (b *batch) judge(a connect.Act) (connect.Standing, string) {
	if words := b.before.doubt(a.Act); words != "" {
		return connect.Drifted, words
	}
	if a.Moves() && b.view.Object(a.Of()) != nil {
		return connect.Ready, ""
	}
	return connect.Judge(a, schema, b.view)
}

// expect lets later stages find what an act has made.
func (b *batch) expect(i int) {
	a := b.acts[i]
	if a.Verb != model.Create || b.trouble[i] != nil {
		return
	}
	v := &entryView{dn: b.dnFor(a.Act), object: *b.view.Object(a.Of())}
	if was := b.before.entry(model.Named{Kind: a.Object, Name: a.Formerly()}); was != nil {
		if dn, err := goldap.ParseDN(was.dn); err == nil && len(dn.RDNs) > 1 {
			v.dn, v.classes = "cn="+goldap.EscapeDN(a.Name)+","+(&goldap.DN{RDNs: dn.RDNs[1:]}).String(), was.classes
		}
	}
	if a.Object == model.GroupKind {
		b.before.found[strings.ToLower(a.Name)] = v
	} else {
		b.before.accounts[strings.ToLower(a.Name)] = v
	}
}

// conclude reads back and answers what was begun.
func (b *batch) conclude(ctx context.Context) {
	if len(b.begun) == 0 {
		return
	}
	var done []connect.Act
	touched := map[model.Named]bool{}
	for _, i := range b.begun {
		if a := b.acts[i]; a.Verb != model.AdoptIt {
			touched[a.Of()] = true
		}
	}
	for _, i := range b.begun {
		if touched[b.acts[i].Of()] {
			done = append(done, b.acts[i])
		}
	}
	var after *tree
	var err error
	if len(done) > 0 {
		if after, err = b.lookup(done); err == nil {
			err = b.compare(ctx, after, done)
		}
	}
	for _, i := range b.begun {
		switch a := b.acts[i]; {
		case !touched[a.Of()]: // nothing was sent: an account that is adopted stands as it was read
			b.answers[i] = b.answer(a, b.before, b.trouble[i])
		case err != nil:
			b.answers[i] = connect.Answer{Outcome: connect.Unsure, Words: err.Error()}
		default:
			b.answers[i] = b.answer(a, after, b.trouble[i])
		}
	}
}

// answer is what became of an act that was begun.
func (b *batch) answer(a connect.Act, after *tree, trouble error) connect.Answer {
	if there(trouble) {
		standing, words := connect.Judge(a, schema, after)
		if standing != connect.Ready {
			return connect.Found(a, standing, words, after)
		}
	}
	words, lost := "", false
	if trouble != nil {
		words, lost = trouble.Error(), goldap.IsErrorWithCode(trouble, goldap.ErrorNetwork)
	}
	a, unasked := b.asked(a)
	out := connect.Verify(a, schema, after, words)
	if out.Outcome == connect.Done && unasked != "" {
		out.Words = strings.TrimPrefix(out.Words+"; "+unasked, "; ")
	}
	if lost && out.Outcome != connect.Done {
		out.Outcome = connect.Unsure
	} else if lost {
		out.Words = "the connection was lost, but the change is there"
	}
	return out
}

// there says of a complaint that what was asked for was so before (RFC 4511
// appendix A): an entry, or a member, is there already, or is not there any more.
func there(err error) bool {
	return err != nil && goldap.IsErrorAnyOf(err, goldap.LDAPResultEntryAlreadyExists, goldap.LDAPResultNoSuchObject,
		goldap.LDAPResultAttributeOrValueExists, goldap.LDAPResultNoSuchAttribute)
}

func (b *batch) report(err error, which ...int) {
	if err == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, i := range which {
		b.trouble[i] = err
	}
}

// change carries out acts of one stage side by side; all changes of one group in one request.
func (b *batch) change(ctx context.Context, ready []int) {
	var jobs []func(*goldap.Conn)
	moves := map[string][]int{}
	for _, i := range ready {
		switch a := b.acts[i]; {
		case a.Verb == model.AdoptIt:
		case a.Moves():
			moves[strings.ToLower(a.Name)] = append(moves[strings.ToLower(a.Name)], i)
		default:
			jobs = append(jobs, func(conn *goldap.Conn) { b.report(b.one(conn, a), i) })
		}
	}
	for _, which := range moves {
		jobs = append(jobs, func(conn *goldap.Conn) { b.members(conn, which) })
	}
	if err := b.each(ctx, jobs); err != nil {
		b.report(err, ready...)
	}
}

// each does jobs side by side over as many connections as they are worth.
func (s *session) each(ctx context.Context, jobs []func(*goldap.Conn)) error {
	if len(jobs) == 0 {
		return nil
	}
	conns, err := s.writers(ctx, len(jobs))
	if err != nil {
		return err
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
	return nil
}

// one carries out an act on an entry of its own.
func (b *batch) one(conn *goldap.Conn, a connect.Act) error {
	s, t := b.session, b.before
	switch {
	case a.Verb == model.Remove:
		return conn.Del(goldap.NewDelRequest(t.entry(a.Of()).dn, nil))
	case a.Formerly() != "": // RFC 4511 §4.9: the entry stays, with who is in it
		was := t.entry(model.Named{Kind: a.Object, Name: a.Formerly()})
		return conn.ModifyDN(goldap.NewModifyDNRequest(was.dn, "cn="+goldap.EscapeDN(a.Name), true, ""))
	case a.Object == model.GroupKind && a.Verb == model.Create:
		return conn.Add(s.newGroup(a.Act))
	case a.Object == model.GroupKind:
		g := t.entry(a.Of())
		m := goldap.NewModifyRequest(g.dn, nil)
		if !hasClass(g.classes, "posixGroup") {
			m.Add("objectClass", []string{"posixGroup"})
		}
		m.Replace("gidNumber", a.After().Get(model.Number))
		return conn.Modify(m)
	case a.Verb == model.Create:
		if err := conn.Add(s.newPerson(t, a.Act)); err != nil {
			return err
		}
	case a.Verb == model.Enable: // with a new password it is opened when it has it
		if err := b.setPassword(conn, b.dnFor(a.Act), a); err != nil {
			return err
		}
		return conn.Modify(changePerson(t, a.Act))
	default:
		if m := changePerson(t, a.Act); len(m.Changes) > 0 {
			if err := conn.Modify(m); err != nil {
				return err
			}
		}
	}
	return b.setPassword(conn, b.dnFor(a.Act), a)
}

// dnFor is where the entry of an act stands, or will.
func (b *batch) dnFor(a model.Act) string {
	if v := b.before.entry(a.Of()); v != nil {
		return v.dn
	}
	if a.Object == model.GroupKind {
		return "cn=" + goldap.EscapeDN(a.Name) + "," + b.access.Settings["groups"]
	}
	return "uid=" + goldap.EscapeDN(a.Name) + "," + b.access.Settings["people"]
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
		if theirs := ldapName[c.Attribute]; theirs != "" && c.Attribute != model.PrimaryGroup && c.Attribute != model.MustChange &&
			len(c.After) > 0 {
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
		case c.Sealed != "", c.Attribute == model.MustChange: // see setPassword
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
