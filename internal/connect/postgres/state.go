package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/sqlright"
	"hen-roost/internal/core/model"
)

// role is a role as the server keeps it.
type role struct {
	account  bool
	login    bool
	inherit  bool
	limit    string // sessions at once; -1: any
	until    string // seconds, infinity, or nothing
	kept     string // how its password is kept: scram, md5, or nothing
	settings []string
	request  []string // groups whose rights it has only once it asks for them
	never    []string // groups as which it may not act
	odd      string   // why it cannot be looked after
}

// state is what has been read of a server. It is a connect.View of what was asked for.
type state struct {
	*session
	roles   map[string]*role
	rights  map[string]*set // by permission
	members map[string]*set // of roles
	admins  map[string][]string
	has     map[holding]bool
	by      map[holding][]string // who gave somebody a group, where the server takes it back from each by name
	all     map[string]bool      // permissions on all of a schema that somebody has by having each of them
	owns    map[string][]string
}

// holding says of somebody that they have a permission, or are in a group.
type holding struct {
	kind      model.ObjectKind
	what, who string
}

// set is who has a right, or is in a group.
type set struct{ accounts, groups []string }

// everybody is what the server calls all there are.
const everybody = "PUBLIC"

// marker is a setting of a role's own that keeps one which was shut an account: a group may not sign in either.
const marker = "roost.account"

// members is who is in which group, and who gave it to them.
const members = `SELECT g.rolname, m.rolname, bool_or(a.admin_option), array_agg(pg_get_userbyid(a.grantor)) FROM pg_auth_members a
	JOIN pg_roles g ON g.oid = a.roleid JOIN pg_roles m ON m.oid = a.member`

// withOptions is the version since which a membership has options, and somebody can have one from several.
const withOptions = 160000

// without are the groups in which a role is without an option.
func (s *session) without(option string) string {
	if s.version < withOptions {
		return "ARRAY[]::name[]"
	}
	return "ARRAY(SELECT g.rolname FROM pg_auth_members a JOIN pg_roles g ON g.oid = a.roleid WHERE a.member = r.oid GROUP BY 1 " +
		"HAVING NOT bool_or(a." + option + ") ORDER BY 1)"
}

// wanted is what is to be read: of which roles what they are; who of whom is in which groups, nil for all that they are in;
// of which groups who may give them on; and who may what. nil reads everything.
type wanted struct{ roles, members, groups, admins, grantees []string }

// of chooses by a name; nil chooses all.
func of(column string, list []string) string {
	if list == nil {
		return ""
	}
	return " AND " + column + " = ANY(" + nameList(list) + ")"
}

// rolesQuery reads the roles, who is in them, and what they may do with databases. The roles come first.
func (s *session) rolesQuery(w *wanted) string {
	all := w == nil
	if all {
		w = &wanted{}
	}
	out := []string{`SELECT r.rolname, r.rolcanlogin, r.rolinherit, r.rolconnlimit, EXTRACT(EPOCH FROM r.rolvaliduntil),
		CASE WHEN r.rolpassword IS NULL THEN '' WHEN r.rolpassword LIKE 'SCRAM-SHA-256$%' THEN 'scram' ELSE 'md5' END,
		r.rolsuper, r.rolcreatedb, r.rolcreaterole, r.rolreplication, r.rolbypassrls,
		ARRAY(SELECT c || CASE WHEN s.setdatabase = 0 THEN '' ELSE ' in ' || d.datname END FROM pg_db_role_setting s
			LEFT JOIN pg_database d ON d.oid = s.setdatabase, unnest(s.setconfig) c WHERE s.setrole = r.oid ORDER BY 1),
		` + s.without("inherit_option") + `, ` + s.without("set_option") + ` FROM pg_authid r WHERE true` + of("r.rolname", w.roles)}
	if all || len(w.members) > 0 {
		out = append(out, members+" WHERE true"+of("m.rolname", w.members)+of("g.rolname", w.groups)+" GROUP BY 1, 2")
	}
	if len(w.admins) > 0 {
		out = append(out, members+" WHERE a.admin_option"+of("g.rolname", w.admins)+" GROUP BY 1, 2")
	}
	if all || len(w.grantees) > 0 {
		out = append(out, `SELECT 'DATABASE', d.datname, '', '', '', COALESCE(g.rolname, 'PUBLIC'), x.privilege_type, x.is_grantable
			FROM pg_database d CROSS JOIN LATERAL aclexplode(d.datacl) x LEFT JOIN pg_roles g ON g.oid = x.grantee
			WHERE x.grantee <> d.datdba AND NOT d.datistemplate`+of("g.rolname", w.grantees))
	}
	return strings.Join(out, ";")
}

