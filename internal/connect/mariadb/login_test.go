package mariadb_test

import (
	"context"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/core/model"
)

// A login that was made as it is told may do all that the declaration asks, and no more than that.
func TestMakeLogin(t *testing.T) {
	t.Parallel()
	m, a := start(t, odd+"CREATE USER ulla@'%' IDENTIFIED BY 'x';")
	lines, err := connect.MakeLogin(mariadb.Connector{}, "roost's own", "127.0.0.1", []string{"SELECT (price) ON stores.items",
		"INSERT ON crew_rota.*"})
	if err != nil {
		t.Fatal(err)
	}
	if err := m.Run(strings.ReplaceAll(strings.Join(lines, "\n"), "'...'", "'made by hand'")); err != nil {
		t.Fatal(err)
	}
	a.As, a.Secret = "roost's own", []byte("made by hand")
	roles(t, a, "deck")
	s := connecttest.Open(t, mariadb.Connector{}, a)
	secret := connecttest.Act(model.Modify, model.Account, "ulla@%", model.Change{Attribute: model.Password, Sealed: "x"})
	secret.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("new one, 91"))}
	for i, x := range connecttest.Apply(s, []connect.Act{connecttest.Act(model.Create, model.Account, "kari@10.%"), secret,
		connecttest.Move(model.JoinIt, model.GroupKind, "deck", "ulla@%"), connecttest.Move(model.JoinIt, model.RightKind,
			"SELECT (price) ON stores.items",
			"ulla@%"),
		connecttest.Move(model.JoinIt, model.RightKind, "INSERT ON crew_rota.*", "ulla@%"),
		connecttest.Move(model.JoinIt, model.RightKind, "SELECT ON stores.*", "ulla@%")}) {
		if want := []connect.Outcome{connect.Done, connect.Done, connect.Done, connect.Done, connect.Done,
			connect.Failed}[i]; x.Outcome != want {
			t.Errorf("%d: %s %s, want %s", i, x.Outcome, x.Words, want)
		}
	}
	if p, words := connect.Prove(context.Background(), s, "ulla@%", connect.Seal([]byte("new one, 91"))); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	if got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Remove, model.Account,
		"kari@10.%")}); got[0].Outcome != connect.Done {
		t.Errorf("%+v", got)
	}
	connecttest.Surveyed(t, s)
	if _, err := connect.Watch(context.Background(), s); err != nil {
		t.Error(err)
	}
}

// Where our login is shown less than there is, nobody is removed: who is signed in, or what runs as whom, is not known.
func TestLoginThatSeesLess(t *testing.T) {
	t.Parallel()
	m, a := start(t, odd+"CREATE USER ulla@'127.%' IDENTIFIED BY 'x'; CREATE USER small@'127.0.0.1' IDENTIFIED BY 'by hand'; "+
		"GRANT CREATE USER, PROCESS ON *.* TO small@'127.0.0.1'; GRANT SELECT ON mysql.* TO small@'127.0.0.1'")
	if err := dial(t, a, "ulla", "x", "127.0.0.2").Ping(); err != nil {
		t.Fatal(err)
	}
	a.As, a.Secret = "small", []byte("by hand")
	remove := []connect.Act{connecttest.Act(model.Remove, model.Account, "ulla@127.%")}
	connecttest.Outcomes(t, connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), remove),
		"failed whether it is in use, and what belongs to it, could not be read: our login has no SHOW VIEW, TRIGGER ON *.* (roost "+
			"target needs")
	if err := m.Run("GRANT SHOW VIEW, TRIGGER ON *.* TO small@'127.0.0.1'"); err != nil {
		t.Fatal(err)
	}
	connecttest.Outcomes(t, connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), remove), "failed it is signed in")
}
