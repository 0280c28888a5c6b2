package door

import (
	"fmt"
	"slices"
	"strings"
)

// Reason checks the reason given for something that changes much.
func Reason(because string) (string, error) {
	because = strings.TrimSpace(because)
	switch {
	case because == "":
		return "", Wrong("because", "a reason is required: say why, for those who read the record (--because)")
	case len(because) > 500:
		return "", Wrong("because", "the reason is longer than 500 bytes")
	}
	return because, nil
}

// Count says how many of something there are.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// KeysOf returns the keys of a map in order.
func KeysOf[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// ClipTo is a text of at most n characters.
func ClipTo(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
