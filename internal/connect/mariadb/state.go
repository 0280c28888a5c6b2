package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/sqlright"
	"hen-roost/internal/core/model"
)

// entry is an account or a role as mysql.global_priv keeps it.
type entry struct {
	login, origin string
	priv          priv
	odd           string // why it cannot be looked after
}

// tlsWords are what a sign-in must come with, by the number that the server keeps; the last is as certificate, with more to it.
var tlsWords = []string{"no", "yes", "certificate", "certificate"}

// state is what has been read of a server. It is a connect.View of what was asked for.
type state struct {
	*session
	accounts map[string]*entry // by name
	roles    map[string]*entry
	rights   map[string]*set // by permission
	members  map[string]*set // of roles
	admins   map[string][]string
	holders  map[string]*holder // by login and origin as the server has them
	has      map[model.Named]*holder
	texts    map[string][]string // permissions of rows that were met before
	key      []byte
	readOnly bool  // the server takes no changes now, though our login could make some
	lifetime int64 // of passwords, in days, where nothing else is said; 0: they do not end
}

// set is who is in a right, or in a role.
type set struct{ accounts, roles []string }

func (s *session) newState() *state {
	return &state{session: s, accounts: map[string]*entry{}, roles: map[string]*entry{}, rights: map[string]*set{},
		members: map[string]*set{}, admins: map[string][]string{}, holders: map[string]*holder{}, has: map[model.Named]*holder{},
		texts: map[string][]string{}}
}

// names are logins, or names of roles, and where they may come from.
type names struct{ users, hosts []string }

func (n *names) add(user, host string) {
	n.users, n.hosts = append(n.users, user), append(n.hosts, host)
}

// where chooses them; nil chooses all.
func (n *names) where() string {
	if n == nil {
		return ""
	}
	return " WHERE Host IN (" + texts(sorted(n.hosts)) + ") AND User IN (" + texts(sorted(n.users)) + ")"
}

func sorted(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return slices.Compact(out)
}

// wanted is what is to be read: whose entries, and of the other tables whose lines. Of a table for which there are none
// nothing is read.
type wanted struct {
	entries, roles, databases, tables, columns, routines *names

	which []string // of roles those that matter, nil for all: with whole keys the server reads several times as fast
}

// query reads one table.
type query struct {
	text string
	take func(row []sql.RawBytes) error
}

// queries are the tables that say who may what; all that are wanted, nil for everything, are read in one request.
func (st *state) queries(w *wanted) []query {
	out := []query{{"SELECT @@global.default_password_lifetime, @@global.read_only", st.serverRow}}
	all := w == nil
	if all {
		w = &wanted{}
	}
	for _, q := range []struct {
		of *names
		query
	}{{w.entries, query{"SELECT User, Host, Priv FROM mysql.global_priv", st.accountRow}},
		{w.roles, query{"SELECT User, Host, Role, Admin_option FROM mysql.roles_mapping", st.memberRow}},
		{w.databases, query{"SELECT User, Host, Db, CONCAT(" + strings.Join(st.columns, ", ") + ") FROM mysql.db", st.databaseRow}},
		{w.tables, query{"SELECT User, Host, Db, Table_name, Table_priv FROM mysql.tables_priv", st.tableRow}},
		{w.columns, query{"SELECT User, Host, Db, Table_name, Column_name, Column_priv FROM mysql.columns_priv", st.columnRow}},
		{w.routines, query{"SELECT User, Host, Db, Routine_name, Routine_type, Proc_priv FROM mysql.procs_priv", st.routineRow}}} {
		if all || q.of != nil {
			q.text += q.of.where()
			if q.of == w.roles && w.which != nil {
				q.text += " AND Role IN (" + texts(sorted(w.which)) + ")"
			}
			out = append(out, q.query)
		}
	}
	return out
}

// most bounds what is read of one server.
const most = 2_000_000

