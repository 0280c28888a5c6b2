package model

import (
	"fmt"
	"unicode"
	"unicode/utf8"
)

// Unfit says what in a text could deceive whoever reads it, or do something to a
// terminal, a file or a shell that it stands in; "" when there is nothing. Line
// breaks and tabs count too, unless lines is set. Joiners that take no room are
// let be where the writing of a language wants them (RFC 5892 Appendix A.1, A.2).
func Unfit(s string, lines bool) string {
	i := 0
	for i < len(s) && s[i] >= ' ' && s[i] < 0x7f {
		i++
	}
	if i == len(s) {
		return ""
	}
	before := rune(0)
	for at, c := range s {
		if why := unfit(c, lines); why != "" {
			return why
		}
		switch {
		case c == utf8.RuneError && s[at] != 0xef:
			return "bytes that are no UTF-8"
		case c == 0x200c || c == 0x200d:
			if _, n := utf8.DecodeRuneInString(s[at:]); !joins(before, s[at+n:]) {
				return fmt.Sprintf("a character that cannot be seen (U+%04X)", c)
			}
		}
		before = c
	}
	return ""
}

func unfit(c rune, lines bool) string {
	switch {
	case c == '\n' || c == '\r' || c == '\t':
		if lines {
			return ""
		}
		if c == '\t' {
			return "a tab"
		}
		return "a line break"
	case c == 0:
		return "a NUL"
	case c == 0x1b:
		return "an escape"
	case c < ' ' || c >= 0x7f && c < 0xa0 || c == 0x2028 || c == 0x2029:
		return fmt.Sprintf("a control character (U+%04X)", c)
	case c >= 0x202a && c <= 0x202e || c >= 0x2066 && c <= 0x2069:
		return fmt.Sprintf("a character that turns the direction of writing (U+%04X)", c)
	case c == 0x200b || c == 0x2060 || c == 0xfeff || c == 0x00ad || c == 0x180e || c >= 0xe0000 && c <= 0xe007f:
		return fmt.Sprintf("a character that cannot be seen (U+%04X)", c)
	}
	return ""
}

// joining are the scripts whose letters change their shape beside each other.
var joining = []*unicode.RangeTable{unicode.Arabic, unicode.Syriac, unicode.Mongolian, unicode.Nko, unicode.Devanagari, unicode.Bengali,
	unicode.Gurmukhi,
	unicode.Gujarati, unicode.Oriya, unicode.Tamil, unicode.Telugu, unicode.Kannada, unicode.Malayalam, unicode.Sinhala, unicode.Khmer,
	unicode.Myanmar}

// joins says whether a joiner may stand between two letters.
func joins(before rune, rest string) bool {
	after, _ := utf8.DecodeRuneInString(rest)
	return unicode.IsOneOf(joining, before) && unicode.IsOneOf(joining, after)
}

// Clean puts a space in the place of everything that Unfit speaks of. It is for
// what goes out to people; what comes in is refused or marked instead.
func Clean(s string, lines bool) string {
	if Unfit(s, false) == "" {
		return s
	}
	out := make([]rune, 0, len(s))
	before := rune(0)
	for at, c := range s {
		_, n := utf8.DecodeRuneInString(s[at:])
		switch {
		case c == utf8.RuneError && n == 1:
			c = utf8.RuneError
		case c == '\r' && lines && (at+1 == len(s) || s[at+1] != '\n'): // alone, it goes back to where the line began
			c = ' '
		case unfit(c, lines) != "", (c == 0x200c || c == 0x200d) && !joins(before, s[at+n:]):
			c = ' '
		}
		out = append(out, c)
		before = c
	}
	return string(out)
}
