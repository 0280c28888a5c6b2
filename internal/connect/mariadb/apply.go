package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Apply implements connect.Session: what the acts speak of is read once before, the changes are made stage by stage, and
// it is read once again after.
func (s *session) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	b := &batch{session: s, acts: acts, answers: make([]connect.Answer, len(acts)), trouble: map[int]error{}}
	var err error
	if b.before, err = s.lookup(ctx, acts); err != nil {
		return connect.All(acts, connect.Unsure, s.fail("read", err).Error())
	}
	b.view = connect.Expect(b.before)
	for from := 0; from < len(acts) && b.lost == nil; {
		to := from + 1
		for to < len(acts) && acts[to].Stage == acts[from].Stage {
			to++
		}
		b.stage(ctx, from, to)
		from = to
	}
	b.conclude(ctx)
	return b.answers
}

// lookup reads what acts speak of, and no more of it than their judging needs.
func (s *session) lookup(ctx context.Context, acts []connect.Act) (*state, error) {
	w := wanted{entries: &names{}}
	w.entries.add("", "") // a list is never empty
	for _, a := range acts {
		who := a.Member
		if a.Object == model.Account {
			who = a.Name
		}
		user, host := who, ""
		if a.Object == model.Account || a.MemberKind == model.Account {
			user, host = parts(who)
		}
		into := func(list **names) {
			if *list == nil {
				*list = &names{}
			}
			(*list).add(user, host)
		}
		switch {
		case a.Object == model.Account:
			into(&w.entries)
			if a.Verb == keeping || a.After().Has(defaultRole) {
				into(&w.roles)
				w.which = append(w.which, a.After().Get(defaultRole)...)
			}
			if a.Verb == keeping {
				for _, list := range []**names{&w.databases, &w.tables, &w.columns, &w.routines} {
					into(list)
				}
			}
		case a.Object == model.GroupKind && !a.Moves():
			w.entries.add(a.Name, "")
			w.admins(a)
		case a.Object == model.GroupKind:
			w.entries.add(a.Name, "")
			into(&w.roles)
			w.which = append(w.which, a.Name)
		default:
			w.right(a.Name, into)
		}
	}
	if slices.ContainsFunc(acts, func(a connect.Act) bool { return a.Verb == keeping }) {
		w.which = nil
	}
	st, err := s.read(ctx, &w)
	for range 3 { // somebody who ends a statement of ours means the one before, as likely as not
		var me *mysql.MySQLError
		if !errors.As(err, &me) || me.Number != interrupted {
			break
		}
		st, err = s.read(ctx, &w)
	}
	if err == nil {
		st.lifetime = 0 // what follows from the server's own rule is no matter of an act
	}
	return st, err
}

// keeping is what is done to an account of which everything is to be known.
const keeping model.Verb = "keep"

// admins asks who may give a role on, of those of whom an act speaks.
func (w *wanted) admins(a connect.Act) {
	list := slices.Concat(a.Before().Get(model.Administrators), a.After().Get(model.Administrators))
	if len(list) == 0 {
		return
	}
	if w.roles == nil {
		w.roles = &names{}
	}
	w.which = append(w.which, a.Name)
	for _, n := range list {
		user, host := parts(n)
		w.roles.add(user, host)
		w.roles.add(n, "")
		w.entries.add(n, "")
	}
}

// right asks for the table in which a permission stands.
func (w *wanted) right(permission string, into func(**names)) {
	r, err := dialect.One(permission)
	switch {
	case err != nil:
	case slices.Contains(routines, r.Sort):
		into(&w.routines)
	case r.Column != "":
		into(&w.columns)
	case len(r.Path) == 2:
		into(&w.tables)
	case len(r.Path) == 1:
		into(&w.databases)
	default:
		into(&w.entries)
	}
}

// interrupted is what the server says of a statement that somebody ended.
const interrupted = 1317

// batch is some acts that are carried out.
type batch struct {
	*session
	acts    []connect.Act
	answers []connect.Answer
	before  *state
	view    *connect.Expected
	begun   []int // acts that were ready
	trouble map[int]error
	lost    error // the connection, while something was under way
}

