package mariadb_test

import (
	"context"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

func start(t *testing.T, text string, options ...string) (*world.MariaDB, connect.Access) {
	t.Helper()
	m, err := world.StartMariaDB(context.Background(), t.TempDir()+"/m", "127.0.5.11", text, options...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Stop)
	a := connect.Access{Target: "stores", Address: m.Address, As: world.DatabaseLogin, Secret: []byte(m.Password), Wait: 10 * time.Second}
	return m, connecttest.Accept(t, mariadb.Connector{}, a)
}

const odd = "CREATE DATABASE stores; CREATE TABLE stores.items (id INT, price INT); CREATE DATABASE crew_rota; CREATE DATABASE " +
	"`100% \"Ünal's\"`; CREATE TABLE `100% \"Ünal's\"`.`a``b` (`c\"d` INT);" +
	"CREATE FUNCTION stores.total() RETURNS INT RETURN 3; CREATE PROCEDURE stores.pay() SELECT 1;"

func TestSuite(t *testing.T) {
	t.Parallel()
	m, a := start(t, odd)
	connecttest.Run(t, connecttest.Subject{Connector: mariadb.Connector{}, Access: a, Login: "suite.o'neil \"x\" `y`", Proves: true, Gate: true,
		Fresh:     []byte("a-fresh-one-for-us-90"),
		Attribute: model.Change{Attribute: "sessions-most", Before: []string{"0"}, After: []string{"3"}},
		Rights: []string{"SELECT ON *.*", "ALL ON stores.*", "GRANT OPTION ON stores.*", "INSERT ON crew_rota.*",
			"SELECT ON LIKE 'crew_rota'.*",
			"SELECT ON stores.items", "SELECT (price) ON stores.items", "EXECUTE ON FUNCTION stores.total",
			"EXECUTE ON PROCEDURE stores.pay",
			`SELECT ON "100% ""Ünal's""".*`, `UPDATE ON "100% ""Ünal's"""."a` + "`" + `b"`,
			`SELECT ("c""d") ON "100% ""Ünal's"""."a` + "`" + `b"`}})
	_ = m
}
