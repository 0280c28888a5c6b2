package postgres

import (
	"fmt"
	"strings"
)

// wanted is what is to be read: of which roles what they are; which member is in which group, by place; who is to be told all
// groups of; of which groups who may give them on; and who may what. nil reads everything.
type wanted struct{ roles, members, groups, all, admins, grantees []string }

// query reads something, and hands each row on; a row is good until take returns.
type query struct {
	text string
	take func(row [][]byte)
}

// of chooses by a name; nil chooses all.
func of(column string, list []string) string {
	if list == nil {
		return ""
	}
	return " AND " + column + " = ANY(" + nameList(list) + ")"
}

// serverQueries read the roles, who is in them, and what they may do with databases. What tells accounts from groups comes first.
func (st *state) serverQueries(w *wanted) []query {
	all := w == nil
	var roles []string
	if !all {
		roles = w.roles
	}
	out := []query{scanning(all), {`SELECT r.oid, r.rolname, r.rolcanlogin, r.rolinherit, r.rolconnlimit, EXTRACT(EPOCH FROM r.rolvaliduntil),
		CASE WHEN r.rolpassword IS NULL THEN '' WHEN r.rolpassword LIKE 'SCRAM-SHA-256$%' THEN 'scram' ELSE 'md5' END,
		r.rolsuper, r.rolcreatedb, r.rolcreaterole, r.rolreplication, r.rolbypassrls FROM pg_authid r WHERE true` + of("r.rolname", roles),
		st.roleRow},
		{`SELECT r.rolname, array_agg(c || CASE WHEN s.setdatabase = 0 THEN '' ELSE ' in ' || d.datname END) FROM
			pg_db_role_setting s JOIN pg_authid r ON r.oid = s.setrole LEFT JOIN pg_database d ON d.oid = s.setdatabase
			CROSS JOIN LATERAL unnest(s.setconfig) c WHERE true` + of("r.rolname", roles) + ` GROUP BY 1`, st.settingsRow}}
	if st.version >= withOptions {
		out = append(out, query{`SELECT m.rolname, g.rolname, bool_or(a.inherit_option), bool_or(a.set_option) FROM pg_auth_members a
			JOIN pg_authid m ON m.oid = a.member JOIN pg_authid g ON g.oid = a.roleid WHERE NOT (a.inherit_option AND a.set_option)` +
			of("m.rolname", roles) + ` GROUP BY 1, 2 ORDER BY 2`, st.optionsRow})
	}
	switch {
	case all:
		out = append(out, query{w.inGroups("true"), st.memberRow})
	default:
		if len(w.members) > 0 {
			out = append(out, query{membersOf(w.groups, w.members), st.memberRow})
		}
		if len(w.all) > 0 {
			out = append(out, query{w.inGroups("true" + among("a.member", w.all)), st.memberRow})
		}
		if len(w.admins) > 0 {
			out = append(out, query{w.inGroups("a.admin_option" + among("a.roleid", w.admins)), st.memberRow})
		}
	}
	if all || len(w.grantees) > 0 {
		out = append(out, query{w.acl("'DATABASE'", "d.datname", "''", "''", "''", "pg_database d", "d.datacl", "d.datdba",
			" AND NOT d.datistemplate"), func(row [][]byte) { st.aclRow(row, nil) }})
	}
	return out
}

// scanning lets the server read whole tables, or not: what it thinks it knows of their sizes is old while many are made, and of
// a table that it takes for small it reads all for each that is looked for.
func scanning(may bool) query {
	word := "off"
	if may {
		word = "on"
	}
	return query{"SET enable_seqscan = " + word, func([][]byte) {}}
}

// withOptions is the version since which a membership has options, and somebody can have one from several.
const withOptions = 160000

// inGroups reads who is in which group, and who gave it to them.
func (w *wanted) inGroups(where string) string {
	return "SELECT pg_get_userbyid(a.roleid), a.admin_option, pg_get_userbyid(a.grantor), " + w.told("a.member") +
		" FROM pg_auth_members a WHERE " + where + " GROUP BY a.roleid, a.admin_option, a.grantor"
}

// told are roles of which there are oids: as they are where all roles are read, which saves the server to look for them.
func (w *wanted) told(oid string) string {
	if w == nil {
		return "array_agg(" + oid + ")"
	}
	return "array_agg(CASE " + oid + " WHEN 0 THEN 'PUBLIC' ELSE pg_get_userbyid(" + oid + ") END)"
}

// among chooses roles by their oids; nil chooses all.
func among(oid string, list []string) string {
	if list == nil {
		return ""
	}
	return " AND " + oid + " = ANY(ARRAY(SELECT oid FROM pg_roles WHERE rolname = ANY(" + nameList(list) + ")))"
}

