package secret

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// lookAlike is what a character stands for where it is written in place of a
// letter: digits and marks for letters, letters of other scripts that look the
// same. Those that stand for one another all become the same.
var lookAlike = map[rune]rune{
	'0': 'o', '1': 'i', '2': 'z', '3': 'e', '4': 'a', '5': 's', '6': 'g', '7': 't', '8': 'b', '9': 'g',
	'@': 'a', '$': 's', '!': 'i', '|': 'i', 'l': 'i', '€': 'e', '£': 'i', '+': 't',
	'(': 'c', '{': 'c', '<': 'c', '¢': 'c', '§': 's', '¡': 'i',
	'q': 'g', 'v': 'u', 'µ': 'u',
	'ı': 'i', 'ł': 'i', 'ø': 'o', 'đ': 'd', 'ð': 'd', 'ħ': 'h', 'ŧ': 't',
	'а': 'a', 'в': 'b', 'е': 'e', 'ѕ': 's', 'і': 'i', 'ј': 'j', 'к': 'k', 'м': 'm', 'н': 'h', 'о': 'o', 'р': 'p',
	'с': 'c', 'т': 't', 'у': 'y',
	'х': 'x', 'ԁ': 'd', 'һ': 'h', 'ӏ': 'i', 'ѵ': 'u', 'ԛ': 'g', 'ԝ': 'w', 'г': 'r', 'п': 'n', 'и': 'n', 'я': 'r',
	'α': 'a', 'β': 'b', 'γ': 'y', 'ε': 'e', 'η': 'n', 'ι': 'i', 'κ': 'k', 'ν': 'u', 'ο': 'o',
	'ρ': 'p', 'σ': 'o', 'τ': 't', 'υ': 'u', 'χ': 'x',
	'ω': 'w',
}

// spelt are characters that stand for several.
var spelt = map[rune]string{'æ': "ae", 'œ': "oe", 'ß': "ss", 'þ': "th", 'ŋ': "ng"}

// fold writes a text so that two that people read as the same word are the same:
// without case, accents, doubled letters, and all that is no letter, and with
// look-alike characters and digits as the letters that they stand for.
func fold(s string) string {
	var b strings.Builder
	var last rune
	put := func(r rune) {
		if r != last {
			b.WriteRune(r)
			last = r
		}
	}
	for _, r := range norm.NFKD.String(s) {
		r = unicode.ToLower(r)
		if like, ok := lookAlike[r]; ok {
			r = like
		}
		if word, ok := spelt[r]; ok {
			for _, x := range word {
				if like, ok := lookAlike[x]; ok {
					x = like
				}
				put(x)
			}
			continue
		}
		if unicode.IsLetter(r) {
			put(r)
		}
	}
	return b.String()
}
