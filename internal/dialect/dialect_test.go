package dialect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/goccy/go-yaml"
)

const small = `dialect: 1
kind: quay
reach: {over: ssh, as: exec}
quote: {rule: double}
fails: ['^no: (?P<why>.*)$']
holds:
  account:
    attributes: {full-name: {from: name}}
    list:
      - say: list
        read: {lines: '^(?P<login>\S+) (?P<name>.*)$', skip: ['^total']}
        is: {name: row.login, full-name: row.name, disabled: 'row.login.startsWith("x")'}
    create: [{say: 'make ${name}'}]
    set: {full-name: [{say: 'name ${name} ${value}'}]}
`

// tiny is all that a file must have, up to how its list is read.
const tiny = "dialect: 1\nkind: x\nreach: {over: ssh, as: exec}\nquote: {rule: shell}\nholds:\n  account:\n    list:\n      - say: l\n"

func read(t testing.TB, text string) *File {
	t.Helper()
	f, err := Read("quay.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// What is wrong with a file is told at its line, all of it.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ was, is, want string }{
		{"dialect: 1", "dialect: 2", "quay.yaml:1: a dialect begins with dialect: 1"},
		{"kind: quay", "kind: Quay 7", `kind "Quay 7" does not begin with a letter`},
		{"as: exec", "as: talk", `reach: as is "talk"; it is exec, session`},
		{"over: ssh, as: exec", "over: tcp, as: exec", "over tcp there is nothing but a session"},
		{"as: exec", "as: session", "a session needs a prompt"},
		{"rule: double", "rule: never", "values that are never quoted need only"},
		{"row.login, full", "row.login +, full", `quay.yaml:12: "row.login +" is no expression: Syntax error`},
		{"row.login, full", "rwo.login, full", `"rwo.login" is no expression: undeclared reference to 'rwo'`},
		{"'make ${name}'", "'make ${name'", "quay.yaml:13: ${ is not closed with }"},
		{`(?P<name>.*)$'`, `(?P<name>.*$'`, "quay.yaml:11: error parsing regexp"},
		{"full-name: row.name", "fullname: row.name", `quay.yaml:12: account: "fullname" is no attribute`},
		{"name: row.login, ", "", "quay.yaml:10: account: the list does not say which is the name"},
		{"read: {lines: '^(?P<login>\\S+) (?P<name>.*)$', skip: ['^total']}", "read: {}", "read says 0 ways to read the answer"},
		{"over: ssh, as: exec", "over: host, as: session", "on a host programs are run, and there is no session"},
		{"over: ssh", "over: host", "what is run on a host is given its arguments as they are, and needs none"},
		{"holds:", "lets-in: {say: 'gate ${name}', yes: ok}\nholds:", "lets-in: say, yes and no say how it is asked"},
		{"holds:", "settings: [Scope 7]\nholds:", `settings: "Scope 7" does not begin with a letter`},
		{"holds:", "changing: {enter: [on]}\nholds:", "changing is a mode of a session without a candidate"},
		{"holds:", "actions: {given-by: may, table: [{action: x}]}\nholds:", `given-by is "may", which is an attribute of nothing`},
		{"holds:", "actions: {given-by: full-name}\nholds:", "table or ask says which permissions an action takes"},
		{"holds:", "actions: {given-by: full-name, ask: {say: x, read: {json: {}}}}\nholds:", "ask needs examples of actions"},
		{"    create: [", "    one-of: [x]\n    create: [", "account: one-of is of rights"},
		{"account:", "accounts:", `holds: "accounts" is not one of account, group, right, licence`},
		{"    create: [", "    creates: [", `quay.yaml:13: unknown field "creates"`},
		{"'name ${name} ${value}'", "'name ${name} ${secret}'",
			"quay.yaml:14: account set full-name: a secret is never typed as part of a line"},
		{"holds:", "job: {hand: {say: x}}\nholds:", "job: number and each are patterns with the parts job and n"},
		{"set: {full-name", "set: {fullname", `set has "fullname", which attributes does not`},
		{"    create: [", "    join: [", "account: join, leave and members go together"},
	} {
		if !strings.Contains(small, c.was) {
			t.Fatalf("%q", c.was)
		}
		_, err := Read("quay.yaml", []byte(strings.Replace(small, c.was, c.is, 1)))
		var f Faults
		if !errors.As(err, &f) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.is, err, c.want)
		}
	}
	two := strings.NewReplacer("dialect: 1", "dialect: 2", "kind: quay", "kind: Q").Replace(small)
	if _, err := Read("quay.yaml", []byte(two)); err == nil || strings.Count(err.Error(), "\n") != 1 {
		t.Errorf("not all is told: %v", err)
	}
}

