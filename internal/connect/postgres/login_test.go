package postgres_test

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/core/model"
)

// A login that was made as it is told may do all that the declaration asks, and no more than that.
func TestMakeLogin(t *testing.T) {
	t.Parallel()
	p, a := start(t, odd+"\\c postgres\nCREATE ROLE ulla LOGIN; CREATE ROLE deck;")
	lines, err := connect.MakeLogin(postgres.Connector{}, `roost's "own"`, "127.0.0.1", []string{"SELECT ON rota.public.*",
		"UPDATE (day) ON rota.public.shifts"})
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Run("postgres", strings.ReplaceAll(strings.Join(lines, "\n"), "'...'", "'made by hand'")); err != nil {
		t.Fatal(err)
	}
	a.As, a.Secret = `roost's "own"`, []byte("made by hand")
	s := connecttest.Open(t, postgres.Connector{}, a)
	right := func(name string) connect.Act { return join(model.RightKind, name, "ulla") }
	secret := connecttest.Act(model.Modify, model.Account, "ulla", model.Change{Attribute: model.Password, Sealed: "x"})
	secret.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("new one, 91"))}
	acts := []connect.Act{connecttest.Act(model.Create, model.Account, "kari"), secret, join(model.GroupKind, "deck", "ulla"),
		right("SELECT ON rota.public.*"),
		right("UPDATE (day) ON rota.public.shifts"), right("DELETE ON rota.public.shifts")}
	for i, x := range connecttest.Apply(s, acts) {
		if want := []connect.Outcome{connect.Done, connect.Done, connect.Done, connect.Done, connect.Done,
			connect.Failed}[i]; x.Outcome != want {
			t.Errorf("%d: %s %s, want %s", i, x.Outcome, x.Words, want)
		}
	}
	if p, words := connect.Prove(context.Background(), s, "ulla", connect.Seal([]byte("new one, 91"))); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	db, err := pgx.Connect(context.Background(), fmt.Sprintf("postgres://ulla:%s@%s/rota?sslmode=require", url.PathEscape("new one, 91"),
		a.Address))
	if err != nil {
		t.Fatal(err)
	}
	remove := []connect.Act{connecttest.Act(model.Remove, model.Account, "ulla")}
	connecttest.Outcomes(t, connecttest.Apply(s, remove), "failed it is signed in, from 127.0.0.1")
	if err := p.Run("postgres", `REVOKE pg_read_all_stats FROM "roost's ""own"""`); err != nil {
		t.Fatal(err)
	}
	connecttest.Outcomes(t, connecttest.Apply(s, remove),
		"failed whether it is in use, and what belongs to it, could not be read: "+
			"our login may not see others' (roost target needs rota): GRANT pg_read_all_stats")
	if err := p.Run("postgres", `GRANT pg_read_all_stats TO "roost's ""own"""`); err != nil {
		t.Fatal(err)
	}
	db.Close(context.Background())
	for range 50 { // a moment, until the server has noticed
		if list, _ := connect.Watch(context.Background(), s); len(list) == 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	for _, name := range []string{"kari", "ulla"} {
		if got := connecttest.Apply(s, []connect.Act{connecttest.Act(model.Remove, model.Account,
			name)}); got[0].Outcome != connect.Done {
			t.Errorf("%+v", got)
		}
	}
	connecttest.Surveyed(t, s)
	if _, err := connect.Watch(context.Background(), s); err != nil {
		t.Error(err)
	}
}
