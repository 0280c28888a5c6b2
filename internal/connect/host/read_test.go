package host

import (
	"strings"
	"testing"
)

func FuzzRead(f *testing.F) {
	f.Add("A:marit.fell:1001:marit.fell:no:/home/marit.fell:/bin/bash:Marit " +
		"Fell\nG:crew:5110:marit.fell,hanne.vik\nK:marit.fell:ssh-ed25519 AAAA\nD:%crew\nL:UID_MIN:500\nR:0:acted:0:\nZ:\n")
	f.Add("A::::\nR:x\nZ:")
	f.Fuzz(func(t *testing.T, s string) {
		r, err := newAnswer(strings.NewReader(s), "root").read()
		if err != nil {
			return
		}
		for _, o := range r.accounts {
			if strings.ContainsAny(o.Name, "\n\x00") {
				t.Errorf("a name with a control character: %q", o.Name)
			}
		}
	})
}

func TestQuote(t *testing.T) {
	for in, want := range map[string]string{"": "''", "a b": "'a b'", "o'neil; reboot": `'o'\''neil; reboot'`, "$(x)`y`\\": "'$(x)`y`\\'"} {
		if got := quote(in); got != want {
			t.Errorf("quote(%q) = %s, want %s", in, got, want)
		}
	}
}
