package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// atOnce is how many changes make one transaction.
const atOnce = 250

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	before, err := s.lookup(ctx, acts)
	if err != nil {
		return nil, s.fail("read", err)
	}
	return &batch{Usual: connect.Usual{Schema: schema}, View: before, session: s, before: before}, nil
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
	w := &wanted{roles: []string{}}
	var databases []string
	for _, a := range acts {
		switch {
		case !a.Moves():
			w.roles = append(w.roles, a.Name)
			if a.Object == model.GroupKind {
				w.admins = append(w.admins, a.Name)
			}
		case a.Object == model.GroupKind:
			w.roles = append(w.roles, a.Name)
			if fits(a.Name) && fits(a.Member) {
				w.groups, w.members = append(w.groups, a.Name), append(w.members, a.Member)
			}
		default:
			r, err := dialect.One(a.Name)
			if err == nil && r.Sort == "" {
				w.roles = append(w.roles, a.Member)
			}
			if err == nil && within(r) != "" {
				databases = append(databases, within(r))
			}
			w.grantees = append(w.grantees, a.Member)
		}
	}
	for _, list := range []*[]string{&w.roles, &w.admins, &w.grantees} {
		if *list != nil {
			*list = sorted(*list)
		}
	}
	databases, err := s.there(ctx, sorted(databases))
	if err != nil {
		return nil, err
	}
	st, err := s.read(ctx, w, databases)
	for range 3 { // somebody who ends a statement of ours means the one before, as likely as not
		var pe *pgconn.PgError
		if !errors.As(err, &pe) || pe.Code != interrupted {
			break
		}
		st, err = s.read(ctx, w, databases)
	}
	return st, err
}

// there leaves out databases that are not there: what acts want in them fails by itself.
func (s *session) there(ctx context.Context, list []string) ([]string, error) {
	if len(list) == 0 {
		return nil, nil
	}
	rows, err := s.ask(ctx, s.home, "SELECT datname FROM pg_database WHERE datallowconn AND datname = ANY("+nameList(list)+") ORDER BY 1")
	if err != nil || len(rows) != 1 {
		return nil, said(err)
	}
	var out []string
	for _, row := range rows[0] {
		out = append(out, row[0])
	}
	return out, nil
}

// interrupted is what the server says of a statement that somebody ended.
const interrupted = "57014"

// batch is some acts that are carried out.
type batch struct {
	connect.Usual
	connect.View
	*connect.Batch
	*session
	before *state
}

// Carry implements connect.Carrier, database by database.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.Batch = x
	if b.shut != "" {
		b.Refuse(ready, b.shut)
		return
	}
	b.removals(ctx, ready)
	by := map[string][]part{} // by database
	var order []string
	for _, i := range ready {
		if b.Trouble[i] != nil || b.Acts[i].Verb == model.AdoptIt {
			continue
		}
		db, text, err := b.statement(i)
		if err != nil {
			b.Trouble[i] = err
			continue
		}
		if text == "" {
			continue
		}
		if by[db] == nil {
			order = append(order, db)
		}
		by[db] = append(by[db], part{i, text})
	}
	for _, db := range order {
		for chunk := range slices.Chunk(by[db], atOnce) {
			b.run(ctx, db, chunk)
		}
	}
}

// part is what is said for one act.
type part struct {
	act  int
	text string
}

// run carries out some statements as one transaction. When it fails nothing of it holds, and each is tried by itself, so that
// those that fail are named and the others done.
func (b *batch) run(ctx context.Context, db string, list []part) {
	if b.Lost != nil {
		return
	}
	conn, err := b.in(ctx, db)
	if err != nil {
		for _, p := range list {
			b.Trouble[p.act] = err
		}
		return
	}
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = p.text
	}
	_, err = b.ask(ctx, conn, strings.Join(texts, ";"))
	switch {
	case err == nil:
	case lost(err):
		b.Lost = err
	case len(list) == 1 && passing(err) && ctx.Err() == nil:
		if _, err = b.ask(ctx, conn, list[0].text); lost(err) {
			b.Lost = err
		} else if err != nil {
			b.Trouble[list[0].act] = said(err)
		}
	case len(list) == 1:
		b.Trouble[list[0].act] = said(err)
	default:
		for i := range list {
			b.run(ctx, db, list[i:i+1])
		}
	}
}

