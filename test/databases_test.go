package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"hen-roost/internal/demo"
)

// The two databases of the company are taken over: who may do too much loses it, who answers from where is told, who is
// removed comes back as they were.
func TestDatabases(t *testing.T) {
	d := prepared(t)
	expect(t, d, 3, "beyond", "drift", "--target", "rota-database", "--kind", "beyond")
	expect(t, d, 3, "astrid.lindqvist · CREATEDB", "drift", "--target", "rota-database", "--kind", "beyond")
	expect(t, d, 0, "From 172.16.0.9 the account gunnar.holt@% answers", "explain", "gunnar.holt", "stores-database", "account",
		"--address", "172.16.0.9")
	expect(t, d, 1, "a login is one account", "explain", "gunnar.holt", "rota-database", "--address", "172.16.0.9")
	expect(t, d, 0, `GRANT SELECT ON "stores".* TO 'hen-roost'@'127.0.0.1' WITH GRANT OPTION;`, "target", "needs", "stores-database")
	expect(t, d, 0, `hostssl all "hen-roost" 10.20.1.4/32`, "target", "needs", "rota-database", "--from", "10.20.1.4")
	expect(t, d, 1, "cannot be told as statements", "target", "needs", "arctic-tern")
	expect(t, d, 0, "10.20.9.1 1", "target", "origins", "stores-database")
	must(t, d, "draft", "--because", "spring deck crew")
	must(t, d, "approve", "1")
	must(t, d, "run", "1")
	must(t, d, "survey")
	expect(t, d, 0, "Nothing differs on stores-database", "drift", "--target", "stores-database")
	expect(t, d, 0, "Nothing differs on rota-database", "drift", "--target", "rota-database")
	expect(t, d, 0, "olga.petrova@10.20.% Olga Petrova ● ○", "target", "matrix", "stores-database", "right", "--begins", "olga")
	expect(t, d, 0, "rolf.eide – right SUPERUSER shut", "target", "superusers", "rota-database")
	expect(t, d, 0, "Nobody is signed in there now.", "target", "sessions", "rota-database")
	if got, err := d.Stores.Ask("SELECT COUNT(*) FROM mysql.global_priv WHERE User = 'gunnar.holt' AND Host = '%' AND " +
		"JSON_VALUE(Priv, '$.account_locked') = 1"); err != nil || got != "1" {
		t.Errorf("his far account is open: %s %v", got, err)
	}
	removedAndBack(t, d)
}

// removedAndBack has accounts removed that were shut, and brings one back: with its password, and what it may do.
func removedAndBack(t *testing.T, d *demo.Demo) {
	t.Helper()
	file := filepath.Join(d.Declaration, "targets.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	at := strings.Index(string(text), "stores-database:")
	changed := string(text[:at]) + strings.ReplaceAll(string(text[at:]), "unexpected: disable",
		"unexpected: remove\n    limits: {remove-share: 50%}")
	if err := os.WriteFile(file, []byte(changed), 0o644); err != nil {
		t.Fatal(err)
	}
	declares(t, d, "nobody needs them any more")
	const hash = "SELECT JSON_VALUE(Priv, '$.authentication_string') FROM mysql.global_priv WHERE User = 'gunnar.holt' AND Host = '%'"
	before, err := d.Stores.Ask(hash)
	if err != nil || !strings.HasPrefix(before, "*") {
		t.Fatalf("%q %v", before, err)
	}
	must(t, d, "draft", "--target", "stores-database", "--because", "gone for good")
	must(t, d, "approve", "2")
	expect(t, d, 4, "view stores.low runs as it", "run", "2")
	if got, _ := d.Stores.Ask(hash); got != "" {
		t.Error("it was not removed")
	}
	expect(t, d, 0, "give right GRANT OPTION ON stores.*", "undo", "2", "--because", "they are still there")
	must(t, d, "approve", "3")
	must(t, d, "run", "3")
	if got, _ := d.Stores.Ask(hash); got != before {
		t.Error("its password is not what it was")
	}
	if got, _ := d.Stores.Ask("SHOW GRANTS FOR 'gunnar.holt'@'%'"); !strings.Contains(got, "ALL PRIVILEGES ON `stores`.*") {
		t.Errorf("it may do: %s", got)
	}
	must(t, d, "draft", "--target", "rota-database", "--because", "gone for good")
	must(t, d, "approve", "4")
	must(t, d, "run", "4")
	if got, _ := d.Rota.Ask("rota", "SELECT viewowner FROM pg_views WHERE viewname = 'today'"); got != "rota_owner" {
		t.Errorf("what was rolf.eide's is %s's", got)
	}
	if out := must(t, d, "record", "--size", "1000"); strings.Contains(out, before) {
		t.Error("a hash stands in the record")
	}
}

// A database in the console: its accounts by where they come from, who answers, and who may what.
func TestDatabasePages(t *testing.T) {
	d := prepared(t)
	must(t, d, "draft", "--because", "spring deck crew")
	must(t, d, "approve", "1")
	must(t, d, "run", "1")
	must(t, d, "survey")
	p := signedIn(t, d, "/")
	p.sees("Sign out")
	p.do(chromedp.Navigate(p.url + "/users/ines.moreau"))
	p.sees("Inès Moreau is as declared on 10 targets.") // with two accounts on one of them
	p.do(chromedp.Navigate(p.url + "/targets/stores-database"))
	p.sees("31 accounts")
	p.do(chromedp.WaitVisible(css("input[list=origins]")), chromedp.Click(css("input[list=origins]")))
	p.until(`[...document.querySelectorAll('#origins option')].some(o => o.value === '10.20.9.1' && o.textContent === '1 account')`)
	p.until(`(() => { const x = document.querySelector('input[list=origins]'); x.value = '10.20.9.1';
		x.dispatchEvent(new Event('change', {bubbles: true})); return true })()`)
	p.sees("svc-stock@10.20.9.1 – open password")
	p.fill(`input[placeholder="gunnar.holt"]`, "gunnar.holt")
	p.fill(`input[placeholder="10.20.3.7"]`, "10.20.3.7")
	p.click("Tell")
	p.sees("From 10.20.3.7 the account gunnar.holt@10.20.% answers: that account is theirs.")
	p.click("Show")
	p.sees("GRANT CREATE USER, PROCESS")
	p.click("17 rights")
	p.click("Side by side")
	p.sees("comes along with a wider one that is asked for")
	p.sees("UPDATE (amount) ON stores.orders")
	p.until(`(document.querySelector('table[aria-label="Who is in what"]').scrollIntoView(), true)`)
	p.shot("rights")
}
