package mariadb

import (
	"slices"
	"strings"

	"hen-roost/internal/connect/sqlright"
)

// bits are the privileges on the server in the order of the bits by which mysql.global_priv keeps them.
var bits = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "RELOAD", "SHUTDOWN", "PROCESS", "FILE",
	sqlright.GrantOption, "REFERENCES", "INDEX", "ALTER", "SHOW DATABASES", "SUPER", "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE",
	"REPLICATION SLAVE", "BINLOG MONITOR", "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE", "ALTER ROUTINE", "CREATE USER", "EVENT",
	"TRIGGER", "CREATE TABLESPACE", "DELETE HISTORY", "SET USER", "FEDERATED ADMIN", "CONNECTION ADMIN", "READ_ONLY ADMIN",
	"REPLICATION SLAVE ADMIN", "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY", "SLAVE MONITOR", "SHOW CREATE ROUTINE"}

// oldBits is how many of them there are before 11.3 (bit 39 came with it).
const oldBits = 39

// of names the privileges of databases, tables, columns and routines as the tables that keep them call them.
var (
	ofDatabase = map[string]string{"Select_priv": "SELECT", "Insert_priv": "INSERT", "Update_priv": "UPDATE", "Delete_priv": "DELETE",
		"Create_priv": "CREATE", "Drop_priv": "DROP", "Grant_priv": sqlright.GrantOption, "References_priv": "REFERENCES",
		"Index_priv": "INDEX", "Alter_priv": "ALTER", "Create_tmp_table_priv": "CREATE TEMPORARY TABLES", "Lock_tables_priv": "LOCK TABLES",
		"Create_view_priv": "CREATE VIEW", "Show_view_priv": "SHOW VIEW", "Create_routine_priv": "CREATE ROUTINE",
		"Alter_routine_priv": "ALTER ROUTINE", "Execute_priv": "EXECUTE", "Event_priv": "EVENT", "Trigger_priv": "TRIGGER",
		"Delete_history_priv": "DELETE HISTORY", "Show_create_routine_priv": "SHOW CREATE ROUTINE"}
	ofTable = map[string]string{"Select": "SELECT", "Insert": "INSERT", "Update": "UPDATE", "Delete": "DELETE", "Create": "CREATE",
		"Drop": "DROP", "Grant": sqlright.GrantOption, "References": "REFERENCES", "Index": "INDEX", "Alter": "ALTER",
		"Create View": "CREATE VIEW", "Show view": "SHOW VIEW", "Trigger": "TRIGGER", "Delete versioning rows": "DELETE HISTORY"}
	ofRoutine = map[string]string{"Execute": "EXECUTE", "Alter Routine": "ALTER ROUTINE", "Grant": sqlright.GrantOption,
		"Show Create Routine": "SHOW CREATE ROUTINE"}
	tableAll = len(ofTable) - 1 // how many make ALL: those but GRANT OPTION
)

// routines are the sorts of thing that can be carried out.
var routines = []string{"FUNCTION", "PROCEDURE", "PACKAGE"}

var dialect = func() *sqlright.Dialect {
	words := func(m map[string]string) []string {
		out := []string{sqlright.All}
		for _, p := range m {
			out = append(out, p)
		}
		slices.Sort(out)
		return out
	}
	server := append([]string{sqlright.All}, bits...)
	slices.Sort(server)
	d := &sqlright.Dialect{Patterns: true, Columns: strings.ToLower,
		Renamings: map[string]string{"REPLICATION CLIENT": "BINLOG MONITOR", "REPLICA MONITOR": "SLAVE MONITOR",
			"REPLICATION REPLICA": "REPLICATION SLAVE", "REPLICATION REPLICA ADMIN": "REPLICATION SLAVE ADMIN",
			"DELETE VERSIONING ROWS": "DELETE HISTORY"},
		Sorts: map[string]sqlright.Sort{sqlright.Table: {Depth: 2, Allows: [][]string{server, words(ofDatabase), words(ofTable)},
			Columns: []string{"INSERT", "REFERENCES", "SELECT", "UPDATE"}}},
		Includes: func(wide, narrow sqlright.Right) bool { // what may be carried out on all that a database holds
			return wide.Sort == sqlright.Table && len(wide.Path) < 2 && slices.Contains(routines, narrow.Sort) &&
				narrow.Privilege != sqlright.GrantOption && sqlright.Within(wide, narrow) &&
				(wide.Privilege == sqlright.All || wide.Privilege == narrow.Privilege)
		}}
	for _, sort := range routines {
		d.Sorts[sort] = sqlright.Sort{Depth: 2, Allows: [][]string{nil, nil, words(ofRoutine)}}
	}
	return d
}()

