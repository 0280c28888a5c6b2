package ldap

import (
	"context"
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

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	stop := context.AfterFunc(ctx, func() { s.read.conn.Close() })
	before, err := s.lookup(acts)
	if err != nil {
		stop()
		return nil, err
	}
	return &batch{View: before, session: s, before: before, stop: stop}, nil
}

// batch is some acts that are carried out.
type batch struct {
	connect.View
	*connect.Batch
	*session
	before  *tree
	stop    func() bool // the context ends nothing any more
	unruled atomic.Bool // the directory has no password policy that could ask for another password
	mu      sync.Mutex  // over what the directory complains of
	// accounts that were shut, and of which the directory does not say that it refuses them, with what it says
	admitted map[string]string
}

// Judge implements connect.Carrier: it is connect.Judge, but that who is in a group is not read: whether
// somebody can join or leave is for the directory itself to say.
func (b *batch) Judge(a connect.Act, expected connect.View) (connect.Standing, string) {
	if words := b.before.doubt(a.Act); words != "" {
		return connect.Drifted, words
	}
	if a.Moves() && expected.Object(a.Of()) != nil {
		return connect.Ready, ""
	}
	return connect.Judge(a, b.schema, expected)
}

// Carry implements connect.Carrier.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.Batch = x
	b.change(ctx, ready)
	for _, i := range ready {
		b.expect(i)
	}
}

// expect lets later stages find what an act has made.
func (b *batch) expect(i int) {
	a := b.Acts[i]
	if a.Verb != model.Create || b.Trouble[i] != nil {
		return
	}
	v := &entryView{dn: b.dnFor(a.Act), object: *b.Expected().Object(a.Of())}
	if was := b.before.entry(model.Named{Kind: a.Object, Name: a.Formerly()}); was != nil {
		if dn, err := goldap.ParseDN(was.dn); err == nil && len(dn.RDNs) > 1 {
			v.dn, v.classes = b.groupName+"="+goldap.EscapeDN(a.Name)+","+(&goldap.DN{RDNs: dn.RDNs[1:]}).String(), was.classes
		}
	}
	if a.Object == model.GroupKind {
		b.before.found[strings.ToLower(a.Name)] = v
	} else {
		b.before.accounts[strings.ToLower(a.Name)] = v
	}
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	defer b.stop()
	return x.After(func(sent []connect.Act) (connect.View, error) {
		after, err := b.lookup(sent)
		if err == nil {
			err = b.compare(ctx, after, sent)
		}
		if err != nil {
			return nil, err
		}
		b.proveShut(ctx, x, after)
		return after, nil
	})
}

// proveShut asks whether accounts that were shut are refused.
func (b *batch) proveShut(ctx context.Context, x *connect.Batch, after *tree) {
	var names []string
	for i, a := range x.Acts {
		if o := after.Object(a.Of()); a.Verb == model.Disable && x.Answers[i].Outcome == "" && o != nil &&
			o.Attributes.One(model.Disabled) == "yes" {
			names = append(names, a.Name)
		}
	}
	b.admitted = map[string]string{}
	for k, answer := range connect.Admits(ctx, b.session, names) {
		if answer.State != connect.KeptOut {
			b.admitted[names[k]] = answer.Words
		}
	}
}

// Answer implements connect.Carrier. Of an account that was shut, and of which the directory does not say that it refuses it, it
// says that it is not proved.
func (b *batch) Answer(a connect.Act, after connect.View, trouble error) connect.Answer {
	if there(trouble) {
		standing, words := connect.Judge(a, b.schema, after)
		if standing != connect.Ready {
			return connect.Found(a, standing, words, after)
		}
	}
	words, lost := "", false
	if trouble != nil {
		words, lost = trouble.Error(), goldap.IsErrorWithCode(trouble, goldap.ErrorNetwork)
	}
	a, unasked := b.asked(a)
	out := connect.Verify(a, b.schema, after, words)
	if out.Outcome == connect.Done && unasked != "" {
		out.Words = strings.TrimPrefix(out.Words+"; "+unasked, "; ")
	}
	if lost && out.Outcome != connect.Done {
		out.Outcome = connect.Unsure
	} else if lost {
		out.Words = "the connection was lost, but the change is there"
	}
	if why := b.admitted[a.Name]; why != "" && a.Verb == model.Disable && out.Outcome == connect.Done {
		out.Words = strings.TrimPrefix(out.Words+"; not proved: "+why, "; ")
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
		b.Trouble[i] = err
	}
}

// change carries out acts of one stage side by side; all changes of one group in one request.
func (b *batch) change(ctx context.Context, ready []int) {
	var jobs []func(*goldap.Conn)
	moves := map[string][]int{}
	for _, i := range ready {
		switch a := b.Acts[i]; {
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
	t := b.before
	switch {
	case a.Verb == model.Remove:
		return conn.Del(goldap.NewDelRequest(t.entry(a.Of()).dn, nil))
	case a.Formerly() != "": // RFC 4511 §4.9: the entry stays, with who is in it
		was := t.entry(model.Named{Kind: a.Object, Name: a.Formerly()})
		return conn.ModifyDN(goldap.NewModifyDNRequest(was.dn, b.groupName+"="+goldap.EscapeDN(a.Name), true, ""))
	case a.Verb == model.Create:
		if err := conn.Add(b.entry(a.Act)); err != nil {
			return err
		}
	case a.Verb == model.Enable: // with a new password it is opened when it has it
		if err := b.setPassword(b, conn, b.dnFor(a.Act), a); err != nil {
			return err
		}
		return conn.Modify(b.changes(a.Act))
	default:
		if m := b.changes(a.Act); len(m.Changes) > 0 {
			if err := conn.Modify(m); err != nil {
				return err
			}
		}
	}
	if a.Object == model.GroupKind {
		return nil
	}
	return b.setPassword(b, conn, b.dnFor(a.Act), a)
}

// dnFor is where the entry of an act stands, or will.
func (b *batch) dnFor(a model.Act) string {
	if v := b.before.entry(a.Of()); v != nil {
		return v.dn
	}
	return b.place(b.session, a)
}

// entry is what an act makes.
func (b *batch) entry(a model.Act) *goldap.AddRequest {
	r := goldap.NewAddRequest(b.place(b.session, a), nil)
	made := b.made(b.session, b.before, a)
	for theirs, values := range b.set(a) {
		if len(values) > 0 {
			made[theirs] = values
		}
	}
	for theirs, values := range made {
		r.Attribute(theirs, values)
	}
	return r
}

// changes is what an act changes in an entry that is there.
func (b *batch) changes(a model.Act) *goldap.ModifyRequest {
	v := b.before.entry(a.Of())
	m := goldap.NewModifyRequest(v.dn, nil)
	set := b.set(a)
	for theirs, values := range b.grown(b.before, v, a) {
		if _, is := set[theirs]; !is {
			m.Add(theirs, values)
		}
	}
	for theirs, values := range set {
		m.Replace(theirs, values)
	}
	return m
}

// set are the values that an act sets by its attributes.
func (b *batch) set(a model.Act) map[string][]string {
	out := map[string][]string{}
	for _, c := range a.Changes {
		if a.Object == model.GroupKind && c.Attribute == model.Number {
			out[b.number] = c.After
		} else if theirs, values, ok := b.values(b.before, c); ok && a.Object == model.Account {
			out[theirs] = values
		}
	}
	return out
}

func one(v []string) string {
	if len(v) == 0 {
		return ""
	}
	return v[0]
}
