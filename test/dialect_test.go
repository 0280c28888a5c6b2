package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/demo"
	"hen-roost/internal/service/seen"
)

// A switch that a dialect teaches, from what was found to what is declared, through the command line: with answers for each step,
// what others do on it, undo, and who is cut off.
func TestSwitch(t *testing.T) {
	d := prepared(t)
	expect(t, d, 0, "harbour-switch harbour-switch.yaml 1 northquay-switch a harbour's switch", "dialect", "list")
	expect(t, d, 3, "such systems are delivered with it, and it is open", "drift", "--target", "northquay-switch")
	expect(t, d, 0, "mooring yes 1 lights, tell", "target", "holds", "northquay-switch", "right")
	expect(t, d, 0, "rolf.eide – right master open 2024-02-29", "target", "superusers", "northquay-switch")
	expect(t, d, 0, "+ person ines.moreau, class mooring", "target", "difference", "northquay-switch")
	expect(t, d, 1, "targets of this kind do not say beforehand", "target", "difference", "arctic-tern")
	must(t, d, "draft", "--target", "northquay-switch", "--because", "the quay's switch")
	expect(t, d, 0, "~ person rolf.eide shut: false > true", "round", "difference", "1", "northquay-switch")
	expect(t, d, 1, "round 1 has no steps on arctic-tern", "round", "difference", "1", "arctic-tern")
	devicePages(t, d)
	must(t, d, "approve", "1")
	expect(t, d, 0, "Round 1 is complete: 8 done.", "run", "1")
	expect(t, d, 1, "round 1 is complete; a target tells what would change before it begins", "round", "difference", "1",
		"northquay-switch")
	expect(t, d, 0, "Nothing to draft.", "reconcile", "--target", "northquay-switch", "--because", "nothing is left")
	mayDo(t, d)
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
	// The class can be taken neither away nor for another: nobody else could administer the switch. By hand it can.
	expect(t, d, 4, "Round 2 is incomplete: 2 not-tried, 1 done.", "run", "2")
	b := typing(t, d.Switch.Address, "hen-roost", d.Switch.Password)
	for _, line := range []string{"open sheet", "person odd.strand class mooring", `keep sheet "as it was"`} {
		if _, err := b.Type(context.Background(), line); err != nil {
			t.Fatal(err)
		}
	}
	b.Close()
	must(t, d, "survey", "northquay-switch")
	expect(t, d, 0, "Nothing differs on northquay-switch.", "drift", "--target", "northquay-switch")
	expect(t, d, 0, "on northquay-switch", "undo", "1", "--because", "not yet")
	expect(t, d, 0, "odd.strand is suspended", "suspend", "odd.strand", "--because", "laptop lost")
	await(t, "the account to be shut", func() bool {
		out := must(t, d, "target", "show", "northquay-switch")
		return strings.Contains(strings.Join(strings.Fields(out), " "), "odd.strand Odd Strand Odd Strand shut")
	})
	expect(t, d, 0, "the record holds", "record", "--verify")
}

// mayDo asks who may do what, on the switch and on a database, through the command line.
func mayDo(t *testing.T, d *demo.Demo) {
	t.Helper()
	for _, c := range []struct{ user, target, action, want string }{
		{"odd.strand", "northquay-switch", "light 3 on", "light 3 on: may do that. It takes lights: has right mooring gives it: ● as " +
			"declared"},
		{"odd.strand", "northquay-switch", "strike person ulla", "may not do that. It takes change people: lacks right master gives it"},
		{"marit.fell", "northquay-switch", "light 3 on", "may not do that. They have no account there."},
		{"gunnar.holt", "stores-database", "SELECT ON stores.items", "It takes SELECT ON stores.items: has"},
	} {
		expect(t, d, 0, c.want, "explain", c.user, c.target, "--action", c.action)
	}
	expect(t, d, 1, `asked what "dance" takes it answers: what is dance?`, "explain", "odd.strand", "northquay-switch", "--action", "dance")
	x := decode[seen.Explanation](t, must(t, d, "explain", "odd.strand", "northquay-switch", "--action", "turn out 2", "-o", "json"))
	if x.Action.May != "no" || len(x.Action.Needs) != 1 || x.Action.Needs[0].Permission != "turn out" {
		t.Errorf("%+v", x.Action)
	}
}

// devicePages are what the console has of a device: what it says would change, who may do what, and the dialect that taught it.
func devicePages(t *testing.T, d *demo.Demo) {
	t.Helper()
	p := signedIn(t, d, "/targets/northquay-switch")
	p.click("Ask northquay-switch what would change")
	p.sees("+ person tide-board, class mooring")
	p.shot("device")
	p.do(chromedp.SendKeys(css("input[placeholder='odd.strand']"), "odd.strand"),
		chromedp.SendKeys(css("input[list=actions]"), "light 3 on"))
	p.click("May they?")
	p.sees("Odd Strand may do that.")
	p.sees("right mooring gives it")
	p.do(chromedp.Navigate(p.url + "/rounds/1"))
	p.click("Ask northquay-switch what would change")
	p.sees("~ person install shut: false > true")
	p.do(chromedp.Navigate(p.url + "/dialects/harbour-switch"))
	p.sees("harbour-switch.recording.yaml")
	p.sees("northquay-switch")
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
	expect(t, d, 1, `quay.yaml:36: no recording has what is answered to "tell people", by which account is read`, "dialect", "check", own)
	out := expect(t, d, 0, "account 4", "dialect", "try", own, "northquay-switch")
	if !strings.Contains(out, "Accounts: hen-roost, install, odd.strand, rolf.eide") {
		t.Errorf("%s", out)
	}
	recording := must(t, d, "dialect", "record", own, "northquay-switch")
	if strings.Contains(recording, d.Switch.Password) || !strings.Contains(recording, "class master") {
		t.Errorf("%s", recording)
	}
	write(t, dir, "quay.recording.yaml", recording)
	expect(t, d, 0, "quay 1 11", "dialect", "check", own)
	write(t, dir, "quay.recording.yaml", strings.Replace(recording, "full-name: Odd S.", "full-name: Odd T.", 1))
	expect(t, d, 1, `full-name of account "odd.strand" is read as "Odd S.", and should be "Odd T."`, "dialect", "check", own)
	blind := write(t, dir, "blind.yaml", strings.Replace(string(text), "head: '^PERSON '", "head: '^WHO '", 1))
	expect(t, d, 1, "line 1 of the answer, \"PERSON", "dialect", "try", blind, "northquay-switch")
	sly := write(t, dir, "sly.yaml", strings.Replace(string(text), "quote: {rule: double}", "quote: {rule: never, only: '.*'}", 1))
	expect(t, d, 1, "which the system takes for the words", "dialect", "check", sly)
	bad := write(t, dir, "bad.yaml", "dialect: 1\nkind: x\nreach: {over: post, as: exec}\nholds: {}\nquote: {rule: none}\n")
	said := expect(t, d, 1, `reach: over is "post"; it is ssh, tcp, host, here`, "dialect", "check", bad)
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