// Answers in all forms; what is not understood ends the reading, and names the line of the file and of the answer.
func TestReading(t *testing.T) {
	for _, c := range []struct{ name, read, answer, want string }{
		{"lines", `{lines: '^(?P<a>\S+) (?P<b>.*)$', skip: ['^total']}`, "x 1\ntotal 7\n\ny 2 3\r\n", "1:a=x b=1 4:a=y b=2 3"},
		{"a line that is none", `{lines: '^(?P<a>\d+)$'}`, "1\nx\n", `line 2 of the answer, "x", is not understood by line 9`},
		{"columns", `{columns: {head: '^NAME'}}`, "NAME   FULL NAME   N\nulla   Ulla Ö N    1\nx                  2\n",
			"2:full_name=Ulla Ö N n=1 name=ulla 3:full_name= n=2 name=x"},
		{"broken lines", `{lines: '^(?P<a>\S+) (?P<b>.*)$', goes-on: '^ {4}'}`, "x 1\n    2\n    3\ny 4\n", "1:a=x b=123 4:a=y b=4"},
		{"no head", `{columns: {head: '^NAME'}}`, "x\n", "it is not the head"},
		{"csv", `{csv: {}}`, "a,b\n1,\"x, \"\"y\"\"\"\n", `2:a=1 b=x, "y"`},
		{"csv with names and another comma", `{csv: {columns: [a, b], comma: ';'}}`, "1;2\n", "1:a=1 b=2"},
		{"csv of another width", `{csv: {}}`, "a,b\n1\n", "wrong number of fields"},
		{"json", `{json: {at: [x, list]}}`, `{"x":{"list":[{"a":1,"b":true},{"a":9007199254740993}]}}`,
			"1:a=1 b=true 2:a=9007199254740993"},
		{"json that is none", `{json: {}}`, "{\n\"a\":\n", `it is no JSON`},
		{"json without it", `{json: {at: [x]}}`, `{"y":[]}`, `nothing is called "x"`},
		{"pairs", `{pairs: {between: '='}}`, "a = 1\nb-c = x = y\n\na = 2\na = 3\n", "1:a=1 b_c=x = y 4:a=2 5:a=3"},
		{"pairs without", `{pairs: {between: '='}}`, "a: 1\n", `there is no "=" in it`},
		{"pairs twice", `{pairs: {between: '='}}`, "a = 1\nb = 1\nb = 2\n", "b stands there twice"},
		{"blocks", `{blocks: {begin: '^p (?P<n>\S+)$', lines: ['^ g (?P<g>.*)$', '^ x (?P<x>.*)$']}}`, "p a\n g 1\n g 2\np b\n x 3\n",
			"1:g=[1 2] n=a x=[] 4:g=[] n=b x=[3]"},
		{"blocks without a beginning", `{blocks: {begin: '^p (?P<n>\S+)$', lines: ['^ g (?P<g>.*)$']}}`, " g 1\n", "line 1 of the answer"},
	} {
		f, err := Read("x",
			[]byte(tiny+
				"        read: "+c.read+"\n        is: {name: '\"x\"'}\n"))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		rows, err := f.Holds["account"].List[0].Read.Rows(c.answer, 8)
		var got []string
		for _, r := range rows {
			got = append(got, fmt.Sprint(r.Line, ":", strings.TrimSuffix(strings.TrimPrefix(strings.ReplaceAll(fmt.Sprint(r.Has), ":",
				"="), "map["), "]")))
		}
		text := strings.Join(got, " ")
		if err != nil {
			text = err.Error()
		}
		if text != c.want && (err == nil || !strings.Contains(text, c.want)) {
			t.Errorf("%s: %s, want %s", c.name, text, c.want)
		}
	}
}

