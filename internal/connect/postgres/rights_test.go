package postgres

import (
	"slices"
	"strings"
	"testing"
)

// Each permission is given and taken by a statement that means it, and nothing else, in its own database.
func TestStatements(t *testing.T) {
	for _, c := range []struct{ text, db, give, take string }{
		{"CREATEDB", "", `ALTER ROLE "u" CREATEDB`, `ALTER ROLE "u" NOCREATEDB`},
		{"CONNECT ON DATABASE rota", "", `GRANT CONNECT ON DATABASE "rota" TO "u"`, `REVOKE CONNECT ON DATABASE "rota" FROM "u"`},
		{"usage on schema rota.public", "rota", `GRANT USAGE ON SCHEMA "public" TO "u"`, `REVOKE USAGE ON SCHEMA "public" FROM "u"`},
		{"SELECT ON rota.public.shifts WITH GRANT OPTION", "rota", `GRANT SELECT ON TABLE "public"."shifts" TO "u" WITH GRANT OPTION`,
			`REVOKE SELECT ON TABLE "public"."shifts" FROM "u"`},
		{`UPDATE ("Da""y") ON rota.public.shifts`, "rota", `GRANT UPDATE ("Da""y") ON TABLE "public"."shifts" TO "u"`,
			`REVOKE UPDATE ("Da""y") ON TABLE "public"."shifts" FROM "u"`},
		{"SELECT ON rota.public.*", "rota", `GRANT SELECT ON ALL TABLES IN SCHEMA "public" TO "u"`,
			`REVOKE SELECT ON ALL TABLES IN SCHEMA "public" FROM "u"`},
		{"USAGE ON SEQUENCE rota.public.ticks", "rota", `GRANT USAGE ON SEQUENCE "public"."ticks" TO "u"`,
			`REVOKE USAGE ON SEQUENCE "public"."ticks" FROM "u"`},
		{"EXECUTE ON FUNCTION rota.public.hours( hand text,since  date)", "rota",
			`GRANT EXECUTE ON ROUTINE "public"."hours"(hand text, since date) TO "u"`,
			`REVOKE EXECUTE ON ROUTINE "public"."hours"(hand text, since date) FROM "u"`},
		{"SELECT ON NEW TABLES rota.keeper.public", "rota",
			`ALTER DEFAULT PRIVILEGES FOR ROLE "keeper" IN SCHEMA "public" GRANT SELECT ON TABLES TO "u"`,
			`ALTER DEFAULT PRIVILEGES FOR ROLE "keeper" IN SCHEMA "public" REVOKE SELECT ON TABLES FROM "u"`},
		{"EXECUTE ON NEW FUNCTIONS rota.keeper.*", "rota", `ALTER DEFAULT PRIVILEGES FOR ROLE "keeper" GRANT EXECUTE ON FUNCTIONS TO "u"`,
			`ALTER DEFAULT PRIVILEGES FOR ROLE "keeper" REVOKE EXECUTE ON FUNCTIONS FROM "u"`},
	} {
		list, err := dialect.Read(c.text)
		if err != nil || len(list) != 1 {
			t.Errorf("%s: %q %v", c.text, list, err)
			continue
		}
		r, err := dialect.One(list[0])
		if err != nil || within(r) != c.db || statement(r, "u", true) != c.give || statement(r, "u", false) != c.take {
			t.Errorf("%s in %q:\n%s\n%s\n%v", c.text, within(r), statement(r, "u", true), statement(r, "u", false), err)
		}
	}
	if got, err := dialect.Read("all on rota.public.shifts"); err != nil || len(got) != len(tableWords) ||
		got[0] != "DELETE ON rota.public.shifts" {
		t.Errorf("%q %v", got, err)
	}
	if got, err := dialect.Read("ALL (day) ON rota.public.shifts"); err != nil || len(got) != 4 {
		t.Errorf("%q %v", got, err)
	}
	for _, bad := range []string{"ALL", "SELECT", "SELECT ON rota.*", "SELECT ON *.*.*", "CONNECT ON DATABASE *", "USAGE ON rota.public.x",
		"EXECUTE ON FUNCTION rota.public.hours(integer); DROP ROLE x"} {
		if got, err := dialect.Read(bad); err == nil {
			t.Errorf("%s is read as %q", bad, got)
		}
	}
}

