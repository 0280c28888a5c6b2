package connect

import "strings"

// Printable makes text from a target fit to be stored and shown: valid UTF-8,
// and no control character that could move a cursor or break a line.
func Printable(s string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return ' '
		}
		return c
	}, strings.ToValidUTF8(s, "\uFFFD"))
}
