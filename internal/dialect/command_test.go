package dialect

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

const full = `dialect: 1
kind: quay
about: a quay
reach: {over: ssh, as: exec}
quote: {rule: doubled}
fails: ['^no$', '^no: (?P<why>.*)$']
system: [root]
factory: [install]
settings: [scope]
target: {say: self, read: {pairs: {between: '='}}, is: {now: 'moment(row.clock, "YYYY-MM-DD")', version: row.version}}
holds:
  account:
    name: '^[a-z]+$'
    attributes: {full-name: {from: name}, tags: {many: true}, seen: {}}
    list:
      - say: list ${settings.scope}
        read: {json: {at: [people]}}
        when: '!has(row.gone)'
        is:
          name: row.login
          full-name: row.?name
          tags: row.?tags
          elevation: 'row.login == "root" ? ["root", "itself"] : []'
        in: {group: row.?groups}
    create: [{say: 'make ${name}', done: '^made$'}, {say: 'greet ${name}', when: want.full_name != ""}]
    set:
      tags: [{say: 'tag ${name} ${value}'}]
      password: [{say: 'word ${name}', input: "${secret}\n"}]
    disable: [{say: 'shut ${name}'}]
  group:
    members: [account, group]
    list: [{say: groups, read: {lines: '^(?P<n>\S+)$'}, is: {name: row.n}}]
    join: [{say: 'join ${set} ${member}'}]
    leave: [{say: 'leave ${set} ${member}'}]
  right:
    members: [account]
    mighty: [captain]
    list: [{say: rights, read: {lines: '^(?P<n>\S+)$'}, is: {name: row.n}}]
    join: [{say: 'give ${set} ${member}'}]
    leave: [{say: 'take ${set} ${member}'}]
signed-in:
  list: {say: who, read: {lines: '^(?P<n>\S+)$'}, is: {name: row.n}}
`

// The schema is what the file says, and no more.
func TestSchema(t *testing.T) {
	s := read(t, full).Schema()
	if s.Kind != "quay" || s.About != "a quay" || s.SystemNames[0] != "root" || s.Factory[0] != "install" || s.Settings[0] != "scope" ||
		s.Needs[0] != "scope" {
		t.Errorf("%+v", s)
	}
	var got []string
	for _, k := range s.Kinds {
		var verbs, attributes []string
		for _, v := range k.Verbs {
			verbs = append(verbs, string(v))
		}
		for _, a := range k.Attributes {
			name := a.Name
			if a.Settable {
				name += "!"
			}
			if a.Many {
				name += "*"
			}
			if a.Sealed {
				name += "?"
			}
			attributes = append(attributes, name)
		}
		got = append(got, fmt.Sprint(k.Kind, ": ", strings.Join(verbs, " "), ": ", strings.Join(attributes, " ")))
	}
	want := []string{"account: create change disable adopt: full-name seen tags!* password? elevation*", "group: join leave: ",
		"right: join leave: ", "session: : account from since", "target: : clock-off version"}
	for i, w := range want {
		if i >= len(got) || got[i] != w {
			t.Errorf("%q, want %q", got, w)
			break
		}
	}
	spelled := s.Of(model.RightKind).Spelled
	if _, err := spelled.Read(""); err == nil || !spelled.Mighty("captain") || spelled.Mighty("mate") || spelled.Covers("captain", "mate") {
		t.Error("rights are not spelled as they are called")
	}
}

// Rows that are no objects are left out, parts that are missing are none, and names must be one.
func TestObjects(t *testing.T) {
	f := read(t, full)
	l := f.Holds["account"].List[0]
	line, err := l.Say.Typed(Vars{"settings": map[string]any{"scope": `all "of" them`}}, f.Quote)
	if err != nil || line != `list "all ""of"" them"` {
		t.Errorf("%s %v", line, err)
	}
	found, err := l.Objects(`{"people":[{"login":"ulla","name":"Ulla","tags":["b","","a"],"groups":["deck","quay"]},{"login":"root"},
		{"login":"old","gone":true}]}`, nil)
	if err != nil || len(found) != 2 {
		t.Fatalf("%+v %v", found, err)
	}
	if got := fmt.Sprint(found[0].Has, found[0].In); got != "map[full-name:[Ulla] tags:[b a]] map[group:[deck quay]]" {
		t.Error(got)
	}
	if got := fmt.Sprint(found[1].Has, found[1].In); got != "map[elevation:[root itself]] map[group:[]]" {
		t.Error(got)
	}
	for answer, want := range map[string]string{`{"people":[{"name":"x"}]}`: "no such key: login",
		`{"people":[{"login":["a","b"]}]}`: "makes 2 names",
		`{"people":[{"login":{"a":1}}]}`:   "which is no text", `{"people":[7]}`: "it is no object",
		`{"people":7}`: "neither a list nor an object"} {
		if _, err := l.Objects(answer, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", answer, err, want)
		}
	}
}

