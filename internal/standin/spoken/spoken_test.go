package spoken

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// held holds a conversation with a language by itself: lines that begin with > are typed, those with < answer what is asked, and
// the others are what must be answered. What it answers instead is shown.
func held(t *testing.T, l Language, login, script string) {
	t.Helper()
	s := l.Open(login, "10.0.0.7:4711")
	defer s.Close()
	var turns [][]string
	for line := range strings.Lines(strings.Trim(script, "\n")) {
		if line = strings.TrimRight(strings.TrimPrefix(line, "\t"), "\n"); strings.HasPrefix(line, "> ") {
			turns = append(turns, []string{strings.TrimPrefix(line, "> ")})
		} else {
			turns[len(turns)-1] = append(turns[len(turns)-1], line)
		}
	}
	for _, turn := range turns {
		var want, given []string
		for _, line := range turn[1:] {
			if word, ok := strings.CutPrefix(line, "< "); ok {
				given = append(given, word)
			} else {
				want = append(want, line)
			}
		}
		got, _ := s.Say(turn[0], func(string) string {
			if len(given) == 0 {
				return ""
			}
			word := given[0]
			given = given[1:]
			return word
		})
		for i := range got {
			got[i] = strings.TrimRight(got[i], " ")
		}
		if a, b := strings.Join(got, "\n"), strings.Join(want, "\n"); a != b {
			t.Errorf("> %s\n%s\nand should be\n%s", turn[0], a, b)
		}
	}
}

func newSkerry(t *testing.T) *Skerry {
	t.Helper()
	s, err := NewSkerry(filepath.Join(t.TempDir(), "state"), SkerryState{Name: "quay", People: map[string]Mooring{
		"odd":  {Name: "Odd Strand", Class: "master", Hash: Hashed("a word of his"), From: []string{"10.20.0.0/16"}},
		"kari": {Name: "Kari Berg", Class: "mooring", Shut: true}},
		Classes: map[string][]string{"master": {"tell", "change people", "turn out"}, "mooring": {"tell"}, "visitor": {}}})
	if err != nil {
		t.Fatal(err)
	}
	s.Guard(func(do func()) { do() })
	return s
}

// The harbour's switch: what is changed stands on a sheet, which is kept with words, or on trial.
func TestSkerry(t *testing.T) {
	s := newSkerry(t)
	held(t, s, "odd", `
	> tell classes
	class master
	  may tell
	  may change people
	  may turn out
	class mooring
	  may tell
	class visitor
	> person kari opened
	?? open sheet first
	> open sheet
	> tell sheet
	open by: odd
	on trial: no
	> new person ulla
	> new person ulla
	?? there is a person ulla
	> new boat ulla
	?? what is a boat?
	> person ulla name "Ulla \"Ulli\" \\ Niemi"
	> person ulla class captain
	?? there is no class captain
	> person ulla class mooring
	> person ulla from 10.1.0.0/16 10.2.0.0/16
	> person ulla secret
	< a new word
	< another word
	?? the secrets differ, or have fewer than 8 characters
	> person ulla secret
	< a new word
	< a new word
	> person ulla hat
	?? a person has no hat
	> person nobody shut
	?? there is no nobody
	> new party quayside
	> party quayside takes ulla
	> party quayside takes nobody
	?? there is no nobody
	> party nowhere takes ulla
	?? there is no party nowhere
	> person kari opened
	> sheet shows
	~ person kari shut: true > false
	+ person ulla, class mooring
	~ person ulla name:  > Ulla "Ulli" \ Niemi
	~ person ulla from:  > 10.1.0.0/16 10.2.0.0/16
	~ person ulla secret
	+ party quayside
	~ party quayside:  > ulla
	> sheet fits
	the sheet fits
	> keep sheet "spring \"crew\""
	kept
	> tell sheet
	open by: nobody
	on trial: no
	> tell parties
	party quayside
	  holds ulla
	> open sheet
	> strike person nobody
	?? there is no person nobody
	> strike person ulla
	> strike party quayside
	> person odd shut
	> sheet fits
	?? nobody could change people any more
	> keep sheet "and away"
	?? nobody could change people any more
	> drop sheet
	> sheet shows
	?? open sheet first
	> sheet stays
	?? nothing is on trial
	> what is this
	?? open sheet first`)
	held(t, s, "kari", `
	> tell signed-in
	2 kari from 10.0.0.7:4711 since `+time.Now().UTC().Format("2006-01-02 15:04")+` as mooring (you)
	> open sheet
	?? class mooring may not; it takes: change people
	> turn out 1
	?? class mooring may not; it takes: turn out`)
	if !s.SignIn("ulla", "a new word") || s.SignIn("ulla", "another word") || s.SignIn("nobody", "") || s.SignIn("kari", "") {
		t.Error("who may sign in is not who should")
	}
}