// read reads who is there and who may what.
func (s *session) read(ctx context.Context, w *wanted) (*state, error) {
	st := s.newState()
	asked := st.queries(w)
	var text strings.Builder
	for _, q := range asked {
		text.WriteString(q.text + ";")
	}
	rows, err := s.conn.QueryContext(ctx, text.String())
	if err != nil {
		return nil, said(err)
	}
	defer rows.Close()
	count := 0
	for i, q := range asked {
		if i > 0 && !rows.NextResultSet() {
			if err := rows.Err(); err != nil {
				return nil, said(err)
			}
			return nil, fmt.Errorf("the server answered %d of %d questions", i, len(asked))
		}
		columns, err := rows.Columns()
		if err != nil {
			return nil, err
		}
		row := make([]sql.RawBytes, len(columns))
		into := make([]any, len(columns))
		for k := range row {
			into[k] = &row[k]
		}
		for rows.Next() {
			if count++; count > most {
				return nil, fmt.Errorf("there is more than %d lines of it", most)
			}
			if err := rows.Scan(into...); err != nil {
				return nil, err
			}
			if err := q.take(row); err != nil {
				return nil, err
			}
		}
	}
	return st, said(rows.Err())
}

func (st *state) serverRow(row []sql.RawBytes) error {
	st.lifetime, _ = strconv.ParseInt(string(row[0]), 10, 64)
	if st.readOnly = string(row[1]) != "0"; st.readOnly && st.shut == "" { // since the session began
		st.shut = st.readOnlyWords()
	}
	return nil
}

func (st *state) accountRow(row []sql.RawBytes) error {
	e := &entry{login: string(row[0]), origin: strings.ToLower(string(row[1]))}
	if err := e.priv.read(row[2]); err != nil {
		e.odd = "what the server keeps of it cannot be read: " + connect.Printable(err.Error())
	}
	role := e.priv.Role || e.origin == "" && e.login == everybody
	h := st.holder(row[0], row[1])
	if e.odd == "" {
		e.odd = h.odd
	}
	if role {
		st.roles[h.Name] = e
	} else {
		st.accounts[h.Name] = e
	}
	st.hold(h, onServer(e.priv.Access, st.bits))
	return nil
}

// everybody is the role that all have.
const everybody = "PUBLIC"

// granteeOf is the account, or the role where there is no origin, that the server's tables name so, and why it is odd.
func granteeOf(login, origin string) (n model.Named, odd string) {
	login, odd = connect.Fit(login)
	if origin == "" {
		return model.Named{Kind: model.GroupKind, Name: login}, odd
	}
	origin, more := connect.Fit(strings.ToLower(origin))
	if odd == "" {
		odd = more
	}
	return model.Named{Kind: model.Account, Name: schema.Account().Compose(login, origin)}, odd
}

// holder is an account, or a role, and what it has: permissions and roles.
type holder struct {
	model.Named
	odd string // why its name cannot be looked after
	has []model.Named
}

// holder is the account, or the role where there is no origin, of a row.
func (st *state) holder(login, origin []byte) *holder {
	st.key = append(append(append(st.key[:0], login...), 0), origin...)
	h := st.holders[string(st.key)]
	if h == nil {
		h = &holder{}
		h.Named, h.odd = granteeOf(string(login), string(origin))
		st.holders[string(st.key)] = h
		st.has[h.Named] = h
	}
	return h
}

// held is what somebody has.
func (st *state) held(n model.Named) []model.Named {
	if h := st.has[n]; h != nil {
		return h.has
	}
	return nil
}

// hold notes that somebody has permissions.
func (st *state) hold(h *holder, permissions []string) {
	for _, p := range permissions {
		s := st.rights[p]
		if s == nil {
			s = &set{}
			st.rights[p] = s
		}
		s.add(h.Named)
		h.has = append(h.has, model.Named{Kind: model.RightKind, Name: p})
	}
}

func (s *set) add(n model.Named) {
	if n.Kind == model.GroupKind {
		s.roles = append(s.roles, n.Name)
	} else {
		s.accounts = append(s.accounts, n.Name)
	}
}

