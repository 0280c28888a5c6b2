package mariadb_test

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/core/model"
)

// byHand is what years of work by hand leave behind.
const byHand = odd + `
CREATE USER ulla@'%' IDENTIFIED BY 'x'; CREATE USER ulla@'10.1.%' IDENTIFIED BY 'x'; GRANT SELECT ON stores.* TO ulla@'10.1.%';
CREATE USER open@localhost; CREATE USER shut@localhost ACCOUNT LOCK; CREATE USER ''@'127.0.0.1';
CREATE USER boss@'10.0.0.0/255.0.0.0' IDENTIFIED VIA unix_socket OR ed25519 USING PASSWORD('y') REQUIRE X509 WITH MAX_USER_CONNECTIONS 3
	PASSWORD EXPIRE INTERVAL 30 DAY;
CREATE USER chief@'10.2.%' IDENTIFIED VIA ed25519 USING PASSWORD('y'); CREATE USER within@'10.2.%' IDENTIFIED VIA ed25519 USING PASSWORD('y');
CREATE ROLE admins; CREATE ROLE helpers; GRANT SUPER ON *.* TO admins; GRANT admins TO helpers; GRANT helpers TO within@'10.2.%';
GRANT admins TO chief@'10.2.%' WITH ADMIN OPTION; SET DEFAULT ROLE admins FOR chief@'10.2.%'; GRANT ALL ON *.* TO boss@'10.0.0.0/255.0.0.0';
CREATE USER proxy@'10.2.%' IDENTIFIED VIA ed25519 USING PASSWORD('y'); GRANT PROXY ON boss@'10.0.0.0/255.0.0.0' TO proxy@'10.2.%';
CREATE USER further@'10.2.%' IDENTIFIED VIA ed25519 USING PASSWORD('y'); GRANT PROXY ON proxy@'10.2.%' TO further@'10.2.%';
CREATE DEFINER=boss@'10.0.0.0/255.0.0.0' VIEW stores.low AS SELECT * FROM stores.items;
CREATE DEFINER=boss@'10.0.0.0/255.0.0.0' PROCEDURE stores.count() SELECT 1; CREATE EVENT stores.nightly ON SCHEDULE EVERY 1 DAY DO SELECT 1;
`

func TestFound(t *testing.T) {
	t.Parallel()
	_, a := start(t, byHand)
	all := connecttest.Surveyed(t, connecttest.Open(t, mariadb.Connector{}, a))
	for _, c := range []struct{ account, attribute, want string }{
		{"ulla@%", model.OpenWide, "from any address"}, {"ulla@10.1.%", model.OpenWide, ""},
		{"ulla@%", model.ShadowedBy, "from 127.0.0.1 the account @127.0.0.1, which is nobody's, answers in its place"},
		{"ulla@%", model.UnevenWith, "it may do other things than ulla@10.1.%, which answers from 10.1.%"},
		{"ulla@10.1.%", model.UnevenWith, "it may do other things than ulla@%"}, {"ulla@10.1.%", model.ShadowedBy, ""},
		{"ulla@%", model.WeakSignIn, "unsalted SHA-1"}, {"boss@10.0.0.0/255.0.0.0", model.WeakSignIn, ""},
		{"open@localhost", model.Passwordless, "yes"}, {"shut@localhost", model.Passwordless, ""}, {"shut@localhost", model.Disabled,
			"yes"},
		{"boss@10.0.0.0/255.0.0.0", model.Elevation, "right ALL ON *.*"}, {"chief@10.2.%", model.Elevation, "group admins"},
		{"within@10.2.%", model.Elevation, "group helpers"}, {"ulla@%", model.Elevation, ""},
		{"proxy@10.2.%", model.Elevation, "account boss@10.0.0.0/255.0.0.0"}, {"further@10.2.%", model.Elevation, "account proxy@10.2.%"},
		{"boss@10.0.0.0/255.0.0.0", model.SignIn, "password;unix_socket"}, {"boss@10.0.0.0/255.0.0.0", "tls", "certificate"},
		{"boss@10.0.0.0/255.0.0.0", "sessions-most", "3"},
		{"boss@10.0.0.0/255.0.0.0", model.PasswordEnds, time.Now().UTC().AddDate(0, 0, 30).Format(time.DateOnly)},
		{"chief@10.2.%", "default-role", "admins"}, {"chief@10.2.%", model.PasswordEnds, ""},
		{"boss@10.0.0.0/255.0.0.0", model.Owns, "procedure stores.count;view stores.low"},
		{"root@localhost", model.Owns, "event stores.nightly"},
	} {
		o := all[model.Named{Kind: model.Account, Name: c.account}]
		if got := strings.Join(o.Attributes.Get(c.attribute), ";"); c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s of %s is %q, want %q (%v)", c.attribute, c.account, got, c.want, o.Attributes.Map())
		}
	}
	group := all[model.Named{Kind: model.GroupKind, Name: "admins"}]
	if got := fmt.Sprint(group.Attributes.Map()); got != "map[administrators:[chief@10.2.% root@localhost] member-groups:[helpers] "+
		"members:["+
		"chief@10.2.% root@localhost]]" && !strings.Contains(got, "administrators:[chief@10.2.% root@localhost]") {
		t.Errorf("admins: %s", got)
	}
	power := all[model.Named{Kind: model.RightKind, Name: model.Superuser}].Attributes
	boss := all[model.Named{Kind: model.Account, Name: "boss@10.0.0.0/255.0.0.0"}].Attributes
	if got := power.Get(model.MemberGroups); len(got) > 0 || // whose power is told by the rights that they have
		!boss.Has(model.Elevation) || !slices.Contains(power.Get(model.Allows), "SUPER ON *.*") {
		t.Errorf("%v, boss: %v", power.Map(), boss.Map())
	}
	if o := all[model.Named{Kind: model.Account, Name: "hen-roost@127.0.0.1"}]; !o.Ours {
		t.Error("our own account is not marked so")
	}
	itself := all[model.Named{Kind: model.SystemKind, Name: model.Itself}].Attributes
	if itself.One("read-only") != "no" || itself.One(model.ClockOff) != "0" || !strings.HasPrefix(itself.One(model.System), "MariaDB") {
		t.Errorf("%v", itself.Map())
	}
}

