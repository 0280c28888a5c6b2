package postgres

import (
	"slices"
	"strings"

	"hen-roost/internal/connect/sqlright"
)

// alone are what a role may do on the server; powers those that lead to everything.
var alone = []string{"BYPASSRLS", "CREATEDB", "CREATEROLE", "REPLICATION", "SUPERUSER"}

// The sorts of thing that permissions are on. What is called NEW is what somebody will make: its name is the database,
// who makes it, and the schema.
const (
	onDatabase = "DATABASE"
	onSchema   = "SCHEMA"
	onSequence = "SEQUENCE"
	onFunction = "FUNCTION"
	newTables  = "NEW TABLES"
	newSeqs    = "NEW SEQUENCES"
	newRoutine = "NEW FUNCTIONS"
)

var (
	tableWords = []string{"DELETE", "INSERT", "REFERENCES", "SELECT", "TRIGGER", "TRUNCATE", "UPDATE"}
	seqWords   = []string{"SELECT", "UPDATE", "USAGE"}
	doWords    = []string{"EXECUTE"}
)

var dialect = &sqlright.Dialect{Folds: true, Passes: true, Expands: true, Alone: alone,
	Renamings: map[string]string{"TEMP": "TEMPORARY"},
	Sorts: map[string]sqlright.Sort{
		sqlright.Table: {Depth: 3, Allows: [][]string{nil, nil, tableWords, tableWords},
			Columns: []string{"INSERT", "REFERENCES", "SELECT", "UPDATE"}},
		onDatabase: {Depth: 1, Allows: [][]string{nil, {"CONNECT", "CREATE", "TEMPORARY"}}},
		onSchema:   {Depth: 2, Allows: [][]string{nil, nil, {"CREATE", "USAGE"}}},
		onSequence: {Depth: 3, Allows: [][]string{nil, nil, seqWords, seqWords}},
		onFunction: {Depth: 3, Lists: true, Allows: [][]string{nil, nil, doWords, doWords}},
		newTables:  {Depth: 3, Allows: [][]string{nil, nil, tableWords, tableWords}},
		newSeqs:    {Depth: 3, Allows: [][]string{nil, nil, seqWords, seqWords}},
		newRoutine: {Depth: 3, Allows: [][]string{nil, nil, doWords, doWords}},
	}}

// powers are the permissions that make superuser, or let somebody become it.
// Some do by reading the hashes of passwords as they are replicated, or past what the owners of tables let be seen.
var powers = []string{"BYPASSRLS", "CREATEROLE", "REPLICATION", "SUPERUSER"}

// hashes are the server's own tables with hashes of passwords.
var hashes = []string{"pg_authid", "pg_shadow", "pg_user_mapping"}

// isMighty says whether a permission makes superuser: one of powers, or anything but looking at what the server itself keeps,
// or reads and runs files with.
func isMighty(permission string) bool {
	if slices.Contains(powers, strings.TrimSuffix(permission, " WITH GRANT OPTION")) {
		return true
	}
	r, err := dialect.One(permission)
	if err == nil && r.Privilege == "SELECT" && len(r.Path) > 2 && slices.Contains(hashes, r.Path[2]) {
		return true
	}
	return err == nil && len(r.Path) > 1 && r.Privilege != "SELECT" && r.Privilege != "USAGE" && !strings.HasPrefix(r.Sort, "NEW ") &&
		strings.HasPrefix(r.Path[1], "pg_")
}

// strong are the server's own groups whose members reach its files and programs, or read everything, hashes of passwords too.
var strong = []string{"pg_read_all_data", "pg_execute_server_program", "pg_read_server_files", "pg_write_server_files"}

// within is the database that a permission is of; "" of what is the server's.
func within(r sqlright.Right) string {
	if r.Sort == "" || r.Sort == onDatabase {
		return ""
	}
	return r.Path[0]
}

// statement gives a permission to somebody, or takes it away, in the database that it is of.
func statement(r sqlright.Right, who string, give bool) string {
	if r.Sort == "" {
		if give {
			return "ALTER ROLE " + name(who) + " " + r.Privilege
		}
		return "ALTER ROLE " + name(who) + " NO" + r.Privilege
	}
	verb, to, tail := "GRANT ", " TO ", ""
	if r.Passed {
		tail = " WITH GRANT OPTION"
	}
	if !give {
		verb, to, tail = "REVOKE ", " FROM ", ""
	}
	what := r.Privilege
	if r.Column != "" {
		what += " (" + name(r.Column) + ")"
	}
	if kind, isNew := strings.CutPrefix(r.Sort, "NEW "); isNew {
		at := "ALTER DEFAULT PRIVILEGES FOR ROLE " + name(r.Path[1])
		if len(r.Path) == 3 {
			at += " IN SCHEMA " + name(r.Path[2])
		}
		return at + " " + verb + what + " ON " + kind + to + name(who) + tail
	}
	return verb + what + " ON " + place(r) + to + name(who) + tail
}

// place is what stands behind ON.
func place(r sqlright.Right) string {
	all := map[string]string{sqlright.Table: "ALL TABLES", onSequence: "ALL SEQUENCES", onFunction: "ALL FUNCTIONS"}
	switch {
	case r.Sort == onDatabase:
		return "DATABASE " + name(r.Path[0])
	case r.Sort == onSchema:
		return "SCHEMA " + name(r.Path[1])
	case len(r.Path) == 2:
		return all[r.Sort] + " IN SCHEMA " + name(r.Path[1])
	case r.Sort == onFunction:
		f, arguments, _ := strings.Cut(r.Path[2], "(")
		return "ROUTINE " + name(r.Path[1]) + "." + name(f) + "(" + arguments
	}
	return r.Sort + " " + name(r.Path[1]) + "." + name(r.Path[2])
}

// name quotes an identifier.
func name(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

// text quotes a literal; sessions have standard_conforming_strings on.
func text(s string) string { return `'` + strings.ReplaceAll(s, `'`, `''`) + `'` }

// nameList is an array of names, as the server itself keeps them, so that it finds them by its index. One that is too long for
// a name is nobody's; it is left out, for the server would cut it to one that may be somebody's.
func nameList(list []string) string {
	quoted := make([]string, 0, len(list))
	for _, s := range list {
		if fits(s) {
			quoted = append(quoted, text(s))
		}
	}
	return "ARRAY[" + strings.Join(quoted, ",") + "]::name[]"
}

// fits says whether a name can be one here.
func fits(n string) bool { return len(n) <= nameMost && !strings.ContainsRune(n, 0) }

// sorted is a copy in order, each once.
func sorted(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return slices.Compact(out)
}