// What is kept on trial goes back by itself unless it stays; others wait meanwhile, and who is turned out is out.
func TestSkerryTrial(t *testing.T) {
	s := newSkerry(t)
	s.Is.People["lotte"] = Mooring{Class: "master"}
	held(t, s, "odd", `
	> open sheet
	> person kari class visitor
	> keep sheet for 0.001 minutes "a moment"
	kept for 0.001 minutes
	> open sheet
	?? a sheet is on trial`)
	time.Sleep(150 * time.Millisecond)
	if s.OnTrial() || s.Is.People["kari"].Class != "mooring" || len(s.Is.Keeps) != 0 {
		t.Errorf("it has not gone back: %+v", s.Is)
	}
	held(t, s, "odd", `
	> open sheet
	> person kari class visitor
	> keep sheet for 5 minutes "to stay"
	kept for 5 minutes
	> sheet stays
	> tell sheet
	open by: nobody
	on trial: no
	> open sheet
	> person kari class master
	> keep sheet for 5 minutes "to go"
	kept for 5 minutes
	> drop sheet`)
	if s.OnTrial() || s.Is.People["kari"].Class != "visitor" || len(s.Is.Keeps) != 1 || s.Is.Keeps[0].Words != "to stay" {
		t.Errorf("%+v", s.Is)
	}
	first := s.Open("odd", "x")
	first.Say("open sheet", nil)
	held(t, s, "lotte", `
	> open sheet
	?? the sheet is open by odd
	> drop sheet
	?? the sheet is odd's
	> tell needs "turn out 99"
	it takes: turn out
	> tell needs page
	?? what is page?
	> turn out 99
	?? nobody is 99
	> turn out 3`)
	if !first.Left() {
		t.Error("who was turned out is still there")
	}
	first.Close()
	s.Is.People["kari"] = Mooring{Class: "visitor", Renew: true, Hash: Hashed("a word of hers"), Keys: []string{"ssh-ed25519 AAAA kari"},
		Until: "2999-12-31"}
	held(t, s, "kari", `
	> tell people
	?? give yourself another secret first: my secret
	> my secret
	< short
	< short
	?? the secrets differ, or have fewer than 8 characters
	> my secret
	< another word
	< another word
	> tell people
	?? class visitor may not; it takes: tell`)
	if !s.SignIn("kari", "another word") || len(s.Keys("kari")) != 1 {
		t.Error("who has given herself another secret is not let in with it")
	}
	s.Is.People["kari"] = Mooring{Class: "visitor", Until: "2020-12-31", Hash: Hashed("another word"), Keys: []string{"x"}}
	if s.SignIn("kari", "another word") || len(s.Keys("kari")) != 0 {
		t.Error("whose secret has ended is let in")
	}
	held(t, s, "lotte", `
	> open sheet`)
	again, err := NewSkerry(s.file, SkerryState{})
	if err != nil || again.Is.People["kari"].Class != "visitor" {
		t.Errorf("it is not on disk: %+v %v", again.Is, err)
	}
}

