package test

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hen-roost/internal/core/guard"
	"hen-roost/internal/demo"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
)

// one is an operator with a few duties: as their profile.
func one(t *testing.T, d *demo.Demo, name string, duties ...string) (profile string) {
	t.Helper()
	if _, err := d.Server.Service.AddOperator(context.Background(), door.Itself, name, "", "a long enough password", duties); err != nil {
		t.Fatal(err)
	}
	profile = filepath.Join(t.TempDir(), "sign-in")
	if out, said, code := roost(t, profile, "a long enough password", "sign-in", d.Server.Address, "--operator", name,
		"--password-file", "-",
		"--fingerprint", d.Server.Print); code != 0 {
		t.Fatal(out, said)
	}
	return profile
}

// does runs a command as somebody, who must end with a status and be told something.
func does(t *testing.T, profile string, code int, say string, args ...string) string {
	t.Helper()
	out, said, got := roost(t, profile, "", args...)
	if words := strings.Join(strings.Fields(out+said), " "); got != code || !strings.Contains(words, say) {
		t.Errorf("roost %s: exit %d, want %d and %q\n%s%s", strings.Join(args, " "), got, code, say, out, said)
	}
	return out + said
}

// onlyOut is what a command prints for programs.
func onlyOut(t *testing.T, profile string, args ...string) string {
	t.Helper()
	out, said, code := roost(t, profile, "", args...)
	if code != 0 {
		t.Fatalf("roost %s: exit %d\n%s%s", strings.Join(args, " "), code, out, said)
	}
	return out
}

// trap is where no secret may come: it counts who comes.
func trap(t *testing.T) (address string, came *atomic.Int32) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	came = new(atomic.Int32)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			came.Add(1)
			c.Close()
		}
	}()
	return l.Addr().String(), came
}

// company is the demo's declaration with some texts otherwise, in a folder of its own.
func company(t *testing.T, d *demo.Demo, file string, pairs ...string) (folder string) {
	t.Helper()
	folder = filepath.Join(t.TempDir(), "declaration")
	if err := os.CopyFS(folder, os.DirFS(d.Declaration)); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(folder, file))
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(pairs...).Replace(string(b))
	if text == string(b) {
		t.Fatalf("%s has nothing like %q", file, pairs[0])
	}
	write(t, folder, file, text)
	return folder
}

