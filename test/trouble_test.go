package test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"hen-roost/internal/demo"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

// Hosts that are down, hang or come back with another key make their own steps
// fail and nobody else's.
func TestHostsInTrouble(t *testing.T) {
	d := prepared(t)
	must(t, d, "draft", "--because", "try with trouble")
	must(t, d, "approve", "1")
	d.Hosts["sooty-tern"].Stop()
	hanging := signalSSHD(t, d, "little-tern", syscall.SIGSTOP)
	out := expect(t, d, 4, "it took the connection but said nothing", "run", "1")
	if !strings.Contains(out, "nobody answers at its address") {
		t.Errorf("the host that is down is not told: %s", out)
	}
	r := decode[rounds.Round](t, must(t, d, "round", "show", "1", "-o", "json"))
	if r.Outcomes["out-of-reach"] != 165+169 || r.Outcomes["done"] != 176+102+69+148+91+67+31+20+8+52+6+17 {
		t.Errorf("outcomes: %v", r.Outcomes)
	}
	expect(t, d, 1, "○ out of reach", "survey", "little-tern")
	hanging(syscall.SIGCONT)
	must(t, d, "survey", "little-tern")

	if err := d.Hosts["sooty-tern"].Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	expect(t, d, 1, "REFUSED: the identity key has changed from SHA256:", "survey", "sooty-tern")
	expect(t, d, 1, "nothing was accepted", "target", "accept-key", "sooty-tern", "--fingerprint", "SHA256:something")
	expect(t, d, 0, "No target shows a key that was never accepted.", "target", "accept-key", "--all-new")
	targets := decode[[]seen.Target](t, must(t, d, "target", "list", "-o", "json"))
	for _, x := range targets {
		if x.Name == "sooty-tern" && x.State != seen.KeyChanged {
			t.Errorf("sooty-tern is %s", x.State)
		}
		if x.Name == "sooty-tern" {
			must(t, d, "target", "accept-key", "sooty-tern", "--fingerprint", x.Print)
		}
	}
	expect(t, d, 0, "complete: 334 done", "reconcile", "--because", "now that they are back")
	expect(t, d, 0, "Nothing to draft.", "reconcile", "--because", "nothing should be left")
	expect(t, d, 0, "key changed", "record", "--target", "sooty-tern", "--size", "1000")
	expect(t, d, 0, "the record holds", "record", "--verify")
}

// signalSSHD signals a host's listening sshd; the same signal's opposite is sent by what it returns.
func signalSSHD(t *testing.T, d *demo.Demo, host string, sig syscall.Signal) func(syscall.Signal) {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", d.Hosts[host].PID(), d.Hosts[host].PID()))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.Fields(string(b))[0])
	if err != nil {
		t.Fatal(err)
	}
	send := func(s syscall.Signal) {
		if err := syscall.Kill(pid, s); err != nil {
			t.Fatal(err)
		}
	}
	send(sig)
	t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
	return send
}

// Two operators at once: of two who run one round, one does; two rounds for the
// same targets take turns, and what the first did the second finds done.
func TestTwoOperators(t *testing.T) {
	d := prepared(t)
	for i := 1; i <= 2; i++ {
		must(t, d, "draft", "--because", "both of us")
		must(t, d, "approve", fmt.Sprint(i))
	}
	var wg sync.WaitGroup
	codes := make([]int, 4)
	said := make([]string, 4)
	for i, round := range []string{"1", "1", "2", "2"} {
		wg.Go(func() { _, said[i], codes[i] = roost(t, d.Profile, "", "run", round) })
	}
	wg.Wait()
	if codes[0]+codes[1] != 1 || codes[2]+codes[3] != 1 ||
		!strings.Contains(strings.Join(said, ""), "is running already, started by odd.strand") {
		t.Errorf("%v %q", codes, said)
	}
	total := map[string]int{}
	for _, id := range []string{"1", "2"} {
		r := decode[rounds.Round](t, must(t, d, "round", "show", id, "-o", "json"))
		for o, n := range r.Outcomes {
			total[o] += n
		}
	}
	// What changes nothing on a target is done by both: 68 adoptions.
	if total["done"] != 1121+68 || total["already-so"] != 1121-68 {
		t.Errorf("outcomes of both: %v", total)
	}
	expect(t, d, 0, "the record holds", "record", "--verify")
}

