package mariadb

import (
	"math"
	"regexp"
	"slices"
	"strings"
	"testing"

	"hen-roost/internal/connect/sqlright"
)

// What a number keeps is told in words, and all there are as one.
func TestOnServer(t *testing.T) {
	for _, c := range []struct {
		access uint64
		known  int
		want   string
	}{
		{0, oldBits, ""}, {1, oldBits, "SELECT ON *.*"}, {1 | 1<<1 | 1<<10, oldBits, "SELECT ON *.*|INSERT ON *.*|GRANT OPTION ON *.*"},
		{math.MaxUint64, oldBits, "ALL ON *.*|GRANT OPTION ON *.*"}, {math.MaxUint64, 40, "ALL ON *.*|GRANT OPTION ON *.*"},
		{549755813887 &^ (1 << 10), oldBits, "ALL ON *.*"}, {1 << 38, oldBits, "SLAVE MONITOR ON *.*"},
		{1 << 39, oldBits, ""}, {1 << 39, 40, "SHOW CREATE ROUTINE ON *.*"},
	} {
		if got := strings.Join(onServer(c.access, c.known), "|"); got != c.want {
			t.Errorf("%b: %s, want %s", c.access, got, c.want)
		}
	}
	if n := len(onServer(549755813887&^1, oldBits)); n != oldBits-1 {
		t.Errorf("all but one are told as %d", n)
	}
	for _, p := range onServer(math.MaxUint64&^(1<<5), 40) {
		if _, err := dialect.One(p); err != nil {
			t.Errorf("%s cannot be declared: %v", p, err)
		}
	}
}

// A name in mysql.db is a pattern, and what stands in a statement means the same database again.
func TestOnDatabase(t *testing.T) {
	for stored, want := range map[string]string{"stores": "SELECT ON stores.*", `crew\_rota`: "SELECT ON crew_rota.*",
		"crew_rota": "SELECT ON LIKE 'crew_rota'.*", `100\%`: `SELECT ON "100%".*`, `a\\b`: `SELECT ON "a\b".*`,
		`o'neil"s`: `SELECT ON "o'neil""s".*`, `it's%`: "SELECT ON LIKE 'it''s%'.*"} {
		r := onDatabase(stored)
		r.Privilege = "SELECT"
		if got := dialect.String(r); got != want {
			t.Errorf("%q is told as %s, want %s", stored, got, want)
		}
		again, err := dialect.One(dialect.String(r))
		if err != nil {
			t.Fatal(err)
		}
		if back := strings.TrimSuffix(thing(again), ".*"); back != name(stored) {
			t.Errorf("%q comes back as %s", stored, back)
		}
	}
	for text, want := range map[string]string{"SELECT ON *.*": "*.*", `SELECT ON a_b."c_d"`: `"a_b"."c_d"`,
		"EXECUTE ON FUNCTION a_b.total": `FUNCTION "a_b"."total"`, `SELECT ON "a""; DROP".x`: `"a""; DROP"."x"`} {
		r, err := dialect.One(text)
		if err != nil || thing(r) != want {
			t.Errorf("%s: %s %v, want %s", text, thing(r), err, want)
		}
	}
}

func TestMighty(t *testing.T) {
	for text, want := range map[string]bool{"ALL ON *.*": true, "SUPER ON *.*": true, "INSERT ON *.*": true, "SELECT ON *.*": true,
		"UPDATE ON mysql.*": true, "SELECT ON mysql.*": true, "SELECT (Priv) ON mysql.global_priv": true,
		"SELECT (Host) ON mysql.global_priv": false, "SELECT ON mysql.proc": false, "BINLOG REPLAY ON *.*": true,
		"DELETE ON mysql.global_priv":        false,
		"UPDATE (Priv) ON mysql.global_priv": true, "ALL ON stores.*": false,
		"DROP ON LIKE 'm%'.*": true, "DROP ON LIKE 'st%'.*": false, "INSERT ON LIKE 'mysq_'.*": true, "CREATE ON mysql.*": true,
		"GRANT OPTION ON mysql.*": false, "EXECUTE ON PROCEDURE mysql.x": false, "what is this": false} {
		canonical, err := dialect.Read(text)
		if err == nil {
			text = canonical[0]
		}
		if got := isMighty(text); got != want {
			t.Errorf("%s makes superuser: %v", text, got)
		}
	}
	for _, p := range powers {
		if list, err := dialect.Read(p); err != nil || !slices.Equal(list, []string{p}) || !isMighty(p) {
			t.Errorf("%s is not canonical: %q %v", p, list, err)
		}
	}
}

func TestIncludes(t *testing.T) {
	for _, c := range []struct {
		wide, narrow string
		want         bool
	}{{"ALL ON stores.*", "EXECUTE ON PROCEDURE stores.pay", true}, {"EXECUTE ON stores.*", "EXECUTE ON FUNCTION stores.total", true},
		{"EXECUTE ON *.*", "EXECUTE ON FUNCTION stores.total", true}, {"SELECT ON stores.*", "EXECUTE ON FUNCTION stores.total", false},
		{"ALL ON rota.*", "EXECUTE ON PROCEDURE stores.pay", false}, {"ALL ON stores.*", "GRANT OPTION ON PROCEDURE stores.pay", false},
		{"ALL ON stores.items", "EXECUTE ON PROCEDURE stores.items", false}, {"ALL ON *.*", "SELECT ON stores.items", true}} {
		if got := dialect.Covers(c.wide, c.narrow); got != c.want {
			t.Errorf("%s covers %s: %v", c.wide, c.narrow, got)
		}
	}
}