// aclQuery reads who may what in a database, and how many things there are in each schema.
func aclQuery(w *wanted) string {
	grantee := ""
	if w != nil {
		grantee = of("g.rolname", w.grantees)
	}
	one := func(sort, schema, thing, column, from, acl, owner, where string) string {
		return "SELECT " + sort + ", current_database(), " + schema + ", " + thing + ", " + column +
			", COALESCE(g.rolname, 'PUBLIC'), x.privilege_type, x.is_grantable FROM " + from + " CROSS JOIN LATERAL aclexplode(" + acl +
			") x LEFT JOIN pg_roles g ON g.oid = x.grantee WHERE x.grantee <> " + owner + where + grantee
	}
	const own = " AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'"
	const relation = "CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END"
	return strings.Join([]string{
		one("'SCHEMA'", "n.nspname", "''", "''", "pg_namespace n", "n.nspacl", "n.nspowner", own) + " UNION ALL " +
			one(relation, "n.nspname", "c.relname", "''", "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace", "c.relacl",
				"c.relowner",
				own+" AND c.relkind IN ('r','p','v','m','f','S')") + " UNION ALL " +
			one("'TABLE'", "n.nspname", "c.relname", "a.attname",
				"pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace", "a.attacl",
				"c.relowner",
				own+" AND a.attacl IS NOT NULL AND NOT a.attisdropped") + " UNION ALL " +
			one("'FUNCTION'", "n.nspname", "p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')'", "''",
				"pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace", "p.proacl", "p.proowner", own+" AND x.grantee <> 0") +
			" UNION ALL " +
			one("CASE a.defaclobjtype WHEN 'r' THEN 'NEW TABLES' WHEN 'S' THEN 'NEW SEQUENCES' ELSE 'NEW FUNCTIONS' END", "w.rolname",
				"COALESCE(n.nspname, '')", "''",
				"pg_default_acl a JOIN pg_roles w ON w.oid = a.defaclrole LEFT JOIN pg_namespace n ON n.oid = a.defaclnamespace",
				"a.defaclacl",
				"a.defaclrole", " AND a.defaclobjtype IN ('r','S','f') AND x.grantee <> 0"),
		`SELECT ` + relation + `, n.nspname, count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE c.relkind IN ('r','p','v','m','f','S')` + own + ` GROUP BY 1, 2
			UNION ALL SELECT 'FUNCTION', n.nspname, count(*) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
			WHERE p.prokind <> 'a'` + own + ` GROUP BY 1, 2`,
	}, ";")
}

// read reads what is wanted, and of some databases who may what there.
func (s *session) read(ctx context.Context, w *wanted, databases []string) (*state, error) {
	st := &state{session: s, roles: map[string]*role{}, rights: map[string]*set{}, members: map[string]*set{},
		admins: map[string][]string{}, has: map[holding]bool{}, by: map[holding][]string{}, all: map[string]bool{},
		owns: map[string][]string{}}
	var later [][]string // what may only be told once it is known who is an account
	keep := func(row [][]byte) {
		later = append(later, fitted(row))
	}
	err := s.each(ctx, s.home, s.rolesQuery(w), func(n int, row [][]byte) error {
		if n == 0 {
			st.roleRow(row)
		} else {
			keep(row)
		}
		return nil
	})
	if err != nil {
		return nil, said(err)
	}
	for _, row := range later {
		if len(row) == 4 {
			st.memberRow(row)
		} else {
			st.aclRow(row, nil)
		}
	}
	for _, db := range databases {
		if err := st.readDatabase(ctx, w, db); err != nil {
			return nil, err
		}
	}
	return st, nil
}

