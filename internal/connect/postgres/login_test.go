package postgres_test

import (
	"context"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/core/model"
)

// A login that was made as it is told may do all that the declaration asks, and no more than that.
func TestMakeLogin(t *testing.T) {
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
	right := func(name string) connect.Act {
		a := move(name, "ulla")
		a.Object = model.RightKind
		return a
	}
	secret := act(model.Modify, model.Account, "ulla", model.Change{Attribute: model.Password, Sealed: "x"})
	secret.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("new one, 91"))}
	acts := []connect.Act{act(model.Create, model.Account, "kari"), secret, move("deck", "ulla"), right("SELECT ON rota.public.*"),
		right("UPDATE (day) ON rota.public.shifts"), right("DELETE ON rota.public.shifts")}
	for i, x := range s.Apply(context.Background(), acts) {
		if want := []connect.Outcome{connect.Done, connect.Done, connect.Done, connect.Done, connect.Done,
			connect.Failed}[i]; x.Outcome != want {
			t.Errorf("%d: %s %s, want %s", i, x.Outcome, x.Words, want)
		}
	}
	if p, words := connect.Prove(context.Background(), s, "ulla", connect.Seal([]byte("new one, 91"))); p != connect.Proved {
		t.Errorf("%s %s", p, words)
	}
	for _, name := range []string{"kari", "ulla"} {
		if got := s.Apply(context.Background(), []connect.Act{act(model.Remove, model.Account, name)}); got[0].Outcome != connect.Done {
			t.Errorf("%+v", got)
		}
	}
	surveyed(t, s)
	if _, err := connect.Watch(context.Background(), s); err != nil {
		t.Error(err)
	}
}