// dial signs in as somebody, past our connector.
func dial(t *testing.T, a connect.Access, login, password, from string) *sql.DB {
	t.Helper()
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.TLSConfig = login, password, "tcp", a.Address, "skip-verify"
	c.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext(ctx, network, address)
	}
	by, err := mysql.NewConnector(c)
	if err != nil {
		t.Fatal(err)
	}
	db := sql.OpenDB(by)
	t.Cleanup(func() { db.Close() })
	return db
}

// Which account answers is worked out as the server does.
func TestAnswering(t *testing.T) {
	t.Parallel()
	origins := []string{"%", "127.%", "127.0.%", "127.0.0.0/255.255.0.0", "127.0.0.0/255.0.0.0", "127.0.9._", "127.0.9.1"}
	text, accounts := "", []string{}
	for _, login := range []string{"ulla", ""} {
		for i, origin := range origins {
			if (i%2 == 0) == (login == "") || origin == "127.0.9.1" && login == "" {
				continue
			}
			text += fmt.Sprintf("CREATE USER '%s'@'%s' IDENTIFIED BY 'x';", login, origin)
			accounts = append(accounts, login+"@"+origin)
		}
	}
	text += "CREATE USER '_u'@'%' IDENTIFIED BY 'x'; CREATE USER ''@'127.0.9.1' IDENTIFIED BY 'x';"
	accounts = append(accounts, "_u@%", "@127.0.9.1")
	_, a := start(t, text)
	answers := mariadb.Connector{}.Knows().Answers
	for _, login := range []string{"ulla", "kari", "_u"} {
		for _, from := range []string{"127.0.9.1", "127.0.9.7", "127.0.9.77", "127.3.4.5"} {
			var who string
			if err := dial(t, a, login, "x", from).QueryRow("SELECT CURRENT_USER()").Scan(&who); err != nil {
				who = ""
			}
			if got := answers(accounts, login, from); got != who {
				t.Errorf("%s from %s is answered by %q, we say %q", login, from, who, got)
			}
		}
	}
}

// What is signed in is seen with the account that answers for it, is not removed, and can be ended.
func TestInUse(t *testing.T) {
	t.Parallel()
	m, a := start(t, byHand+"CREATE USER busy@'127.%' IDENTIFIED BY 'x'; CREATE USER idle@'%' IDENTIFIED BY 'x';")
	if err := dial(t, a, "busy", "x", "127.0.0.2").Ping(); err != nil {
		t.Fatal(err)
	}
	s := connecttest.Open(t, mariadb.Connector{}, a)
	gone := func(names ...string) []connect.Answer {
		var acts []connect.Act
		for _, n := range names {
			acts = append(acts, connecttest.Act(model.Remove, model.Account, n))
		}
		return connecttest.Apply(s, acts)
	}
	connecttest.Outcomes(t, gone("busy@127.%", "idle@%", "boss@10.0.0.0/255.0.0.0", "hen-roost@127.0.0.1"),
		"failed it is signed in, from 127.0.0.2:", "done ", "failed procedure stores.count, view stores.low runs as it",
		"failed it is our own login")
	list, err := connect.Watch(context.Background(), s)
	if err != nil || len(list) != 1 || list[0].Attributes.One(model.HeldBy) != "busy@127.%" {
		t.Fatalf("%v %v", list, err)
	}
	if e := connect.End(context.Background(), s, []string{list[0].Name, "1; DROP"}); e[0].Outcome != connect.Done ||
		e[1].Outcome != connect.Failed {
		t.Errorf("%+v", e)
	}
	connecttest.Outcomes(t, gone("busy@127.%"), "done ")
	if out, _ := m.Ask("SELECT GROUP_CONCAT(User ORDER BY User) FROM mysql.global_priv WHERE User IN " +
		"('busy','idle','boss')"); out != "boss" {
		t.Errorf("left: %s", out)
	}
}