// membersOf reads whether each of some is in a group, pair by pair: left to itself the server reads all that are in it.
func membersOf(groups, who []string) string {
	role := func(n string) string {
		return " CROSS JOIN LATERAL (SELECT oid FROM pg_authid WHERE rolname = p." + n + " OFFSET 0) " + n
	}
	return `SELECT p.g, a.admin_option, pg_get_userbyid(a.grantor), array_agg(p.m) FROM unnest(` + nameList(groups) + `, ` + nameList(who) +
		`) p(g, m)` + role("g") + role("m") + ` CROSS JOIN LATERAL
		(SELECT * FROM pg_auth_members WHERE roleid = g.oid AND member = m.oid OFFSET 0) a GROUP BY 1, 2, a.grantor`
}

// acl reads who has which permission on things of a sort.
func (w *wanted) acl(sort, db, schema, thing, column, from, list, owner, where string) string {
	some := ""
	if w != nil {
		some = among("e.grantee", w.grantees)
	}
	return "SELECT " + strings.Join([]string{sort, db, schema, thing, column}, ", ") + ", x.* FROM " + from +
		" CROSS JOIN LATERAL (SELECT e.privilege_type, e.is_grantable, " + w.told("e.grantee") + " FROM aclexplode(" + list +
		") e WHERE e.grantee <> " + owner + some + " GROUP BY 1, 2) x WHERE true" + where
}

// Relations and schemas that are looked at.
const (
	ownSchemas = " AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'"
	relation   = "CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END"
	relations  = " AND c.relkind IN ('r','p','v','m','f','S')"
)

// databaseQueries read who may what in a database, how many things there are in each schema and, of everything, what belongs to whom.
func (st *state) databaseQueries(w *wanted, db string) []query {
	one := func(sort, schema, thing, column, from, list, owner, where string) string {
		return w.acl(sort, "current_database()", schema, thing, column, from, list, owner, where)
	}
	each := map[wide]map[string][]string{}
	out := []query{scanning(w == nil), {strings.Join([]string{
		one("'SCHEMA'", "n.nspname", "''", "''", "pg_namespace n", "n.nspacl", "n.nspowner", ownSchemas),
		one(relation, "n.nspname", "c.relname", "''", "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace", "c.relacl", "c.relowner",
			ownSchemas+relations),
		one("'TABLE'", "n.nspname", "c.relname", "a.attname",
			"pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace", "a.attacl", "c.relowner",
			ownSchemas+" AND a.attacl IS NOT NULL AND NOT a.attisdropped"),
		one("'FUNCTION'", "n.nspname", "p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')'", "''",
			"pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace", "p.proacl",
			"ALL(ARRAY[p.proowner, 0])", ownSchemas),
		one("CASE a.defaclobjtype WHEN 'r' THEN 'NEW TABLES' WHEN 'S' THEN 'NEW SEQUENCES' ELSE 'NEW FUNCTIONS' END", "w.rolname",
			"COALESCE(n.nspname, '')", "''",
			"pg_default_acl a JOIN pg_roles w ON w.oid = a.defaclrole LEFT JOIN pg_namespace n ON n.oid = a.defaclnamespace", "a.defaclacl",
			"ALL(ARRAY[a.defaclrole, 0])", " AND a.defaclobjtype IN ('r','S','f')"),
	}, " UNION ALL "), func(row [][]byte) { st.aclRow(row, each) }},
		{`SELECT ` + relation + `, n.nspname, count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE true` + relations + ownSchemas + ` GROUP BY 1, 2
			UNION ALL SELECT 'FUNCTION', n.nspname, count(*) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
			WHERE p.prokind <> 'a'` + ownSchemas + ` GROUP BY 1, 2`, func(row [][]byte) { st.countRow(row, db, each) }}}
	if w == nil {
		out = append(out, st.ownedQuery(db, nil))
	}
	return out
}

// ownedQuery reads what belongs to whom in a database, of all or of some.
func (st *state) ownedQuery(db string, names []string) query {
	return query{fmt.Sprintf(`SELECT o.rolname, pg_describe_object(o.classid, o.objid, o.objsubid) FROM (SELECT r.rolname, s.*,
			row_number() OVER (PARTITION BY s.refobjid ORDER BY s.classid, s.objid) AS n FROM pg_shdepend s
			JOIN pg_roles r ON r.oid = s.refobjid WHERE s.refclassid = 'pg_authid'::regclass AND s.deptype = 'o' AND r.oid >= 16384
			AND s.classid <> 'pg_default_acl'::regclass AND (s.dbid = (SELECT oid FROM pg_database WHERE datname = current_database())
			OR s.dbid = 0 AND current_database() = %s)%s) o WHERE o.n <= %d`, text(st.homeName()), of("r.rolname", names), ownedMost),
		func(row [][]byte) { st.ownedRow(row, db) }}
}