// Whoever may declare, and nothing else, comes by no secret, runs no round and makes nobody superuser.
func TestDraftAlone(t *testing.T) {
	d := prepared(t)
	eve, ann := one(t, d, "eve", "draft"), one(t, d, "ann", "run")
	host, _, _ := net.SplitHostPort(d.Stores.Address)
	_, port, _ := net.SplitHostPort(d.Stores.Address)
	there, came := trap(t)
	declares := func(folder string) { does(t, eve, 0, "is declared", "declare", folder, "--yes", "--because", "try") }
	waits := func(want ...string) {
		t.Helper()
		out := does(t, eve, 3, "", "revision", "pending")
		for _, w := range want {
			if !strings.Contains(strings.Join(strings.Fields(out), " "), w) {
				t.Errorf("%q does not wait:\n%s", w, out)
			}
		}
	}
	back := func() {
		t.Helper()
		does(t, eve, 0, "is declared", "declare", d.Declaration, "--yes", "--because", "back")
		does(t, eve, 0, "No change", "revision", "pending")
	}

	// The stores' database is said to be elsewhere: the old address is surveyed, and nobody comes to the new one.
	declares(company(t, d, "addresses.yaml", "stores_database: "+host+":"+port, "stores_database: "+there))
	waits("target stores-database address " + d.Stores.Address + " " + there + " eve")
	does(t, ann, 0, "surveyed", "survey", "stores-database")
	does(t, eve, 1, `needs the duty "approve"`, "revision", "approve", "--yes")
	back()

	// A target of their own with the secret of another.
	declares(company(t, d, "targets.yaml", "  stores-database:\n", "  evil:\n    kind: mariadb\n    address: "+there+
		"\n    login: {as: hen-roost, secret: stores-database-password}\n\n  stores-database:\n"))
	waits("target evil login.secret (new) stores-database-password")
	does(t, ann, 1, "not approved", "survey", "evil")
	does(t, eve, 0, "not approved", "target", "show", "evil")
	back()

	// Another secret, another authority, another way, another login on a target that is known.
	declares(company(t, d, "targets.yaml", "login: {as: root, secret: vessel-key}\n    tags: {fleet: harbours",
		"login: {as: marit.fell, secret: directory-password}\n    via: arctic-tern\n    settings: {host-authority: \"ssh-ed25519 "+
			"AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 eve\"}\n    tags: {fleet: harbours"))
	waits("login.as", "login.secret vessel-key directory-password", "settings.host-authority", "via none arctic-tern")
	does(t, ann, 0, "surveyed", "survey", "northquay")
	back()

	// The guards that would hold a round, and rounds that nobody asks for.
	declares(company(t, d, "targets.yaml", "    tags: {fleet: vessels, base: northquay, shell: bash}\n    unexpected: disable\n"+
		"    protect: [\"svc-*\"]\n\n  sooty",
		"    tags: {fleet: vessels, base: northquay, shell: bash}\n    unexpected: remove\n    protect: []\n"+
			"    limits: {disable: 1000, remove: none}\n"+
			"    repeat: {reconcile: 1s}\n    removal: {home: remove}\n\n  sooty",
		"administrator-roles: administrator", "administrator-roles: nonesuch"))
	waits("protect svc-* none", "limits.disable 20 1000", "limits.remove", "repeat.reconcile none 1s", "unexpected disable remove",
		"removal.home keep remove", "settings.administrator-roles")
	if out := must(t, d, "target", "show", "arctic-tern"); !strings.Contains(out, "Accounts nobody declared: disable. Protected: svc-*.") {
		t.Errorf("the old values are not in force:\n%.300s", out)
	}
	out, _, _ := roost(t, d.Profile, "", "drift", "--target", "arctic-tern", "-o", "json")
	if strings.Contains(out, "svc-backup") && strings.Contains(out, `"what":"remove"`) {
		t.Error("what is protected is to be removed")
	}
	time.Sleep(3 * time.Second)
	if out := must(t, d, "round", "list", "-o", "json"); strings.TrimSpace(out) != "[]" {
		t.Errorf("a round was drafted by itself: %s", out)
	}
	back()

	// A home among the system's is held; so is superuser.
	folder := company(t, d, "addresses.yaml", "\nparams:", "\n\nparams:")
	write(t, folder, "sly.yaml", "roost: 1\nroles:\n  sly:\n    held-when: user.id == \"helene.roux\"\n    gives:\n      - at: slipway\n"+
		"        account: {home: /etc/systemd/system/ssh.service.d}\n")
	declares(folder)
	r := decode[rounds.Round](t, onlyOut(t, eve, "draft", "--target", "slipway", "--user",
		"helene.roux", "--because", "try", "-o", "json"))
	if r.State != rounds.OnHold || !strings.Contains(fmt.Sprint(r.Holds), "outside /home") {
		t.Errorf("%s %v", r.State, r.Holds)
	}
	does(t, eve, 1, `needs the duty "approve"`, "approve", fmt.Sprint(r.ID))
	does(t, eve, 1, `needs the duty "run"`, "run", fmt.Sprint(r.ID))
	if n := came.Load(); n != 0 {
		t.Errorf("somebody came %d times where no secret may go", n)
	}
}