// Where a sign-in cannot be tried, or another answers, that is said.
func TestNotProved(t *testing.T) {
	t.Parallel()
	_, a := start(t, "CREATE USER far@'10.1.%' IDENTIFIED BY 'x'; CREATE USER near@'127.%' IDENTIFIED BY 'x'; "+
		"CREATE USER near@'127.0.0.1' IDENTIFIED BY 'x';")
	s := connecttest.Open(t, mariadb.Connector{}, a)
	for as, want := range map[string]string{"far@10.1.%": "it may come from 10.1.% alone, and we come from 127.0.0.1",
		"near@127.%": "the server takes it for near@127.0.0.1, which answers from 127.0.0.1 in its place"} {
		if p, words := connect.Prove(context.Background(), s, as, connect.Seal([]byte("x"))); p != connect.NotProved ||
			!strings.Contains(words, want) {
			t.Errorf("%s: %s %s", as, p, words)
		}
	}
}

// Ways in are declared as they are told: what stays keeps its password, and what is new opens nothing by itself.
func TestWaysIn(t *testing.T) {
	t.Parallel()
	m, a := start(t, "CREATE USER old@'%' IDENTIFIED BY 'x'; CREATE USER gone@'%' IDENTIFIED BY 'x'; "+
		"CREATE USER 'o''dd'@'%' IDENTIFIED BY 'x';")
	s := connecttest.Open(t, mariadb.Connector{}, a)
	set := func(verb model.Verb, n string, before []string, after ...string) connect.Act {
		return connecttest.Act(verb, model.Account, n, model.Change{Attribute: model.SignIn, Before: before, After: after})
	}
	by := []string{"password"}
	withPassword := set(model.Create, "both@%", nil, "unix_socket odd.strand", "password")
	withPassword.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("y"))}
	refused := set(model.Create, "clash@%", nil, "unix_socket")
	refused.Secrets = withPassword.Secrets
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{
		set(model.Modify, "old@%", by, "ed25519", `unix_socket  o'dd "x"`), set(model.Modify, "gone@%", by, "unix_socket"),
		set(model.Create, "new@%", nil, "unix_socket", "password"), withPassword, refused,
		set(model.Modify, "o'dd@%", by), set(model.Create, "no@%", nil, "not_there"), set(model.Create, "bad@%", nil, "mysql'; x"),
		set(model.Create, "more@%", nil, "ed25519x y"),
	}), "done ", "done ", "done ", "done ", "failed it is to sign in by unix_socket alone", "failed sign-in is empty",
		"failed Plugin 'not_there' is not loaded", `failed sign-in is "mysql'; x"`, `failed sign-in is "ed25519x y"`)
	for _, c := range [][2]string{{"old", "x"}, {"both", "y"}} {
		if err := dial(t, a, c[0], c[1], "127.0.0.1").Ping(); err != nil {
			t.Errorf("%s: %v", c[0], err)
		}
	}
	for _, n := range []string{"gone", "new"} {
		if err := dial(t, a, n, "x", "127.0.0.1").Ping(); err == nil {
			t.Errorf("%s is let in", n)
		}
	}
	all := connecttest.Surveyed(t, s)
	for n, want := range map[string]string{"old@%": `password;unix_socket o'dd "x" `, "gone@%": "unix_socket ",
		"new@%": "password;unix_socket none given yet", "both@%": "password;unix_socket odd.strand "} {
		o := all[model.Named{Kind: model.Account, Name: n}].Attributes
		when := o.One("password-changed")
		if when == time.Now().UTC().Format(time.DateOnly) {
			when = ""
		}
		if got := strings.Join(o.Get(model.SignIn), ";") + " " + when; got != want {
			t.Errorf("%s signs in by %q, want %q", n, got, want)
		}
	}
	a.Settings = map[string]string{"passwords-as": "mysql_native_password"}
	s = connecttest.Open(t, mariadb.Connector{}, a)
	renewed := connecttest.Act(model.Modify, model.Account, "old@%", model.Change{Attribute: model.Password, Sealed: "x"})
	renewed.Secrets = withPassword.Secrets
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{renewed}), "done ")
	if out, _ := m.Ask("SELECT Priv LIKE '%mysql_native_password%' FROM mysql.global_priv WHERE User = 'old'"); out != "1" {
		t.Errorf("kept so: %s", out)
	}
	for asked, want := range map[string]string{"sha9": `it is ed25519 or mysql_native_password`} {
		a.Settings["passwords-as"] = asked
		if _, err := (mariadb.Connector{}).Open(context.Background(), a); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", asked, err)
		}
	}
}
