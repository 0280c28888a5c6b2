package model

import "strings"

// KeyMark begins the comment of a key that Hen Roost made, before its number.
const KeyMark = "hen-roost-"

// KeyUntil is the last day of a key, as its comment tells it (until=2027-11-26); "" when it tells none.
func KeyUntil(line string) string {
	for word := range strings.FieldsSeq(line) {
		if day, ok := strings.CutPrefix(word, "until="); ok {
			return day
		}
	}
	return ""
}
