package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func env(getenv map[string]string, in string) (Env, *bytes.Buffer, *bytes.Buffer) {
	var out, said bytes.Buffer
	return Env{In: strings.NewReader(in), Out: &out, Err: &said, Version: "7", Getenv: func(k string) string { return getenv[k] }}, &out,
		&said
}

func run(getenv map[string]string, in string, args ...string) (string, string, int) {
	e, out, said := env(getenv, in)
	code := Run(context.Background(), e, args)
	return out.String(), said.String(), code
}

var option = regexp.MustCompile(`\s--([a-z-]+)`)

// unknown are the options in a line of shell that its roost command does not have.
func unknown(root *cobra.Command, line string) (out []string) {
	words := strings.Fields(line)
	if len(words) < 2 || words[0] != "roost" {
		return nil
	}
	c, _, err := root.Find(words[1:])
	if err != nil {
		return []string{err.Error()}
	}
	line, _, _ = strings.Cut(line, " #")
	line, _, _ = strings.Cut(line, " -- ")
	for _, m := range option.FindAllStringSubmatch(line, -1) {
		if c.Flag(m[1]) == nil && c.InheritedFlags().Lookup(m[1]) == nil && m[1] != "help" && m[1] != "version" {
			out = append(out, "--"+m[1])
		}
	}
	return out
}

// Every command in the guide has the options that it is shown with.
func TestGuide(t *testing.T) {
	e, _, _ := env(nil, "")
	root := New(e)
	for _, file := range []string{"guide.md", "../README.md", "performance.md"} {
		b, err := os.ReadFile(filepath.Join("../../docs", file))
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile("(?m)^ *(roost .*)$|`(roost [^`]*)`").FindAllStringSubmatch(string(b), -1) {
			line := strings.Join(strings.Fields(m[1]+m[2]), " ")
			for _, of := range unknown(root, line) {
				t.Errorf("%s: %s: %s is no option of it", file, line, of)
			}
		}
	}
}