// stage carries out the acts of one stage that are ready.
func (b *batch) stage(ctx context.Context, from, to int) {
	var ready []int
	for i := from; i < to; i++ {
		a := b.acts[i]
		standing, words := connect.Judge(a, schema, b.view)
		if standing != connect.Ready {
			b.answers[i] = connect.Found(a, standing, words, b.before)
			continue
		}
		ready = append(ready, i)
	}
	b.begun = append(b.begun, ready...)
	for _, i := range ready {
		b.view.Take(b.acts[i].Act)
	}
	if b.shut != "" {
		for _, i := range ready {
			if b.acts[i].Verb != model.AdoptIt {
				b.trouble[i] = errors.New(b.shut)
			}
		}
		return
	}
	b.guard(ctx, ready)
	for _, st := range b.statements(ready) {
		b.run(ctx, st)
	}
}

// guard keeps accounts that are in use, or to which something belongs, from being removed.
func (b *batch) guard(ctx context.Context, ready []int) {
	var names []string
	for _, i := range ready {
		if a := b.acts[i]; a.Verb == model.Remove && a.Object == model.Account {
			names = append(names, a.Name)
		}
	}
	if names == nil {
		return
	}
	busy, err := b.busy(ctx, names)
	var owned map[string][]string
	if err == nil {
		owned, err = b.owned(ctx, names)
	}
	for _, i := range ready {
		switch a := b.acts[i]; {
		case a.Verb != model.Remove || a.Object != model.Account:
		case err != nil:
			b.trouble[i] = fmt.Errorf("whether it is in use, and what belongs to it, could not be read: %w", err)
		case a.Name == b.own:
			b.trouble[i] = errors.New("it is our own login")
		case len(busy[a.Name]) > 0:
			b.trouble[i] = fmt.Errorf("it is signed in, %s; end its sessions first", strings.Join(busy[a.Name], ", "))
		case len(owned[a.Name]) > 0:
			b.trouble[i] = fmt.Errorf("%s runs as it, and would be refused to whoever uses it; give it another definer, or drop it",
				strings.Join(owned[a.Name], ", "))
		}
	}
}

// run carries out a statement. When it fails, what became of each is read, and what is left is tried one by one, so that
// those that fail are named and the others done.
func (b *batch) run(ctx context.Context, st statement) {
	if b.lost != nil {
		return
	}
	_, err := b.conn.ExecContext(ctx, st.text(st.of))
	switch {
	case err == nil:
		return
	case lost(err):
		b.lost = err
		return
	case len(st.of) == 1:
		b.trouble[st.of[0].act] = said(err)
		return
	}
	var acts []connect.Act
	for _, o := range st.of {
		acts = append(acts, b.acts[o.act])
	}
	now, err := b.lookup(ctx, acts)
	if err != nil {
		b.lost = err
		return
	}
	for _, o := range st.of {
		if standing, _ := connect.Judge(b.acts[o.act], schema, now); standing == connect.So {
			continue
		}
		if _, err := b.conn.ExecContext(ctx, st.text([]part{o})); lost(err) && err != nil {
			b.lost = err
			return
		} else if err != nil {
			b.trouble[o.act] = said(err)
		}
	}
}

// conclude reads back and answers what was begun; what never was stays as it is.
func (b *batch) conclude(ctx context.Context) {
	var sent []connect.Act
	for _, i := range b.begun {
		if b.acts[i].Verb != model.AdoptIt {
			sent = append(sent, b.acts[i])
		}
	}
	after, err := b.before, b.lost
	if err == nil && sent != nil {
		after, err = b.lookup(ctx, sent)
	}
	for i, a := range b.acts {
		switch {
		case b.answers[i].Outcome != "":
		case a.Verb == model.AdoptIt: // nothing was sent: an account that is adopted stands as it was read
			b.answers[i] = connect.Verify(a, schema, b.before, "")
		case err != nil:
			b.answers[i] = connect.Answer{Outcome: connect.Unsure, Words: b.fail("change", said(err)).Error()}
		default:
			words := ""
			if b.trouble[i] != nil {
				words = b.trouble[i].Error()
			}
			b.answers[i] = connect.Verify(a, schema, after, words)
		}
	}
}
