package connect

import (
	"strconv"
	"time"
)

// neverEnds is from how many days on a password is kept for ever: account tools write 99999 for that.
const neverEnds = 99999

// daysMost bounds a count of days since 1970-01-01 that is believed.
const daysMost = 2_000_000

// ShadowEnds is the last day, 2006-01-02, of a password that was changed on a day, counted from 1970-01-01, and is kept for so
// many days (shadow(5); RFC 2307 §5.2); "" for never, and for what are no counts of days.
func ShadowEnds(changed, most string) string {
	from, err := strconv.Atoi(changed)
	days, err2 := strconv.Atoi(most)
	if err != nil || err2 != nil || from <= 0 || from > daysMost || days < 0 || days >= neverEnds {
		return ""
	}
	return time.Unix(int64(from+days)*86400, 0).UTC().Format(time.DateOnly)
}
