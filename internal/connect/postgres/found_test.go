package postgres_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/core/model"
)

// byHand is what years of work by hand leave behind.
const byHand = odd + `
CREATE ROLE admins CREATEROLE; CREATE ROLE helpers IN ROLE admins; CREATE ROLE ulla LOGIN IN ROLE helpers CONNECTION LIMIT 4 VALID UNTIL '2031-02-03';
SET password_encryption = 'md5'; CREATE ROLE old LOGIN PASSWORD 'x' VALID UNTIL '2026-12-01 12:30+00'; RESET password_encryption;
CREATE ROLE files LOGIN PASSWORD 'y' IN ROLE pg_read_server_files; CREATE ROLE gone NOLOGIN PASSWORD 'y'; CREATE ROLE crew;
CREATE ROLE dbas; GRANT postgres TO dbas; CREATE ROLE far LOGIN IN ROLE dbas; CREATE ROLE further LOGIN IN ROLE far;
GRANT crew TO files WITH ADMIN OPTION; ALTER ROLE ulla SET work_mem = '64MB'; ALTER ROLE ulla IN DATABASE rota SET search_path = crew, "Old";
\c rota
GRANT SELECT ON shifts TO crew; GRANT INSERT ON shifts TO crew WITH GRANT OPTION; GRANT SELECT ON ALL TABLES IN SCHEMA public TO ulla;
GRANT ALL ON ALL FUNCTIONS IN SCHEMA public TO crew; CREATE TABLE hers (id int); ALTER TABLE hers OWNER TO ulla; GRANT SELECT ON hers TO old;
ALTER DEFAULT PRIVILEGES FOR ROLE ulla GRANT SELECT ON TABLES TO crew;
`