// readDatabase reads who may what in one database.
func (st *state) readDatabase(ctx context.Context, w *wanted, db string) error {
	conn, err := st.in(ctx, db)
	if err != nil {
		return err
	}
	each := map[wide]map[string]int{} // how many of the things of a schema somebody has a permission on
	err = st.each(ctx, conn, aclQuery(w), func(n int, row [][]byte) error {
		texts := fitted(row)
		if n == 0 {
			st.aclRow(texts, each)
			return nil
		}
		for w, who := range each {
			if w.sort != texts[0] || w.schema != texts[1] {
				continue
			}
			for grantee, count := range who {
				if fmt.Sprint(count) == texts[2] {
					p := dialect.String(sqlright.Right{Privilege: w.privilege, Sort: w.sort, Path: []string{db, w.schema},
						Passed: w.passed})
					st.all[p] = true
					st.hold(p, grantee)
				}
			}
		}
		return nil
	})
	return said(err)
}

// fitted are the values of a row, each fit to be kept: nearly all are names.
func fitted(row [][]byte) []string {
	out := make([]string, len(row))
	for i, v := range row {
		out[i], _ = connect.Fit(string(v))
	}
	return out
}

// wide is a permission on all things of a sort in a schema.
type wide struct {
	sort, schema, privilege string
	passed                  bool
}

func (st *state) roleRow(row [][]byte) {
	is := func(i int) bool { return string(row[i]) == "t" }
	r := &role{login: is(1), inherit: is(2), limit: string(row[3]), until: string(row[4]), kept: string(row[5])}
	for _, x := range array(string(row[11])) {
		if strings.HasPrefix(x, marker+"=") {
			r.account = true
		} else {
			r.settings = append(r.settings, connect.Printable(x))
		}
	}
	r.account = r.account || r.login || r.kept != "" || r.until != "" || r.limit != "-1"
	r.request, r.never = array(string(row[12])), array(string(row[13]))
	n, odd := connect.Fit(string(row[0]))
	r.odd = odd
	st.roles[n] = r
	for i, p := range []string{"SUPERUSER", "CREATEDB", "CREATEROLE", "REPLICATION", "BYPASSRLS"} {
		if is(6 + i) {
			st.hold(p, n)
		}
	}
}

// array reads an array as the server writes one: {a,"b \" c"}.
func array(s string) (out []string) {
	s = strings.TrimSuffix(strings.TrimPrefix(s, "{"), "}")
	for s != "" {
		var b strings.Builder
		if s[0] == '"' {
			i := 1
			for ; i < len(s) && s[i] != '"'; i++ {
				if s[i] == '\\' && i+1 < len(s) {
					i++
				}
				b.WriteByte(s[i])
			}
			s = s[min(i+1, len(s)):]
		} else {
			at := strings.IndexByte(s, ',')
			if at < 0 {
				at = len(s)
			}
			b.WriteString(s[:at])
			s = s[at:]
		}
		out = append(out, b.String())
		s = strings.TrimPrefix(s, ",")
	}
	return out
}

// hold notes that somebody has a permission.
func (st *state) hold(permission, who string) {
	h := holding{model.RightKind, permission, who}
	if st.has[h] {
		return
	}
	st.has[h] = true
	s := st.rights[permission]
	if s == nil {
		s = &set{}
		st.rights[permission] = s
	}
	s.add(who, st.isAccount(who))
}

func (s *set) add(who string, account bool) {
	if account {
		s.accounts = append(s.accounts, who)
	} else {
		s.groups = append(s.groups, who)
	}
}

func (st *state) isAccount(who string) bool {
	r := st.roles[who]
	return r != nil && r.account
}

func (st *state) memberRow(row []string) {
	group, member := row[0], row[1]
	if member == st.own { // who makes a role may give it on: we are in it for no other reason
		return
	}
	h := holding{model.GroupKind, group, member}
	if !st.has[h] {
		m := st.members[group]
		if m == nil {
			m = &set{}
			st.members[group] = m
		}
		m.add(member, st.isAccount(member))
		st.has[h] = true
	}
	if st.version >= withOptions {
		st.by[h] = array(row[3])
	}
	if row[2] == "t" && !slices.Contains(st.admins[group], member) {
		st.admins[group] = append(st.admins[group], member)
	}
}

