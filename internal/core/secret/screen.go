package secret

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
)

// Words are words of one source that nobody may build a password from.
type Words struct {
	Of   string // whose they are, as in "the policy staff-words"
	List []string
}

// Screen tells passwords that should not be used. It is safe for concurrent use.
type Screen struct {
	rule  Rule
	words []word
	plain []string // as they are, for the estimation
}

type word struct {
	text, folded, of string
}

// wordMost and wordsMost bound what one screen looks for.
const (
	wordLeast = 3   // letters of a folded word: shorter ones stand in every other password
	wordMost  = 100 // bytes
	wordsMost = 10_000
)

// NewScreen looks for words of several sources, and for what the rule asks.
func NewScreen(rule Rule, sources ...Words) *Screen {
	s := &Screen{rule: rule}
	seen := map[string]bool{}
	for _, from := range sources {
		for _, w := range from.List {
			f := fold(w)
			if utf8.RuneCountInString(f) < wordLeast || len(w) > wordMost || seen[f] || len(s.words) == wordsMost {
				continue
			}
			seen[f] = true
			s.words = append(s.words, word{w, f, from.Of})
			s.plain = append(s.plain, w)
		}
	}
	slices.SortStableFunc(s.words, func(a, b word) int { return len(b.folded) - len(a.folded) }) // the longest is told of
	return s
}

// Verdict is what a screen says of a password. It never holds the password, nor a part of it.
type Verdict struct {
	Fit     bool     `json:"fit"`
	Word    string   `json:"word,omitempty" doc:"the word that nobody may use, as it stands in its list"`
	Of      string   `json:"of,omitempty" doc:"whose word it is"`
	Guesses float64  `json:"guesses" doc:"how many guesses it takes somebody who knows how people choose, as a power of ten"`
	Why     []string `json:"why" doc:"what is wrong with it; empty when it is fit"`
	Try     string   `json:"try,omitempty" doc:"what would do"`
}

// enough is how many guesses a password must stand, as a power of ten.
const enough = 10

// estimated bounds how much of a password is estimated: what stands so far alone is enough or never will be.
const estimated = 40

// Try looks at a password.
func (s *Screen) Try(password string) Verdict {
	v := Verdict{Why: []string{}}
	if w, built := s.built(password); built {
		v.Word, v.Of = w.text, w.of
		v.Why = append(v.Why, fmt.Sprintf("it is built from %q, one of %s, however it is spelt", w.text, w.of))
	}
	if n := utf8.RuneCountInString(password); n < s.rule.Length {
		v.Why = append(v.Why, fmt.Sprintf("it has %d characters, and %d are asked for", n, s.rule.Length))
	}
	if v.Guesses = s.guesses(password); v.Guesses < enough {
		v.Why = append(v.Why, fmt.Sprintf("it is found after about %s guesses", count(v.Guesses)))
	}
	if v.Fit = len(v.Why) == 0; !v.Fit {
		v.Try = "four or five words that have nothing to do with you, with each other or with the company, or one that Hen Roost makes"
	}
	return v
}

// Built says whether a password is built from a word that nobody may use. Of one
// that was made at random, that is all there is to ask.
func (s *Screen) Built(password string) bool {
	_, built := s.built(password)
	return built
}

func (s *Screen) built(password string) (word, bool) {
	folded := fold(password)
	for _, w := range s.words {
		if strings.Contains(folded, w.folded) && (utf8.RuneCountInString(w.folded) > wordLeast || alone(password, w.folded)) {
			return w, true
		}
	}
	return word{}, false
}

// guesses estimates, as a power of ten, how many guesses a password stands.
func (s *Screen) guesses(password string) float64 {
	if len(password) > estimated {
		password = strings.ToValidUTF8(password[:estimated], "")
	}
	if password == "" {
		return 0
	}
	n := zxcvbn.PasswordStrength(password, s.plain).Guesses
	return math.Round(10*math.Log10(max(1, n))) / 10
}

// alone says whether a short word stands by itself, and not within a longer one.
func alone(password, folded string) bool {
	return slices.ContainsFunc(strings.FieldsFunc(password, func(r rune) bool { return strings.ContainsRune(" -_.,:;/#*~=", r) }),
		func(part string) bool { return fold(part) == folded })
}

// count says a power of ten in words.
func count(power float64) string {
	switch {
	case power < 3:
		return "a thousand"
	case power < 6:
		return "a million"
	case power < 9:
		return "a thousand million"
	}
	return "ten thousand million"
}
