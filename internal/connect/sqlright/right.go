// Package sqlright reads and writes permissions on databases in the words of the
// standard's GRANT (ISO/IEC 9075-2 §12.3): SELECT ON stores.items. It knows what they
// are made of and which includes which; what there is on a kind of database is told
// by its Dialect. It reaches no server.
package sqlright

import (
	"slices"
	"strings"
)

// Right is one permission.
type Right struct {
	Privilege string   // in capitals; All is all that there are on such a thing
	Column    string   // of a table, where it counts for that alone
	Sort      string   // what sort of thing it is on; "" of one that is on no thing, such as leave to make accounts
	Path      []string // the thing's name from its widest part on; one that is shorter than the sort's Depth stands for all within
	Like      bool     // the first part of the path is a pattern, as the server's LIKE has them
	Passed    bool     // with leave to pass it on, where that is a matter of each permission
}

const (
	All         = "ALL"
	GrantOption = "GRANT OPTION" // leave to pass on what one has on a thing, where that is a permission of its own
	Table       = "TABLE"        // the sort that need not be named
)

// Sort is a sort of thing that permissions can be on.
type Sort struct {
	Depth   int        // how many parts its name has
	Allows  [][]string // what can be allowed, by how many parts are named; nil: it cannot be named so
	Columns []string   // what can be allowed on a column
	Lists   bool       // its last part carries a list of arguments: hours(integer)
}

// Dialect is what permissions there are on a kind of database.
type Dialect struct {
	Sorts     map[string]Sort
	Alone     []string                      // permissions that are on no thing
	Folds     bool                          // a name without quotes is told in small letters
	Passes    bool                          // leave to pass on is a matter of each permission; else GrantOption is one of its own
	Expands   bool                          // ALL is no permission of its own: it stands for each that there is on a thing
	Patterns  bool                          // ON LIKE 'a_c'.* is known
	Columns   func(string) string           // how a name of a column is told; nil: as it stands
	Includes  func(wide, narrow Right) bool // what includes another beside the rule; nil: nothing
	Renamings map[string]string             // old words for privileges
}

// String is the permission in canonical form.
func (d *Dialect) String(r Right) string {
	var b strings.Builder
	b.WriteString(r.Privilege)
	if r.Column != "" {
		b.WriteString(" (" + d.quote(r.Column) + ")")
	}
	if r.Sort == "" {
		return b.String()
	}
	b.WriteString(" ON ")
	if r.Sort != Table {
		b.WriteString(r.Sort + " ")
	}
	sort := d.Sorts[r.Sort]
	for i := range max(sort.Depth, len(r.Path)) {
		if i > 0 {
			b.WriteByte('.')
		}
		switch {
		case i >= len(r.Path):
			b.WriteByte('*')
		case i == 0 && r.Like:
			b.WriteString("LIKE '" + strings.ReplaceAll(r.Path[0], "'", "''") + "'")
		case i == sort.Depth-1 && sort.Lists:
			name, arguments, _ := strings.Cut(r.Path[i], "(")
			b.WriteString(d.quote(name) + "(" + arguments)
		default:
			b.WriteString(d.quote(r.Path[i]))
		}
	}
	if r.Passed {
		b.WriteString(passedOn)
	}
	return b.String()
}

const passedOn = " WITH GRANT OPTION"

// quote writes a name so that read finds it again.
func (d *Dialect) quote(name string) string {
	if plain(name) && (!d.Folds || strings.ToLower(name) == name) && !strings.EqualFold(name, "LIKE") {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func plain(name string) bool {
	for i, c := range name {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c != '$' && (c < '0' || c > '9')) {
			return false
		}
	}
	return name != ""
}

// Covers says whether whoever has the wide permission has the narrow one with it. Both are canonical; of what
// cannot be read nothing is covered.
func (d *Dialect) Covers(wide, narrow string) bool {
	if wide == narrow {
		return true
	}
	w, err := d.One(wide)
	if err != nil {
		return false
	}
	n, err := d.One(narrow)
	return err == nil && d.covers(w, n)
}

func (d *Dialect) covers(wide, narrow Right) bool {
	if narrow.Passed && !wide.Passed {
		return false
	}
	if d.Includes != nil && d.Includes(wide, narrow) {
		return true
	}
	return wide.Sort == narrow.Sort && wide.Sort != "" && covers(wide.Privilege, narrow.Privilege) && Within(wide, narrow) &&
		(wide.Column == "" || wide.Column == narrow.Column)
}

func covers(wide, narrow string) bool { return wide == narrow || wide == All && narrow != GrantOption }

// Within says whether the thing of the narrow permission is that of the wide one, or stands in it. A pattern stands in what is
// wider than any database alone: which databases it fits is no matter of the permission.
func Within(wide, narrow Right) bool {
	if len(wide.Path) > len(narrow.Path) || !slices.Equal(wide.Path, narrow.Path[:len(wide.Path)]) {
		return false
	}
	return len(wide.Path) == 0 || wide.Like == narrow.Like
}
