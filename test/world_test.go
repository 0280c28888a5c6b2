// Package test drives the whole of Hen Roost through its own doors, the
// command line, HTTP and the console, against real hosts and a real directory.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/cli"
	"hen-roost/internal/demo"
)

// start starts a sample world that ends with the test. Nothing is declared yet.
func start(t *testing.T) *demo.Demo {
	t.Helper()
	dir, err := os.MkdirTemp("", "rt") // short: there is a socket in it
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	d, err := demo.Start(context.Background(), demo.Options{Dir: dir + "/w", Listen: "127.0.0.1:0", Batch: 20, Wait: 4 * time.Second,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return d
}

// roost runs a command line, signed in by a profile, and returns what it printed on both ways out and its exit status.
func roost(t *testing.T, profile, stdin string, args ...string) (out string, said string, code int) {
	t.Helper()
	var o, e bytes.Buffer
	env := cli.Env{In: strings.NewReader(stdin), Out: &o, Err: &e, Version: "test", Getenv: func(k string) string {
		if k == "ROOST_PROFILE" {
			return profile
		}
		return ""
	}}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	code = cli.Run(ctx, env, args)
	return o.String(), e.String(), code
}

// must runs a command that has to succeed.
func must(t *testing.T, d *demo.Demo, args ...string) string {
	t.Helper()
	out, said, code := roost(t, d.Profile, "", args...)
	if code != 0 {
		t.Fatalf("roost %s: exit %d\n%s%s", strings.Join(args, " "), code, out, said)
	}
	return out
}

// expect runs a command and checks its exit status and that it says something.
func expect(t *testing.T, d *demo.Demo, code int, say string, args ...string) string {
	t.Helper()
	out, said, got := roost(t, d.Profile, "", args...)
	if words := strings.Join(strings.Fields(out+said), " "); got != code || !strings.Contains(words, say) {
		t.Errorf("roost %s: exit %d, want %d and %q\n%s%s", strings.Join(args, " "), got, code, say, out, said)
	}
	return out + said
}

// prepared starts a world that is declared and surveyed.
func prepared(t *testing.T) *demo.Demo {
	t.Helper()
	d := start(t)
	err := d.Prepare(context.Background(), func(_ context.Context, args ...string) int {
		_, said, code := roost(t, d.Profile, "", args...)
		if code > 1 {
			t.Log(said)
		}
		return code
	})
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func decode[T any](t *testing.T, s string) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(s), &v); err != nil {
		t.Fatalf("%v in %s", err, s)
	}
	return v
}

// binary builds roost once for tests that must kill it.
func binary(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "roost")
	if out, err := exec.Command("go", "build", "-o", file, "hen-roost/cmd/roost").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return file
}

func write(t *testing.T, dir, name, text string) string {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// safe is a buffer that one goroutine writes while another reads.
type safe struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safe) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safe) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