// A value that runs into the next column makes one account odd, unless it is what an account is called or what power it has.
func TestOverflow(t *testing.T) {
	f, err := Read("x", []byte(strings.Replace(tiny, "account:", "account:\n    attributes: {full-name: {}, level: {}}", 1)+
		"        read: {columns: {head: '^LOGIN'}}\n        is: {name: row.login, full-name: row.name, level: row.level, "+
		"disabled: row.state == \"shut\"}\n"))
	if err != nil {
		t.Fatal(err)
	}
	const head = "LOGIN   NAME    LEVEL   STATE\n"
	for row, want := range map[string]string{
		"ulla    Ulla    9       open\n":   "map[disabled:[no] full-name:[Ulla] level:[9]]",
		"ulla    Ulla Nie9       open\n":   "map[disabled:[no]] line 2 of the answer",
		"ulla    Ulla    veryhighopen\n":   "line 2 of the answer",
		"ulla.nieUlla    9       open\n":   "line 2 of the answer",
		"ulla    Ulla Niemi      shut  \n": "map[disabled:[yes]] line 2 of the answer"} {
		list, err := f.Holds["account"].List[0].Objects(head+row, nil)
		got := fmt.Sprint(err)
		if err == nil {
			got = strings.TrimSpace(fmt.Sprint(list[0].Has, " ", list[0].Odd))
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%q: %s, want %s", row, got, want)
		}
	}
}

// What an action takes is told by the first line of the table that fits, or asked.
func TestActions(t *testing.T) {
	f := read(t, strings.Replace(small, "holds:", "actions: {given-by: full-name, examples: [list], table: [{action: '^list', takes: []}, "+
		"{action: '^make ', takes: [making, writing]}]}\nholds:", 1))
	for action, want := range map[string]string{"list": "[] <nil>", "make x": "[making writing] <nil>",
		"reboot": `[] the dialect quay does not say what "reboot" takes; ask of one as "list"`} {
		list, known, err := f.Takes(action)
		if got := fmt.Sprintf("%v %v", list, err); got != want || !known {
			t.Errorf("%s: %s, want %s", action, got, want)
		}
	}
	f = read(t, strings.Replace(small, "holds:", "actions: {given-by: full-name, examples: [list], ask: {say: 'needs ${action}', "+
		"read: {lines: '^it takes (?P<x>.*)$'}, is: {name: row.x}}}\nholds:", 1))
	ask := func(answer string) (string, error) {
		typed := ""
		list, err := f.Asked(context.Background(), "a\" b", Vars{}, func(_ context.Context, line string) (string, error) {
			typed = line
			return answer, nil
		})
		return fmt.Sprint(typed, list), err
	}
	if got, err := ask("it takes making\nit takes writing\n"); got != `needs "a\" b"[making writing]` || err != nil {
		t.Errorf("%s %v", got, err)
	}
	var no *Unknown
	if _, err := ask("no: what is that?"); !errors.As(err, &no) || !strings.Contains(no.Words, "what is that?") {
		t.Errorf("%v", err)
	}
	if _, err := f.Asked(context.Background(), "a\nb", Vars{}, nil); !errors.As(err, &no) {
		t.Errorf("a line break was typed: %v", err)
	}
}

