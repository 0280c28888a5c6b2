package intake

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A link that was laid where a file, its answers or its folder would come overwrites nothing and shows nothing.
func TestLinksLaidAhead(t *testing.T) {
	dir, outside := t.TempDir(), filepath.Join(t.TempDir(), "seal.key")
	write := func(path, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	link := func(to, at string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, at)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(to, filepath.Join(dir, at)); err != nil {
			t.Fatal(err)
		}
	}
	write(outside, "the key")
	write(filepath.Join(dir, "hr", "people.csv"), "userName\nx\n")
	write(filepath.Join(dir, "other", "theirs.csv"), "userName\ny\n")
	link(outside, "hr/key.csv")
	link("../other/theirs.csv", "hr/theirs.csv")
	drops, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer drops.Close()
	for _, name := range []string{"hr/key.csv", "hr/theirs.csv"} {
		if text, _, err := slurp(drops, name); err == nil {
			t.Errorf("%s is read: %q", name, text)
		}
	}
	now := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	link(outside, "taken/hr/20261201T080000.000Z-people.csv.answers.csv")
	if err := putAway(drops, "hr", "people.csv", takenTo, now, nil, nil); err == nil {
		t.Error("answers were written through a link")
	}
	link(filepath.Dir(outside), "refused")
	if err := putAway(drops, "hr", "people.csv", refusedTo, now, nil, nil); err == nil {
		t.Error("a file was put away through a link")
	}
	if b, _ := os.ReadFile(outside); string(b) != "the key" {
		t.Errorf("the key is now %q", b)
	}
	if list, _ := os.ReadDir(filepath.Dir(outside)); len(list) != 1 {
		t.Errorf("%v", list)
	}
	long := strings.Repeat("å", 120) + ".csv" // 244 bytes
	write(filepath.Join(dir, "hr", long), "userName\n")
	if err := os.Remove(filepath.Join(dir, "refused")); err != nil {
		t.Fatal(err)
	}
	if err := putAway(drops, "hr", long, refusedTo, now, nil, nil); err != nil {
		t.Errorf("a long name: %v", err)
	}
}
