package sqlright_test

import (
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/connect/sqlright"
)

var plain = &sqlright.Dialect{Patterns: true, Columns: strings.ToLower, Renamings: map[string]string{"READ": "SELECT"},
	Alone: []string{"MAKE ROLES"},
	Sorts: map[string]sqlright.Sort{
		"TABLE": {Depth: 2, Allows: [][]string{{"ALL", "GRANT OPTION", "SELECT", "SUPER"}, {"ALL", "GRANT OPTION", "INSERT", "SELECT"},
			{"ALL", "GRANT OPTION", "INSERT", "SELECT"}}, Columns: []string{"SELECT"}},
		"FUNCTION": {Depth: 2, Lists: true, Allows: [][]string{nil, nil, {"EXECUTE"}}}}}

var passing = &sqlright.Dialect{Folds: true, Passes: true, Sorts: map[string]sqlright.Sort{
	"TABLE": {Depth: 2, Allows: [][]string{nil, {"SELECT"}, {"SELECT"}}}}}

func TestRead(t *testing.T) {
	for _, c := range []struct {
		d          *sqlright.Dialect
		text, want string
	}{
		{plain, "select on stores.items", "SELECT ON stores.items"},
		{plain, "  SELECT ,insert ON  stores . *", "INSERT ON stores.*|SELECT ON stores.*"},
		{plain, "all privileges on *.* with grant option", "ALL ON *.*|GRANT OPTION ON *.*"},
		{plain, "READ (Price, `a``b`, ID) ON TABLE stores.items", "SELECT (\"a`b\") ON stores.items|SELECT (id) ON stores.items|" +
			"SELECT (price) ON stores.items"},
		{plain, `SELECT ON "it's ""odd"" – Ünal".*`, `SELECT ON "it's ""odd"" – Ünal".*`},
		{plain, "SELECT ON LIKE 'crew_''rota'.*", "SELECT ON LIKE 'crew_''rota'.*"},
		{plain, `SELECT ON "LIKE".*`, `SELECT ON "LIKE".*`}, {plain, "SELECT ON function.items", "SELECT ON function.items"},
		{plain, "EXECUTE ON FUNCTION rota.hours( integer,text  array )", "EXECUTE ON FUNCTION rota.hours(integer, text array)"},
		{plain, "make roles", "MAKE ROLES"},
		{passing, `SELECT ON Rota."Shifts" WITH GRANT OPTION`, `SELECT ON rota."Shifts" WITH GRANT OPTION`},
	} {
		got, err := c.d.Read(c.text)
		if err != nil || strings.Join(got, "|") != c.want {
			t.Errorf("%q is read as %q, %v", c.text, got, err)
		}
		for _, one := range got {
			if again, err := c.d.Read(one); err != nil || !slices.Equal(again, []string{one}) {
				t.Errorf("%q is read again as %q, %v", one, again, err)
			}
		}
	}
	for text, want := range map[string]string{
		"SELEC ON stores.*": "SELEC is not to be had there, only ALL, GRANT OPTION, INSERT, SELECT",
		"SUPER ON stores.*": "SUPER is not to be had there", "": "begins with what is allowed",
		"SELECT ON stores": "has 2 parts", "SELECT ON *.items": "nothing but *", "SELECT ON stores.items.price": "at its end",
		"SELECT (id ON stores.items": "does not end", "INSERT (id) ON stores.items": "not to be had on columns",
		"SELECT (id) ON stores.*": "columns are of one table", `SELECT ON "stores.*`: "a quote does not end",
		"EXECUTE ON FUNCTION rota.hours": "its arguments are named too", "EXECUTE ON FUNCTION rota.*": "has 2 parts",
		"SELECT ON stores.* WITH BUTTER": "WITH is followed by", "SELECT ON stores.*; DROP TABLE x": "at its end",
		"SELECT ON stores.\x00x": "control characters", "SELECT": "on no thing", strings.Repeat("x", 3000): "longer",
		`SELECT ON "".*`: "empty",
	} {
		if got, err := plain.Read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %q %v, want %q", text, got, err, want)
		}
	}
}

func TestCovers(t *testing.T) {
	for _, c := range []struct {
		wide, narrow string
		want         bool
	}{
		{"ALL ON *.*", "SELECT ON stores.items", true}, {"ALL ON stores.*", "SELECT (price) ON stores.items", true},
		{"SELECT ON stores.items", "SELECT (price) ON stores.items", true}, {"SELECT (id) ON stores.items", "SELECT (price) ON stores.items",
			false},
		{"SELECT ON stores.items", "SELECT ON stores.*", false}, {"SELECT ON stores.*", "INSERT ON stores.items", false},
		{"ALL ON *.*", "GRANT OPTION ON stores.*", false}, {"GRANT OPTION ON *.*", "GRANT OPTION ON stores.*", true},
		{"SELECT ON LIKE 'st%'.*", "SELECT ON stores.*", false}, {"SELECT ON *.*", "SELECT ON LIKE 'st%'.*", true},
		{"SELECT ON stores.*", "SELECT ON rota.items", false}, {"what is this", "SELECT ON rota.items", false},
	} {
		if got := plain.Covers(c.wide, c.narrow); got != c.want {
			t.Errorf("%s covers %s: %v", c.wide, c.narrow, got)
		}
	}
	if !passing.Covers("SELECT ON rota.* WITH GRANT OPTION", "SELECT ON rota.items") ||
		passing.Covers("SELECT ON rota.*", "SELECT ON rota.items WITH GRANT OPTION") {
		t.Error("leave to pass on is more than leave")
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"SELECT (a, b) ON LIKE 'x%'.*", `ALL ON "a""b".c WITH GRANT OPTION`, "EXECUTE ON FUNCTION a.b(c, d)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range []*sqlright.Dialect{plain, passing} {
			list, err := d.Read(text)
			if err != nil {
				continue
			}
			for _, one := range list {
				if again, err := d.Read(one); err != nil || !slices.Equal(again, []string{one}) {
					t.Errorf("%q is read as %q, and that as %q %v", text, one, again, err)
				}
			}
		}
	})
}
