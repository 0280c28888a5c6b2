package dbserver

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

var ctx = context.Background()

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "rd")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func pid(t *testing.T, dir string) int {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "pid"))
	if err != nil {
		t.Fatal(err)
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func ask(s *Server) error {
	db, err := sql.Open("mysql", s.DSN())
	if err != nil {
		return err
	}
	defer db.Close()
	return db.Ping()
}

func TestServer(t *testing.T) {
	dir := folder(t)
	s, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	second, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil || second.cmd != nil || ask(second) != nil {
		t.Fatalf("a second one is started beside the first: %v", err)
	}
	second.Stop()
	if err := ask(s); err != nil {
		t.Errorf("the second's end ended the first: %v", err)
	}
	db, err := sql.Open("mysql", s.DSN())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE kept (a INT)"); err != nil {
		t.Fatal(err)
	}
	old := pid(t, dir)
	if err := syscall.Kill(old, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for ask(s) != nil || pid(t, dir) == old {
		if time.Now().After(deadline) {
			t.Fatal("a server that was killed is not started anew")
		}
		time.Sleep(20 * time.Millisecond)
	}
	s.Stop()
	if ask(s) == nil {
		t.Error("it still answers")
	}
	again, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	if dsn, err := again.Create(ctx); err != nil || !strings.Contains(dsn, "/t_") {
		t.Errorf("%s %v", dsn, err)
	}
	if err := ask(again); err != nil {
		t.Error(err)
	}
}

func TestCannotStart(t *testing.T) {
	long := filepath.Join(folder(t), strings.Repeat("x", 100))
	if _, err := Start(ctx, Options{Dir: long}); err == nil || !strings.Contains(err.Error(), "too long a name for a socket") {
		t.Errorf("%v", err)
	}
	file := filepath.Join(folder(t), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(ctx, Options{Dir: file + "/db"}); err == nil {
		t.Error("a folder inside a file")
	}
	broken := folder(t)
	if err := os.MkdirAll(filepath.Join(broken, "data"), 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(ctx, Options{Dir: broken}); err == nil || !strings.Contains(err.Error(), "mariadbd ended at once") {
		t.Errorf("%v", err)
	}
	t.Setenv("PATH", "/nowhere")
	if _, err := Start(ctx, Options{Dir: folder(t)}); err == nil || !strings.Contains(err.Error(), "MariaDB's server is not installed") {
		t.Errorf("%v", err)
	}
}

// helper, when it is set, makes the test binary a process that starts a server in a folder and waits to be killed.
const helper = "DBSERVER_TEST_FOLDER"

func TestMain(m *testing.M) {
	dir := os.Getenv(helper)
	if dir == "" {
		os.Exit(m.Run())
	}
	if _, err := Start(ctx, Options{Dir: dir, Throwaway: true}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("up")
	select {}
}

// However early a start is killed, the next one comes up.
func TestKilledStarts(t *testing.T) {
	for k := range 4 { // that many at once
		t.Run(fmt.Sprint(k), func(t *testing.T) {
			t.Parallel()
			killedStarts(t, k, 4)
		})
	}
}

// killedStarts kills every n-th of a hundred starts, each at another moment of its first second.
func killedStarts(t *testing.T, k, n int) {
	dir, err := os.MkdirTemp("", "rk")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	for i := k; i < 100; i += n {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), helper+"="+dir+"/db")
		var said bytes.Buffer
		cmd.Stderr = &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i*7%100) * 10 * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if said.Len() > 0 && !strings.Contains(said.String(), "hangs; it is ended") {
			t.Fatalf("start %d: %s", i, &said)
		}
	}
	s, err := Start(ctx, Options{Dir: dir + "/db", Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
	if left, _ := filepath.Glob(dir + "/db/data.*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A server that hangs, whoever left it, is ended and another started.
func TestHangingServer(t *testing.T) {
	dir, err := os.MkdirTemp("", "rh")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), helper+"="+dir+"/db")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid(t, dir+"/db"), syscall.SIGSTOP); err != nil { // it can do nothing any more, not even end
		t.Fatal(err)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	s, err := Start(ctx, Options{Dir: dir + "/db", Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
}