func TestMighty(t *testing.T) {
	for p, want := range map[string]bool{"SUPERUSER": true, "CREATEROLE": true, "CREATEDB": false, "SELECT ON rota.public.shifts": false,
		"UPDATE ON rota.pg_catalog.pg_authid": true, "SELECT ON rota.pg_catalog.pg_authid": true, "REPLICATION": true, "BYPASSRLS": true,
		"SELECT ON rota.pg_catalog.pg_class":                     false,
		"EXECUTE ON FUNCTION rota.pg_catalog.pg_read_file(text)": true, "USAGE ON SCHEMA rota.pg_catalog": false, "nonsense": false,
		"SELECT ON NEW TABLES rota.pg_x.public": false} {
		if got := isMighty(p); got != want {
			t.Errorf("%s makes superuser: %v", p, got)
		}
	}
}

// Arrays are read as the server writes them.
func TestArray(t *testing.T) {
	for in, want := range map[string][]string{"{}": nil, "{a}": {"a"}, "{a,b=c}": {"a", "b=c"}, `{"a b","c\"d","e\\f","g,h"}`: {"a b", `c"d`,
		`e\f`, "g,h"}, `{"",x}`: {"", "x"}, `{"unended`: {"unended"}, `{"x\`: {`x\`}} {
		if got := array([]byte(in)); !slices.Equal(got, want) {
			t.Errorf("%s is read as %q, want %q", in, got, want)
		}
	}
}

func FuzzArray(f *testing.F) {
	f.Add("a", "b c")
	f.Add(`"`, `\`)
	f.Fuzz(func(t *testing.T, a, b string) {
		quote := func(s string) string { return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"` }
		if got := array([]byte("{" + quote(a) + "," + quote(b) + "}")); !slices.Equal(got, []string{a, b}) {
			t.Errorf("%q and %q are read as %q", a, b, got)
		}
		array([]byte(a)) // whatever it is, it ends
	})
}

// Settings are set and reset one by one, quoted by what they are.
func TestSettings(t *testing.T) {
	out, err := setting(`"u"`, []string{"work_mem=64MB", "search_path=old in rota", "stays=1"}, []string{"stays=1", "work_mem=1GB",
		`search_path="$user", it's in rota`, "my.flag=x'y"})
	want := []string{`ALTER ROLE "u" RESET "work_mem"`, `ALTER ROLE "u" IN DATABASE "rota" RESET "search_path"`,
		`ALTER ROLE "u" SET "work_mem" TO '1GB'`, `ALTER ROLE "u" IN DATABASE "rota" SET search_path TO '$user', 'it''s'`,
		`ALTER ROLE "u" SET "my"."flag" TO 'x''y'`}
	if err != nil || !slices.Equal(out, want) {
		t.Errorf("%q %v", out, err)
	}
	if _, err := setting("u", nil, []string{"nonsense"}); err == nil {
		t.Error("a setting without a value is taken")
	}
}

// The moment until which a password is good is told as it is asked for.
func TestUntil(t *testing.T) {
	for in, want := range map[string]string{"": "", "infinity": never, "Infinity": never, "1798675200": "2026-12-31",
		"1798675201.5": "2026-12-31T00:00:01Z"} {
		if got := untilWords(in); got != want {
			t.Errorf("%q is told as %q, want %q", in, got, want)
		}
	}
	for in, want := range map[string]string{"2026-12-31T02:00:00+02:00": "2026-12-31", "2026-12-31": "2026-12-31", never: never,
		"soon":                   "soon",
		"2026-12-31T10:00:00.7Z": "2026-12-31T10:00:00Z"} {
		if got := canonicalTime(in); got != want {
			t.Errorf("%q is asked for as %q, want %q", in, got, want)
		}
	}
}

// A verifier is that of RFC 7677 §3's example, and nothing else than a verifier passes for one.
func TestVerifier(t *testing.T) {
	got, err := verifier([]byte("pencil"))
	if err != nil || !kept.MatchString(got) {
		t.Errorf("%s %v", got, err)
	}
	if again, _ := verifier([]byte("pencil")); again == got {
		t.Error("the same salt twice")
	}
	for text, want := range map[string]bool{"md5" + strings.Repeat("a", 32): true, "md5x": false, "pencil": false, "": false,
		"SCRAM-SHA-256$4096:c2FsdA==$c3RvcmVk:c2VydmVy": true, "SCRAM-SHA-256$4096:c2FsdA==$c3RvcmVk:c2VydmVy'": false} {
		if kept.MatchString(text) != want {
			t.Errorf("%q passes for a verifier: %v", text, !want)
		}
	}
}