// The database stands still for ten seconds in the middle of a round and is
// then killed: the round goes on once it is back, and no step is lost or told twice.
func TestDatabaseAway(t *testing.T) {
	d := prepared(t)
	must(t, d, "draft", "--because", "the database goes away")
	must(t, d, "approve", "1")
	must(t, d, "run", "1", "--no-wait")
	await(t, "steps to end", func() bool {
		r := decode[rounds.Round](t, must(t, d, "round", "show", "1", "-o", "json"))
		return r.Outcomes["done"] > 100
	})
	b, err := os.ReadFile(filepath.Join(d.Data, "db", "pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	time.Sleep(10 * time.Second) // that is the trouble itself
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	await(t, "the round to end", func() bool {
		out, _, code := roost(t, d.Profile, "", "round", "show", "1", "-o", "json")
		return code == 0 && decode[rounds.Round](t, out).State == rounds.Complete
	})
	toldOnce(t, d, 1121)
}

func await(t *testing.T, what string, ready func() bool) {
	t.Helper()
	deadline := time.Now().Add(90 * time.Second)
	for !ready() {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain for %s", what)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// toldOnce checks that every step of round 1 has exactly one entry in a record that holds.
func toldOnce(t *testing.T, d *demo.Demo, steps int) {
	t.Helper()
	expect(t, d, 0, "the record holds", "record", "--verify")
	seen := map[float64]int{}
	for before := int64(1 << 50); ; {
		entries := decode[[]door.Entry](t, must(t, d, "record", "--round", "1", "--kind", "step", "--size", "1000", "--before",
			fmt.Sprint(before), "-o", "json"))
		for _, e := range entries {
			seen[e.Detail["step"].(float64)]++
			before = min(before, e.Seq)
		}
		if len(entries) < 1000 {
			break
		}
	}
	for step, n := range seen {
		if n != 1 {
			t.Errorf("step %v is told %d times", step, n)
		}
	}
	if len(seen) != steps {
		t.Errorf("%d steps are told, want %d", len(seen), steps)
	}
	expect(t, d, 0, "Nothing to draft.", "reconcile", "--because", "nothing should be left")
}

// The service is killed ten times at random moments of a round. Each time a new
// one goes on: no step is lost, none is done twice, all are told truly. What was
// done is counted on the targets: by a hook of useradd, and in slapd's own log.
func TestKilledTenTimes(t *testing.T) {
	t.Setenv("WORLD_LDAP_LOG", "1")
	d := prepared(t)
	for _, h := range d.Hosts {
		if out,
			err := h.Exec(`mkdir -p /etc/shadow-maint/useradd-post.d && cd /etc/shadow-maint/useradd-post.d && printf '#!/bin/sh\necho "$SUBJECT" >>/var/log/made\n' >count && chmod 755 count && : >/var/log/made`); err != nil {
			t.Fatal(out)
		}
	}
	must(t, d, "draft", "--because", "killed ten times")
	must(t, d, "approve", "1")
	must(t, d, "run", "1", "--no-wait")
	d.Server.Close() // finishes its batches, leaves the rest

	roostBin := binary(t)
	var serve *exec.Cmd
	var log bytes.Buffer
	begin := func() {
		serve = exec.Command(roostBin, "serve", "--data", d.Data, "--dialects", d.Dialects, "--listen",
			strings.TrimPrefix(d.Server.Address, "https://"))
		serve.Env = append(os.Environ(), "ROOST_BATCH=1", "ROOST_PATIENCE=20s")
		serve.Stdout, serve.Stderr = &log, &log
		serve.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := serve.Start(); err != nil {
			t.Fatal(err)
		}
	}
	state := func() (rounds.Round, bool) {
		out, _, code := roost(t, d.Profile, "", "round", "show", "1", "-o", "json")
		if code != 0 {
			return rounds.Round{}, false
		}
		return decode[rounds.Round](t, out), true
	}
	kills := 0
	for kills < 10 {
		begin()
		from := -1
		await(t, "the round to go on", func() bool {
			r, ok := state()
			if !ok {
				return false
			}
			ended := r.Steps - r.Outcomes["waiting"] - r.Outcomes["running"]
			if from < 0 {
				from = ended
			}
			return ended > from || r.State != rounds.Running
		})
		if r, _ := state(); r.State != rounds.Running {
			t.Fatalf("the round was over after %d kills", kills)
		}
		time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
		_ = serve.Process.Kill()
		_ = serve.Wait()
		kills++
	}
	began := time.Now()
	begin()
	await(t, "the round to end", func() bool { r, ok := state(); return ok && r.State != rounds.Running })
	r, _ := state()
	t.Logf("after ten kills it took %s more", time.Since(began).Round(time.Millisecond))
	if r.State != rounds.Complete || r.Outcomes["done"]+r.Outcomes["already-so"] != 1121 {
		t.Errorf("round 1 is %s: %v", r.State, r.Outcomes)
	}
	if r.Outcomes["already-so"] != 0 {
		t.Errorf("%d steps are told to have been so before, though nobody else was there", r.Outcomes["already-so"])
	}
	for name, h := range d.Hosts {
		out, err := h.Exec("sort /var/log/made | uniq -d")
		if err != nil || out != "" {
			t.Errorf("%s: made twice: %s %v", name, out, err)
		}
	}
	b, err := os.ReadFile(d.Directory.LogFile())
	if err != nil {
		t.Fatal(err)
	}
	adds, tries := map[string]int{}, regexp.MustCompile(`(conn=\d+ op=\d+) ADD dn="(uid=[^"]*)"`).FindAllSubmatch(b, -1)
	for _, m := range tries {
		if regexp.MustCompile(regexp.QuoteMeta(string(m[1])) + ` RESULT tag=105 err=0`).Match(b) {
			adds[string(m[2])]++
		}
	}
	if len(adds) != 34+28 {
		t.Errorf("%d entries were added, want the 34 found and 28 more", len(adds))
	}
	for dn, n := range adds {
		if n != 1 {
			t.Errorf("%s was added %d times", dn, n)
		}
	}
	toldOnce(t, d, 1121)
	_ = serve.Process.Signal(syscall.SIGTERM)
	if err := serve.Wait(); err != nil {
		t.Errorf("it does not stop in good order: %v", err)
	}
}

// A step may take a minute in which nothing is heard of it: whoever follows its round stays until it ends.
func TestSlowStep(t *testing.T) {
	d := prepared(t)
	out,
		err := d.Hosts["little-tern"].Exec(`mkdir -p /etc/shadow-maint/useradd-post.d && printf '#!/bin/sh\nsleep 60\n' >/etc/shadow-maint/useradd-post.d/slow && chmod 755 /etc/shadow-maint/useradd-post.d/slow`)
	if err != nil {
		t.Fatal(out)
	}
	must(t, d, "draft", "--target", "little-tern", "--user", "marit.fell", "--because", "slow")
	must(t, d, "approve", "1")
	began := time.Now()
	expect(t, d, 0, "Round 1 is complete", "run", "1")
	if time.Since(began) < 55*time.Second {
		t.Error("the step was not slow, so this test says nothing")
	}
}

// Two services carry one round and their database stands still for longer than
// their leases last, twice. What one has begun the other does not begin beside
// it: every account is made once, every step is told once.
func TestDatabaseStandsStill(t *testing.T) {
	d := prepared(t)
	for _, h := range d.Hosts {
		if out,
			err := h.Exec(`mkdir -p /etc/shadow-maint/useradd-post.d && cd /etc/shadow-maint/useradd-post.d && printf '#!/bin/sh\necho "$SUBJECT" >>/var/log/made\nsleep 0.1\n' >count && chmod 755 count && : >/var/log/made`); err != nil {
			t.Fatal(out)
		}
	}
	must(t, d, "draft", "--because", "the database stands still")
	must(t, d, "approve", "1")
	b, err := os.ReadFile(filepath.Join(d.Data, "db", "pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		beside(t, d, d.Profile)
	}
	must(t, d, "run", "1", "--no-wait")
	for part := 1; part <= 2; part++ {
		await(t, "steps to end", func() bool {
			r := decode[rounds.Round](t, must(t, d, "round", "show", "1", "-o", "json"))
			return r.Steps-r.Outcomes["waiting"]-r.Outcomes["running"] > part*100
		})
		if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		time.Sleep(8 * time.Second) // that is the trouble itself: a lease lasts six
		if err := syscall.Kill(pid, syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
	}
	await(t, "the round to end", func() bool {
		out, _, code := roost(t, d.Profile, "", "round", "show", "1", "-o", "json")
		return code == 0 && decode[rounds.Round](t, out).State != rounds.Running
	})
	r := decode[rounds.Round](t, must(t, d, "round", "show", "1", "-o", "json"))
	if r.State != rounds.Complete || r.Outcomes["done"] != 1121 {
		t.Errorf("round 1 is %s: %v", r.State, r.Outcomes)
	}
	for name, h := range d.Hosts {
		if out, err := h.Exec("sort /var/log/made | uniq -d"); err != nil || out != "" {
			t.Errorf("%s: made twice: %s %v", name, out, err)
		}
	}
	toldOnce(t, d, 1121)
}
