package test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/api"
	"hen-roost/internal/cli"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// on runs a command on a host and checks what it prints.
func on(t *testing.T, d interface {
	Exec(string) (string, error)
}, command, want string) {
	t.Helper()
	if got, err := d.Exec(command); err != nil || strings.TrimSpace(got) != want {
		t.Errorf("%s: %q (%v), want %q", command, got, err, want)
	}
}

// A summer on the command line: the declaration is edited in its own text, the
// season's people come in by a file, a round goes out in two waves, something
// is changed by hand and comes back, a laptop is lost, a mistake is undone.
func TestSummer(t *testing.T) {
	d := prepared(t)
	arctic := d.Hosts["arctic-tern"]

	// Edited, with comments and order as they were.
	expect(t, d, 2, "nobody is there to be asked whether this is meant; add --yes", "edit", "users", "marit.fell", "--add", "roles=mate",
		"--because", "x")
	expect(t, d, 1, `no role is called "mat"; did you mean "mate"?`, "edit", "users", "marit.fell", "--add", "roles=mat", "--because",
		"x", "--yes")
	expect(t, d, 2, "say what to change", "edit", "users", "marit.fell", "--because", "x", "--yes")
	expect(t, d, 0, "group bridge on 4 targets", "edit", "users", "marit.fell", "--add", "roles=mate", "--because",
		"covers for Astrid", "--yes")
	expect(t, d, 0, "is roles: [deck-crew, mate]", "revision", "compare")
	expect(t, d, 0, "# The deck crew of all three vessels.", "revision", "show", "2")
	expect(t, d, 0, "covers for Astrid", "revision", "list")
	into := filepath.Join(t.TempDir(), "two")
	expect(t, d, 0, "13 files written", "revision", "show", "2", "--save", into)
	if _, said, code := roost(t, d.Profile, "", "revision", "show", "2", "--save", into); code != 1 || !strings.Contains(said, "exists") {
		t.Errorf("files that are there were written over: %d %s", code, said)
	}

	// The season's people, from the crewing office.
	season := write(t, t.TempDir(), "crew.csv",
		"Login,Full name,First day,Number\nnils.berg,\"Berg, Nils\",2026-11-01,1301\npetra.holm,Petra Holm,2027-04-01,1302\nbad "+
			"name\n,Nobody,\n")
	expect(t, d, 4, "2 new, 0 changed, 0 as declared, 2 that cannot be read", "import", season, "--map", "id=Login", "--map",
		"name=Full name", "--map", "from=First day", "--role", "deck-crew", "--into", "deck.yaml", "--because", "spring deck crew", "--yes")
	expect(t, d, 0, "nils.berg,\"Berg, Nils\"", "export")
	expect(t, d, 0, "dn: uid=nils.berg,ou=People,dc=ternsound,dc=example", "export", "--format", "ldif", "--base",
		"ou=People,dc=ternsound,dc=example")
	expect(t, d, 1, `no role is called "deckcrew"; did you mean "deck-crew"?`, "import", season, "--map", "id=Login", "--role",
		"deckcrew", "--because", "x", "--yes")
	expect(t, d, 0, "petra.holm starts on 2027-04-01", "explain", "petra.holm", "arctic-tern", "deck")
	expect(t, d, 0, "role deck-crew gives it", "explain", "nils.berg", "arctic-tern", "account")
	expect(t, d, 1, "nothing was declared by the end of 2026-01-01", "explain", "marit.fell", "arctic-tern", "--on", "2026-01-01")

	// In two waves: one target of each kind, and the rest only if that held.
	r := decode[rounds.Round](t, must(t, d, "draft", "--first", "1", "--because", "spring deck crew", "-o", "json"))
	if waves := []int{r.Targets[0].Wave, r.Targets[len(r.Targets)-1].Wave}; r.ID != 1 || !slices.Equal(waves, []int{1, 2}) ||
		r.First != "1" {
		t.Errorf("%+v", r)
	}
	must(t, d, "approve", "1")
	expect(t, d, 0, "Round 1 is complete", "run", "1")
	on(t, arctic, "id -Gn nils.berg | tr ' ' '\\n' | sort | tr '\\n' ' '", "all-hands crew deck nils.berg")
	on(t, arctic, "getent passwd petra.holm | wc -l", "0")
	must(t, d, "adopt", "sooty-tern", "kberg", "kari.berg", "--because", "says the bosun")
	expect(t, d, 0, "says the bosun", "decision", "list")
	expect(t, d, 0, "Round 2 is complete", "reconcile", "--because", "settle Kari Berg's account")
	expect(t, d, 0, "Everything is as declared.", "drift")
	expect(t, d, 0, "marit.fell", "explain", "--who-has", "bridge", "arctic-tern", "-o", "csv")

	// Somebody changes a shell by hand, twice.
	for _, kind := range []string{"different", "contested"} {
		if _, err := arctic.Exec("usermod -s /bin/sh marit.fell"); err != nil {
			t.Fatal(err)
		}
		must(t, d, "survey", "arctic-tern")
		expect(t, d, 3, "1 "+kind, "drift")
		if kind == "different" {
			expect(t, d, 0, "complete: 1 done", "reconcile", "--because", "shells")
		}
	}
	expect(t, d, 3, "put right once, last by round 3", "drift")
	expect(t, d, 0, "changed-by gidNumber=0", "explain", "marit.fell", "staff-directory", "changed-by")
	expect(t, d, 2, "choose findings", "accept", "--until", "2027-01-31", "--because", "x")
	expect(t, d, 0, "1 finding: accepted until 2027-01-31", "accept", "--user", "marit.fell", "--until", "2027-01-31", "--because",
		"she prefers it until the refit")
	expect(t, d, 0, "Everything is as declared.", "drift")
	found := decode[[]seen.Finding](t, expect(t, d, 3, "2027-01-31", "drift", "--accepted", "-o", "json"))
	expect(t, d, 0, "assigned to odd.strand", "assign", "odd.strand", "--finding", found[0].Key)
	must(t, d, "finding", "comment", found[0].Key, "asked the captain")
	expect(t, d, 0, "asked the captain", "finding", "show", found[0].Key)
	expect(t, d, 0, "CONTESTED", "drift", "--trend")

	// A laptop is lost: everything of one person is shut, and opened again when it is found.
	lost := write(t, t.TempDir(), "lost.csv", "user,target,what\nhanne.vik,*,disable\nnobody,arctic-tern,disable\n")
	expect(t, d, 4, `refused no user is called "nobody"`, "bulk", lost, "--because", "laptop lost")
	must(t, d, "approve", "4")
	must(t, d, "run", "4")
	on(t, arctic, "passwd -S hanne.vik | cut -d' ' -f2", "L")
	expect(t, d, 0, "It takes back round 4", "undo", "4")
	must(t, d, "approve", "5")
	expect(t, d, 0, "complete", "run", "5")
	on(t, arctic, "chage -l hanne.vik | grep -c 'Account expires.*never'", "1")
	expect(t, d, 0, "Round 4 is undone", "round", "show", "4")
	expect(t, d, 1, "round 4 is undone already", "undo", "4")

	// Too many at once are held, and who drafted it does not approve it.
	expect(t, d, 0, "No other operator could approve it, so the one who drafted it may", "bulk", "--where",
		"'deck-crew' in user.roles", "--target",
		"staff-directory", "--what", "disable", "--because", "a slip")
	expect(t, d, 1, "you made it yourself, and nobody else could approve it; confirm it with your password", "approve", "6")
	expect(t, d, 0, "Round 6 was stopped by odd.strand", "stop", "6", "--because", "it was a slip")
	expect(t, d, 1, "is stopped", "run", "6")

	// At its time, by itself.
	must(t, d, "bulk", "--where", "user.id == 'marit.fell'", "--target", "arctic-tern", "--what", "change shell=/bin/bash", "--because",
		"at night")
	must(t, d, "approve", "7")
	expect(t, d, 2, "write it as", "run", "7", "--not-before", "tonight")
	expect(t, d, 0, "It starts by itself", "run", "7", "--not-before", time.Now().UTC().Add(-time.Minute).Format("2006-01-02 15:04"),
		"--in-window")
	for range 200 {
		if r := decode[rounds.Round](t, must(t, d, "round", "show", "7", "-o", "json")); r.State == rounds.Complete {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	on(t, arctic, "getent passwd marit.fell | cut -d: -f7", "/bin/bash")
	expect(t, d, 0, "1 done", "round", "show", "7")

	// An earlier revision is brought back as a new one, and what that means is told first.
	expect(t, d, 0, "Berg, Nils is gone; loses an account", "revision", "restore", "2", "--because", "the season is over", "--yes")
	expect(t, d, 3, "disable account nils.berg", "drift")
	expect(t, d, 0, "the record holds", "record", "--verify")
}

// Watching tells of surveys and rounds as they go, to people and to programs.
func TestWatch(t *testing.T) {
	d := prepared(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var out safe
	ended := make(chan int)
	go func() {
		ended <- cli.Run(ctx, cli.Env{In: strings.NewReader(""), Out: &out, Err: &out,
			Getenv: func(k string) string { return map[string]string{"ROOST_PROFILE": d.Profile}[k] }}, []string{"watch"})
	}()
	for range 300 {
		must(t, d, "survey", "arctic-tern")
		if s := out.String(); strings.Contains(s, "surveyed 1 of 1 target") && strings.Contains(s, "odd.strand") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	cancel()
	if code := <-ended; code != 0 {
		t.Errorf("an interrupted watch ends with %d: %s", code, out.String())
	}
	if !strings.Contains(out.String(), "surveyed 1 of 1 target") {
		t.Error(out.String())
	}
}

// The calls that the console makes take and give what the document says.
func TestCalls(t *testing.T) {
	d := prepared(t)
	c := calling(t, d)
	_, secret, _, err := d.Server.Service.SignIn(context.Background(), "odd.strand", d.Password, "test", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	file, err := os.ReadFile(filepath.Join(d.Declaration, "roles.yaml"))
	if err != nil || len(file) == 0 {
		t.Fatal(err)
	}
	for _, x := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/api/revisions/0", "", 200, `"name":"deck.yaml"`},
		{"GET", "/api/revisions/9", "", 404, "there is no revision 9"},
		{"GET", "/api/revisions/1/compare", "", 200, `"people":0`},
		{"POST", "/api/edits/meaning",
			`{"edits":[{"section":"users","name":"marit.fell","key":"until","do":"set","value":"2026-01-01"}]}`, 200, `loses an account`},
		{"POST", "/api/edits/meaning", `{"edits":[{"section":"users","name":"marit.fell","key":"until","do":"set","value":"soon"}]}`, 422,
			`is not a day; write it as 2026-04-01`},
		{"POST", "/api/edits/meaning", `{"edits":[{"section":"users","name":"nobody","do":"take"}]}`, 422,
			`nothing is called \"nobody\" under users`},
		{"POST", "/api/meaning", `{"files":[{"name":"f.yaml","text":"roost: 1\nusers: {a: {nmae: A}}\n"}]}`, 422,
			`"faults":[{"at":{"file":"f.yaml","line":2`},
		{"GET", "/api/trend?days=7", "", 200, `"total":1141`},
		{"GET", "/api/trend?days=999", "", 422, "days"},
		{"GET", "/api/findings/ffffffffffffffffffffffffffffffff", "", 404, "there is no finding"},
		{"POST", "/api/findings/accept", `{"keys":["x"],"until":"soon","because":"b"}`, 422, "until is a day"},
		{"GET", "/api/explain?user=marit.fell&target=arctic-tern&what=deck", "", 200, `"state":"missing"`},
		{"GET", "/api/explain?user=marit.fel&target=arctic-tern", "", 404, `did you mean`},
		{"GET", "/api/holders?what=elevation&target=arctic-tern", "", 200, `"account":"jarle.holm"`},
		{"GET", "/api/holders?what=nonsense&target=arctic-tern", "", 404, "nobody has or could have"},
		{"POST", "/api/rounds", `{"because":"b","first":"nothing=here"}`, 422, "no target carries the tag"},
		{"POST", "/api/rounds", `{"because":"b","params":{"domian":"x"}}`, 422, `did you mean \"domain\"?`},
		{"POST", "/api/bulk", `{"where":"user.id ==","what":"disable","because":"b"}`, 422, `"field":"where"`},
		{"POST", "/api/bulk", `{"because":"b"}`, 422, "a bulk change has between 1 and"},
		{"POST", "/api/rounds/99/stop", `{"because":"b"}`, 404, "there is no round 99"},
		{"GET", "/api/decisions", "", 200, `[]`},
		{"DELETE", "/api/decisions?target=arctic-tern&account=x&user=marit.fell", "", 404, "nothing was decided"},
		{"POST", "/api/import", `{"format":"scim","text":"{"}`, 200, "not SCIM JSON"},
		{"POST", "/api/import", `{"format":"xml","text":""}`, 422, "format"},
		{"GET", "/api/export?format=scim", "", 200, "ListResponse"},
	} {
		if status, text, _ := c.call(x.method, x.path, secret, x.body); status != x.status || !strings.Contains(text, x.want) {
			t.Errorf("%s %s %s: %d, want %d and %s\n%.400s", x.method, x.path, x.body, status, x.status, x.want, text)
		}
	}
	rev := decode[api.RevisionFiles](t, func() string { _, s, _ := c.call("GET", "/api/revisions/1", secret, ""); return s }())
	if !slices.ContainsFunc(rev.Files, func(f declare.File) bool {
		return f.Name == "roles.yaml" && f.Text == string(file)
	}) {
		t.Error("the stored file is not the one that was declared")
	}
}