func (st *state) memberRow(row []sql.RawBytes) error {
	member, role := st.holder(row[0], row[1]), st.holder(row[2], nil)
	if member.Kind == model.Account && member.Name == st.own {
		return nil // who makes a role may give it on: we are in it for no other reason
	}
	m := st.members[role.Name]
	if m == nil {
		m = &set{}
		st.members[role.Name] = m
	}
	m.add(member.Named)
	member.has = append(member.has, role.Named)
	if string(row[3]) == "Y" {
		st.admins[role.Name] = append(st.admins[role.Name], member.Name)
	}
	return nil
}

// databaseRow takes a row of mysql.db: whose, which databases, and a letter for each of its columns.
func (st *state) databaseRow(row []sql.RawBytes) error {
	st.key = append(append(append(st.key[:0], row[2]...), 0), row[3]...)
	permissions, met := st.texts[string(st.key)]
	if !met {
		var have []string
		grant, all := false, 0
		for i, c := range st.columns {
			p := ofDatabase[c]
			if p != sqlright.GrantOption {
				all++
			}
			switch {
			case i >= len(row[3]) || row[3][i] != 'Y':
			case p == sqlright.GrantOption:
				grant = true
			default:
				have = append(have, p)
			}
		}
		permissions = named(have, all, grant, onDatabase(string(row[2])))
		st.texts[string(st.key)] = permissions
	}
	st.hold(st.holder(row[0], row[1]), permissions)
	return nil
}

// listed is a set of privileges as a column of the type SET has them.
func listed(value string, words map[string]string) (have []string, grant bool) {
	for w := range strings.SplitSeq(value, ",") {
		switch p := words[w]; p {
		case "":
		case sqlright.GrantOption:
			grant = true
		default:
			have = append(have, p)
		}
	}
	return have, grant
}

func (st *state) tableRow(row []sql.RawBytes) error {
	return st.listedRow(row, ofTable, tableAll, sqlright.Right{Sort: sqlright.Table, Path: []string{string(row[2]), string(row[3])}},
		string(row[4]))
}

func (st *state) listedRow(row []sql.RawBytes, words map[string]string, all int, on sqlright.Right, value string) error {
	have, grant := listed(value, words)
	st.hold(st.holder(row[0], row[1]), named(have, all, grant, on))
	return nil
}

func (st *state) columnRow(row []sql.RawBytes) error {
	return st.listedRow(row, ofTable, -1, sqlright.Right{Sort: sqlright.Table, Path: []string{string(row[2]), string(row[3])},
		Column: strings.ToLower(string(row[4]))}, string(row[5]))
}

func (st *state) routineRow(row []sql.RawBytes) error {
	sort := string(row[4])
	if !slices.Contains(routines, sort) {
		return nil // the body of a package goes with the package
	}
	return st.listedRow(row, ofRoutine, -1, sqlright.Right{Sort: sort, Path: []string{string(row[2]), strings.ToLower(string(row[3]))}},
		string(row[5]))
}

// object is an account as an object; what needs the whole server to be known is told by findings.
func (st *state) object(n string, e *entry) *model.Object {
	p := &e.priv
	o := &model.Object{Kind: model.Account, Name: n, Ours: n == st.own, System: slices.Contains(schema.SystemNames, e.login)}
	list := make([]model.Attribute, 0, 16)
	put := func(name string, values ...string) { list = append(list, model.Attribute{Name: name, Values: values}) }
	number := func(name string, v uint64) { put(name, strconv.FormatUint(v, 10)) }
	if p.Issuer != "" { // in order of name, which is quickest to pack
		put(issuer, connect.Printable(p.Issuer))
	}
	if p.Subject != "" {
		put(subject, connect.Printable(p.Subject))
	}
	if p.Default != "" {
		put(defaultRole, p.Default)
	}
	put(model.Disabled, connect.Yes(p.Locked))
	ways := p.ways()
	password, passwordless, weak := false, false, ""
	for _, w := range ways {
		password = password || means(w.Plugin)
		passwordless = passwordless || w.open()
		if words := st.weak(w); words != "" {
			weak = words
		}
	}
	if e.odd != "" {
		put(model.Odd, e.odd)
		o.Marked = true
	}
	if password {
		st.passwordDays(p, given(ways), put)
	}
	if passwordless && !p.Locked {
		put(model.Passwordless, "yes")
		o.Marked = true
	}
	number(queriesMost, p.Queries)
	number(sessionsMost, uint64(max(p.Sessions, 0)))
	put(model.SignIn, toldWays(ways)...)
	number(signInsMost, p.SignIns)
	put(demandsTLS, tlsWords[min(max(p.TLS, 0), 3)])
	number(updatesMost, p.Updates)
	if weak != "" && !p.Locked {
		put(model.WeakSignIn, weak)
		o.Marked = true
	}
	o.Attributes = model.Pack(list...)
	return o
}

