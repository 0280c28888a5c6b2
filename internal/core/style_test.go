package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// What a person can take in at a glance, and what no test may do.
const (
	widest  = 140 // columns of a line, a tab counted as four
	wider   = 160 // in the console, where text and its marks stand together
	longest = 60  // lines of a function of the core
)

// sources calls do for every file of the project that ends so, but for what is generated.
func sources(t *testing.T, do func(path, text string), ends ...string) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join("..", ".."), func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == ".cache"):
			return fs.SkipDir
		case d.IsDir() || strings.Contains(path, ".gen.") ||
			!slices.ContainsFunc(ends, func(end string) bool { return strings.HasSuffix(path, end) }):
			return nil
		}
		b, err := os.ReadFile(path)
		if err == nil {
			do(path, string(b))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Lines are as wide as a person reads, but for tags and texts that stand as they are.
func TestWidth(t *testing.T) {
	sources(t, func(path, text string) {
		most, raw := widest, false // raw is within a text in backquotes
		if !strings.HasSuffix(path, ".go") {
			most = wider
		}
		for i, line := range strings.Split(text, "\n") {
			quoted := raw || strings.Contains(line, "`")
			if strings.Count(line, "`")%2 == 1 {
				raw = !raw
			}
			wide := len([]rune(strings.ReplaceAll(line, "\t", "    ")))
			if wide > most && (!quoted || most == wider) {
				t.Errorf("%s:%d is %d columns wide", path, i+1, wide)
			}
		}
	}, ".go", ".svelte", ".ts")
}

// Functions of the core are as long as a screen.
func TestLength(t *testing.T) {
	sources(t, func(path, text string) {
		if !strings.Contains(path, filepath.Join("internal", "core")) || strings.HasSuffix(path, "_test.go") {
			return
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, text, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok {
				if n := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1; n >= longest {
					t.Errorf("%s: %s has %d lines", path, fn.Name.Name, n)
				}
			}
		}
	}, ".go")
}

// A test that is not run proves nothing, so none may be skipped.
func TestNoneIsSkipped(t *testing.T) {
	sources(t, func(path, text string) {
		for _, way := range []string{".Skip(", ".Skipf(", ".SkipNow("} {
			if strings.Contains(text, "t"+way) && !strings.HasSuffix(path, "style_test.go") {
				t.Errorf("%s skips a test", path)
			}
		}
	}, "_test.go")
}
