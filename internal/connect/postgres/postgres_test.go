package postgres_test

import (
	"context"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

func start(t *testing.T, text string) (*world.Postgres, connect.Access) {
	t.Helper()
	p, err := world.StartPostgres(context.Background(), "127.0.6.11", text)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Remove)
	a := connect.Access{Target: "rota", Address: p.Address, As: world.DatabaseLogin, Secret: []byte(p.Password), Wait: 10 * time.Second}
	return p, connecttest.Accept(t, postgres.Connector{}, a)
}

const odd = `CREATE ROLE keeper; CREATE DATABASE rota; CREATE DATABASE "100% ""Ünal's"" 🐧";
\c rota
CREATE TABLE shifts (day date, hand text); CREATE TABLE hands (id int); CREATE SEQUENCE ticks; CREATE SCHEMA "Old ""one"""; ` +
	`CREATE TABLE "Old ""one"""."a'b" ("c""d" int); CREATE FUNCTION hours(integer, at text) RETURNS int LANGUAGE sql AS 'SELECT 3';
\c "100% ""Ünal's"" 🐧"
CREATE TABLE ours (id int);`

func TestSuite(t *testing.T) {
	t.Parallel()
	_, a := start(t, odd)
	connecttest.Run(t, connecttest.Subject{Connector: postgres.Connector{}, Access: a, Login: "suite.o'neil \"x\" \\y 🐧", Proves: true,
		Gate:      true,
		Fresh:     []byte("a-fresh-one-for-us-90"),
		Attribute: model.Change{Attribute: "sessions-most", Before: []string{"any"}, After: []string{"3"}},
		Rights: []string{"CREATEDB", "SUPERUSER", "CONNECT ON DATABASE rota", "CREATE ON SCHEMA rota.public",
			"SELECT ON rota.public.shifts",
			"SELECT ON rota.public.*", "UPDATE (day) ON rota.public.shifts", "USAGE ON SEQUENCE rota.public.ticks",
			"EXECUTE ON FUNCTION rota.public.hours(integer, at text)", "INSERT ON NEW TABLES rota.keeper.public",
			"EXECUTE ON NEW FUNCTIONS rota.keeper.*", `CONNECT ON DATABASE "100% ""Ünal's"" 🐧"`,
			`SELECT ("c""d") ON rota."Old ""one"""."a'b"`, `SELECT ON "100% ""Ünal's"" 🐧".public.ours`}})
}
