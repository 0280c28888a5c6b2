package door

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/service/servicetest"
	"hen-roost/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var ctx = context.Background()

// Tests need no strong hashes, but the one that looks at them.
var strong = usual

func init() { usual = toil{1, 64, 1} }

// start makes a door on a database of its own.
func start(t *testing.T) *Door {
	t.Helper()
	return beside(t, servicetest.Open(t))
}

// beside makes a door in a house that may have others.
func beside(t *testing.T, h servicetest.House) *Door {
	t.Helper()
	d, err := New(Config{Store: h.Store, KeyFile: h.KeyFile, Log: h.Log, Clock: time.Now, Life: ctx})
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestOperators(t *testing.T) {
	s := start(t)
	made, err := s.FirstOperator(ctx, "odd.strand", "Odd Strand", "")
	if err != nil || len(made) < 12 {
		t.Fatalf("%q %v", made, err)
	}
	if _, err := s.FirstOperator(ctx, "second", "", ""); err == nil || !strings.Contains(err.Error(), "there are operators already") {
		t.Errorf("a second first administrator: %v", err)
	}
	who, secret, _, err := s.SignIn(ctx, "odd.strand", made, "", "127.0.0.1")
	if err != nil || len(who.Duties) != len(Duties) {
		t.Fatal(who, err)
	}
	for name, c := range map[string]struct {
		name, password string
		duties         []string
		want           string
	}{
		"bad name": {"Odd Strand", "", nil, "cannot be an operator's name"}, "short": {"x", "short", nil, "at least 12"},
		"duty":  {"x", "", []string{"rule"}, `"rule" is not a duty`},
		"twice": {"odd.strand", "", nil, "there is an operator odd.strand already"},
	} {
		if _, err := s.AddOperator(ctx, who, c.name, "", c.password, c.duties); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := s.AddOperator(ctx, who, "ines", "", "a long enough password", []string{"run"}); err != nil {
		t.Fatal(err)
	}
	if err := s.SetOperator(ctx, who, "odd.strand", []string{"look"}); err == nil || !strings.Contains(err.Error(), "from yourself") {
		t.Error(err)
	}
	if err := s.RemoveOperator(ctx, who, "odd.strand"); err == nil || !strings.Contains(err.Error(), "cannot remove yourself") {
		t.Error(err)
	}
	ines, hers, _, err := s.SignIn(ctx, "ines", "a long enough password", "nightly", "127.0.0.1")
	if err != nil || joined(ines.Duties) != "look,run" {
		t.Fatal(ines, err)
	}
	if list, err := s.Tokens(ctx, ines); err != nil || len(list) != 1 || list[0].Name != "nightly" {
		t.Errorf("%+v %v", list, err)
	}
	if err := s.RemoveToken(ctx, ines, "nightyl"); err == nil || !strings.Contains(err.Error(), `did you mean "nightly"?`) {
		t.Error(err)
	}
	if err := s.SetOperator(ctx, who, "ines", []string{"look"}); err != nil {
		t.Fatal(err)
	}
	if now, err := s.Who(ctx, hers); err != nil || joined(now.Duties) != "look" {
		t.Errorf("a duty taken away still counts: %v %v", now, err)
	}
	if err := s.RemoveToken(ctx, ines, "nightly"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Who(ctx, hers); err == nil {
		t.Error("an ended token still counts")
	}
	if err := s.RemoveOperator(ctx, who, "ines"); err != nil {
		t.Fatal(err)
	}
	if err := s.SignOut(ctx, who, secret); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{secret, "", "roost-", "x", "roost-" + strings.Repeat("A", 200)} {
		if _, err := s.Who(ctx, bad); err == nil {
			t.Errorf("%q signs in", bad)
		}
	}
	s.Clock = func() time.Time { return time.Now().Add(-2 * sessionFor) }
	_, old, _, err := s.SignIn(ctx, "odd.strand", made, "", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	s.Clock = time.Now
	if _, err := s.Who(ctx, old); err == nil {
		t.Error("a session lives for ever")
	}
}

func TestPasswords(t *testing.T) {
	cheap := usual
	usual = strong
	defer func() { usual = cheap }()
	a, b := hashPassword("correct horse battery"), hashPassword("correct horse battery")
	if a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=3,p=4$") {
		t.Errorf("%s %s", a, b)
	}
	for password, want := range map[string]bool{"correct horse battery": true, "correct horse batter": false, "": false} {
		if got, err := checkPassword(ctx, password, a); got != want || err != nil {
			t.Errorf("%q: %v %v", password, got, err)
		}
	}
	for _, broken := range []string{"", "x", "$argon2id$v=19$m=65536,t=3,p=4$short", a[:len(a)-1], strings.Replace(a, "$", "", 1)} {
		if yes, _ := checkPassword(ctx, "correct horse battery", broken); yes {
			t.Errorf("%q lets one in", broken)
		}
	}
}

func TestSealer(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "seal.key")
	s, err := openSealer(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := s.close([]byte("secret"))
	if err != nil || bytes.Contains(sealed, []byte("secret")) {
		t.Fatal(err)
	}
	again, err := openSealer(file)
	if err != nil {
		t.Fatal(err)
	}
	if plain, err := again.open(sealed); err != nil || string(plain) != "secret" {
		t.Errorf("%q %v", plain, err)
	}
	other, err := openSealer(file + "2")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.open(sealed); err == nil || !strings.Contains(err.Error(), "sealed under another one") {
		t.Error(err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := openSealer(file); err == nil || !strings.Contains(err.Error(), "can be read by others (mode 644)") {
		t.Error(err)
	}
	if err := os.WriteFile(file+"3", []byte("AGE-SECRET-KEY-NONSENSE"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := openSealer(file + "3"); err == nil || strings.Contains(err.Error(), "NONSENSE") {
		t.Errorf("an error echoes the key: %v", err)
	}
}

func TestProblems(t *testing.T) {
	for want, err := range map[Kind]error{
		Unknown: NotKnown("user", "x", nil), Faulty: declare.Faults{{Message: "m"}},
		Away: &store.Refusal{Err: errors.New("dial tcp: connection refused")}, Conflict: Clashing("no"), Invalid: Wrong("f", "no"),
	} {
		if got := ProblemOf(err); got.Kind != want {
			t.Errorf("%v is %s, want %s", err, got.Kind, want)
		}
	}
	for out, want := range map[string]string{Count(1, "step", "steps"): "1 step", Count(0, "step", "steps"): "0 steps",
		ClipTo("åäö", 2): "å…"} {
		if out != want {
			t.Errorf("%q, want %q", out, want)
		}
	}
	if _, err := Reason(strings.Repeat("x", 501)); err == nil {
		t.Error("a reason of any length is taken")
	}
}

// The kinds of entries that can be asked for are those that are written.
func TestEntryKinds(t *testing.T) {
	written := map[string]bool{}
	kind := regexp.MustCompile(`(?s)Entry\{[^}]*?Kind: "([a-z-]+)"`)
	err := filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range kind.FindAllStringSubmatch(string(text), -1) {
			if written[m[1]] = true; !slices.Contains(EntryKinds, m[1]) {
				t.Errorf("%s writes entries of kind %s, which cannot be asked for", path, m[1])
			}
		}
		return err
	})
	if err != nil || len(written) < 15 {
		t.Errorf("%d kinds, %v", len(written), err)
	}
}