// powers are the permissions on the server that make whoever has them superuser, or let them become it: by what they may
// do, by giving themselves more, by acting as another, by writing the tables that say who may what, or by reading the hashes of
// passwords there or as they are replicated.
var powers = func() (out []string) {
	for _, p := range []string{sqlright.All, "BINLOG REPLAY", "CREATE USER", "FILE", "INSERT", "REPLICATION SLAVE", "SELECT", "SET USER",
		"SUPER", "UPDATE"} {
		out = append(out, p+" ON *.*")
	}
	return append(out, "ALL ON mysql.*", "INSERT ON mysql.*", "UPDATE ON mysql.*")
}()

// looking are privileges by which nobody gains anything.
var looking = []string{"SELECT", "DELETE", "INDEX", "SHOW VIEW", "EXECUTE", "REFERENCES", "LOCK TABLES", "SHOW CREATE ROUTINE",
	sqlright.GrantOption}

// isMighty says whether a permission makes superuser: one of powers, or anything but looking where the server keeps who may what.
func isMighty(permission string) bool {
	if slices.Contains(powers, permission) {
		return true
	}
	r, err := dialect.One(permission)
	switch {
	case err != nil || len(r.Path) == 0:
		return false
	case r.Privilege == "SELECT":
		return readsHashes(r)
	case slices.Contains(looking, r.Privilege):
		return false
	}
	const own = "mysql"
	return r.Path[0] == own || r.Like && like(r.Path[0], own)
}

// readsHashes says whether reading something shows hashes of passwords: all of the server's own database, or the tables with them.
func readsHashes(r sqlright.Right) bool {
	if r.Path[0] != "mysql" && !(r.Like && like(r.Path[0], "mysql")) {
		return false
	}
	return len(r.Path) == 1 || slices.Contains([]string{"global_priv", "user"}, r.Path[1]) &&
		!slices.Contains([]string{"host", "user"}, strings.ToLower(r.Column))
}

// onServer are the permissions on the server that a number keeps, of a server that knows so many bits.
func onServer(access uint64, known int) []string {
	var have []string
	grant := false
	for i, p := range bits[:known] {
		switch {
		case access&(1<<i) == 0:
		case p == sqlright.GrantOption:
			grant = true
		default:
			have = append(have, p)
		}
	}
	return named(have, known-1, grant, sqlright.Right{Sort: sqlright.Table})
}

// named writes privileges on a thing as permissions: all that there are as one.
func named(have []string, all int, grant bool, on sqlright.Right) []string {
	if len(have) == all {
		have = []string{sqlright.All}
	}
	if grant {
		have = append(have, sqlright.GrantOption)
	}
	out := make([]string, len(have))
	for i, p := range have {
		on.Privilege = p
		out[i] = dialect.String(on)
	}
	return out
}

// onDatabase is the thing that a name in mysql.db means: there it is a pattern, unless what has a meaning in patterns is
// escaped.
func onDatabase(name string) sqlright.Right {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		switch c := name[i]; {
		case c == '\\' && i+1 < len(name):
			i++
			b.WriteByte(name[i])
		case c == '%' || c == '_':
			return sqlright.Right{Sort: sqlright.Table, Path: []string{name}, Like: true}
		default:
			b.WriteByte(c)
		}
	}
	return sqlright.Right{Sort: sqlright.Table, Path: []string{b.String()}}
}

// thing is what stands behind ON in a statement.
func thing(r sqlright.Right) string {
	sort := ""
	if r.Sort != sqlright.Table {
		sort = r.Sort + " "
	}
	switch len(r.Path) {
	case 0:
		return "*.*"
	case 1:
		if r.Like {
			return name(r.Path[0]) + ".*"
		}
		return name(unlike.Replace(r.Path[0])) + ".*"
	}
	return sort + name(r.Path[0]) + "." + name(r.Path[1])
}

// unlike escapes what has a meaning in a pattern.
var unlike = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)
