// Package secret makes passwords, and tells which ones nobody should have: those
// that are guessed soon, and those built from words that everybody around knows.
package secret

import (
	"errors"
	"fmt"
	"io"
	"strings"
)

// Rule is what a password must be to be taken everywhere it is for.
type Rule struct {
	Length int  // characters at least; 0: none is asked for
	Aloud  bool // it is read out on a telephone: syllables, in words of six letters
}

// Strictest is a rule that satisfies both.
func (r Rule) Strictest(o Rule) Rule { return Rule{max(r.Length, o.Length), r.Aloud || o.Aloud} }

// LengthMost is how long a password may be asked to be.
const LengthMost = 255

const (
	// Letters and digits that nobody takes for one another on paper.
	lower  = "abcdefghjkmnpqrstuvwxyz"
	upper  = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	digits = "23456789"

	// Sounds that nobody takes for one another on a telephone.
	consonants = "bdfgklmrst"
	vowels     = "aeiou"
)

const (
	groupOf  = 5 // characters between two dashes
	groups   = 4 // of them at least: 20 characters, 115 bits
	wordOf   = 3 // syllables in a word
	words    = 4 // at least, and two digits: 74 bits
	attempts = 100
)

// Make makes a password from a source of randomness. It holds a small and a great
// letter, a digit and a dash, which satisfies whoever wants several sorts of
// characters. refused says whether it must not be used; nil: it never does.
func Make(random io.Reader, r Rule, refused func(string) bool) (string, error) {
	if r.Length > LengthMost {
		return "", fmt.Errorf("a password of %d characters is asked for, and none has more than %d", r.Length, LengthMost)
	}
	for range attempts {
		p, err := make1(random, r)
		if err != nil {
			return "", fmt.Errorf("no randomness to make a password of: %w", err)
		}
		if strings.ContainsAny(p, digits) && strings.ToLower(p) != p && strings.ToUpper(p) != p && (refused == nil || !refused(p)) {
			return p, nil
		}
	}
	return "", errors.New("every password made holds a word that nobody may use; are there words of two or three letters among them?")
}

func make1(random io.Reader, r Rule) (string, error) {
	d := dice{random: random}
	var parts []string
	if r.Aloud {
		for n := 0; len(parts) < words || n < r.Length; n += 2*wordOf + 1 {
			word := ""
			for range wordOf {
				word += d.one(consonants) + d.one(vowels)
			}
			parts = append(parts, word)
		}
		parts[0] = strings.ToUpper(parts[0][:1]) + parts[0][1:]
		parts = append(parts, d.one(digits)+d.one(digits))
		return strings.Join(parts, "-"), d.err
	}
	for n := 0; len(parts) < groups || n < r.Length; n += groupOf + 1 {
		part := ""
		for range groupOf {
			part += d.one(lower + upper + digits)
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, "-"), d.err
}

// Code makes a short code of digits, to be told beside something else.
func Code(random io.Reader, n int) (string, error) {
	d := dice{random: random}
	out := ""
	for range n {
		out += d.one("0123456789")
	}
	return out, d.err
}

// dice are thrown until the source of randomness fails.
type dice struct {
	random io.Reader
	err    error
}

// one chooses a character, each as likely as the others.
func (d *dice) one(of string) string {
	if d.err != nil {
		return ""
	}
	// A byte beyond the last whole multiple would make the first characters likelier.
	for most := 256 - 256%len(of); ; {
		var b [1]byte
		if _, d.err = io.ReadFull(d.random, b[:]); d.err != nil {
			return ""
		}
		if n := int(b[0]); n < most {
			return of[n%len(of) : n%len(of)+1]
		}
	}
}
