package demo

import (
	"context"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	files "hen-roost/demo"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/serve"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// The sample company is as large as promised, and its declaration is without fault.
func TestCompany(t *testing.T) {
	var list []declare.File
	err := fs.WalkDir(files.Declaration(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(files.Declaration(), path)
		list = append(list, declare.File{Name: path, Text: string(b)})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	list = append(list, declare.File{Name: "addresses.yaml",
		Text: "roost: 1\nparams: {arctic_tern: a, sooty_tern: b, little_tern: c, northquay: d, slipway: f, staff_directory: e, " +
			"stores_database: g, rota_database: h, ticketing: i, crew_portal: j, northquay_switch: k, " +
			"old_bridge: l, crewing: m, timetables: n}\n"})
	kinds, err := serve.Kinds("../../demo/dialects")
	if err != nil {
		t.Fatal(err)
	}
	schemas := kinds.Schemas()
	d, err := declare.Read(list, schemas)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := resolve.Resolve(d, schemas, time.Now(), nil); err != nil {
		t.Fatal(err)
	}
	if len(list) < 8 || len(d.Users) != 60 || len(d.Groups) != 13 || len(d.Roles) != 13 || len(d.Targets) != 14 {
		t.Errorf("%d files, %d users, %d groups, %d roles, %d targets", len(list), len(d.Users), len(d.Groups), len(d.Roles),
			len(d.Targets))
	}
	names := "\n"
	nested := 0
	for _, u := range d.Users {
		names += u.Name.Raw + "\n"
	}
	for _, g := range d.Groups {
		nested += len(g.In)
	}
	for _, want := range []string{"O'Neill", "García Márquez", "\nKoji\n", "نور", "Ní Bhriain", "d'", "van"} {
		if !strings.Contains(strings.ToLower(names), strings.ToLower(want)) {
			t.Errorf("nobody is called %q", want)
		}
	}
	if nested < 8 {
		t.Errorf("%d groups are inside others", nested)
	}
}

func TestForget(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "thesis.txt"), []byte("years of work"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := forget(dir); err == nil || !strings.Contains(err.Error(), "is not empty and no demo of ours") {
		t.Fatalf("somebody's folder was taken: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "thesis.txt")); err != nil {
		t.Fatal(err)
	}
	fresh := filepath.Join(dir, "demo")
	for range 2 {
		if err := forget(fresh); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(fresh, "left"), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := forget(fresh); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(fresh, "left")); err == nil {
		t.Error("an earlier demo is not forgotten")
	}
}

// Two demos side by side know nothing of each other, and leave no process behind.
func TestSideBySide(t *testing.T) {
	var demos []*Demo
	var pids []int
	for range 2 {
		dir, err := os.MkdirTemp("", "rt")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.RemoveAll(dir) })
		d, err := Start(context.Background(), Options{Dir: dir + "/w", Listen: "127.0.0.1:0", Log: quiet})
		if err != nil {
			t.Fatal(err)
		}
		demos = append(demos, d)
		for _, h := range d.Hosts {
			pids = append(pids, h.PID())
		}
		pids = append(pids, d.Directory.PID())
	}
	if demos[0].Server.Address == demos[1].Server.Address || demos[0].Password == demos[1].Password ||
		demos[0].Directory.Address == demos[1].Directory.Address {
		t.Error("they share something")
	}
	address := strings.TrimPrefix(demos[0].Server.Address, "https://")
	for _, d := range demos {
		d.Close()
	}
	for _, pid := range pids {
		if syscall.Kill(pid, 0) == nil {
			t.Errorf("process %d is left behind", pid)
		}
	}
	if c, err := net.Dial("tcp", address); err == nil {
		c.Close()
		t.Error("the service still listens")
	}
}
