package connect_test

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Whatever a target makes of a secret that it was told, it is found: as it is, quoted, encoded, and in parts of eight and more.
func TestStriker(t *testing.T) {
	const secret = `Rope-90-knots-"Ærø"`
	s := connect.Striking([]string{"marit.fell"}, []byte(secret))
	for what, said := range map[string]string{
		"as it is": secret, "quoted": fmt.Sprintf("%q", secret), "in an address": url.QueryEscape(secret),
		"in base64":         base64.StdEncoding.EncodeToString([]byte(secret)),
		"behind a login":    base64.StdEncoding.EncodeToString([]byte("marit.fell:" + secret)),
		"for an address":    base64.RawURLEncoding.EncodeToString([]byte("ab" + secret)),
		"in hex":            hex.EncodeToString([]byte(secret)),
		"a part":            secret[3:12],
		"its end":           secret[len(secret)-9:],
		"with two of SQL":   strings.ReplaceAll(secret, `"`, `""`),
		"broken in a half":  secret[:9] + "\n" + secret[9:],
		"many times":        secret + secret + secret,
		"among other words": "you said " + secret + ", which is wrong",
	} {
		got := s.Text("no such user: " + said + " (17)")
		for i := 0; i+8 <= len(secret); i++ {
			if strings.Contains(got, secret[i:i+8]) {
				t.Errorf("%s: %q", what, got)
				break
			}
		}
		if !strings.Contains(got, "(sealed)") || !strings.HasPrefix(got, "no such user: ") || !strings.HasSuffix(got, " (17)") {
			t.Errorf("%s: %q", what, got)
		}
	}
	for _, fine := range []string{"", "Rope-90", "the rope has 90 knots", "marit.fell is there already", strings.Repeat("-", 100)} {
		if got := s.Text(fine); got != fine {
			t.Errorf("%q became %q", fine, got)
		}
	}
	o := model.Object{Kind: model.Account, Name: "x" + secret, Attributes: model.Pack(
		model.Attribute{Name: model.FullName, Values: []string{"She said " + secret}},
		model.Attribute{Name: "shell", Values: []string{"/bin/sh"}})}
	s.Object(&o)
	if strings.Contains(o.Name+string(o.Attributes), "knots") || !o.Marked || o.Attributes.One("shell") != "/bin/sh" {
		t.Errorf("%+v", o)
	}
	refused := s.Error(&connect.Error{Target: "x", Op: "sign in", Err: &connect.Refused{Err: errors.New("no: " + secret)}})
	var r *connect.Refused
	if !errors.As(refused, &r) || strings.Contains(refused.Error()+r.Error(), "knots") {
		t.Errorf("%v, %v", refused, r)
	}
	if err := errors.New("all is well"); s.Error(err) != err || s.Error(nil) != nil {
		t.Error("an error without a secret became another")
	}
}

func BenchmarkStriker(b *testing.B) {
	s := connect.Access{Target: "staff-directory", Secret: []byte("a-secret-of-thirty-letters-1234")}.Strikes()
	text := strings.Repeat("uid=marit.fell,ou=People,dc=ternsound,dc=example;Marit Fell;", 5)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		s.Text(text)
	}
}