// passing says of an error that the same may go through a moment later: a deadlock, or others who wrote the same row.
func passing(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && (pe.Code == "40P01" || pe.Code == "40001" || pe.Code == "XX000" &&
		strings.Contains(pe.Message, "concurrently updated"))
}

// removals keeps accounts that are in use, or to which something belongs, from being removed; where the target names an
// heir, what belongs to them becomes the heir's. What they may do goes with them, database by database.
func (b *batch) removals(ctx context.Context, ready []int) {
	var names []string
	which := map[string]int{}
	for _, i := range ready {
		if a := b.Acts[i]; a.Verb == model.Remove {
			names = append(names, a.Name)
			which[a.Name] = i
		}
	}
	if names == nil {
		return
	}
	fail := func(err error) {
		for _, i := range which {
			b.Trouble[i] = fmt.Errorf("whether it is in use, and what belongs to it, could not be read: %w", err)
		}
	}
	list, err := b.list(ctx)
	if err != nil {
		fail(err)
		return
	}
	for _, x := range list {
		if i, ok := which[x.account]; ok {
			b.Trouble[i] = fmt.Errorf("it is signed in, from %s; end its sessions first", connect.Printable(x.from))
		}
	}
	if i, ok := which[b.own]; ok {
		b.Trouble[i] = errors.New("it is our own login")
	}
	_, databases, err := b.itself(ctx)
	if err == nil {
		err = b.before.readOwned(ctx, databases, names)
	}
	if err != nil {
		fail(err)
		return
	}
	to := b.access.Settings[heir]
	for _, n := range names {
		i := which[n]
		if owned := b.before.owns[n]; len(owned) > 0 && to == "" && b.Trouble[i] == nil {
			b.Trouble[i] = fmt.Errorf("%s belongs to it; name whose it becomes in the target's settings (%s: …), or drop it",
				strings.Join(owned, ", "), heir)
		}
		if b.Trouble[i] == nil {
			b.disown(ctx, i, n, to, databases)
		}
	}
}

// disown takes from a role all that it has and, if somebody inherits it, all that is its, in every database. Dropping what
// is its is never meant: a transaction in which anything still is undoes itself.
func (b *batch) disown(ctx context.Context, i int, n, to string, databases []string) {
	var sql strings.Builder
	if !b.super { // who is not superuser must be in a role to take from it
		fmt.Fprintf(&sql, "GRANT %s TO CURRENT_USER;", name(n))
	}
	if to != "" {
		fmt.Fprintf(&sql, "REASSIGN OWNED BY %s TO %s;", name(n), name(to))
	}
	fmt.Fprintf(&sql, `SELECT 1 / (1 - count(*)::int) FROM (SELECT 1 FROM pg_shdepend s JOIN pg_roles r ON r.oid = s.refobjid
		WHERE s.refclassid = 'pg_authid'::regclass AND s.deptype = 'o' AND s.classid <> 'pg_default_acl'::regclass AND r.rolname = %s AND (s.dbid = 0 OR s.dbid =
		(SELECT oid FROM pg_database WHERE datname = current_database())) LIMIT 1) x;DROP OWNED BY %s`, text(n), name(n))
	for _, db := range databases {
		conn, err := b.in(ctx, db)
		if err == nil {
			_, err = b.ask(ctx, conn, sql.String())
		}
		if err != nil {
			b.Trouble[i] = fmt.Errorf("what it has in %s could not be taken from it: %w", db, said(err))
			return
		}
	}
}