// The old router: what is typed holds at once, and is answered with nothing.
func TestBollard(t *testing.T) {
	b, err := NewBollard(filepath.Join(t.TempDir(), "state"), BollardState{Users: map[string]Hand{"odd": {Full: "Odd", Level: 9, Last: 0},
		"kari": {Level: 1, Hash: Hashed("kari"), Blocked: true}}})
	if err != nil {
		t.Fatal(err)
	}
	held(t, b, "odd", `
	> user ulla make
	%% hands are off
	> hands on
	> user ulla make
	> user ulla make
	%% user is there
	> user ulla full "Ulla \"U\" Niemi"
	> user ulla level 10
	%% level 1 to 9
	> user ulla level few
	%% level 1 to 9
	> user ulla level 3
	> user ulla pass
	< a word
	> user ulla hat
	%% unknown word
	> user nobody block
	%% no such user
	> reload
	%% unknown word
	> user ulla free
	> user kari drop`)
	if h := b.Is.Users["ulla"]; h.Level != 3 || h.Blocked || h.Full != `Ulla "U" Niemi` || !b.SignIn("ulla", "a word") ||
		b.SignIn("kari", "kari") {
		t.Errorf("%+v", b.Is.Users)
	}
	held(t, b, "ulla", `
	> user odd block
	%% level too low
	> users
	user = odd
	full = Odd
	level = 9
	blocked = 0
	last = `+julianToday()+`

	user = ulla
	full = Ulla "U" Niemi
	level = 3
	blocked = 0
	last = `+julianToday()+`
	`)
	if _, err := NewBollard(filepath.Join(t.TempDir(), "none", "x"), BollardState{}); err != nil {
		t.Error(err)
	}
	bad := filepath.Join(t.TempDir(), "bad")
	if err := os.WriteFile(bad, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := NewBollard(bad, BollardState{}); err == nil {
		t.Error("a state that is none is read")
	}
}

func julianToday() string { return itoa(int(time.Now().Unix()/86400) + 2440588) }

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + string(rune('0'+n%10))
}

// The publishing application: lists as JSON, and one unknown among many does not stop the rest.
func TestFolio(t *testing.T) {
	f, err := NewFolio(filepath.Join(t.TempDir(), "state"), FolioState{Admin: "press", Hash: Hashed("a word"), People: map[string]Author{},
		Roles: map[string]string{"author": "writes", "editor": "sees to it"}})
	if err != nil {
		t.Fatal(err)
	}
	held(t, f, "press", `
	> folio add hanne
	> folio add hanne
	?? hanne is there already
	> folio add emre
	> folio name hanne "Hanne Vik"
	> folio mail hanne hanne.vik@ternsound.example
	> folio password hanne
	< a word of hers
	> folio give editor hanne nobody emre
	! nobody: nobody is called so
	2 done
	> folio give captain hanne
	?? no role is called captain
	> folio take-back editor emre
	1 done
	> folio lock emre nobody
	! nobody: nobody is called so
	1 done
	> folio hat emre
	?? hat: no such word
	> folio roles
	{
	  "roles": [
	    {
	      "about": "writes",
	      "role": "author"
	    },
	    {
	      "about": "sees to it",
	      "role": "editor"
	    }
	  ]
	}
	> folio people
	{
	  "people": [
	    {
	      "id": 101,
	      "locked": true,
	      "login": "emre",
	      "mail": "",
	      "name": "",
	      "roles": []
	    },
	    {
	      "id": 100,
	      "locked": false,
	      "login": "hanne",
	      "mail": "hanne.vik@ternsound.example",
	      "name": "Hanne Vik",
	      "roles": [
	        "editor"
	      ]
	    }
	  ]
	}
	> folio away emre
	gone
	> ls
	?? ls: no such command`)
	held(t, f, "hanne", `
	> folio people
	?? only press may`)
	if !f.SignIn("hanne", "a word of hers") || !f.SignIn("press", "a word") || f.SignIn("emre", "") || f.SignIn("press", "another") {
		t.Error("who may sign in is not who should")
	}
}

