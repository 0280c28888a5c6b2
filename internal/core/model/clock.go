package model

import "fmt"

// ClockWords says by how much a clock is off, given in seconds, as a person would: "3 hours ahead", "9 years behind", "right".
func ClockWords(off int) string {
	if off == 0 {
		return "right"
	}
	way := "ahead"
	if off < 0 {
		off, way = -off, "behind"
	}
	for _, u := range []struct {
		from, seconds int
		word          string
	}{{2 * 365 * 86400, 365 * 86400, "years"}, {2 * 86400, 86400, "days"}, {2 * 3600, 3600, "hours"}, {600, 60, "minutes"}} {
		if off >= u.from {
			return fmt.Sprintf("%d %s %s", (off+u.seconds/2)/u.seconds, u.word, way)
		}
	}
	return fmt.Sprintf("%d seconds %s", off, way)
}
