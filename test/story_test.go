package test

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"hen-roost/internal/service/seen"
)

// The demo's story holds from beginning to end, and its outcome is looked at
// from the other side: on the hosts and in the directory themselves.
func TestStory(t *testing.T) {
	d := start(t)
	var out bytes.Buffer
	err := d.Once(context.Background(), &out, func(_ context.Context, args ...string) int {
		o, said, code := roost(t, d.Profile, "", args...)
		out.WriteString(o + said)
		return code
	})
	if err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	for host, checks := range map[string]map[string]string{
		"arctic-tern": {
			"id -u jorunn.strand":                      "1002",
			"id -Gn marit.fell":                        "marit.fell crew deck all-hands",
			"getent group crew | cut -d: -f3":          "5110",
			"passwd -S jarle.holm | cut -d' ' -f2":     "L",
			"chage -l jarle.holm | grep 'Account exp'": "Account expires\t\t\t\t\t\t: Jan 02, 1970",
			"passwd -S svc-backup | cut -d' ' -f2":     "L", // as found: it never had a password
			"chage -l svc-backup | grep 'Account exp'": "Account expires\t\t\t\t\t\t: never",
			"getent passwd lucia.garcia-marquez": "lucia.garcia-marquez:x:1006:1006:Lucía García " +
				"Márquez:/home/lucia.garcia-marquez:/bin/bash",
			"stat -c %U:%a /home/marit.fell/.ssh":            "marit.fell:700",
			"cut -d' ' -f3 ~marit.fell/.ssh/authorized_keys": "marit@laptop",
		},
		"sooty-tern": {"id -Gn mfell": "mfell all-hands crew deck", "id -Gn kberg": "kberg all-hands crew deck",
			"chage -l kari.berg | grep 'Account exp'": "Account expires\t\t\t\t\t\t: Jan 02, 1970"},
		"little-tern": {"chage -l gunnar.holt | grep 'Account exp'": "Account expires\t\t\t\t\t\t: never"},
	} {
		for command, want := range checks {
			if got, err := d.Hosts[host].Exec(command); err != nil || strings.TrimSpace(got) != want {
				t.Errorf("%s: %s: %q (%v), want %q", host, command, got, err, want)
			}
		}
	}
	for filter, want := range map[string]string{
		"(&(uid=jarle.holm)(pwdAccountLockedTime=000001010000Z))":                           "uid=jarle.holm",
		"(&(uid=cl)(uidNumber=1026)(memberOf=cn=bridge,ou=Groups,dc=ternsound,dc=example))": "uid=cl",
		"(&(cn=crew)(member=cn=deck,ou=Groups,dc=ternsound,dc=example))":                    "cn=crew",
		"(&(mail=amelie.durand@ternsound.example)(uidNumber=1004))":                         "dn:",
	} {
		if got, err := d.Directory.Search(filter, "+"); err != nil || !strings.Contains(got, want) {
			t.Errorf("the directory has nothing for %s: %v %s", filter, err, got)
		}
	}
}

