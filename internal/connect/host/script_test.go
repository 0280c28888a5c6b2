package host

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

func act(verb model.Verb, object model.ObjectKind, name, member string, changes ...model.Change) connect.Act {
	return connect.Act{Act: model.Act{Verb: verb, Object: object, Name: name, Member: member, MemberKind: model.Account, Changes: changes}}
}

func to(attribute string, before, after string) model.Change {
	c := model.Change{Attribute: attribute, After: []string{after}}
	if before != "" {
		c.Before = []string{before}
	}
	return c
}

const evil = "x'; touch /tmp/owned; '\n`touch /tmp/owned`$(touch /tmp/owned)"

// every is one act of each kind, with a name that nobody should run.
var every = []connect.Act{
	act(model.Create, model.Account, evil, "", to(model.Number, "", "1"), to(model.FullName, "", evil),
		to(keys, "", "ssh-ed25519 AAAA "+evil)),
	act(model.Create, model.Account, "grouped", "", to(model.PrimaryGroup, "", "crew")),
	act(model.Modify, model.Account, evil, "", to(shell, evil, evil), to(home, "/a", "/b")),
	act(model.Modify, model.Account, "only.keys", "", to(keys, "", "k")),
	act(model.Disable, model.Account, evil, "", to(model.Disabled, "no", "yes")),
	act(model.Enable, model.Account, evil, "", to(model.Disabled, "partly", "no")),
	act(model.AdoptIt, model.Account, evil, "", to(model.Owner, "nobody", evil)),
	act(model.Create, model.GroupKind, evil, "", to(model.Number, "", "5110")),
	act(model.Create, model.GroupKind, "bare", ""),
	act(model.Modify, model.GroupKind, evil, "", to(model.Number, "1", "2")),
	act(model.Remove, model.Account, evil, "", model.Change{Attribute: home, Before: []string{evil}, After: []string{model.HomeArchived}}),
	act(model.Remove, model.GroupKind, evil, ""),
	act(model.JoinIt, model.GroupKind, evil, evil),
	act(model.LeaveIt, model.GroupKind, evil, evil),
}

// there holds whatever is asked for, or nothing.
type there bool

func (t there) Object(n model.Named) *model.Object {
	if !t {
		return nil
	}
	return &model.Object{Kind: n.Kind, Name: n.Name}
}
func (t there) Member(_, _ model.Named) bool { return bool(t) }

// Every script parses, and each step of a batch of hostile names is one step
// whose tools are called with the name as one word.
func TestScripts(t *testing.T) {
	for name, script := range map[string]string{"survey": surveyScript(nil, true), "batch": askScript(every, false, nil),
		"urgent": askScript(every,
			true, nil)} {
		cmd := exec.Command("sh", "-n")
		cmd.Stdin = strings.NewReader(script)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s does not parse: %v %s", name, err, out)
		}
	}
	for i, a := range every {
		for _, there := range []there{false, true} {
			// The step with all its functions replaced by ones that print their words in brackets.
			script := "run() { for w in \"$@\"; do printf '[%s]' \"$w\"; done; echo; }\n"
			for _, name := range []string{"keys", "password", "reopen", "finish_home", "create", "remove", "aside", "renumber", "regroup",
				"to_home"} {
				script += name + "() { run \"$@\"; }\n"
			}
			script += "rc=0\n" + formOf(1, a, there, true).tools
			cmd := exec.Command("sh", "-c", script)
			cmd.Env = []string{"PATH=/nowhere"}
			out, err := cmd.CombinedOutput()
			if err != nil || strings.Contains(string(out), "not found") {
				t.Errorf("step %d: %v %s", i, err, out)
			}
			if strings.Contains(string(out), "touch") && !strings.Contains(string(out), "["+evil+"]") {
				t.Errorf("step %d takes a name apart: %s", i, out)
			}
		}
	}
	if m, _ := filepath.Glob("/tmp/owned*"); m != nil {
		t.Fatal("a name was run")
	}
}

