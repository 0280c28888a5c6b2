package secret

import (
	"crypto/rand"
	"errors"
	"math"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf8"
)

var tern = NewScreen(Rule{}, Words{"the words of policy staff-words", []string{"ternsound", "ferry", "northquay"}},
	Words{"your own names", []string{"Sigrún", "Fell", "Vik", "O’Brien"}})

// A forbidden word is found however it is spelt, and told as it stands in its list.
func TestForbiddenWords(t *testing.T) {
	for password, want := range map[string]string{
		"F3rry-boats-at-the-quay": "ferry", "fe.rr.y quarter lantern": "ferry", "xxFEERRYYxx lantern oak": "ferry",
		"tern$0und violet lamp": "ternsound", "TERN-SOUND violet lamp": "ternsound", "n0rthqu@y violet lamp": "northquay",
		"fеrrу violet lamp": "ferry" /* е and у are Cyrillic */, "ｆｅｒｒｙ violet lamp": "ferry", "férry violet lamp": "ferry",
		"violet-sigrun-lamp": "Sigrún", "FE11 violet lamp": "Fell", "violet obrien lamp": "O’Brien",
		"vik-violet-lamp-stair": "Vik", "violet-v1k-lamp": "Vik",
		"viking-violet-lamp-9x": "", "quartz-lumber-violin-anode": "", "felt-umber-canoe-prism": "",
	} {
		v := tern.Try(password)
		if v.Word != want || v.Fit != (want == "") {
			t.Errorf("%q: %+v, want %q", password, v, want)
		}
		if want != "" && (!strings.Contains(v.Why[0], want) || v.Try == "") {
			t.Errorf("%q: it does not say which word and what would do: %+v", password, v)
		}
	}
}

// What is guessed soon is refused, and so is what is too short for a target.
func TestGuessed(t *testing.T) {
	for _, p := range []string{"", "a", "password1", "Summer2026!", "qwertyuiop", "aaaaaaaaaaaaaaaaaaaa", "P@ssw0rd123"} {
		if v := tern.Try(p); v.Fit || v.Guesses >= enough || len(v.Why) == 0 {
			t.Errorf("%q is let pass: %+v", p, v)
		}
	}
	if v := NewScreen(Rule{Length: 30}).Try("quartz-lumber-violin-anode"); v.Fit || !strings.Contains(v.Why[0], "26 characters, and 30") {
		t.Errorf("%+v", v)
	}
	if v := tern.Try(strings.Repeat("quartz lumber ", 100_000)); !v.Fit {
		t.Errorf("a very long one: %+v", v)
	}
}

// Passwords that are made are fit, differ, and hold what strict systems want.
func TestMake(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range []Rule{{}, {Length: 12}, {Length: 40}, {Aloud: true}, {Length: 60, Aloud: true},
		Rule{Length: 12}.Strictest(Rule{Length: 16})} {
		for range 200 {
			p, err := Make(rand.Reader, r, tern.Built)
			if err != nil || len(p) < r.Length || len(p) < 20 || len(p) > r.Length+50 || seen[p] || tern.Built(p) {
				t.Fatalf("%+v: %q %v", r, p, err)
			}
			seen[p] = true
			if len(seen)%20 == 0 && !tern.Try(p).Fit {
				t.Errorf("%q is made, and not fit: %+v", p, tern.Try(p))
			}
			if strings.ToLower(p) == p || strings.ToUpper(p) == p || !strings.ContainsAny(p, digits) || !strings.Contains(p, "-") {
				t.Errorf("%q has too few sorts of characters", p)
			}
			if strings.ContainsAny(p, "0O1lIi") && !r.Aloud {
				t.Errorf("%q holds characters that are taken for one another", p)
			}
		}
	}
	if _, err := Make(iotest.ErrReader(errors.New("dry")), Rule{}, nil); err == nil || !strings.Contains(err.Error(), "dry") {
		t.Errorf("without randomness: %v", err)
	}
	if _, err := Make(rand.Reader, Rule{}, func(string) bool { return true }); err == nil {
		t.Error("one is made although all are refused")
	}
	if _, err := Make(rand.Reader, Rule{Length: 10_000}, nil); err == nil {
		t.Error("one of 10,000 characters is made")
	}
	if c, err := Code(rand.Reader, 6); err != nil || len(c) != 6 || strings.Trim(c, "0123456789") != "" {
		t.Errorf("%q %v", c, err)
	}
}

// Every character of what is made is as likely as the others.
func TestEven(t *testing.T) {
	d, n := dice{random: rand.Reader}, map[string]int{}
	const throws = 50_000
	for range throws {
		n[d.one(consonants)]++
	}
	for c, k := range n {
		if math.Abs(float64(k)-throws/10) > 6*math.Sqrt(throws/10) {
			t.Errorf("%s came %d times of %d", c, k, throws)
		}
	}
}

func FuzzTry(f *testing.F) {
	f.Add("F3rry")
	f.Add("\xff\x00ß€")
	f.Fuzz(func(t *testing.T, p string) {
		v := tern.Try(p)
		if v.Fit != (len(v.Why) == 0) || v.Guesses < 0 || math.IsNaN(v.Guesses) {
			t.Errorf("%q: %+v", p, v)
		}
		if f := fold(p); fold(f) != f && utf8.ValidString(p) {
			t.Errorf("%q folds to %q, and that to %q", p, f, fold(f))
		}
	})
}

func BenchmarkTry(b *testing.B) {
	for range b.N {
		tern.Try("quartz-lumber-violin-anode")
	}
}