// aclRow takes: sort, database, schema or who makes it, thing, column, grantee, privilege, whether it may be passed on.
func (st *state) aclRow(row []string, each map[wide]map[string]int) {
	r := sqlright.Right{Privilege: row[6], Column: row[4], Sort: row[0], Passed: row[7] == "t"}
	for _, part := range row[1:4] {
		if part != "" {
			r.Path = append(r.Path, part)
		}
	}
	st.hold(dialect.String(r), row[5])
	if r.Passed { // whoever may pass it on has it
		r.Passed = false
		st.hold(dialect.String(r), row[5])
		r.Passed = true
	}
	if each == nil || len(r.Path) != 3 || r.Column != "" || strings.HasPrefix(r.Sort, "NEW ") {
		return
	}
	for _, passed := range []bool{false, true} {
		if passed && !r.Passed {
			continue
		}
		w := wide{r.Sort, row[2], r.Privilege, passed}
		if each[w] == nil {
			each[w] = map[string]int{}
		}
		each[w][row[5]]++
	}
}

// object is an account as an object; what needs the whole server to be known is told by the survey.
func (st *state) object(n string, r *role) *model.Object {
	o := &model.Object{Kind: model.Account, Name: n, Ours: n == st.own, System: strings.HasPrefix(n, "pg_")}
	list := []model.Attribute{{Name: model.Disabled, Values: []string{connect.Yes(!r.login)}}, {Name: inherits,
		Values: []string{connect.Yes(r.inherit)}}}
	put := func(name string, values ...string) { list = append(list, model.Attribute{Name: name, Values: values}) }
	limit := r.limit
	if limit == "-1" {
		limit = "any"
	}
	put(sessionsMost, limit)
	if until := untilWords(r.until); until != "" {
		put(model.PasswordEnds, until)
	}
	for _, x := range []struct {
		name string
		list []string
	}{{settings, r.settings}, {onRequest, r.request}, {neverAs, r.never}} {
		if len(x.list) > 0 {
			put(x.name, x.list...)
		}
	}
	if r.kept == "md5" && r.login {
		put(model.WeakSignIn,
			"its password is kept as MD5, which is guessed fast and is worth as much as the password to whoever reads it; "+
				"a new password is kept as SCRAM-SHA-256")
		o.Marked = true
	}
	o.Attributes = model.Pack(list...)
	return o
}

const never = "never"

// untilWords is a moment as an attribute has it: the day alone where it is the beginning of one.
func untilWords(seconds string) string {
	if seconds == "" {
		return ""
	}
	var f float64
	if _, err := fmt.Sscan(seconds, &f); err != nil || f > 1e12 {
		return never
	}
	return timeWords(time.Unix(int64(f), 0).UTC())
}

func timeWords(at time.Time) string {
	if at.Equal(at.Truncate(24 * time.Hour)) {
		return at.Format(time.DateOnly)
	}
	return at.Format(time.RFC3339)
}

// canonicalTime is a moment that is asked for as it is read back.
func canonicalTime(v string) string {
	if at, err := time.Parse(time.RFC3339, v); err == nil {
		return timeWords(at.UTC().Truncate(time.Second))
	}
	return v
}

// group is a group as an object.
func (st *state) group(n string, members bool) *model.Object {
	o := &model.Object{Kind: model.GroupKind, Name: n, System: strings.HasPrefix(n, "pg_")}
	if m := st.members[n]; m != nil && members {
		o.Attributes = model.Pack(model.Attribute{Name: model.Members, Values: m.accounts},
			model.Attribute{Name: model.MemberGroups, Values: m.groups})
	}
	if admins := st.admins[n]; len(admins) > 0 {
		slices.Sort(admins)
		o.Attributes = o.Attributes.With(model.Administrators, admins...)
	}
	return o
}

// Object implements connect.View. A right is there as soon as somebody has it.
func (st *state) Object(n model.Named) *model.Object {
	r := st.roles[n.Name]
	switch {
	case n.Kind == model.Account && r != nil && r.account:
		return st.object(n.Name, r)
	case n.Kind == model.GroupKind && r != nil && !r.account:
		return st.group(n.Name, false)
	case n.Kind == model.RightKind:
		return &model.Object{Kind: n.Kind, Name: n.Name}
	}
	return nil
}

// Member implements connect.View.
func (st *state) Member(in, member model.Named) bool {
	return st.has[holding{in.Kind, in.Name, member.Name}]
}
