package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// A switch that a dialect teaches, from what was found to what is declared, through the command line: with answers for each step,
// what others do on it, undo, and who is cut off.
func TestSwitch(t *testing.T) {
	d := prepared(t)
	expect(t, d, 0, "harbour-switch harbour-switch.yaml 1 northquay-switch a harbour's switch", "dialect", "list")
	expect(t, d, 3, "such systems are delivered with it, and it is open", "drift", "--target", "northquay-switch")
	expect(t, d, 0, "mooring yes 1 tell", "target", "holds", "northquay-switch", "right")
	expect(t, d, 0, "rolf.eide – class master open 2024-02-29", "target", "superusers", "northquay-switch")
	must(t, d, "draft", "--target", "northquay-switch", "--because", "the quay's switch")
	must(t, d, "approve", "1")
	expect(t, d, 0, "Round 1 is complete: 8 done.", "run", "1")
	expect(t, d, 0, "Nothing to draft.", "reconcile", "--target", "northquay-switch", "--because", "nothing is left")
	must(t, d, "survey", "northquay-switch")
	expect(t, d, 0, "Nothing differs on northquay-switch.", "drift", "--target", "northquay-switch")

	// Somebody signs in by hand, and commits: their session is seen, what they did is drift, and whose it was is told.
	a := typing(t, d.Switch.Address, "hen-roost", d.Switch.Password)
	for _, line := range []string{"open sheet", "person odd.strand class master", "person odd.strand name \"Odd the Second\""} {
		if _, err := a.Type(context.Background(), line); err != nil {
			t.Fatal(err)
		}
	}
	if answer, err := a.Type(context.Background(), `keep sheet "by hand at night"`); err != nil || !strings.Contains(answer, "kept") {
		t.Fatalf("%q %v", answer, err)
	}
	expect(t, d, 0, "hen-roost", "target", "sessions", "northquay-switch")
	a.Close()
	must(t, d, "survey", "northquay-switch")
	out := expect(t, d, 3, "beyond Odd Strand withdraw right odd.strand · master", "drift", "--target", "northquay-switch")
	for _, want := range []string{"full name Odd the Second → full name Odd Strand", "put right once, last by round 1"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%q is not told:\n%s", want, out)
		}
	}
	must(t, d, "draft", "--target", "northquay-switch", "--because", "as declared")
	must(t, d, "approve", "2")
	must(t, d, "run", "2")
	r := decode[rounds.Round](t, must(t, d, "round", "show", "2", "-o", "json"))
	if r.State != rounds.Complete || len(r.Outcomes) != 1 {
		t.Errorf("%+v", r)
	}
	expect(t, d, 0, "on northquay-switch", "undo", "1", "--because", "not yet")
	expect(t, d, 4, "odd.strand is suspended", "suspend", "odd.strand", "--because", "laptop lost")
	await(t, "the account to be shut", func() bool {
		out := must(t, d, "target", "show", "northquay-switch")
		return strings.Contains(strings.Join(strings.Fields(out), " "), "odd.strand Odd Strand Odd Strand shut")
	})
	expect(t, d, 0, "the record holds", "record", "--verify")
}

// typing is a conversation with the switch by hand.
func typing(t *testing.T, address, login, password string) dialect.Typist {
	t.Helper()
	text, err := os.ReadFile("../demo/dialects/harbour-switch.yaml")
	if err != nil {
		t.Fatal(err)
	}
	c, err := dialect.Learn("harbour-switch.yaml", text)
	if err != nil {
		t.Fatal(err)
	}
	a := connect.Access{Target: "by hand", Address: address, As: login, Secret: []byte(password)}
	_, err = c.Open(context.Background(), a)
	if k, ok := err.(*connect.KeyError); ok {
		a.Key = k.Offered
	}
	x, err := dialect.Typing(context.Background(), c, a)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// Dialects are tried, recorded and checked through the command line; what is wrong is told with its line.
func TestDialectCommands(t *testing.T) {
	d := prepared(t)
	dir := t.TempDir()
	for _, kind := range []string{"harbour-switch", "bridge-router", "folio", "manning"} {
		expect(t, d, 0, kind+" 1", "dialect", "check", filepath.Join("../demo/dialects", kind+".yaml"))
	}
	text, err := os.ReadFile("../demo/dialects/harbour-switch.yaml")
	if err != nil {
		t.Fatal(err)
	}
	own := write(t, dir, "quay.yaml", strings.Replace(string(text), "kind: harbour-switch", "kind: quay", 1))
	expect(t, d, 1, `quay.yaml:33: no recording has what is answered to "tell people", by which account is read`, "dialect", "check", own)
	out := expect(t, d, 0, "account 4", "dialect", "try", own, "northquay-switch")
	if !strings.Contains(out, "Accounts: hen-roost, install, odd.strand, rolf.eide") {
		t.Errorf("%s", out)
	}
	recording := must(t, d, "dialect", "record", own, "northquay-switch")
	if strings.Contains(recording, d.Switch.Password) || !strings.Contains(recording, "class master") {
		t.Errorf("%s", recording)
	}
	write(t, dir, "quay.recording.yaml", recording)
	expect(t, d, 0, "quay 1 7", "dialect", "check", own)
	write(t, dir, "quay.recording.yaml", strings.Replace(recording, "full-name: Odd S.", "full-name: Odd T.", 1))
	expect(t, d, 1, `full-name of account "odd.strand" is read as "Odd S.", and should be "Odd T."`, "dialect", "check", own)
	blind := write(t, dir, "blind.yaml", strings.Replace(string(text), "head: '^PERSON '", "head: '^WHO '", 1))
	expect(t, d, 1, "line 1 of the answer, \"PERSON", "dialect", "try", blind, "northquay-switch")
	sly := write(t, dir, "sly.yaml", strings.Replace(string(text), "quote: {rule: double}", "quote: {rule: never, only: '.*'}", 1))
	expect(t, d, 1, "which the system takes for the words", "dialect", "check", sly)
	bad := write(t, dir, "bad.yaml", "dialect: 1\nkind: x\nreach: {over: post, as: exec}\nholds: {}\nquote: {rule: none}\n")
	said := expect(t, d, 1, `reach: over is "post"; it is ssh, tcp`, "dialect", "check", bad)
	for _, want := range []string{`quote: rule is "none"`, "holds says nothing of account"} {
		if !strings.Contains(said, want) {
			t.Errorf("not all faults are told: %s", said)
		}
	}
	expect(t, d, 1, "no target", "dialect", "try", own, "norhtquay-switch")
	list := decode[[]seen.Dialect](t, must(t, d, "dialect", "list", "-o", "json"))
	if len(list) != 4 || list[2].Kind != "harbour-switch" || len(list[2].Targets) != 1 || len(list[2].Faults) != 0 {
		t.Errorf("%+v", list)
	}
	expect(t, d, 0, "kind: folio", "dialect", "show", "folio")
	expect(t, d, 1, `"harbour-switch"`, "dialect", "show", "harbor-switch")
	expect(t, d, 1, `no dialect is called "host"; known are bridge-router, folio, harbour-switch, manning`, "dialect", "show", "host")
}
