package test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// Whatever is under way when the service is killed, the next one leaves what a survey would see.
func TestLivesKilled(t *testing.T) {
	l := begin(t)
	l.act(joining("bo.life", "Bo Life", "1902", "--no-passwords", "--role", "life-chief")...)
	l.d.Server.Close()
	program := binary(t)
	var serve *exec.Cmd
	var log bytes.Buffer
	start := func() {
		serve = exec.Command(program, "serve", "--data", l.d.Data, "--dialects", l.d.Dialects, "--listen",
			strings.TrimPrefix(l.d.Server.Address, "https://"))
		serve.Env = append(os.Environ(), "ROOST_BATCH=2", "ROOST_PATIENCE=20s")
		serve.Stdout, serve.Stderr = &log, &log
		serve.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := serve.Start(); err != nil {
			t.Fatal(err)
		}
		await(t, "the service", func() bool {
			_, _, code := roost(t, l.d.Profile, "", "round", "list")
			return code == 0
		})
	}
	start()
	t.Cleanup(func() { _ = serve.Process.Kill(); _ = serve.Wait() })
	for _, a := range [][]string{joining("ada.life", "Ada Life", "1901"),
		{"leave", "ada.life", "--at-once", "--because", "lives", "--yes"}} {
		over := make(chan bool)
		go func() {
			defer close(over)
			_, _, _ = roost(t, l.d.Profile, "", a...) // it loses the service, and waits for the next
		}()
		pause := time.Duration(50+rand.IntN(700)) * time.Millisecond
		time.Sleep(pause)
		_ = serve.Process.Kill()
		_ = serve.Wait()
		start()
		<-over
		_, _, _ = roost(t, l.d.Profile, "", a...) // what did not come to be is asked for again; what did is refused, or so already
		l.settle()
		if l.lawful(fmt.Sprintf("killed %s after the beginning of: %s", pause, strings.Join(a, " "))); t.Failed() {
			t.Fatal(log.String())
		}
	}
}