// Commands are typed one after the other, those whose condition holds; the first that fails ends it, and says why.
func TestSent(t *testing.T) {
	f := read(t, full)
	h := f.Holds["account"]
	for _, c := range []struct {
		name    string
		list    []Command
		vars    Vars
		answers map[string]string
		typed   string
		want    string
		broken  bool
	}{
		{"both", h.Create, Vars{"name": "ulla", "want": map[string]any{"full_name": "U"}}, map[string]string{"make ulla": "made"},
			"make ulla|greet ulla", "", false},
		{"the second not", h.Create, Vars{"name": "ulla", "want": map[string]any{"full_name": ""}}, map[string]string{"make ulla": "made"},
			"make ulla", "", false},
		{"it does not say so", h.Create, Vars{"name": "ulla", "want": map[string]any{"full_name": ""}}, nil, "make ulla",
			"it does not say that it did", false},
		{"it fails", h.Create, Vars{"name": "ulla"}, map[string]string{"make ulla": "made\nno: too many"}, "make ulla", "too many", false},
		{"it fails without a word", h.Disable, Vars{"name": "ulla"}, map[string]string{"shut ulla": "well\nno"}, "shut ulla", "no", false},
		{"it cannot be said", h.Disable, Vars{"name": "u\nlla"}, nil, "", "cannot be typed", false},
		{"several values", h.Set["tags"], Vars{"name": "ulla", "value": []string{"a", "b c"}}, nil, `tag ulla a "b c"`, "", false},
		{"no value", h.Set["tags"], Vars{"name": "ulla", "value": ""}, nil, `tag ulla ""`, "", false},
		{"the end", h.Disable, Vars{"name": "gone"}, nil, "shut gone", "the line is dead", true},
	} {
		var typed []string
		err := f.Sent(c.list, c.vars, func(line string, _ Command) (string, error) {
			if typed = append(typed, line); strings.HasSuffix(line, " gone") {
				return "", errors.New("the line is dead")
			}
			return c.answers[line], nil
		})
		if got := strings.Join(typed, "|"); got != c.typed || (err == nil) != (c.want == "") || err != nil &&
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %s %v", c.name, got, err)
		}
		if Broken(err) != c.broken {
			t.Errorf("%s: %v is taken for the end of the conversation: %v", c.name, err, Broken(err))
		}
	}
	if text, err := h.Set["password"][0].Input.Plain(Vars{"secret": `a "word" \`}); err != nil || text != "a \"word\" \\\n" {
		t.Errorf("%q %v", text, err)
	}
	if _, err := f.Holds["account"].List[0].Say.Typed(nil, f.Quote); err == nil {
		t.Error("a setting that is not there is typed")
	}
}

func FuzzWords(f *testing.F) {
	for _, v := range hostile {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, v string) {
		for _, rule := range []string{"double", "doubled", "shell"} {
			q := Quote{Rule: rule}
			w, err := q.Word(v)
			if err != nil {
				continue
			}
			if got := q.Words("a " + w + " z"); len(got) != 3 || got[1] != v || strings.ContainsAny(w, "\r\n") {
				t.Errorf("%s: %q is typed as %s, and read as %q", rule, v, w, got)
			}
		}
	})
}

// A recording has the settings of the target that it was made with, and is tried with them.
func TestRecordingWithSettings(t *testing.T) {
	f := read(t, full)
	typed := ""
	r, err := f.Record(Vars{"settings": map[string]any{"scope": "the \"quay\""}}, func(line string) (string, error) {
		switch {
		case strings.HasPrefix(line, "list"):
			typed = line
			return `{"people": [{"login": "ulla", "name": "Ulla"}]}`, nil
		case line == "self":
			return "clock = 2026-11-26\nversion = 7\n", nil
		}
		return "deck\n", nil
	})
	if err != nil || typed != `list "the ""quay"""` {
		t.Fatalf("%q %v", typed, err)
	}
	text, err := r.Write()
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadRecording("x", text)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Check([]*Recording{again}); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
	again.With = nil
	if _, err := f.Check([]*Recording{again}); err == nil || !strings.Contains(err.Error(), "nothing is read of account by typing") {
		t.Errorf("%v", err)
	}
}

// Whether somebody is let in is told by a line of the answer, with why not; whatever else is said tells nothing.
func TestLetsIn(t *testing.T) {
	f := read(t, full+"lets-in: {say: 'gate ${name}', yes: '^in$', no: '^out(: (?P<why>.*))?$'}\n")
	for answer, want := range map[string]string{"in\n": "yes|", "welcome\r\nin\r\n": "yes|", "out": "no|", "out: barred\n": "no|barred",
		"": "|", "perhaps\n": "|", "out: x\nin\n": "no|x"} {
		if in, why := f.LetsIn.Told(answer); in+"|"+why != want {
			t.Errorf("%q: %s|%s, want %s", answer, in, why, want)
		}
	}
}

// What is done is told by a line of the answer, whatever stands around it and however that ends.
func TestDoneLine(t *testing.T) {
	f := read(t, full)
	c := f.Holds["account"].Disable[0]
	c.Done = Pattern{Regexp: regexp.MustCompile(`^it is done$`)}
	for answer, want := range map[string]bool{"it is done": true, "it is done\n": true, "well\r\nit is done\r\n": true,
		"it is done?\n": false, "": false} {
		err := f.Sent([]Command{c}, Vars{"name": "ulla"}, func(string, Command) (string, error) { return answer, nil })
		if (err == nil) != want {
			t.Errorf("%q: %v", answer, err)
		}
	}
}

// Rows that tell of the system itself are one, whichever of them tells what.
func TestTargetRows(t *testing.T) {
	l := Listing{one: true, Read: Reading{Pairs: &AsPairs{Between: ":"}}, Is: map[string]Expression{}}
	for a, text := range map[string]string{"version": "row.version", "now": "moment(row.clock, 'DD.MM.YYYY hh:mm')"} {
		p, err := compile(text)
		if err != nil {
			t.Fatal(err)
		}
		l.Is[a] = Expression{Text: Text{Raw: text}, program: p}
	}
	found, err := l.Objects("version: 7\n\nclock: 26.11.2026 08:15\n", nil)
	if err != nil || len(found) != 1 || fmt.Sprint(found[0].Has) != "map[now:[2026-11-26T08:15:00Z] version:[7]]" {
		t.Errorf("%+v %v", found, err)
	}
}
