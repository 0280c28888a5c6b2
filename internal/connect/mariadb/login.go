package mariadb

// makeLogin is MakeLogin of connect.Knows.
func makeLogin(as, from string, permissions []string) []string {
	who := text(as) + "@" + text(from)
	out := []string{
		"SET SESSION sql_mode = " + asks + ";",
		"-- A password of your own choice in place of the dots; then: roost secret set NAME",
		"CREATE USER " + who + " IDENTIFIED BY '...' REQUIRE SSL;",
		"-- Make accounts and roles, see who is signed in, end sessions, see what runs as whom, see whether it is a replica.",
		"GRANT CREATE USER, PROCESS, CONNECTION ADMIN, SHOW VIEW, TRIGGER, SLAVE MONITOR ON *.* TO " + who + ";",
		"-- Read who is there and who may what.",
		"GRANT SELECT ON mysql.* TO " + who + ";",
	}
	if len(permissions) > 0 {
		out = append(out, "-- Give on what the declaration gives.")
	}
	for _, p := range permissions {
		r, err := dialect.One(p)
		if err != nil {
			continue
		}
		out = append(out, "GRANT "+privilege(r)+" ON "+thing(r)+" TO "+who+" WITH GRANT OPTION;")
	}
	out = append(out, "-- Where default roles are declared; whoever may do this may do everything:",
		"-- GRANT UPDATE ON mysql.* TO "+who+";")
	return append(out, "-- For each role that is there already, as somebody who may give it on (it gives on those that it makes):",
		"-- GRANT role TO "+who+" WITH ADMIN OPTION;")
}