func TestSteps(t *testing.T) {
	for want, a := range map[string]connect.Act{
		"create 'marit.fell' '1001' '' '-u' '1001' '-c' 'Marit O'\\''Neill' '-s' '/bin/bash' '--' 'marit.fell'": act(model.Create,
			model.Account,
			"marit.fell", "", to(model.Number, "", "1001"), to(model.FullName, "", "Marit O'Neill"), to(shell, "", "/bin/bash")),
		"create 'marit.fell' '' '' '-g' 'marit.fell' '--' 'marit.fell'": act(model.Create, model.Account,
			"marit.fell", ""),
		"to_home '/home/m' 'usermod' '-m' '-d' '/home/m' '--' 'marit.fell'": act(model.Modify, model.Account,
			"marit.fell", "", to(home, "/a", "/home/m")),
		"run 'usermod' '-L' '-e' '1' '--' 'marit.fell'": act(model.Disable, model.Account,
			"marit.fell", "", to(model.Disabled, "no", "yes")),
		"reopen 'marit.fell'": act(model.Enable, model.Account, "marit.fell",
			"", to(model.Disabled, "yes", "no")),
		"run 'groupadd' '-g' '5110' '--' 'crew'": act(model.Create, model.GroupKind, "crew", "",
			to(model.Number, "", "5110")),
		"regroup 'crew' '5110'": act(model.Modify, model.GroupKind, "crew", "",
			to(model.Number, "9", "5110")),
		"run 'gpasswd' '-a' 'marit.fell' 'crew'": act(model.JoinIt, model.GroupKind, "crew",
			"marit.fell"),
		"run 'gpasswd' '-d' 'marit.fell' 'crew'": act(model.LeaveIt, model.GroupKind, "crew",
			"marit.fell"),
		"remove 'marit.fell' 'archive'": act(model.Remove,
			model.Account, "marit.fell", "", to(home, "/home/m", "archive")),
		"keys 'marit.fell' 'ssh-ed25519 AAAA\n'": act(model.Modify, model.Account, "marit.fell",
			"", to(keys, "", "ssh-ed25519 AAAA")),
		"remove 'marit.fell' ''": act(model.Remove, model.Account, "marit.fell",
			""),
	} {
		var view connect.View = there(false)
		if strings.Contains(want, "'-g' 'marit.fell'") {
			view = connect.Objects{{Kind: model.GroupKind, Name: "marit.fell"}: &model.Object{}}
		}
		if got := formOf(1, a, view, true).tools; !strings.Contains(got, want) {
			t.Errorf("%s\nis not in\n%s", want, got)
		}
	}
	got := formOf(1, act(model.Modify, model.Account, "m", "", to(keys, "", "k")), there(true), true).tools
	if strings.Contains(got, "usermod") {
		t.Errorf("keys alone call usermod: %s", got)
	}
}

func TestReading(t *testing.T) {
	r, err := newAnswer(strings.NewReader(`L:UID_MIN:500
L:UID_MAX:30000
A:root:0:root:no:/root:/bin/bash:root
A:daemon:1:daemon:no:/:/bin/false:daemon
A:marit.fell:501:crew:no:/home/m:/bin/bash:Marit: Fell
A:toor:0:root:no:/root:/bin/sh:
A:big:40000:crew:yes:/:/bin/sh:
A:nobody:65534:nogroup:no:/:/bin/false:
G:crew:5110:marit.fell,,toor
G:wheel:10:marit.fell
G:boats:11:big
D:%boats ALL=(ALL) ALL
D:toor ALL=(ALL) ALL
K:marit.fell:# a comment
K:marit.fell:  ssh-ed25519 AAAA one
K:marit.fell:
K:marit.fell:ssh-ed25519 BBBB two
noise
Z:
`), "root").read()
	if err != nil || !r.whole {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"root": "system", "daemon": "system", "nobody": "system", "big": "system group boats", "marit.fell": "group wheel",
		"toor": "system primary group root+sudoers+number 0",
	} {
		o := r.Object(model.Named{Kind: model.Account, Name: name})
		got := strings.Join(o.Attributes.Get(model.Elevation), "+")
		if o.System {
			got = strings.TrimSpace("system " + got)
		}
		if got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	m := r.Object(model.Named{Kind: model.Account, Name: "marit.fell"}).Attributes
	if m.One(model.FullName) != "Marit: Fell" || strings.Join(m.Get(keys), ";") != "ssh-ed25519 AAAA one;ssh-ed25519 BBBB two" {
		t.Errorf("%v", m)
	}
	if g := r.Object(model.Named{Kind: model.GroupKind, Name: "crew"}).Attributes.Get(model.Members); strings.Join(g,
		";") != "marit.fell;toor" {
		t.Errorf("%q", g)
	}
	for _, bad := range []string{"A:too:few\n", "G:x\n"} {
		if _, err := newAnswer(strings.NewReader(bad), "root").read(); err == nil || !strings.Contains(err.Error(), "cannot be read") {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if r, err := newAnswer(strings.NewReader("A:a:1:a:no:/:/:\n"), "root").read(); err != nil || r.whole {
		t.Errorf("an answer that is cut off counts as whole: %v", err)
	}
	if _, err := newAnswer(strings.NewReader("K:a:"+strings.Repeat("x", 2<<20)), "root").read(); err == nil ||
		!strings.Contains(err.Error(), "a line longer than") {
		t.Errorf("%v", err)
	}
}

// What su says of an account is a refusal only when it speaks of the account.
func TestAdmission(t *testing.T) {
	for said, want := range map[[2]string]connect.AdmissionState{
		{"0", ""}: connect.LetIn, {"1", "Your account has expired; please contact your system administrator."}: connect.KeptOut,
		{"", "Your account has expired"}: connect.KeptOut, {"1",
			"su  user marit does not exist or the user entry is incomplete"}: connect.KeptOut,
		{"1", "su  Authentication failure"}: connect.NotTold, {"1", ""}: connect.NotTold, {"127", "su  not found"}: connect.NotTold,
		{"-", "its su does not ask whether an account is shut"}: connect.NotTold, {"", ""}: connect.NotTold,
	} {
		if got := admission(said[0], said[1]); got.State != want || got.Words == "" {
			t.Errorf("%q: %+v, want %s", said, got, want)
		}
	}
}
