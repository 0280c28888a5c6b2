package mariadb_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

// crew makes so many accounts that join two roles each.
func crew(n int) []connect.Act {
	return connecttest.Crew(n, func(i int) string { return fmt.Sprintf("hand.%04d@%%", i) })
}

// roles are made by our own login: who makes one may give it.
func roles(t *testing.T, a connect.Access, names ...string) {
	t.Helper()
	for _, n := range names {
		make := []connect.Act{connecttest.Act(model.Create, model.GroupKind, n)}
		if got := connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), make); got[0].Outcome != connect.Done {
			t.Fatal(got)
		}
	}
}

// Of many in one statement the one that fails is named, and the others are done.
func TestOneOfManyFails(t *testing.T) {
	t.Parallel()
	m, a := start(t, "CREATE USER Hand@'%'; CREATE ROLE theirs; CREATE USER 'hand.0003'@'%' IDENTIFIED BY 'x' ACCOUNT LOCK;")
	roles(t, a, "deck", "stores")
	acts := append(crew(20), connecttest.Act(model.Create, model.Account, "hand@%"), // another than Hand@%
		connecttest.Move(model.JoinIt, model.GroupKind, "theirs", "hand.0001@%"), connecttest.Move(model.JoinIt, model.GroupKind, "deck",
			"nobody@%"),
		connecttest.Move(model.JoinIt, model.RightKind, "SELECT ON nowhere.items", "hand.0002@%"))
	acts[3].Changes = []model.Change{{Attribute: "sessions-most", After: []string{"7"}}} // it is there, and otherwise
	answers := connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), acts)
	for i, x := range answers {
		want, words := connect.Done, ""
		switch {
		case i == 3:
			want, words = connect.Moved, "sessions-most is 0"
		case acts[i].Name == "theirs":
			want, words = connect.Failed, "Access denied"
		case acts[i].Member == "nobody@%":
			want, words = connect.Failed, "Can't find any matching row"
		case acts[i].Object == model.RightKind:
			want, words = connect.Failed, "nowhere"
		}
		if x.Outcome != want || !strings.Contains(x.Words, words) {
			t.Errorf("%v: %s %q, want %s %q", acts[i].Act, x.Outcome, x.Words, want, words)
		}
	}
	if out, _ := m.Ask("SELECT COUNT(*) FROM mysql.roles_mapping WHERE User LIKE 'hand%'"); out != "40" {
		t.Errorf("%s memberships", out)
	}
}

// A role that vanished between two readings, and a statement that somebody kills.
func TestVanishedAndKilled(t *testing.T) {
	t.Parallel()
	m, a := start(t, "")
	roles(t, a, "deck", "stores")
	ended := make(chan struct{})
	stop := make(chan struct{})
	go func() {
		defer close(ended)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			if n == 3 {
				_ = m.Run("DROP ROLE stores")
			}
			if id, _ := m.Ask("SELECT ID FROM information_schema.PROCESSLIST WHERE INFO LIKE 'CREATE USER%' OR INFO LIKE " +
				"'GRANT%'"); id != "" {
				_ = m.Run("KILL QUERY " + id)
			}
		}
	}()
	acts := crew(1500)
	answers := connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), acts)
	close(stop)
	<-ended
	// What was given of a role that goes goes with it.
	connecttest.Agree(t, acts, answers, connecttest.Surveyed(t, connecttest.Open(t, mariadb.Connector{}, a)), "stores")
	if n := connecttest.Tally(answers); n[connect.Done]+n[connect.Unsure] == 0 { // whoever ends readings too leaves us not knowing
		t.Errorf("%v", n)
	}
}

// A server that goes in the middle of a batch: what is not known is told so, and done once more does it once.
func TestRestart(t *testing.T) {
	t.Parallel()
	m, a := start(t, "")
	roles(t, a, "deck", "stores")
	connecttest.Restarted(t, mariadb.Connector{}, a, crew(4000), func() {
		time.Sleep(200 * time.Millisecond) // some of it is done by then
		if err := m.Again(context.Background()); err != nil {
			t.Fatal(err)
		}
	})
}

