package connect

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"html"
	"net/url"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// A target can repeat what it was told. Whatever it says is searched for every
// secret of the exchange before it goes anywhere: as it is, quoted, encoded, and
// in parts.

const (
	partLeast  = 8 // bytes of a secret that count as a part of it
	wholeLeast = 4 // bytes of a secret that is looked for at all; shorter ones stand in any text
	step       = partLeast - gram + 1
	gram       = 4
)

// Striker strikes secrets out of texts. The zero Striker knows none. It is safe for concurrent use.
type Striker struct {
	whole []string        // forms of secrets, longest first
	known map[string]bool // the same
	parts map[string]bool // stretches of partLeast bytes of longer ones
	grams []uint64        // which hashes stretches of gram bytes of them have, a bit each
}

// Striking makes a Striker of secrets. public are texts that may stand anywhere, though a secret may have a part in common with them.
func Striking(public []string, secrets ...[]byte) *Striker {
	s := &Striker{known: map[string]bool{}, parts: map[string]bool{}, grams: make([]uint64, 1<<10)}
	for _, secret := range secrets {
		secret = bytes.TrimSpace(secret)
		if len(secret) >= wholeLeast && !bytes.ContainsRune(secret, '\n') {
			for _, form := range formsOf(string(secret)) {
				s.add(form, public)
			}
			continue
		}
		for line := range bytes.Lines(secret) { // of a key: its lines are encoded already
			if line = bytes.TrimSpace(line); len(line) >= wholeLeast && !bytes.HasPrefix(line, []byte("-----")) {
				s.add(string(line), public)
			}
		}
	}
	slices.SortFunc(s.whole, func(a, b string) int { return len(b) - len(a) })
	return s
}

// Strikes makes a Striker of the secrets of an access, and of more.
func (a Access) Strikes(more ...[]byte) *Striker {
	return Striking([]string{a.Target, a.As, a.Address}, append(slices.Clone(more), a.Secret, a.Next)...)
}

// SecretsOf are the secrets that acts set.
func SecretsOf(acts []Act) (out [][]byte) {
	for _, a := range acts {
		for _, s := range a.Secrets {
			out = append(out, s.Reveal())
		}
	}
	return out
}

func (s *Striker) add(form string, public []string) {
	if s.known[form] {
		return
	}
	s.known[form], s.whole = true, append(s.whole, form)
	for i := 0; i+partLeast <= len(form); i++ {
		part := form[i : i+partLeast]
		if slices.ContainsFunc(public, func(p string) bool { return strings.Contains(p, part) }) {
			continue
		}
		s.parts[part] = true
		for j := 0; j+gram <= partLeast; j++ {
			h := hash(part[j:])
			s.grams[h>>6] |= 1 << (h & 63)
		}
	}
}

// formsOf are the ways in which a secret may be written.
func formsOf(secret string) []string {
	quoted, _ := json.Marshal(secret) // of a text it cannot fail
	out := []string{secret, strings.Trim(string(quoted), `"`), url.QueryEscape(secret), url.PathEscape(secret), html.EscapeString(secret),
		strings.ReplaceAll(secret, "'", "''"), strings.ReplaceAll(secret, "'", `'\''`), strings.ReplaceAll(secret, `"`, `""`),
		hex.EncodeToString([]byte(secret)), strings.ToUpper(hex.EncodeToString([]byte(secret)))}
	for before := range 3 { // what stands before it in the same encoding shifts it
		text := base64.RawStdEncoding.EncodeToString(append(make([]byte, before), secret...))
		text = text[(before*8+5)/6 : len(text)-len(text)%4]
		if len(text) >= partLeast {
			out = append(out, text, strings.NewReplacer("+", "-", "/", "_").Replace(text))
		}
	}
	return out
}