func TestFound(t *testing.T) {
	t.Parallel()
	p, a := start(t, byHand)
	rules := filepath.Join(filepath.Dir(p.LogFile()), "data", "pg_hba.conf")
	text, err := os.ReadFile(rules)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(rules, append([]byte("host all +crew 127.0.6.99/32 trust\n"), text...), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := p.Run("postgres", "SELECT pg_reload_conf()"); err != nil {
		t.Fatal(err)
	}
	all := connecttest.Surveyed(t, connecttest.Open(t, postgres.Connector{}, a))
	for _, c := range []struct {
		kind                  model.ObjectKind
		name, attribute, want string
	}{
		{model.Account, "ulla", model.Elevation, "group helpers"}, {model.Account, "files", model.Elevation, "group pg_read_server_files"},
		{model.Account, "postgres", model.Elevation, "right BYPASSRLS;right CREATEROLE;right REPLICATION;right SUPERUSER"},
		{model.Account, "old", model.Elevation, ""},
		{model.Account, "far", model.Elevation, "group dbas"}, {model.Account, "further", model.Elevation, "account far"},
		{model.Account, "old", model.WeakSignIn, "MD5"}, {model.Account, "files", model.WeakSignIn, ""},
		{model.Account, "old", model.PasswordEnds, "2026-12-01T12:30:00Z"}, {model.Account, "ulla", model.PasswordEnds, "2031-02-03"},
		{model.Account, "ulla", "sessions-most", "4"}, {model.Account, "gone", model.Disabled, "yes"},
		{model.Account, "ulla", "settings", `search_path=crew, "Old" in rota;work_mem=64MB`},
		{model.Account, "ulla", model.Owns, "table public.hers in rota"},
		{model.Account, "files", model.Passwordless, "yes"}, {model.Account, "ulla", model.Passwordless, ""},
		{model.GroupKind, "crew", model.Administrators, "files"}, {model.GroupKind, "admins", model.MemberGroups, "helpers"},
		{model.RightKind, "SELECT ON rota.public.shifts", model.MemberGroups, "crew"}, {model.RightKind, "CREATEROLE", model.MemberGroups,
			"admins"},
		{model.RightKind, "INSERT ON rota.public.shifts WITH GRANT OPTION", model.MemberGroups, "crew"},
		{model.RightKind, "INSERT ON rota.public.shifts", model.MemberGroups, "crew"},
		{model.RightKind, "SELECT ON rota.public.hands", model.Members, "ulla"}, {model.RightKind, "SELECT ON rota.public.hers",
			model.Members,
			"old"}, {model.RightKind, "SELECT ON rota.public.*", model.Members, ""},
		{model.RightKind, "EXECUTE ON FUNCTION rota.public.*", model.MemberGroups, "crew"},
		{model.RightKind, "SELECT ON NEW TABLES rota.ulla.*", model.MemberGroups, "crew"},
		{model.SystemKind, model.Itself, "read-only", "no"}, {model.SystemKind, model.Itself, model.ClockOff, "0"},
	} {
		o := all[model.Named{Kind: c.kind, Name: c.name}]
		got := strings.Join(o.Attributes.Get(c.attribute), ";")
		if got != c.want && (c.want == "" || !strings.Contains(got, c.want)) {
			t.Errorf("%s of %s is %q, want %q (%v)", c.attribute, c.name, got, c.want, o.Attributes.Map())
		}
	}
	if o := all[model.Named{Kind: model.GroupKind, Name: "gone"}]; o.Name != "" {
		t.Error("an account that is shut is taken for a group")
	}
	if o := all[model.Named{Kind: model.RightKind, Name: "EXECUTE ON FUNCTION rota.public.*"}]; !o.System {
		t.Error("what somebody has by having each of all is told as if it had been given")
	}
}

// crew makes so many accounts that join two groups each.
func crew(n int) []connect.Act {
	return connecttest.Crew(n, func(i int) string { return fmt.Sprintf("hand.%04d", i) })
}

func join(kind model.ObjectKind, set, account string) connect.Act {
	return connecttest.Move(model.JoinIt, kind, set, account)
}

const groups = "CREATE ROLE deck; CREATE ROLE stores;"

// Who is signed in, or has something, is not removed unless somebody inherits it; what others gave goes with them.
func TestRemoval(t *testing.T) {
	t.Parallel()
	p, a := start(t, byHand)
	conn, err := pgx.Connect(context.Background(), fmt.Sprintf("postgres://files:y@%s/rota?sslmode=require", a.Address))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	gone := func(names ...string) []connect.Answer {
		var acts []connect.Act
		for _, n := range names {
			acts = append(acts, connecttest.Act(model.Remove, model.Account, n))
		}
		return connecttest.Apply(connecttest.Open(t, postgres.Connector{}, a), acts)
	}
	connecttest.Outcomes(t, gone("files", "ulla", "old", "hen-roost"), "failed it is signed in, from 127.0.0.1",
		"failed table public.hers in rota belongs to it", "done ", "failed it is our own login")
	s := connecttest.Open(t, postgres.Connector{}, a)
	list, err := connect.Watch(context.Background(), s)
	if err != nil || len(list) != 1 || list[0].Attributes.One(model.HeldBy) != "files" {
		t.Fatalf("%v %v", list, err)
	}
	if e := connect.End(context.Background(), s, []string{list[0].Name, "1; DROP"}); e[0].Outcome != connect.Done ||
		e[1].Outcome != connect.Failed {
		t.Errorf("%+v", e)
	}
	a.Settings = map[string]string{"heir": "keeper"}
	connecttest.Outcomes(t, gone("files", "ulla"), "done ", "done ")
	if out, err := p.Ask("rota", "SELECT tableowner FROM pg_tables WHERE tablename = 'hers'"); out != "keeper" {
		t.Errorf("whose is what was hers? %s %v", out, err)
	}
}

// Of many in one transaction the one that fails is named, and the others are done.
func TestOneOfManyFails(t *testing.T) {
	t.Parallel()
	p, a := start(t, groups+"CREATE ROLE Hand; CREATE ROLE \"Hand.0001\" LOGIN;")
	long := strings.Repeat("ü", 32)
	acts := append(crew(20), connecttest.Act(model.Create, model.Account, long), join(model.GroupKind, "deck", "nobody"),
		join(model.GroupKind, "none", "hand.0001"),
		join(model.RightKind, "SELECT ON nowhere.public.x", "hand.0002"),
		connecttest.Act(model.Create, model.Account, "other", model.Change{Attribute: "sessions-most", After: []string{"some"}}))
	answers := connecttest.Apply(connecttest.Open(t, postgres.Connector{}, a), acts)
	wrong := map[int]string{60: "at most 63 bytes", 61: "does not exist", 63: "nowhere", 64: `it is a number, or any`}
	for i, x := range answers {
		want := connect.Done
		if wrong[i] != "" {
			want = connect.Failed
		}
		if i == 62 {
			want = connect.Moved // there is no such group
		}
		if x.Outcome != want || !strings.Contains(x.Words, wrong[i]) {
			t.Errorf("%d %v: %s %q, want %s %q", i, acts[i].Act, x.Outcome, x.Words, want, wrong[i])
		}
	}
	if out, _ := p.Ask("postgres", "SELECT count(*) FROM pg_roles WHERE rolname ILIKE 'hand.%'"); out != "21" {
		t.Errorf("%s accounts", out)
	}
}

// A server that goes in the middle of a batch, and comes back.
func TestRestart(t *testing.T) {
	t.Parallel()
	p, a := start(t, groups)
	connecttest.Restarted(t, postgres.Connector{}, a, crew(4000), func() {
		time.Sleep(25 * time.Millisecond) // some of it is done by then
		p.Stop()
		if err := p.Start(context.Background()); err != nil {
			t.Fatal(err)
		}
	})
}

// Others who write the same rows at the same time, deadlocks and killed statements among them, do not make an answer wrong.
func TestAmongOthers(t *testing.T) {
	t.Parallel()
	p, a := start(t, groups+"CREATE ROLE rival LOGIN;")
	stop := make(chan struct{})
	var wg sync.WaitGroup
	for _, text := range []string{"ALTER ROLE \"hand.0007\" VALID UNTIL '2030-01-01'; ALTER ROLE \"hand.0003\" VALID UNTIL '2030-01-01'",
		"SELECT pg_cancel_backend(pid) FROM pg_stat_activity WHERE application_name = 'hen-roost' AND (query LIKE 'CREATE%' OR query " +
			"LIKE 'GRANT%')",
		"REVOKE deck FROM \"hand.0007\"; GRANT deck TO rival; REVOKE deck FROM rival"} {
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					_ = p.Run("postgres", "BEGIN; "+text+"; COMMIT")
				}
			}
		})
	}
	acts := crew(800)
	answers := connecttest.Apply(connecttest.Open(t, postgres.Connector{}, a), acts)
	close(stop)
	wg.Wait()
	connecttest.Agree(t, acts, answers, connecttest.Surveyed(t, connecttest.Open(t, postgres.Connector{}, a)), "hand.0007")
	if n := connecttest.Tally(answers); n[connect.Done]+n[connect.Unsure] == 0 { // whoever ends readings too leaves us not knowing
		t.Errorf("%v", n)
	}
}

