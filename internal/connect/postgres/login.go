package postgres

// makeLogin is MakeLogin of connect.Knows. From where a login may come is for pg_hba.conf to say.
func makeLogin(as, from string, permissions []string) []string {
	who := name(as)
	out := []string{
		"-- In the database that is signed in to (postgres, unless the target's settings say otherwise).",
		"-- A password of your own choice in place of the dots; then: roost secret set NAME",
		"CREATE ROLE " + who + " LOGIN CREATEROLE PASSWORD '...';",
		"-- and in pg_hba.conf: hostssl all " + who + " " + from + "/32 scram-sha-256",
		"-- See who is signed in and end sessions; see how passwords are kept, and by which rules the server lets people in.",
		"GRANT pg_read_all_stats, pg_signal_backend TO " + who + ";",
		"GRANT SELECT ON pg_authid, pg_hba_file_rules TO " + who + ";",
		"GRANT EXECUTE ON FUNCTION pg_hba_file_rules() TO " + who + ";",
		"-- Since PostgreSQL 16: look after the roles that are there already, superusers not among them (it does so with those it makes).",
		"DO $roost$ DECLARE r name; BEGIN IF current_setting('server_version_num')::int >= 160000 THEN",
		"FOR r IN SELECT rolname FROM pg_roles WHERE NOT rolsuper AND rolname !~ '^pg_' AND rolname <> " + text(as) + " LOOP",
		"EXECUTE format('GRANT %I TO %I WITH ADMIN TRUE, INHERIT FALSE, SET FALSE', r, " + text(as) + "); END LOOP; END IF; END $roost$;",
	}
	db := ""
	for _, p := range permissions {
		r, err := dialect.One(p)
		if err != nil || r.Sort == "" {
			continue
		}
		if at := within(r); at != db {
			out = append(out, "-- Give on what the declaration gives in "+at+":", `\connect `+name(at))
			db = at
		}
		r.Passed = true
		out = append(out, statement(r, as, true)+";")
	}
	return append(out, "-- SUPERUSER, REPLICATION and BYPASSRLS can be given by a superuser alone, and REASSIGN OWNED takes one who "+
		"is in both roles.")
}