// hash is a number below 1<<16 of the first bytes of a text.
func hash(s string) uint32 {
	x := uint32(s[0]) | uint32(s[1])<<8 | uint32(s[2])<<16 | uint32(s[3])<<24
	return x * 0x9E3779B1 >> 16
}

// holds says whether a text may hold a secret, or a part of one. It looks at few of its bytes.
func (s *Striker) holds(text string) bool {
	for i := 0; i+gram <= len(text); i += step {
		if h := hash(text[i:]); s.grams[h>>6]&(1<<(h&63)) != 0 && s.near(text, i) {
			return true
		}
	}
	for i := len(s.whole) - 1; i >= 0 && len(s.whole[i]) < partLeast; i-- {
		if strings.Contains(text, s.whole[i]) {
			return true
		}
	}
	return false
}

// near says whether a part of a secret stands around a place.
func (s *Striker) near(text string, at int) bool {
	for i := max(0, at-step+1); i <= at && i+partLeast <= len(text); i++ {
		if s.parts[text[i:i+partLeast]] {
			return true
		}
	}
	return false
}

// Text is a text without secrets.
func (s *Striker) Text(text string) string {
	if s == nil || len(s.whole) == 0 || !s.holds(text) {
		return text
	}
	for _, w := range s.whole {
		text = strings.ReplaceAll(text, w, sealed)
	}
	var out strings.Builder
	kept := 0 // up to where it is written
	for i := 0; i+partLeast <= len(text); {
		if !s.parts[text[i:i+partLeast]] {
			i++
			continue
		}
		end := i + partLeast
		for end < len(text) && s.parts[text[end-partLeast+1:end+1]] {
			end++
		}
		out.WriteString(text[kept:i])
		out.WriteString(sealed)
		kept, i = end, end
	}
	out.WriteString(text[kept:])
	return out.String()
}

// Error is an error whose words are without secrets; what it wraps is found as before.
func (s *Striker) Error(err error) error {
	if err == nil || s == nil {
		return err
	}
	words := err.Error()
	struck := s.Text(words)
	var key *KeyError
	var refused *Refused
	switch {
	case struck == words:
		return err
	case errors.As(err, &key):
		return &KeyError{Target: key.Target, Offered: s.Text(key.Offered), Print: s.Text(key.Print), Accepted: key.Accepted, Was: key.Was}
	case errors.As(err, &refused):
		return &struckError{struck, err, &Refused{Err: errors.New(s.Text(refused.Err.Error()))}}
	}
	return &struckError{struck, err, nil}
}

// struckError has other words than what it was made of.
type struckError struct {
	words string
	of    error
	as    error // what of it callers act on, with other words too
}

func (e *struckError) Error() string        { return e.words }
func (e *struckError) Unwrap() error        { return e.as }
func (e *struckError) Is(target error) bool { return errors.Is(e.of, target) }

// Object strikes secrets out of what an object holds. One that is called by a
// secret is told with another name, as one that is malformed.
func (s *Striker) Object(o *model.Object) {
	if s == nil || o == nil || len(s.whole) == 0 {
		return
	}
	if name := s.Text(o.Name); name != o.Name {
		fit, _ := Fit("\x00" + o.Name) // for its hash: two of them stay two
		o.Name = name + fit[strings.LastIndex(fit, " #"):]
		o.Marked, o.Attributes = true, o.Attributes.With(model.Odd, "its name holds a secret that was told to the target")
	}
	if !s.holds(string(o.Attributes)) {
		return
	}
	for name, values := range o.Attributes.Map() {
		for i, v := range values {
			values[i] = s.Text(v)
		}
		o.Attributes = o.Attributes.With(name, values...)
	}
}

// Answer strikes secrets out of an answer.
func (s *Striker) Answer(a *Answer) {
	a.Words = s.Text(a.Words)
	if a.Object != nil {
		o := *a.Object
		s.Object(&o)
		a.Object = &o
	}
	for i := range a.Made {
		s.Object(&a.Made[i])
	}
}