// A replica takes no changes, and says so.
func TestReadOnly(t *testing.T) {
	t.Parallel()
	p, a := start(t, groups)
	if err := p.Run("postgres", "ALTER SYSTEM SET default_transaction_read_only = on; SELECT pg_reload_conf()"); err != nil {
		t.Fatal(err)
	}
	for range 50 { // a moment, until it has read its settings
		if out, _ := p.Ask("postgres", "SHOW default_transaction_read_only"); out == "on" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	got := connecttest.Apply(connecttest.Open(t, postgres.Connector{}, a), crew(1)[:1])
	if got[0].Outcome != connect.Failed || !strings.Contains(got[0].Words, "is read-only") {
		t.Errorf("%+v", got)
	}
}

// A membership has options since PostgreSQL 16, and may have been given by several; before that, options are refused.
func TestMemberships(t *testing.T) {
	t.Parallel()
	_, a := start(t, `CREATE ROLE deck; CREATE ROLE "st, ""ores"; CREATE ROLE ulla LOGIN; CREATE ROLE boss; GRANT deck TO boss WITH ADMIN OPTION;
		GRANT deck TO ulla; SET ROLE boss; GRANT deck TO ulla; RESET ROLE;`)
	s := connecttest.Open(t, postgres.Connector{}, a)
	all := func() model.Attributes {
		return connecttest.Surveyed(t, s)[model.Named{Kind: model.Account, Name: "ulla"}].Attributes
	}
	set := func(before, after []string) connect.Answer {
		return connecttest.Apply(s, []connect.Act{connecttest.Act(model.Modify, model.Account, "ulla",
			model.Change{Attribute: "on-request", Before: before, After: after},
			model.Change{Attribute: "never-as", Before: before, After: after})})[0]
	}
	stores := []string{`st, "ores`}
	first := set(nil, stores)
	itself := connecttest.Surveyed(t, s)[model.Named{Kind: model.SystemKind, Name: model.Itself}].Attributes
	if itself.One(model.Version) < "16" {
		connecttest.Outcomes(t, []connect.Answer{first}, "failed on-request is for PostgreSQL 16 and later")
	} else {
		connecttest.Outcomes(t, []connect.Answer{first}, "done ")
		if o := all(); o.One("on-request") != stores[0] || o.One("never-as") != stores[0] {
			t.Errorf("%v", o.Map())
		}
		connecttest.Outcomes(t, []connect.Answer{set(stores, nil)}, "done ")
		if o := all(); o.Has("on-request") || o.Has("never-as") {
			t.Errorf("%v", o.Map())
		}
	}
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{connecttest.Move(model.LeaveIt, model.GroupKind, "deck", "ulla")}),
		"done ")
}