// On a host values are arguments as they are; what would be an option is refused.
func TestArguments(t *testing.T) {
	f := read(t, strings.NewReplacer("over: ssh", "over: host", "quote: {rule: double}\n", "").Replace(small))
	name := f.Holds["account"].Set["full-name"][0].Say
	for value, want := range map[string]string{`a "b" $(c) 'd'`: `[name x a "b" $(c) 'd']`, "-f": "", "--all": "", "": "[name x ]"} {
		line, err := name.Typed(Vars{"name": "x", "value": value}, f.Quote)
		if got := fmt.Sprint(f.Quote.Words(line)); (err == nil) != (want != "") || err == nil && got != want {
			t.Errorf("%q: %s %v, want %s", value, got, err, want)
		}
	}
	var behind Template
	if err := yaml.Unmarshal([]byte(`name -- ${value}`), &behind); err != nil {
		t.Fatal(err)
	}
	if line, err := behind.Typed(Vars{"value": "-f"}, f.Quote); err != nil || !strings.Contains(line, "-f") {
		t.Errorf("%q %v", line, err)
	}
}

// Values become one word each, or are refused; the system reads what was meant.
func TestQuoting(t *testing.T) {
	for _, rule := range []string{"double", "doubled", "shell"} {
		q := Quote{Rule: rule}
		for _, v := range hostile {
			w, err := q.Word(v)
			if err != nil {
				if !strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r == 0x2028 }) {
					t.Errorf("%s: %q cannot be said: %v", rule, v, err)
				}
				continue
			}
			if got := q.Words("x " + w + " y"); len(got) != 3 || got[1] != v {
				t.Errorf("%s: %q is typed as %s, and read as %q", rule, v, w, got)
			}
		}
	}
	bad := strings.Replace(small, "rule: double", "rule: never, only: '.*'", 1)
	if _, err := read(t, bad).Check(nil); err == nil || !strings.Contains(err.Error(), "which the system takes for the words") {
		t.Errorf("%v", err)
	}
	good := strings.Replace(small, "rule: double", `rule: never, only: '^[a-z.]+$'`, 1)
	if _, err := read(t, good).Check(nil); err == nil || strings.Contains(err.Error(), "takes for the words") {
		t.Errorf("%v", err)
	}
}