// Statements quote whatever stands in a name.
func TestQuoting(t *testing.T) {
	for in, want := range map[string]string{"ulla@%": "'ulla'@'%'", "o'neil@10.%": "'o''neil'@'10.%'", `a"b\c@d@localhost`: `'a"b\c@d'@'localhost'`,
		"@localhost": "''@'localhost'", "x'; DROP USER root --@%": "'x''; DROP USER root --'@'%'"} {
		if got := account(in); got != want {
			t.Errorf("%s is written %s, want %s", in, got, want)
		}
	}
	if got := name("a`b\"c"); got != "\"a`b\"\"c\"" {
		t.Error(got)
	}
	if got := texts([]string{"a", "b'c"}); got != "'a','b''c'" {
		t.Error(got)
	}
	if got := identified([]way{{"unix_socket", ""}, {edPlugin, "it's"}}); got != ` IDENTIFIED VIA "unix_socket" OR "ed25519" USING 'it''s'` {
		t.Error(got)
	}
}

func TestFits(t *testing.T) {
	for _, c := range []struct {
		origin, host string
		want         bool
	}{{"%", "10.1.2.3", true}, {"", "x", true}, {"10.1.%", "10.1.2.3", true}, {"10.1.%", "10.11.2.3", false}, {"LocalHost", "localhost",
		true},
		{"10.1.0.0/255.255.0.0", "10.1.9.9", true}, {"10.1.0.0/255.255.0.0", "10.2.9.9", false}, {"10.1.0.0/255.255.0.0", "pier", false},
		{"10.1.0.0/255.255.0.0", "2001:db8::1", false}, {"pier_.example", "pier7.example", true}, {"pier_.example", "pier.example", false},
		{"%.example", "a.b.EXAMPLE", true}, {"%.example", "example", false}, {"10.1.0.0/nonsense", "10.1.0.0/nonsense", true}} {
		if got := fits(c.origin, c.host); got != c.want {
			t.Errorf("%s fits %s: %v", c.host, c.origin, got)
		}
	}
}

// A pattern is matched as the plainest reading of it says, however it is made up.
func FuzzLike(f *testing.F) {
	for _, s := range [][2]string{{"10.1.%", "10.1.2.3"}, {"%a%b_c%", "xxaybzc"}, {"%%%", ""}, {"_", "x"}, {"a%a", "a"}} {
		f.Add(s[0], s[1])
	}
	f.Fuzz(func(t *testing.T, pattern, s string) {
		if len(pattern) > 30 || len(s) > 60 || strings.ContainsFunc(pattern+s, func(r rune) bool { return r > 126 || r < 32 }) {
			return
		}
		plain := strings.NewReplacer("%", ".*", "_", ".").Replace(regexp.QuoteMeta(pattern))
		if want := regexp.MustCompile("^" + plain + "$").MatchString(s); like(pattern, s) != want {
			t.Errorf("%q fits %q: %v", s, pattern, !want)
		}
	})
}

// The hashes are those that the server makes (its PASSWORD function, and its documentation's examples).
func TestHashes(t *testing.T) {
	if got := hashed(nativePlugin, []byte("mariadb")); got != "*54958E764CE10E50764C2EECBB71D01F08549980" {
		t.Error(got)
	}
	if got := hashed(edPlugin, []byte("secret")); got != "ZIgUREUg5PVgQ6LskhXmO+eZLS0nC8be6HPjYWR4YJY" {
		t.Error(got)
	}
}

// What is kept of a password makes it again; what else is given for one is refused.
func TestWaysOf(t *testing.T) {
	const native = "*54958E764CE10E50764C2EECBB71D01F08549980"
	for in, want := range map[string]string{
		`[{"plugin":"unix_socket"},{"plugin":"ed25519","authentication_string":"abc"}]`: ` IDENTIFIED VIA "unix_socket" OR "ed25519" USING 'abc'`,
		native: ` IDENTIFIED VIA "mysql_native_password" USING '` + native + `'`,
		`[{"plugin":"mysql_native_password","authentication_string":""}]`: ` IDENTIFIED VIA "mysql_native_password" USING 'invalid'`,
		`[{"plugin":"a\" USING ''","authentication_string":"x"}]`:         "", "$6$salt$hash": "", "[]": "", "": "", "{}": "",
	} {
		got, err := waysOf([]byte(in))
		if (err == nil) != (want != "") || err == nil && identified(got) != want {
			t.Errorf("%s: %s %v, want %s", in, identified(got), err, want)
		}
	}
}

// A row of mysql.db with every privilege of a later version is told as all of them.
func TestNamed(t *testing.T) {
	on := sqlright.Right{Sort: sqlright.Table, Path: []string{"stores", "items"}}
	if got := strings.Join(named([]string{"SELECT", "INSERT"}, 2, true, on),
		"|"); got != "ALL ON stores.items|GRANT OPTION ON stores.items" {
		t.Error(got)
	}
	have, grant := listed("Select,Create View,Delete versioning rows,Soar,Grant", ofTable)
	if strings.Join(have, "|") != "SELECT|CREATE VIEW|DELETE HISTORY" || !grant {
		t.Errorf("%q %v", have, grant)
	}
	if have, grant := listed("", ofTable); have != nil || grant {
		t.Errorf("%q %v", have, grant)
	}
}

func TestVersions(t *testing.T) {
	for version, want := range map[string]bool{"10.11.19-MariaDB-0+deb12u1": false, "11.3.2-MariaDB": true, "11.2.9": false, "12.0.1": true,
		"nonsense": false} {
		if got := later(version, 11, 3); got != want {
			t.Errorf("%s: %v", version, got)
		}
	}
}