// Nobody approves what they asked for themselves, but in a team of one, with the password anew; and nobody makes a team of one.
func TestApproveAlone(t *testing.T) {
	d := prepared(t)
	file := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(file, []byte("a long enough password\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	eve := one(t, d, "eve", "draft", "approve", "administer")
	loose := company(t, d, "targets.yaml", `protect: ["svc-*"]`, `protect: []`)
	does(t, eve, 0, "wait for approval", "declare", loose, "--yes", "--because", "try")
	does(t, eve, 1, "you made it yourself, so somebody else must approve it: odd.strand could", "revision", "approve", "--yes",
		"--password-file", file)
	does(t, eve, 0, "", "operator", "remove", "odd.strand") // who is older is not gone at once
	does(t, eve, 1, "you made it yourself", "revision", "approve", "--yes", "--password-file", file)
	does(t, eve, 3, "another operator approves those", "revision", "pending")
	if _, err := d.Server.Service.ApproveSettings(context.Background(), door.Itself, declared.ApproveRequest{Revision: 3}); err != nil {
		t.Fatal(err)
	}
	does(t, eve, 0, "No change", "revision", "pending")
}

// A first operator is a team of one; the record says what they approved alone.
func TestTeamOfOne(t *testing.T) {
	d := prepared(t)
	does(t, d.Profile, 0, "", "declare", company(t, d, "targets.yaml", `protect: ["svc-*"]`, `protect: []`), "--yes", "--because", "try")
	does(t, d.Profile, 1, "confirm it with your password", "revision", "approve", "--yes")
	wrong := filepath.Join(t.TempDir(), "wrong")
	if err := os.WriteFile(wrong, []byte("not the password"), 0o600); err != nil {
		t.Fatal(err)
	}
	does(t, d.Profile, 1, "that is not your password", "revision", "approve", "--yes", "--password-file", wrong)
	does(t, d.Profile, 0, "in force", "revision", "approve", "--yes", "--password-file", filepath.Join(filepath.Dir(d.Declaration),
		"operator-password"))
	does(t, d.Profile, 0, "approved alone, since nobody else could", "record", "--kind", "alone")
	c := calling(t, d)
	b, err := os.ReadFile(d.Profile)
	if err != nil {
		t.Fatal(err)
	}
	token := decode[struct{ Token string }](t, string(b)).Token
	if status, text, _ := c.call(http.MethodGet, "/api/overview", token, ""); status != 200 || !strings.Contains(text, "approved alone") {
		t.Errorf("the overview does not say so: %d %.300s", status, text)
	}
}

// A secret goes to targets for which an administrator released it: what waits of them is shown, asked about and approved with it.
func TestReleaseSecret(t *testing.T) {
	d := prepared(t)
	eve, ann := one(t, d, "eve", "draft"), one(t, d, "ann", "approve", "administer")
	file := write(t, t.TempDir(), "spare", "a-spare-password")
	does(t, eve, 0, "1 change of a guarded setting waits for approval", "declare", company(t, d, "targets.yaml",
		"secret: stores-database-password", "secret: spare"), "--yes", "--because", "spare")
	set := func(code int, say string, more ...string) {
		t.Helper()
		does(t, ann, code, say, append([]string{"secret", "set", "spare", "--file", file, "--for"}, more...)...)
	}
	set(2, "add --yes", "stores-database")
	set(1, `northquay is declared with the secret "vessel-key"`, "northquay,stores-database", "--yes")
	set(1, "nonesuch", "nonesuch", "--yes")
	does(t, ann, 2, "what was given for --file is empty", "secret", "set", "spare", "--file", write(t, t.TempDir(), "none", ""),
		"--for", "stores-database", "--yes")
	does(t, ann, 3, "stores-database login.secret stores-database-password spare eve", "revision", "pending", "stores-database")
	set(0, "The secret spare is sealed", "stores-database", "--yes")
	does(t, ann, 0, "No change", "revision", "pending", "stores-database")
	set(0, "The secret spare is sealed", "stores-database") // once more: nothing waits any more
	if out := must(t, d, "secret", "list"); !regexp.MustCompile(`spare +.* ann +stores-database`).MatchString(out) {
		t.Errorf("it is released for:\n%s", out)
	}
}

// A dialect that is tried types our secret nowhere but where the one that is installed does.
func TestTryElsewhere(t *testing.T) {
	d := prepared(t)
	text, err := os.ReadFile(filepath.Join(d.Dialects, "bridge-router.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	sly := regexp.MustCompile(`at: '[^']*', say: '\$\{login\}'`).ReplaceAllLiteralString(string(text), "at: '.*', say: '${secret}'")
	file := write(t, t.TempDir(), "sly.yaml", sly)
	does(t, d.Profile, 1, "our secret is typed nowhere else", "dialect", "try", file, "old-bridge")
	does(t, d.Profile, 1, "our secret is typed nowhere else", "dialect", "try", filepath.Join(d.Dialects, "bridge-router.yaml"),
		"northquay-switch")
}

// A system that pushes ends nobody who is not its own, in slices neither; nobody is called as we are.
func TestPushed(t *testing.T) {
	d := prepared(t)
	c, token := calling(t, d), pusher(t, d)
	must(t, d, "intake", "set", "personnel", "--at-once", "--share", "5")
	push := func(body string) {
		t.Helper()
		if status, text, _ := c.call("POST", "/scim/v2/Users", token, body); status != 201 {
			t.Errorf("%d %s", status, text)
		}
	}
	push(`{"userName":"marit.fell","active":false}`)
	push(`{"userName":"root","displayName":"Root"}`)
	push(`{"userName":"hen-roost","displayName":"Hen"}`)
	push(`{"userName":"long","displayName":"` + strings.Repeat("x", 100_000) + `"}`)
	out := does(t, d.Profile, 0, "1 user would leave, whom personnel neither brought nor was given", "intake", "show", "personnel")
	for _, want := range []string{"root: nobody can be called so", "hen-roost: nobody can be called so",
		"long: its displayName has more than"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not told:\n%.2000s", want, out)
		}
	}
	must(t, d, "intake", "give", "personnel", "--all")
	left := func(n int) {
		t.Helper()
		await(t, fmt.Sprint(n, " to have left"), func() bool {
			text := must(t, d, "revision", "list", "-o", "json")
			return strings.Count(text, "pushed in: 1 leaving")+2*strings.Count(text, "pushed in: 2 leaving") >= n
		})
	}
	left(1)
	push(`{"userName":"kari.berg","active":false}`)
	push(`{"userName":"helene.roux","active":false}`)
	left(3)
	push(`{"userName":"brian.mccarthy","active":false}`)
	does(t, d.Profile, 0, "4 of 60 users would leave, which is more than 5 % (3 of them have left in the last 24 hours)", "intake", "show",
		"personnel")
}

// Every operation, every guarded setting and every kind of target has its row in docs/security.md, and every test that is named
// there is a test.
func TestSecurityIsWrittenDown(t *testing.T) {
	b, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	for kind, list := range guard.Settings {
		for _, s := range list {
			row := fmt.Sprintf("| %s | `%s` | %s", kind, s.Name, s.Why)
			if !strings.Contains(text, row) {
				t.Errorf("no row begins with %q", row)
			}
			takes := "| approve |"
			if s.Secret {
				takes = "| approve, administer |"
			}
			line := text[max(0, strings.Index(text, row)):]
			if line, _, _ = strings.Cut(line, "\n"); !strings.HasSuffix(line, takes) {
				t.Errorf("%s %s: %q does not end with %q", kind, s.Name, line, takes)
			}
		}
	}
	kinds, err := serve.Kinds("")
	if err != nil {
		t.Fatal(err)
	}
	for kind := range kinds {
		if !strings.Contains(text, "\n| `"+kind+"` | ") {
			t.Errorf("targets of kind %s have no row", kind)
		}
	}
	for _, duty := range door.Duties {
		if !strings.Contains(text, "with `"+string(duty)+"` |") || !strings.Contains(text, "\n| `"+string(duty)+"` | ") {
			t.Errorf("the duty %s has no row", duty)
		}
	}
	for duty, operations := range operationsByDuty(t) {
		at := strings.Index(text, "\n| `"+duty+"` | ")
		if at < 0 {
			at = strings.Index(text, "\n| "+duty+" | ")
		}
		row, _, _ := strings.Cut(text[at+1:], "\n")
		for _, o := range operations {
			if !strings.Contains(row, "`"+o+"`") {
				t.Errorf("the operation %s takes %s, and has no place in that row", o, duty)
			}
		}
	}
	tests := testsOf(t)
	for _, m := range regexp.MustCompile("`(Test[A-Za-z]+)`").FindAllStringSubmatch(text, -1) {
		if !tests[m[1]] {
			t.Errorf("there is no %s", m[1])
		}
	}
}

func operationsByDuty(t *testing.T) map[string][]string {
	t.Helper()
	text, _, _ := roost(t, "", "", "openapi")
	doc := decode[struct {
		Paths map[string]map[string]struct {
			ID   string `json:"operationId"`
			Duty string `json:"x-duty"`
		}
	}](t, text)
	out := map[string][]string{}
	for _, methods := range doc.Paths {
		for _, o := range methods {
			out[o.Duty] = append(out[o.Duty], o.ID)
		}
	}
	return out
}

func testsOf(t *testing.T) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for _, root := range []string{"../internal", "."} {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, "_test.go") {
				return err
			}
			b, err := os.ReadFile(path)
			for _, m := range regexp.MustCompile(`(?m)^func (Test[A-Za-z]+)\(`).FindAllStringSubmatch(string(b), -1) {
				out[m[1]] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// Rows that somebody with the database puts into the record count for nothing, and looking at it ends with a status of its own.
func TestVerify(t *testing.T) {
	d := prepared(t)
	db, err := sql.Open("mysql", "root@unix("+filepath.Join(d.Data, "db", "s")+")/roost")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`INSERT INTO record SELECT seq + 1000, at, kind, operator, target, user, round, about, because, 'forged', body,
		before_it, hash FROM record ORDER BY seq DESC LIMIT 1`); err != nil {
		t.Fatal(err)
	}
	does(t, d.Profile, 5, "1 row behind its head were written by no service and do not count", "record", "--verify")
	if out := must(t, d, "record"); strings.Contains(out, "forged") {
		t.Error("a forged row is shown")
	}
}