// Days, numbers and truths in systems' own forms.
func TestForms(t *testing.T) {
	for text, want := range map[string]string{`ordinal("2026330")`: "2026-11-26", `ordinal("26330")`: "2026-11-26",
		`ordinal("0000000")`: "",
		`ordinal("2024366")`: "2024-12-31", `ordinal("263")`: "is no day as", `ordinal("2026400")`: "is no day as",
		`julian("2461371")`: "2026-11-26", `julian("0")`: "", `julian("12")`: "no Julian day number",
		`day("26.11.26 08:15", "DD.MM.YY hh:mm")`: "2026-11-26", `day("26 Nov 2026", "DD MON YYYY")`: "2026-11-26",
		`day("x", "DD")`: "is no day as DD", `day(" None", "DD.MM.YY", "none")`: "never", `day("26.11.26", "DD.MM.YY", "none")`: "2026-11-26",
		`moment("26.11.2026 08:15:01", "DD.MM.YYYY hh:mm:ss")`: "2026-11-26T08:15:01Z", `day("", "DD")`: "", `1 < 2`: "yes", `3.0`: "3",
		`7`:              "7",
		`["a", "", "b"]`: "a b", `"a,,b".split(",")`: "a b", `null`: "", `row.x.y`: "no such", `{"a": 1}`: "which is no text"} {
		p, err := compile(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		list, err := eval(p, Vars{"row": map[string]any{"x": map[string]any{}}})
		got := strings.Join(list, " ")
		if err != nil {
			got = err.Error()
		}
		if got != want && (err == nil || !strings.Contains(got, want)) {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// What a terminal shows is what is read.
func TestScreen(t *testing.T) {
	for text, want := range map[string]string{"a\r\nb\r\n": "a|b|", "-- more --\r          \rc\n": "c|", "-- more --\r\x1b[Kd\n": "d|",
		"ab\bc\n":                "ac|",
		"\x1b[1;31mred\x1b[0m\n": "red|", "a\tb\n": "a       b|", "\x1b]0;title\x07x\n": "0;titlex|", "abc\x1b[2Kd\n": "d|",
		"ö ñ\n> ": "ö ñ|> "} {
		var s screen
		for i := range len(text) { // as slowly as can be
			s.write(text[i : i+1])
		}
		whole := screen{}
		whole.write(text)
		if got := strings.Join(append(whole.lines, whole.now()), "|"); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// Lines that a system breaks at its width are put together again, and what waits is the last of them.
func TestWide(t *testing.T) {
	for text, want := range map[string]string{"12345\r\n678\r\nab\r\n> ": "12345678|ab||> ", "12345\r\n12345\r\n\r\n> ": "1234512345||> ",
		"1234 \r\n5\r\n": "1234 5||", "12345\r\n> ": "12345||> ", "12345\r\n--more--\r\x1b[2K67\r\n> ": "1234567||> "} {
		s := screen{wide: 5}
		s.write(text)
		if got := strings.Join(s.whole(), "|") + "||" + s.now(); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// wire is a connection to somebody who answers as a test has it.
type wire struct {
	io.Reader
	io.Writer
}

// talking is a conversation with a system that answer speaks for.
func talking(t *testing.T, f *File, answer func(in io.Reader, out io.Writer)) *Talk {
	t.Helper()
	fromUs, toThem := io.Pipe()
	fromThem, toUs := io.Pipe()
	go func() {
		answer(fromUs, toUs)
		toUs.Close()
	}()
	t.Cleanup(func() { toThem.Close(); fromThem.Close() })
	return NewTalk(f, wire{fromThem, toThem}, 30*time.Second)
}

// A conversation: prompts that stand in values, echoes that are broken, questions without an end, and silence.
func TestTalk(t *testing.T) {
	f := read(t, strings.NewReplacer("as: exec", "as: session", "quote:",
		"session: {prompt: '^quay> $', echo: true, refuses: '^go away$', "+
			"more: [{at: '^--more--$', say: ' '}]}\nquote:").Replace(small))
	said := func(lines ...string) func(io.Reader, io.Writer) {
		return func(in io.Reader, out io.Writer) {
			fmt.Fprint(out, "welcome\r\nquay> ")
			buf := make([]byte, 1000)
			for _, l := range lines {
				if _, err := in.Read(buf); err != nil {
					return
				}
				for _, part := range strings.Split(l, "~") {
					fmt.Fprint(out, part)
					time.Sleep(time.Millisecond)
				}
			}
			_, _ = io.Copy(io.Discard, in)
		}
	}
	for _, c := range []struct{ name, answer, want string }{
		{"a prompt in a value", "list\r\nulla quay> \r\nquay> x\r\nquay> ", "ulla quay>\nquay> x"},
		{"an echo in two lines", "li\r\nst\r\nulla\r\nquay> ", "ulla"},
		{"slowly", "li~st\r~\nul~la\r\nqu~ay~> ", "ulla"},
		{"silence", "list\r\nulla\r\n", "it does not answer within 300ms; it waits at \"\", which is no prompt"},
		{"another prompt", "list\r\nbridge# ", `it waits at "bridge# ", which is no prompt`},
	} {
		talk := talking(t, f, said(c.answer))
		if strings.Contains(c.want, "no prompt") {
			talk.wait = 300 * time.Millisecond
		}
		if err := talk.SignIn(context.Background(), "me", nil); err != nil {
			t.Fatal(err)
		}
		got, err := talk.Say(context.Background(), "list", nil, nil)
		if err != nil {
			got = err.Error()
		}
		if got != c.want && (err == nil || !strings.Contains(got, c.want)) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	talk := talking(t, f, func(_ io.Reader, out io.Writer) { fmt.Fprint(out, "go away\r\n") })
	var r *Refusal
	if err := talk.SignIn(context.Background(), "me", nil); !errors.As(err, &r) || r.Said != "go away" {
		t.Errorf("%v", err)
	}
	talk = talking(t, f, said("list\r\na\r\n--more--", "\r\x1b[Kb\r\nquay> "))
	_ = talk.SignIn(context.Background(), "me", nil)
	if got, err := talk.Say(context.Background(), "list", nil, nil); got != "a\nb" || err != nil {
		t.Errorf("%q %v", got, err)
	}
	synctest.Test(t, func(t *testing.T) {
		t.Cleanup(func() { time.Sleep(time.Second) }) // so that the system that drips finds the connection closed
		drip := talking(t, f, func(in io.Reader, out io.Writer) {
			for { // never quiet for long, and never done
				if _, err := fmt.Fprint(out, "and so on\r\n"); err != nil {
					return
				}
				time.Sleep(5 * time.Millisecond)
			}
		})
		drip.wait = 200 * time.Millisecond
		if err := drip.SignIn(context.Background(), "me", nil); err == nil || !strings.Contains(err.Error(),
			"has not come to an end within 3s") {
			t.Errorf("%v", err)
		}
	})
	if _, err := talk.Say(context.Background(), "a\nb", nil, nil); err == nil {
		t.Error("a line break was typed")
	}
}

// Recordings find a dialect that reads otherwise than it did.
func TestRecordings(t *testing.T) {
	f := read(t, small)
	const good = "recording: 1\ntalk:\n- typed: list\n  answered: |-\n    ulla Ulla Niemi\n    total 1\n  reads: account\n  objects:\n" +
		"    ulla: {full-name: Ulla Niemi, disabled: \"no\"}\n- typed: make x\n  answered: 'no: it is there'\n  fails: it is there\n"
	for _, c := range []struct{ was, is, want string }{{"", "", ""}, {"Ulla Niemi,", "Ulla,",
		`quay.rec:5: full-name of account "ulla" is read as "Ulla Niemi", and should be "Ulla"`},
		{"    ulla: {", "    olla: {", `account "olla" is not read out of it`}, {"    total 1", "    nonsense",
			`line 2 of the answer, "nonsense", is not understood by line 11`},
		{"fails: it is there", "fails: other", `it is taken for the failure "it is there", and should be for the failure "other"`},
		{"typed: list", "typed: lists", `nothing is read of account by typing "lists"`}, {"reads: account", "reads: group",
			"nothing is read of group"}} {
		r, err := ReadRecording("quay.rec", []byte(strings.Replace(good, c.was, c.is, 1)))
		if err != nil {
			t.Fatal(err)
		}
		_, err = f.Check([]*Recording{r})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.is, err, c.want)
		}
	}
	if _, err := ReadRecording("x", []byte("recording: 1\ntalks: []\n")); err == nil {
		t.Error("a recording with an unknown key is taken")
	}
	r, err := f.Record(nil, func(string) (string, error) { return "ulla Ulla Niemi\nx.y X \"Y\" ö\n", nil })
	if err != nil {
		t.Fatal(err)
	}
	sealed := read(t, small+"strike: ['\\$6\\$\\S+']\n")
	x, err := sealed.Record(nil, func(string) (string, error) { return "ulla Ulla $6$salt$hash Niemi\n", nil })
	if err != nil || x.Talk[0].Answered.Raw != "ulla Ulla (sealed) Niemi\n" {
		t.Errorf("%+v %v", x, err)
	}
	text, err := r.Write()
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadRecording("x", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if _, err := f.Check([]*Recording{again}); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
}

// The dialects of the demo are right, and hold to their recordings.
func TestDemo(t *testing.T) {
	files, _ := filepath.Glob("../../demo/dialects/*.recording.yaml")
	for _, path := range files {
		text, _ := os.ReadFile(path)
		r, err := ReadRecording(path, text)
		if err != nil {
			t.Fatal(err)
		}
		own := strings.Replace(path, ".recording", "", 1)
		text, _ = os.ReadFile(own)
		f, err := Read(own, text)
		if err != nil {
			t.Fatal(err)
		}
		if n, err := f.Check([]*Recording{r}); err != nil || n.Attacks < 200 {
			t.Errorf("%+v %v", n, err)
		}
	}
	doc, err := os.ReadFile("../../docs/dialects.md")
	if err != nil {
		t.Fatal(err)
	}
	_, example, _ := strings.Cut(string(doc), "```yaml\ndialect: 1")
	example, _, _ = strings.Cut(example, "```")
	f, err := Read("the example of the documents", []byte("dialect: 1"+example))
	if err != nil {
		t.Fatal(err)
	}
	list, err := f.Holds["account"].List[0].Objects("ulla.niemi;Ulla Niemi;weigher;0\n", nil)
	if err != nil || len(list) != 1 || fmt.Sprint(list[0].Has) != "map[disabled:[no] duty:[weigher] full-name:[Ulla Niemi]]" {
		t.Errorf("%v %v", list, err)
	}
	if len(files) != 4 {
		t.Errorf("%q", files)
	}
}

func FuzzRows(f *testing.F) {
	for _, s := range []string{"a b\n", "{\"a\":[1]}", "p x\n g y\n", "A  B\n1  2\n", "a = b\n", "a,b\n\"c"} {
		f.Add(s)
	}
	var list []*Listing
	for _, r := range []string{`{lines: '^(?P<a>\S+) (?P<b>.*)$'}`, `{json: {}}`, `{csv: {}}`, `{columns: {head: '^A'}}`,
		`{pairs: {between: '='}}`,
		`{blocks: {begin: '^p (?P<n>\S+)$', lines: ['^ g (?P<g>.*)$']}}`, `{lines: '^(?P<a>.*)$', goes-on: '^ +'}`} {
		x, err := Read("x",
			[]byte(tiny+
				"        read: "+r+"\n        is: {name: '\"x\"'}\n"))
		if err != nil {
			f.Fatal(err)
		}
		list = append(list, x.Holds["account"].List[0])
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, wide := range []int{0, 1, 5} {
			sc := screen{wide: wide}
			sc.write(s)
			_, _ = sc.whole(), sc.now()
		}
		for _, l := range list {
			_, _ = l.Objects(s, nil)
		}
	})
}

// A hundred thousand lines of an answer, in columns and by a pattern.
func BenchmarkRows(b *testing.B) {
	var lines, columns strings.Builder
	columns.WriteString("LOGIN          NAME                     STATE\n")
	for i := range 100_000 {
		fmt.Fprintf(&lines, "crew.%06d Crew Number %d\n", i, i)
		fmt.Fprintf(&columns, "crew.%06d    %-24s open\n", i, fmt.Sprint("Crew Number ", i))
	}
	f := read(b, small)
	g := read(b, strings.Replace(strings.Replace(small, `{lines: '^(?P<login>\S+) (?P<name>.*)$', skip: ['^total']}`,
		"{columns: {head: '^LOGIN'}}", 1), `row.login.startsWith("x")`, `row.state != "open"`, 1))
	for name, x := range map[string]struct {
		f    *File
		text string
	}{"lines": {f, lines.String()}, "columns": {g, columns.String()}} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if list, err := x.f.Holds["account"].List[0].Objects(x.text, nil); err != nil || len(list) != 100_000 {
					b.Fatal(len(list), err)
				}
			}
		})
	}
}