// The batch system: statements of a job, one after the other, each answered; whoever has no office sees only themselves.
func TestManning(t *testing.T) {
	m, err := NewManning(filepath.Join(t.TempDir(), "state"), ManningState{Groups: map[string]Watch{"deck": {}}, People: map[string]Berth{
		"odd": {Full: "Odd Strand", Office: true, Number: 7, Entered: "2461371"}}})
	if err != nil {
		t.Fatal(err)
	}
	held(t, m, "odd", `
	> hand-in
	< * 1
	< enter ulla
	< * 2
	< call ulla "Ulla \"U\" Niemi"
	< * 3
	< number ulla 7
	< * 4
	< number ulla x
	< * 5
	< number ulla 1042
	< * 6
	< word ulla "a word of hers"
	< * 7
	< group first-watch under deck
	< * 8
	< group deck under ""
	< * 9
	< man first-watch ulla
	< * 10
	< man first-watch nobody
	< * 11
	< relieve nowhere ulla
	< * 12
	< enter ulla
	< * 13
	< hat ulla
	< * 14
	< call nobody x
	< * 15
	< belong ulla engine
	< * 16
	< under deck first-watch
	< * 17
	< under first-watch bridge
	< * 18
	< mind deck ulla odd
	< * 19
	< mind deck nobody
	job 1 is handed in, 38 lines
	> ask 1
	job 1 has run
	> fetch 1
	* 1
	* 2
	* 3
	?? number 7 is odd's
	* 4
	?? x is no number
	* 5
	* 6
	* 7
	* 8
	?? there is a group deck
	* 9
	* 10
	?? nobody is entered as nobody
	* 11
	?? there is no group nowhere
	* 12
	?? ulla is entered already
	* 13
	?? what is hat?
	* 14
	?? nobody is entered as nobody
	* 15
	* 16
	?? deck would be under itself
	* 17
	?? there is no group bridge
	* 18
	* 19
	?? nobody is entered as nobody
	> ask 2
	?? there is no job 2
	> what
	?? what is what?
	> roll groups
	group deck under - minded by ulla,odd
	group first-watch under deck minded by -
	  mans ulla`)
	held(t, m, "ulla", `
	> hand-in
	?? only the office may
	> roll people
	LOGIN                   FULL NAME                                NUMBER  GROUP       ENTERED   BARRED
	ulla                    Ulla "U" Niemi                           1042    engine      `+julianToday()+`   -`)
	m.Waits = time.Hour
	held(t, m, "odd", `
	> hand-in
	< strike ulla
	job 2 is handed in, 1 lines
	> ask 2
	job 2 waits`)
	m.Waits = 0
	held(t, m, "odd", `
	> hand-in
	< bar ulla
	job 3 is handed in, 1 lines
	> fetch 3
	> hand-in
	< unbar ulla
	< strike ulla
	< ungroup deck
	job 4 is handed in, 3 lines
	> ask 4
	job 4 has run
	> roll groups
	group first-watch under deck minded by -`)
	if m.SignIn("ulla", "a word of hers") {
		t.Error("who was struck signs in")
	}
}

// Words hold together in quotes, and a backslash takes what follows as it is.
func TestWords(t *testing.T) {
	for line, want := range map[string]string{`a b`: "a|b", ` a  b `: "a|b", `"a b" c`: "a b|c", `"a \"b\"" \`: `a "b"|\`, `""`: "",
		`a""b`: "ab",
		`"a`:   "a", `'a b'`: "'a|b'", `"\\"`: `\`} {
		if got := strings.Join(words(line), "|"); got != want {
			t.Errorf("%s: %s, want %s", line, got, want)
		}
	}
}