// One that is read-only takes nothing though our login could write there, and another of the same database that can be
// written is taken in its place.
func TestReadOnly(t *testing.T) {
	t.Parallel()
	m, a := start(t, "SET GLOBAL read_only = 1;")
	got := connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), crew(1))
	if got[0].Outcome != connect.Failed || !strings.Contains(got[0].Words, "is read-only") || got[1].Outcome != connect.Moved {
		t.Errorf("%+v", got)
	}
	open := connecttest.Open(t, mariadb.Connector{}, a)
	for value, want := range map[string]string{"0": "done", "1": "failed the server at "} { // while a session is open
		if err := m.Run("SET GLOBAL read_only = " + value); err != nil {
			t.Fatal(err)
		}
		connecttest.Outcomes(t, connecttest.Apply(open, []connect.Act{connecttest.Act(model.Create, model.Account,
			"while."+value+"@%")}),
			want)
	}
	if err := m.Run("SET GLOBAL read_only = 1"); err != nil {
		t.Fatal(err)
	}
	if all := connecttest.Surveyed(t, connecttest.Open(t, mariadb.Connector{}, a)); all[model.Named{Kind: model.SystemKind,
		Name: model.Itself}].Attributes.One("read-only") != "yes" {
		t.Error("that it is read-only is not told")
	}
	other, err := world.StartMariaDB(context.Background(), t.TempDir()+"/m", "127.0.5.12", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.Stop)
	a.Settings = map[string]string{"also-at": "127.0.5.13:1, " + other.Address}
	got = connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), crew(1)) // another authority signed that one's certificate
	if got[0].Outcome != connect.Failed || !strings.Contains(got[0].Words, "REFUSED: the identity key has changed") {
		t.Errorf("%+v", got)
	}
	if err := other.Lend(m); err != nil {
		t.Fatal(err)
	}
	s := connecttest.Open(t, mariadb.Connector{}, a)
	if got := connecttest.Apply(s, crew(1)[:1]); got[0].Outcome != connect.Done {
		t.Errorf("%+v", got)
	}
	if out, _ := other.Ask("SELECT COUNT(*) FROM mysql.global_priv WHERE User = 'hand.0000'"); out != "1" {
		t.Error("it was not made where it can be")
	}
}

// A full disk ends in words or in not knowing, never in a wrong answer.
func TestDiskFull(t *testing.T) {
	disk := t.TempDir()
	if err := syscall.Mount("disk", disk, "tmpfs", 0, "size=96m,mode=755"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	m, err := world.StartMariaDB(context.Background(), filepath.Join(disk, "m"), "127.0.5.11", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Stop)
	a := connecttest.Accept(t, mariadb.Connector{}, connect.Access{Target: "stores", Address: m.Address, As: world.DatabaseLogin,
		Secret: []byte(m.Password), Wait: 3 * time.Second})
	roles(t, a, "deck", "stores")
	s := connecttest.Open(t, mariadb.Connector{}, a)
	filler := filepath.Join(disk, "filler")
	_ = os.WriteFile(filler, bytes.Repeat([]byte("x"), 96<<20), 0o600) // as much as there is room for
	acts := crew(2000)
	n := connecttest.Tally(connecttest.Apply(s, acts))
	if n[connect.AlreadySo]+n[connect.Moved] > 0 || n[connect.Done] == len(acts) {
		t.Errorf("%v", n)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	for i := range acts {
		acts[i].Again = true
	}
	if err := errors.Join(syscall.Kill(m.PID(), syscall.SIGKILL), m.Again(context.Background())); err != nil {
		t.Fatal(err) // left alone the server looks for room every minute, and holds its lock while it waits
	}
	if n = connecttest.Tally(connecttest.Apply(connecttest.Open(t, mariadb.Connector{}, a), acts)); n[connect.Done] != len(acts) {
		t.Errorf("with room again: %v", n)
	}
}

// System tables that a later version has changed are read by their columns' names.
func TestLaterTables(t *testing.T) {
	t.Parallel()
	_, a := start(t, "CREATE USER ulla@'%' IDENTIFIED BY 'x'; GRANT ALL ON stores.* TO ulla@'%'; GRANT SELECT ON rota.* TO ulla@'%'; "+
		"ALTER TABLE mysql.db ADD Soar_priv ENUM('N','Y') NOT NULL DEFAULT 'N' AFTER Db; UPDATE mysql.global_priv SET "+
		"Priv = JSON_SET(Priv, '$.feathers', 'many') WHERE User = 'ulla'; FLUSH PRIVILEGES;")
	all := connecttest.Surveyed(t, connecttest.Open(t, mariadb.Connector{}, a))
	for _, right := range []string{"ALL ON stores.*", "SELECT ON rota.*"} {
		if o := all[model.Named{Kind: model.RightKind, Name: right}]; o.Attributes.One(model.Members) != "ulla@%" {
			t.Errorf("%s: %v", right, o.Attributes.Map())
		}
	}
}
