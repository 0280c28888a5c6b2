package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"hen-roost/internal/demo"
)

// beside starts a service of its own process on a demo's database, and returns who somebody is there that is signed in already.
func beside(t *testing.T, d *demo.Demo, profile string) string {
	t.Helper()
	var log safe
	serve := exec.Command(binary(t), "serve", "--data", t.TempDir(), "--dialects", d.Dialects, "--listen", "127.0.0.1:0", "--key-file",
		filepath.Join(d.Data, "seal.key"))
	serve.Env = append(os.Environ(), "ROOST_BATCH=5", "ROOST_PATIENCE=20s",
		"ROOST_DATABASE=root@unix("+filepath.Join(d.Data, "db", "s")+")/roost")
	serve.Stdout, serve.Stderr = &log, &log
	serve.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = serve.Process.Signal(syscall.SIGTERM)
		_ = serve.Wait()
		if t.Failed() {
			t.Log(log.String())
		}
	})
	var address, print string
	await(t, "the other service", func() bool {
		_, said, _ := strings.Cut(log.String(), "ready ")
		n, _ := fmt.Sscanf(said, "%s certificate %s", &address, &print)
		return n == 2
	})
	b, err := os.ReadFile(profile)
	if err != nil {
		t.Fatal(err)
	}
	signed := decode[map[string]any](t, string(b))
	signed["server"], signed["fingerprint"] = address, print
	if b, err = json.Marshal(signed); err != nil {
		t.Fatal(err)
	}
	return write(t, t.TempDir(), "there.json", string(b))
}

// Whatever two operators do through two services, one after the other or at once, leaves what a survey would see. The seed is
// told: LIVES_SEED runs it again.
func TestLivesShared(t *testing.T) {
	l := begin(t)
	other := beside(t, l.d, one(t, l.d, "ann", "draft", "run", "suspend", "restore", "credential"))
	seed := uint64(time.Now().UnixNano())
	if s := os.Getenv("LIVES_SEED"); s != "" {
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	dice := rand.New(rand.NewPCG(seed, 1))
	l.act(joining("ada.life", "Ada Life", "1901", "--no-passwords")...)
	l.act(joining("bo.life", "Bo Life", "1902", "--no-passwords")...)
	because := []string{"--because", "lives"}
	file := func(user, what string) string {
		return write(t, t.TempDir(), "lines.csv", "user,target,what\n"+user+",*,"+what+"\n")
	}
	choose := func() []string {
		who := dice.IntN(2)
		user, lind := []string{"ada.life", "bo.life"}[who], []string{"ada.lind", "bo.lind"}[who]
		acts := [][]string{
			{"suspend", user}, {"suspend", user, "--although-last"}, {"restore", user}, {"restore", user},
			{"rotate", user, "--show", "--no-wait"}, {"rotate", user, "--key", "--show", "--no-wait"},
			{"edit", "users", user, "--add", "roles=life-chief", "--yes"}, {"edit", "users", user, "--take", "roles=life-chief", "--yes"},
			{"bulk", file(user, "leave lifers")}, {"bulk", file(user, "disable")}, {"bulk", file(user, "remove")},
			{"reconcile", "--user", user}, {"reconcile", "--user", user}, {"undo", l.last()},
			{"leave", user, "--at-once", "--yes"}, {"edit", "users", user, "--set", "until=", "--yes"},
			{"move", user, "--to", "life,life-chief", "--yes"}, {"move", user, "--to", "life", "--yes"},
			{"rename", user, lind, "--yes"}, {"rename", lind, user, "--yes"},
			joining(user, []string{"Ada Life", "Bo Life"}[who], fmt.Sprint(1901+who), "--no-passwords"),
		}
		return append(acts[dice.IntN(len(acts))], because...)
	}
	done := map[string]int{}
	for began := time.Now(); time.Since(began) < time.Minute; {
		turn := [2][][]string{{choose(), choose(), choose()}, {choose(), choose(), choose()}}
		atOnce := dice.IntN(2) == 0
		var said [2][]string
		var wg sync.WaitGroup
		for i, profile := range []string{l.d.Profile, other} {
			run := func() { // until one is not refused
				for code := -1; code != 0 && len(said[i]) < len(turn[i]); {
					a := turn[i][len(said[i])]
					_, _, code = roost(t, profile, "", a...)
					said[i] = append(said[i], fmt.Sprintf("%d, at once %v: %s: %d", i, atOnce, strings.Join(a, " "), code))
				}
			}
			if atOnce {
				wg.Go(run)
			} else {
				run()
			}
		}
		wg.Wait()
		for i, list := range said {
			l.log = append(l.log, list...)
			if strings.HasSuffix(list[len(list)-1], ": 0") {
				done[turn[i][len(list)-1][0]]++
			}
		}
		if l.lawfulBetween(); t.Failed() {
			t.Fatalf("seed %d:\n%s", seed, strings.Join(l.log, "\n"))
		}
	}
	t.Logf("%d acts, seed %d; done were %v", len(l.log)-2, seed, done)
}

// lawfulBetween faults a picture that a survey changes while no round runs: one begins by itself once a key is everywhere.
func (l *lives) lawfulBetween() {
	l.Helper()
	for {
		last := l.last()
		l.settle()
		stored := l.held()
		must(l.T, l.d, "survey")
		if is := l.held(); l.last() == last {
			l.differ("after the last two, stored and surveyed", stored, is, func(string) bool { return false })
			return
		}
	}
}
