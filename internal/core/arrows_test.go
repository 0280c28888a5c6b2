// Package core holds no code of its own, only the test that keeps the house in order.
package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// knows says which rooms of the house a room may know. A room that is not
// named here knows nobody; a test may know anybody.
var knows = map[string][]string{
	"cmd/roost": {"internal/cli"},
	"internal/cli": {"internal/client", "internal/api", "internal/service", "internal/service/*", "internal/serve", "internal/demo",
		"internal/core/declare", "internal/core/model", "internal/core/chain", "internal/core/exchange"},
	"internal/client": {"internal/core/declare"},
	"internal/serve": {"internal/api", "internal/client", "internal/service", "internal/store", "internal/dbserver",
		"internal/connect", "internal/connect/*", "internal/dialect", "web"},
	"internal/demo": {"internal/api", "internal/client", "internal/serve", "internal/demo/world", "internal/standin", "demo",
		"internal/service/door"},
	"internal/api": {"internal/service", "internal/service/*", "internal/scim", "internal/core/declare", "internal/core/chain"},
	"internal/service": {"internal/service/life", "internal/service/intake", "internal/service/rounds", "internal/service/seen",
		"internal/service/declared",
		"internal/service/door",
		"internal/store", "internal/connect"},
	"internal/service/life": {"internal/service/rounds", "internal/service/seen", "internal/service/declared", "internal/service/door",
		"internal/store", "internal/work", "internal/connect", "internal/pause", "internal/core/*"},
	"internal/service/rounds": {"internal/service/seen", "internal/service/declared", "internal/service/door",
		"internal/store", "internal/work", "internal/connect", "internal/core/*"},
	"internal/service/seen": {"internal/service/declared", "internal/service/door",
		"internal/store", "internal/work", "internal/connect", "internal/core/*"},
	"internal/service/declared": {"internal/service/door", "internal/store", "internal/core/*"},
	"internal/service/door":     {"internal/store", "internal/connect", "internal/core/*"},
	"internal/service/intake": {"internal/service/declared", "internal/service/door", "internal/store", "internal/scim",
		"internal/core/*"},
	"internal/service/servicetest": {"*"},
	"internal/dbserver/dbtest":     {"internal/dbserver"},
	"internal/work":                {"internal/connect", "internal/pause", "internal/core/*"},
	"internal/store":               {"internal/pause", "internal/core/*"},
	"internal/connect":             {"internal/core/model"},
	"internal/connect/host":        {"internal/connect", "internal/connect/overssh", "internal/core/model"},
	"internal/connect/overssh":     {"internal/connect"},
	"internal/connect/candidate":   {"internal/connect", "internal/core/model"},
	"internal/connect/dialect": {"internal/connect", "internal/connect/candidate", "internal/connect/overssh", "internal/core/model",
		"internal/dialect"},
	"internal/dialect":                    {"internal/core/model"},
	"internal/standin/spoken":             {},
	"internal/connect/ldap":               {"internal/connect", "internal/core/model"},
	"internal/connect/postgres":           {"internal/connect", "internal/connect/sqlright", "internal/core/model"},
	"internal/connect/mariadb":            {"internal/connect", "internal/connect/sqlright", "internal/core/model"},
	"internal/connect/scim":               {"internal/connect", "internal/core/model", "internal/scim"},
	"internal/connect/connecttest":        {"internal/connect", "internal/core/model", "internal/core/power"},
	"internal/connect/connecttest/galley": {"internal/connect", "internal/core/model"},
	"internal/standin":                    {"internal/scim"},
	"internal/demo/world":                 {"internal/standin", "internal/standin/spoken"},
	"internal/core/expr":                  {"internal/core/model"},
	"internal/core/declare":               {"internal/core/model", "internal/core/expr"},
	"internal/core/resolve":               {"internal/core/model", "internal/core/expr", "internal/core/declare"},
	"internal/core/match":                 {"internal/core/model", "internal/core/resolve"},
	"internal/core/drift":                 {"internal/core/model", "internal/core/resolve", "internal/core/match"},
	"internal/core/round":                 {"internal/core/model", "internal/core/power"},
	"internal/core/power":                 {"internal/core/model"},
	"internal/core/power/powertest":       {"internal/core/model", "internal/core/power"},
	"internal/core/chain":                 {},
	"internal/core/guard":                 {"internal/core/model"},
	"internal/core/exchange":              {"internal/core/model", "internal/core/declare"},
	"internal/core/secret":                {},
	"internal/core/access":                {"internal/core/model", "internal/core/resolve"},
	"bench":                               {"*"},
}

// outside lists what the core may import from beyond the project: nothing that
// reads a disk, a socket or a random source.
var outside = []string{
	"bufio", "bytes", "cmp", "compress/flate", "crypto/ed25519", "crypto/sha256", "encoding/base64", "encoding/binary", "encoding/csv",
	"encoding/hex", "encoding/json", "errors", "fmt", "hash/fnv", "hash/maphash", "io", "iter", "maps", "math/bits",
	"math", "path", "reflect",
	"regexp", "runtime", "slices", "sort", "strconv", "strings", "sync", "sync/atomic", "time", "unicode", "unicode/utf8",
	"cel.dev/cel-go/cel", "cel.dev/cel-go/common/types", "cel.dev/cel-go/common/types/ref",
	"github.com/goccy/go-yaml", "github.com/goccy/go-yaml/ast", "github.com/goccy/go-yaml/parser",
	"github.com/goccy/go-yaml/token", "github.com/trustelem/zxcvbn", "golang.org/x/text/unicode/norm",
}

func TestArrows(t *testing.T) {
	const root, module = "../..", "hen-roost/"
	seen := 0
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == ".cache") {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		seen++
		room, err := filepath.Rel(root, filepath.Dir(path))
		if err != nil {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range f.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			if to, ours := strings.CutPrefix(name, module); ours && !among(to, knows[room]) {
				t.Errorf("%s: %s may not know %s", path, room, to)
			} else if !ours && strings.HasPrefix(room, "internal/core") && !among(name, outside) {
				t.Errorf("%s: the core may not import %s", path, name)
			}
			if (name == "database/sql" || strings.Contains(name, "sqlx")) && room != "internal/store" &&
				!strings.HasPrefix(room, "internal/dbserver") && room != "bench" && room != "internal/connect/mariadb" {
				t.Errorf("%s: SQL belongs in internal/store", path)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 50 {
		t.Fatalf("only %d files were looked at", seen)
	}
}

// The core never looks at a clock: time is handed in.
func TestCoreHasNoClock(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		for _, forbidden := range []string{"Now", "Since", "Until", "After", "Sleep"} {
			if uses(t, path, "time."+forbidden+"(") {
				t.Errorf("%s calls time.%s", path, forbidden)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func among(name string, list []string) bool {
	for _, l := range list {
		if prefix, all := strings.CutSuffix(l, "*"); l == name || all && strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}

func uses(t *testing.T, path, text string) bool {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Contains(string(b), text)
}
