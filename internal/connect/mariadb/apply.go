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

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	before, err := s.lookup(ctx, acts)
	if err != nil {
		return nil, s.fail("read", err)
	}
	return &batch{Usual: connect.Usual{Schema: schema}, View: before, session: s, before: before}, nil
}

// Carry implements connect.Carrier.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.Batch = x
	if b.before.readOnly {
		b.Refuse(ready, b.shut)
		return
	}
	b.guard(ctx, ready)
	for _, st := range b.statements(ready) {
		b.run(ctx, st)
	}
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	v, err := x.After(func(sent []connect.Act) (connect.View, error) { return b.lookup(ctx, sent) })
	if err != nil {
		return nil, b.fail("change", said(err))
	}
	return v, nil
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
	connect.Usual
	connect.View
	*connect.Batch
	*session
	before *state
}

// guard keeps accounts that are in use, or to which something belongs, from being removed.
func (b *batch) guard(ctx context.Context, ready []int) {
	var names []string
	for _, i := range ready {
		if a := b.Acts[i]; a.Verb == model.Remove && a.Object == model.Account {
			names = append(names, a.Name)
		}
	}
	if names == nil {
		return
	}
	err := b.sees(ctx)
	var busy map[string][]string
	if err == nil {
		busy, err = b.busy(ctx, names)
	}
	var owned map[string][]string
	if err == nil {
		owned, err = b.owned(ctx, names)
	}
	for _, i := range ready {
		switch a := b.Acts[i]; {
		case a.Verb != model.Remove || a.Object != model.Account:
		case err != nil:
			b.Trouble[i] = fmt.Errorf("whether it is in use, and what belongs to it, could not be read: %w", err)
		case a.Name == b.own:
			b.Trouble[i] = errors.New("it is our own login")
		case len(busy[a.Name]) > 0:
			b.Trouble[i] = fmt.Errorf("it is signed in, %s; end its sessions first", strings.Join(busy[a.Name], ", "))
		case len(owned[a.Name]) > 0:
			b.Trouble[i] = fmt.Errorf("%s runs as it, and would be refused to whoever uses it; give it another definer, or drop it",
				strings.Join(owned[a.Name], ", "))
		}
	}
}

// needed are the privileges without which the server shows less than there is, and does not say so: sessions of others, and
// views and triggers of others.
var needed = []string{"PROCESS", "SHOW VIEW", "TRIGGER"}

// sees fails where our login does not see who is signed in, or what runs as whom.
func (s *session) sees(ctx context.Context) error {
	user, host := parts(s.own)
	rows, err := s.conn.QueryContext(ctx, "SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = "+
		text("'"+user+"'@'"+host+"'")+" AND PRIVILEGE_TYPE IN ("+texts(needed)+")")
	if err != nil {
		return said(err)
	}
	defer rows.Close()
	lacks := slices.Clone(needed)
	for rows.Next() {
		var p string
		if err := rows.Scan(&p); err != nil {
			return err
		}
		lacks = slices.DeleteFunc(lacks, func(x string) bool { return x == p })
	}
	if err := rows.Err(); err != nil {
		return said(err)
	}
	if len(lacks) > 0 {
		return fmt.Errorf("our login has no %s ON *.* (roost target needs %s)", strings.Join(lacks, ", "), s.access.Target)
	}
	return nil
}

// run carries out a statement. When it fails, what became of each is read, and what is left is tried one by one, so that
// those that fail are named and the others done.
func (b *batch) run(ctx context.Context, st statement) {
	if b.Lost != nil {
		return
	}
	_, err := b.conn.ExecContext(ctx, st.text(st.of))
	switch {
	case err == nil:
		return
	case lost(err):
		b.Lost = err
		return
	case len(st.of) == 1:
		b.Trouble[st.of[0].act] = said(err)
		return
	}
	var acts []connect.Act
	for _, o := range st.of {
		acts = append(acts, b.Acts[o.act])
	}
	now, err := b.lookup(ctx, acts)
	if err != nil {
		b.Lost = err
		return
	}
	for _, o := range st.of {
		if standing, _ := connect.Judge(b.Acts[o.act], schema, now); standing == connect.So {
			continue
		}
		if _, err := b.conn.ExecContext(ctx, st.text([]part{o})); lost(err) && err != nil {
			b.Lost = err
			return
		} else if err != nil {
			b.Trouble[o.act] = said(err)
		}
	}
}