// asTheServer is how long a password may be kept where nothing is said of an account.
const asTheServer = "as the server says"

// notGiven is when the password of an account was changed that was made and has been given none.
const notGiven = "none given yet"

// passwordDays tells when a password was changed, and how long it is good.
func (st *state) passwordDays(p *priv, given bool, put func(string, ...string)) {
	days := st.lifetime
	put(passwordMost, asTheServer)
	if p.Lifetime != nil && *p.Lifetime >= 0 {
		days = *p.Lifetime
		list := "never"
		if days > 0 {
			list = strconv.FormatInt(days, 10)
		}
		put(passwordMost, list)
	}
	if !given {
		put(changed, notGiven)
		return
	}
	if p.Changed == nil {
		return
	}
	if *p.Changed == 0 {
		put(model.MustChange, "yes")
	} else {
		at := time.Unix(*p.Changed, 0).UTC()
		put(changed, at.Format(time.DateOnly))
		if days > 0 {
			put(model.PasswordEnds, at.AddDate(0, 0, int(min(days, 36500))).Format(time.DateOnly))
		}
	}
}

// weak says why a way in is easy to get past; "" when it is not.
func (st *state) weak(w way) string {
	switch {
	case w.Plugin == oldPlugin, w.Plugin == nativePlugin && len(w.Auth) == 16:
		return "its password is kept as servers did before 2003, and guessed in no time; a new password is kept better"
	case w.Plugin == nativePlugin && st.plugin != nativePlugin && w.Auth != "" && w.Auth != noPassword:
		return "its password is kept as an unsalted SHA-1 (mysql_native_password); the server has ed25519, and a new password is kept so"
	}
	return ""
}

// Object implements connect.View. A right is there as soon as somebody has it.
func (st *state) Object(n model.Named) *model.Object {
	switch n.Kind {
	case model.Account:
		if e := st.accounts[n.Name]; e != nil {
			return st.object(n.Name, e)
		}
	case model.GroupKind:
		if e := st.roles[n.Name]; e != nil {
			return st.role(n.Name, false)
		}
	case model.RightKind:
		return &model.Object{Kind: n.Kind, Name: n.Name}
	}
	return nil
}

// Member implements connect.View.
func (st *state) Member(in, member model.Named) bool { return slices.Contains(st.held(member), in) }

// role is a role as an object.
func (st *state) role(n string, members bool) *model.Object {
	o := &model.Object{Kind: model.GroupKind, Name: n, System: slices.Contains(schema.SystemNames, n)}
	if m := st.members[n]; m != nil && members {
		o.Attributes = model.Pack(model.Attribute{Name: model.Members, Values: m.accounts},
			model.Attribute{Name: model.MemberGroups, Values: m.roles})
	}
	if e := st.roles[n]; e != nil && e.odd != "" {
		o.Attributes, o.Marked = o.Attributes.With(model.Odd, e.odd), true
	}
	if admins := st.admins[n]; len(admins) > 0 {
		slices.Sort(admins)
		o.Attributes = o.Attributes.With(model.Administrators, admins...)
	}
	return o
}