// Every command says what it does, and every one that does something has an example from the sample world.
func TestHelp(t *testing.T) {
	e, _, _ := env(nil, "")
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Short == "" || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s: short help is %q", c.CommandPath(), c.Short)
		}
		noun := c.HasSubCommands() && c.Use == c.Name() // takes none but those below it
		if c.Runnable() && !c.Hidden && c.Parent() != nil && !noun {
			if !strings.Contains(c.Example, "  roost ") {
				t.Errorf("%s has no example", c.CommandPath())
			}
			for _, line := range strings.Split(c.Example, "\n") {
				if !strings.HasPrefix(line, "  roost "+strings.TrimPrefix(c.CommandPath(), "roost ")) && c.Name() != "record" {
					t.Errorf("%s: the example %q is of another command", c.CommandPath(), line)
				}
				for _, of := range unknown(c.Root(), line) {
					t.Errorf("%s: the example %q has %s, which is no option of it", c.CommandPath(), line, of)
				}
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	root := New(e)
	walk(root)
	for _, want := range strings.Fields("serve demo sign-in sign-out check declare survey drift draft approve run reconcile round user " +
		"target record secret operator token version") {
		if c, _, err := root.Find([]string{want}); err != nil || c.Name() != want {
			t.Errorf("there is no command %s", want)
		}
	}
	if out, _, code := run(nil, "", "completion", "bash"); code != 0 || !strings.Contains(out, "roost") {
		t.Error("no completion")
	}
}

func TestWrongUse(t *testing.T) {
	profile := filepath.Join(t.TempDir(), "none")
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"drfit", 2, `there is no command "drfit"; did you mean "drift"?`}, {"zzzzzz", 2, `roost --help lists them`},
		{"drift --nope", 2, "there is no option --nope; see: roost drift --help"},
		{"drift extra", 2, "roost drift: unknown command"}, {"user lst", 2, `roost user has no command "lst"; did you mean "list"?`},
		{"target zzzz", 2, `roost target has no command "zzzz"; see: roost target --help`},
		{"home zzzz", 2, "known are archives, draft, list, return"},
		{"record --verify /nowhere", 1, "no such file"}, {"serve --metrics some", 2, "metrics is loopback, everybody or nobody"},
		{"serve --probation soon", 2, "probation is a length of time"},
		{"approve", 2, "it takes one name or value, and got none; see: roost approve --help"},
		{"draft", 2, "--because is missing"}, {"round show 1 2", 2, "it takes"}, {"drift --size x", 2, `"x" is no value for "--size"`},
		{"version -o xml", 2, "table, json, yaml or csv"}, {"run x", 2, `"x" is not the number of a round`},
		{"record 0", 2, "not the number of an entry"}, {"drift", 1, "you are not signed in: roost sign-in"},
		{"sign-in https://127.0.0.1:1", 2, "there is no terminal to ask on: Operator"},
		{"sign-in https://127.0.0.1:1 --operator x", 2, "use --password-file FILE"}, {"check /nowhere", 1, "no such file"},
		{"serve --log xml", 2, "log is text or json"}, {"serve --log-level loud", 2, "log-level is debug"},
		{"serve --config /nowhere", 1, "no such file"},
	} {
		out, said, code := run(map[string]string{"ROOST_PROFILE": profile}, "", strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(said, c.want) || out != "" {
			t.Errorf("roost %s: exit %d, want %d and %q\n%s%s", c.args, code, c.code, c.want, out, said)
		}
	}
	if _, said, _ := run(nil, "", "drift"); !strings.Contains(said, "neither ROOST_PROFILE nor HOME") {
		t.Error(said)
	}
	broken := filepath.Join(t.TempDir(), "sign-in")
	if err := os.WriteFile(broken, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, said, _ := run(map[string]string{"ROOST_PROFILE": broken}, "", "drift"); !strings.Contains(said,
		"cannot be read; sign in again") {
		t.Error(said)
	}
}

var sample = table{head: []string{"NAME", "N"}, right: []int{1}, about: "Two of them.", empty: "None.",
	rows: [][]string{{"Bjørn, Åsen", "5"}, {"o\"x", "12"}}}

func TestOutput(t *testing.T) {
	value := []map[string]any{{"name": "Bjørn <Åsen>", "n": 5}}
	for form, want := range map[string]string{
		"table": "Two of them.\n\nNAME          N\nBjørn, Åsen   5\no\"x          12\n",
		"json":  "[\n  {\n    \"n\": 5,\n    \"name\": \"Bjørn <Åsen>\"\n  }\n]\n",
		"yaml":  "- \"n\": 5\n  name: Bjørn <Åsen>\n",
		"csv":   "n,name\n5,Bjørn <Åsen>\n",
	} {
		e, out, _ := env(nil, "")
		a := &app{Env: e, output: form}
		if err := a.show(value, sample); err != nil || out.String() != want &&
			!(form == "yaml" && strings.Contains(out.String(), "Bjørn <Åsen>")) {
			t.Errorf("%s: %v\n%q\nwant\n%q", form, err, out, want)
		}
	}
	e, out, _ := env(nil, "")
	a := &app{Env: e, output: "table"}
	if err := a.show(nil, table{head: []string{"X"}, empty: "Nothing."}); err != nil || out.String() != "Nothing.\n" {
		t.Errorf("%q", out)
	}
	if out, _, code := run(nil, "", "version", "-o", "json"); code != 0 || out != "{\n  \"version\": \"7\"\n}\n" {
		t.Errorf("%q", out)
	}
}

// A table fits the terminal: the widest columns give way, and say so.
func TestNarrow(t *testing.T) {
	e, out, _ := env(nil, "")
	e.Width = 60
	a := &app{Env: e, output: "table"}
	long := strings.Repeat("lang ", 30)
	if err := a.show(nil, table{head: []string{"A", "B", "C"},
		rows: [][]string{{"short", long, "also short"}, {"x", "y", long}}}); err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(out.String(), "\n") {
		if n := len([]rune(line)); n > 60 {
			t.Errorf("%d letters: %q", n, line)
		}
	}
	if !strings.Contains(out.String(), "…") || !strings.Contains(out.String(), "also short") {
		t.Error(out.String())
	}
	widths := []int{5, 8}
	narrow(widths, 3)
	if widths[0] != 5 || widths[1] != 8 {
		t.Errorf("columns are narrowed beyond use: %v", widths)
	}
}

func TestWords(t *testing.T) {
	for got, want := range map[string]string{
		change("a", "b"): "a → b", change("", "b"): "b", change("a", ""): "a → nothing", who("", ""): "–", who("Marit", "m"): "Marit",
		who("", "m"): "m",
		figure(0):    "", figure(3): "3", cut("åäöü", 3): "åä…", cut("åäö", 3): "åäö", cut("A\u030asa Berg", 4): "A\u030asa…",
		cut("日本語", 5): "日本…", cut("日本語", 6): "日本語", mark("done"): "● done",
		mark("something"): "something", plural(1, "step", "steps"): "1 step", plural(2, "step", "steps"): "2 steps",
		wrapped("one two three", "  ", 8): "one two\n  three", orNone(""): "none", clock(nil): "", one(nil): "", orElse("", "x"): "x",
		headline(rounds.Round{ID: 3, Steps: 2, People: 1, State: rounds.Drafted,
			Targets: make([]rounds.TargetSteps, 2)}): "Round 3 makes 2 changes for 1 person on 2 targets.",
		headline(rounds.Round{ID: 3, State: rounds.Incomplete,
			Outcomes: map[string]int{"failed": 1, "done": 2}}): "Round 3 is incomplete: 1 failed, 2 " +
			"done.",
		headline(rounds.Round{ID: 3, Steps: 2, State: rounds.Running, Targets: make([]rounds.TargetSteps, 1),
			Outcomes: map[string]int{"done": 1}}): "Round 3 makes 2 changes on 1 target. It is running: 1 done.",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestSideBySide(t *testing.T) {
	u := seen.UserDetail{User: seen.User{ID: "marit", Name: "Marit Fell"}, Accounts: []seen.Account{
		{Target: "arctic", Name: "marit", State: "found", Attributes: map[string][]string{"shell": {"/bin/sh"}, "keys": {"a", "b"}},
			Groups: []string{"crew"}, Findings: []seen.Finding{{What: "change account", Before: "x", After: "y"}}},
		{Target: "sooty", Name: "mf", State: "missing"}}}
	got := sideBySide(u)
	var flat []string
	for _, row := range got.rows {
		flat = append(flat, strings.Join(row, "|"))
	}
	if want := "account|marit|mf;state|▲ found|■ missing;keys|2 values|;shell|/bin/sh|;groups|crew|;because||;" +
		"drift|change account x → y|"; strings.Join(flat, ";") != want {
		t.Errorf("%s\nwant\n%s", strings.Join(flat, ";"), want)
	}
	if got := sideBySide(seen.UserDetail{}); got.rows != nil || got.empty == "" {
		t.Errorf("%+v", got)
	}
}

func TestReadFiles(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.yaml": "A", "deep/b.yml": "B", "notes.txt": "no"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := readFiles([]string{dir, filepath.Join(dir, "a.yaml")})
	b, _ := json.Marshal(got)
	if want := `[{"name":"a.yaml","text":"A"},{"name":"deep/b.yml","text":"B"},{"name":"a.yaml","text":"A"}]`; err != nil ||
		string(b) != want {
		t.Errorf("%s %v", b, err)
	}
	if _, err := readFiles([]string{t.TempDir()}); err == nil || !strings.Contains(err.Error(), "no .yaml files in it") {
		t.Error(err)
	}
}

// Flags outrank the environment, which outranks the file, which outranks the defaults.
func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "hen-roost.yaml")
	if err := os.WriteFile(file, []byte("listen: file:1\ndata: /file\nlog: json\ndatabase: from-file\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	e, _, _ := env(map[string]string{"ROOST_DATA": "/environment", "ROOST_LISTEN": "environment:1"}, "")
	a := &app{Env: e}
	c := &cobra.Command{}
	config := (&settings{}).flags(c.Flags())
	if err := c.ParseFlags([]string{"--listen", "flag:1", "--config", file}); err != nil {
		t.Fatal(err)
	}
	s, err := a.load(c.Flags(), *config)
	if err != nil || s != (settings{Listen: "flag:1", Data: "/environment", Database: "from-file", Metrics: "loopback",
		Probation: "168h", Log: "json", LogLevel: "info"}) {
		t.Errorf("%+v %v", s, err)
	}
	if c.Flags().Lookup("database") != nil {
		t.Error("the database's address can be given where other processes see it")
	}
	if err := os.WriteFile(file, []byte("lisen: x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := a.load(c.Flags(), file); err == nil || !strings.Contains(err.Error(), `unknown field "lisen"`) {
		t.Errorf("%v", err)
	}
}

func TestLogger(t *testing.T) {
	var b bytes.Buffer
	for form, want := range map[string]string{"json": `"msg":"hello"`, "text": "msg=hello"} {
		b.Reset()
		l, err := logger(&b, form, "info")
		if err != nil {
			t.Fatal(err)
		}
		l.Debug("quiet")
		l.Info("hello", slog.String("a", "b"))
		if !strings.Contains(b.String(), want) || strings.Contains(b.String(), "quiet") {
			t.Errorf("%s: %s", form, b.String())
		}
	}
}

func TestSecretInput(t *testing.T) {
	file := filepath.Join(t.TempDir(), "s")
	if err := os.WriteFile(file, []byte("from a file\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for from, want := range map[string]string{"-": "typed\n", file: "from a file"} {
		e, _, _ := env(nil, "typed\n\n")
		got, err := (&app{Env: e, ctx: context.Background()}).secretInput(from, "", "--file")
		if err != nil || string(got) != want {
			t.Errorf("%s: %q %v", from, got, err)
		}
	}
	e, _, said := env(nil, "y\n")
	e.Terminal = true
	if yes, err := (&app{Env: e, ctx: context.Background()}).yes("Sure? "); !yes || err != nil || said.String() != "Sure? " {
		t.Errorf("%v %v %q", yes, err, said)
	}
	e.In = io.LimitReader(strings.NewReader(""), 0)
	if yes, err := (&app{Env: e, ctx: context.Background()}).yes("Sure? "); yes || err == nil {
		t.Error("no answer is a yes")
	}
}

func TestProgress(t *testing.T) {
	e, _, said := env(nil, "")
	a := &app{Env: e, raw: e.Err}
	progress{a, "round 1", 4}.at(2, "steps")
	if said.Len() != 0 {
		t.Errorf("a bar where nobody looks: %q", said)
	}
	a.Terminal = true
	p := progress{a, "round 1", 4}
	p.at(2, "steps")
	p.at(9, "steps")
	p.end()
	if s := said.String(); !strings.Contains(s, strings.Repeat("━", 16)+strings.Repeat("·", 16)+" 2 of 4 steps") ||
		!strings.HasSuffix(s, "\r\033[K") {
		t.Errorf("%q", s)
	}
}

func TestEditsOf(t *testing.T) {
	got, err := editsOf("users", "marit.fell", "", []string{"until=2026-10-31", "details.note=a=b"}, []string{"roles=mate"},
		[]string{"keys", "roles=bosun"}, false)
	var words []string
	for _, e := range got {
		words = append(words, fmt.Sprintf("%s %s %v", e.Do, e.Key, e.Value))
	}
	if want := "set until 2026-10-31, set details.note a=b, take keys <nil>, take roles bosun, add roles mate"; err != nil ||
		strings.Join(words, ", ") != want {
		t.Errorf("%s (%v)", strings.Join(words, ", "), err)
	}
	for _, bad := range [][]string{{"until"}, {"=x"}} {
		if _, err := editsOf("users", "x", "", bad, nil, nil, false); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
	if _, err := editsOf("users", "x", "", nil, nil, nil, false); err == nil {
		t.Error("no change was taken for one")
	}
	if got, err := editsOf("users", "x", "", nil, nil, nil, true); err != nil || len(got) != 1 || got[0].Key != "" {
		t.Errorf("%+v %v", got, err)
	}
}

// A round's first sentence says what it is, in each of its states.
func TestHeadline(t *testing.T) {
	at := time.Date(2026, 11, 24, 22, 0, 0, 0, time.UTC)
	r := rounds.Round{ID: 3, Steps: 7, People: 2, State: rounds.Drafted,
		Targets: []rounds.TargetSteps{{Target: "a", Wave: 1}, {Target: "b", Wave: 2}}, Outcomes: map[string]int{"done": 5, "not-tried": 2}}
	for _, c := range []struct {
		change func(*rounds.Round)
		want   string
	}{
		{func(*rounds.Round) {}, "Round 3 makes 7 changes for 2 people on 2 targets. First on 1 target; on the rest only if that held."},
		{func(r *rounds.Round) { r.State, r.Targets = rounds.Complete, nil }, "Round 3 is complete: 2 not-tried, 5 done."},
		{func(r *rounds.Round) { r.State, r.StoppedBy, r.Targets = rounds.Stopped, "ines", nil },
			"Round 3 was stopped by ines: 2 not-tried, 5 done."},
		{func(r *rounds.Round) { r.State, r.Targets = rounds.Undone, nil }, "Round 3 is undone: 2 not-tried, 5 done."},
		{func(r *rounds.Round) { r.Undoes, r.Targets = 2, nil },
			"Round 3 makes 7 changes for 2 people on 0 targets. It takes back round 2."},
		{func(r *rounds.Round) { r.Scheduled, r.NotBefore, r.InWindow, r.Targets = true, &at, true, nil },
			"Round 3 makes 7 changes for 2 people on 0 targets. It starts by itself, not before 2026-11-24 22:00:00, inside the windows " +
				"of its targets."},
	} {
		one := r
		c.change(&one)
		if got := headline(one); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
}

// What is new since the last look is told once, a line each.
func TestShowWatched(t *testing.T) {
	var out strings.Builder
	a := &app{Env: Env{Out: &out}}
	at := time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)
	w := service.Watched{At: at, Entries: []door.Entry{{At: at, Kind: "step", Operator: "odd", Target: "arctic-tern",
		Words: "create account marit: done"}},
		Targets: []seen.Target{{Name: "sooty-tern", State: seen.OutOfReach, TriedAt: &at},
			{Name: "arctic-tern", State: seen.Surveyed, TriedAt: &at}},
		Rounds: []rounds.Round{{ID: 2, RunBy: "odd", Steps: 10, Targets: []rounds.TargetSteps{{Ended: 4}},
			Outcomes: map[string]int{"done": 4, "waiting": 6}}}}
	said := map[int64]int{}
	a.showWatched(w, said)
	a.showWatched(service.Watched{At: at, Rounds: w.Rounds}, said)
	want := "09:30:00  step      odd            arctic-tern: create account marit: done\n" +
		"09:30:00  target                   sooty-tern: ○ out of reach\n" +
		"09:30:00  round     odd            round 2: 4 of 10 steps, 6 waiting, 4 done\n"
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

// Files of a declaration are written where they belong, and nowhere else.
func TestWriteFiles(t *testing.T) {
	dir := t.TempDir()
	a := &app{Env: Env{Err: io.Discard}}
	if err := a.writeFiles(dir, []declare.File{{Name: "people/deck.yaml", Text: "roost: 1\n"}}); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "people", "deck.yaml")); err != nil || string(b) != "roost: 1\n" {
		t.Errorf("%q %v", b, err)
	}
	for _, name := range []string{"../out.yaml", "/etc/out.yaml", "people/deck.yaml"} {
		if err := a.writeFiles(dir, []declare.File{{Name: name, Text: "x"}}); err == nil {
			t.Errorf("%s was written", name)
		}
	}
}

func TestAtOnce(t *testing.T) {
	got, err := atOnce("host=8, directory=2")
	if err != nil || got["host"] != 8 || got["directory"] != 2 {
		t.Errorf("%v %v", got, err)
	}
	for _, bad := range []string{"host", "host=0", "host=x"} {
		if _, err := atOnce(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

// What a program gets as CSV has plain columns of one type, and nothing that a spreadsheet would run.
func TestCSV(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	type Inner struct {
		Word string `json:"word"`
	}
	list := []struct {
		Inner
		Name   string         `json:"name"`
		N      int            `json:"n"`
		At     *time.Time     `json:"at,omitempty"`
		Counts map[string]int `json:"counts"`
		List   []string       `json:"list"`
		Deep   []Inner        `json:"deep"`
		Hidden string         `json:"-"`
		In     Inner          `json:"in"`
		On     bool           `json:"on"`
	}{{Inner{"w"}, "=cmd|'/c calc'!A1", -5, &at, map[string]int{"b": 2, "a": 1}, []string{"x", "y"}, []Inner{{"d"}}, "h", Inner{"i"},
		true}, {Name: "O'Neill, \"Seán\"\nx", List: []string{"@x"}}}
	var b bytes.Buffer
	if err := writeCSV(&b, list); err != nil {
		t.Fatal(err)
	}
	want := "word,name,n,at,counts.a,counts.b,list,in.word,on\nw,'=cmd|'/c calc'!A1,-5,2026-11-25T09:00:00Z,1,2,x; y,i,true\n,\"O'Neill, " +
		"\"\"Seán\"\"\nx\",0,,,,'@x,,false\n"
	if b.String() != want {
		t.Errorf("%s\nwant\n%s", &b, want)
	}
	b.Reset()
	if err := writeCSV(&b, []seen.Finding{}); err != nil || !strings.HasPrefix(b.String(), "key,target,kind,what,subject,user,") ||
		strings.Count(b.String(), "\n") != 1 {
		t.Errorf("%s %v", &b, err)
	}
}

// Nothing that anybody wrote moves the cursor, makes a false row or turns the writing around.
func TestForTerminal(t *testing.T) {
	var b bytes.Buffer
	w := &forTerminal{to: &b}
	fmt.Fprintf(w, "%s\n", "a\x1b[2Jb\u009bc\rd\u202ee\u200bf\x00g")
	for i := range len("Åsen\n") {
		if _, err := w.Write([]byte("Åsen\n"[i : i+1])); err != nil {
			t.Fatal(err)
		}
	}
	if got := b.String(); got != "a [2Jb c d e f g\nÅsen\n" {
		t.Errorf("%q", got)
	}
	e, out, _ := env(nil, "")
	a := &app{Env: e, output: "table"}
	if err := a.show(nil, table{head: []string{"A", "B\nC"}, rows: [][]string{{"x\nfalse  row", "y\x1b[A"}}}); err != nil ||
		strings.Count(out.String(), "\n") != 2 {
		t.Errorf("%q %v", out, err)
	}
}

// A prompt ends at once when somebody interrupts.
func TestInterruptedPrompt(t *testing.T) {
	r, _ := io.Pipe() // nobody ever types
	ctx, cancel := context.WithCancel(context.Background())
	e, _, _ := env(map[string]string{"ROOST_PROFILE": filepath.Join(t.TempDir(), "p")}, "")
	e.In, e.Terminal = r, true
	time.AfterFunc(50*time.Millisecond, cancel)
	if code := Run(ctx, e, []string{"sign-in", "https://127.0.0.1:1"}); code != exitInterrupted {
		t.Errorf("exit %d", code)
	}
}

// Checking needs no service and no sign-in, and speaks of nothing that is stored.
func TestCheckAlone(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.yaml": "roost: 1\nusers:\n  marit.fell: {name: Marit Fell, roles: [deck-crw]}\nroles: " +
		"{deck-crew: {}}\n", "b.yaml": "roost: 1\ntargets:\n  x: {kind: hst, address: a, login: {as: r}}\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, said, code := run(map[string]string{"ROOST_PROFILE": "/nowhere/p"}, "", "check", dir)
	if code != 1 || !strings.Contains(said, `did you mean "deck-crew"?`) || !strings.Contains(said, `did you mean "host"?`) ||
		!strings.Contains(said, "2 faults in the declaration") || strings.Contains(said, "stored") {
		t.Errorf("exit %d: %s", code, said)
	}
	if out, _, code := run(nil, "", "check", dir, "-o", "csv"); code != 1 ||
		!strings.HasPrefix(out, "file,line,column,message\na.yaml,3,") {
		t.Errorf("exit %d: %s", code, out)
	}
	out, said, code := run(nil, "", "check", "../../demo/declaration", "-o", "json")
	if code != 1 || !strings.Contains(said+out, "no param is called") { // the addresses are written when the demo starts
		t.Errorf("exit %d: %s%s", code, out, said)
	}
}

// Every kind of finding is told alike wherever it is: in the terminal, the console and the API's document.
func TestFindingKinds(t *testing.T) {
	page, err := os.ReadFile("../../web/src/lib/ui/State.svelte")
	if err != nil {
		t.Fatal(err)
	}
	document, err := os.ReadFile("../../web/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range model.FindingKinds {
		shape, tone := "■", "bad"
		if k.CanWait() {
			shape, tone = "▲", "wait"
		}
		if got := mark(string(k)); got != shape+" "+string(k) {
			t.Errorf("the terminal says %q", got)
		}
		if !regexp.MustCompile(`(?m)^ +'?` + string(k) + `'?: '` + tone + `',$`).Match(page) {
			t.Errorf("the console does not have %s as %s", k, tone)
		}
		if !strings.Contains(string(document), `"`+string(k)+`"`) {
			t.Errorf("the API's document does not know %s", k)
		}
	}
}
