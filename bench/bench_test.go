package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && !strings.HasPrefix(os.Args[1], "-test.") {
		main() // a figure that needs a process of its own starts this program again
		return
	}
	os.Exit(m.Run())
}

// Every figure can be measured, at sizes that mean nothing.
func TestFigures(t *testing.T) {
	w := &workbench{dir: t.TempDir(), binary: filepath.Join(t.TempDir(), "roost")}
	if out, err := exec.Command("go", "build", "-o", w.binary, "hen-roost/cmd/roost").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if err := os.Chmod(w.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	defer w.close()
	for _, f := range figures {
		t.Run(f.name, func(t *testing.T) {
			if ours, bare, err := f.measure(t.Context(), w); err != nil || ours < 0 || bare < 0 {
				t.Errorf("%v against %v: %v", ours, bare, err)
			}
		})
	}
}