// What the command line prints for programs, and how it refuses.
func TestCommandLine(t *testing.T) {
	d := prepared(t)
	users := decode[[]seen.User](t, must(t, d, "user", "list", "--output", "json", "--find", "bjørn"))
	if len(users) != 1 || users[0].ID != "bjorn.aasen" || users[0].Name != "Bjørn Åsen" {
		t.Errorf("users: %+v", users)
	}
	if csv := must(t, d, "target", "list", "-o", "csv"); !strings.HasPrefix(csv, "name,kind,address,") || strings.Count(csv, "\n") != 15 {
		t.Errorf("csv: %s", csv)
	}
	if y := must(t, d, "user", "show", "siri", "-o", "yaml"); !strings.Contains(y, "id: siri") {
		t.Errorf("yaml: %s", y)
	}
	expect(t, d, 0, "ou=People,dc=ternsound,dc=example ou=Seasonal,ou=People", "target", "holds", "staff-directory", "container")
	expect(t, d, 0, "wilma.toft – ▲ ▲", "target", "matrix", "arctic-tern", "group")
	expect(t, d, 0, "members follow; the next with --after astrid.lindqvist", "target", "matrix", "arctic-tern", "group", "--size", "1")
	expect(t, d, 0, "first seen number 1900 2 came in jarle.holm, wilma.toft", "target", "history", "arctic-tern", "group", "crew")
	expect(t, d, 0, "first seen,number,,1900", "target", "history", "arctic-tern", "group", "crew", "-o", "csv")
	expect(t, d, 2, "--before is a time such as", "target", "history", "arctic-tern", "group", "crew", "--before", "soon")
	expect(t, d, 1, `arctic-tern was never seen to hold the group "crow"`, "target", "history", "arctic-tern", "group", "crow")
	expect(t, d, 1, `no user is called "marit.fel"; did you mean "marit.fell"?`, "user", "show", "marit.fel")
	expect(t, d, 1, `no target is called "artic-tern"; did you mean "arctic-tern"?`, "survey", "artic-tern")
	expect(t, d, 1, `no kind of finding is called "mising"; did you mean "missing"?`, "drift", "--kind", "mising")
	expect(t, d, 2, `there is no command "drfit"; did you mean "drift"?`, "drfit")
	expect(t, d, 2, "--because is missing", "draft")
	expect(t, d, 2, "--output is table, json, yaml or csv", "drift", "-o", "xml")
	expect(t, d, 2, "there is no option --tagret", "drift", "--tagret", "x")
	expect(t, d, 2, "not the number of a round", "approve", "one")
	expect(t, d, 1, "there is no round 99", "approve", "99")
	expect(t, d, 1, "a reason is required", "draft", "--because", "  ")
	expect(t, d, 3, "1 unmatched", "drift", "--kind", "unmatched")
	expect(t, d, 2, "there is no terminal to ask on", "secret", "set", "x")
	expect(t, d, 0, "Nothing to draft.", "draft", "--kind", "unmatched", "--because", "try")
	expect(t, d, 0, "Round 1 makes 26 changes for 1 person on 5 targets.", "draft", "--user", "marit.fell", "--because", "only Marit")
	expect(t, d, 1, "round 1 is a draft; look at it and approve it first", "run", "1")
	expect(t, d, 0, "Round 1 is approved", "approve", "1")
	expect(t, d, 1, "round 1 is approved already, by odd.strand", "approve", "1")
	// Meanwhile somebody does by hand what the round would do, and something else besides.
	out, err := d.Hosts["arctic-tern"].Exec("gpasswd -a marit.fell deck; chsh -s /bin/sh hanne.vik; groupadd -g 5999 all-hands")
	if err != nil {
		t.Fatal(out)
	}
	expect(t, d, 4, "number is 5999", "run", "1")
	expect(t, d, 0, "■ incomplete", "round", "list")
	expect(t, d, 1, "round 1 is incomplete; what is still to do goes into a new one", "run", "1")
	expect(t, d, 0, "Comment is entry", "record", "comment", "3", "agreed")
	expect(t, d, 0, "on entry 3: agreed", "record", "3")
	expect(t, d, 0, "the record holds", "record", "--verify")
	expect(t, d, 0, "vessel-key", "secret", "list")

	for _, c := range [][]string{{"marit.fell", "user", "show", "mar"}, {"arctic-tern", "survey", ""},
		{"sooty-tern", "drift", "--target", ""}, {"unmatched", "draft", "--kind", ""}} {
		expect(t, d, 0, c[0], append([]string{"__complete"}, c[1:]...)...)
	}

	faulty := write(t, t.TempDir(), "bad.yaml", "roost: 1\nusers:\n  x: {nmae: X}\n")
	expect(t, d, 1, `bad.yaml:3:7: unknown key "nmae" in user x; did you mean "name"?`, "check", faulty)
	expect(t, d, 1, "2 faults in the declaration; nothing was stored", "declare", faulty, "--because", "try")
	expect(t, d, 0, "No faults: 60 users", "check", d.Declaration, "--dialects", d.Dialects)
	expect(t, d, 0, "No faults: 60 users", "check", d.Declaration, "--service")
	expect(t, d, 1, `is of unknown kind "harbour-switch"`, "check", d.Declaration)

	// A name with everything that addresses and shells would take apart finds its page.
	write(t, d.Declaration, "odd.yaml", "roost: 1\nusers:\n  \"o'neil; re?boot & 50% #1 ø+\": {name: Odd}\n")
	must(t, d, "declare", d.Declaration, "--yes", "--because", "an odd one")
	expect(t, d, 0, "Odd (o'neil; re?boot & 50% #1 ø+)", "user", "show", "o'neil; re?boot & 50% #1 ø+")

	// Another operator, with another duty.
	out, _, code := roost(t, d.Profile, "a long enough password\n", "operator", "add", "ines.moreau", "--duties", "look",
		"--password-file", "-")
	if code != 0 {
		t.Fatal(out)
	}
	other := t.TempDir() + "/sign-in"
	if out, said, code := roost(t, other, "a long enough password", "sign-in", d.Server.Address, "--operator", "ines.moreau",
		"--password-file", "-", "--fingerprint", d.Server.Print); code != 0 {
		t.Fatal(out, said)
	}
	if _, said, code := roost(t, other, "", "draft", "--because", "try"); code != 1 ||
		!strings.Contains(said, `this needs the duty "draft"; ines.moreau has look`) {
		t.Errorf("%d %s", code, said)
	}
	if _, said, code := roost(t, other, "wrong", "sign-in", d.Server.Address, "--operator", "ines.moreau", "--password-file",
		"-"); code != 1 || !strings.Contains(said, "a certificate nobody has accepted yet") {
		t.Errorf("%d %s", code, said)
	}
	if _, said, code := roost(t, other, "", "sign-out"); code != 0 {
		t.Error(said)
	}
	if _, said, code := roost(t, other, "", "drift"); code != 1 || !strings.Contains(said, "you are not signed in") {
		t.Errorf("%d %s", code, said)
	}
}
