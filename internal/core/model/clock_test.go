package model

import "testing"

// A clock is off by what a person would say.
func TestClockWords(t *testing.T) {
	for off, want := range map[int]string{0: "right", 5: "5 seconds ahead", -599: "599 seconds behind", 600: "10 minutes ahead",
		-7199: "120 minutes behind", 9000: "3 hours ahead", -200000: "2 days behind", -283824001: "9 years behind"} {
		if got := ClockWords(off); got != want {
			t.Errorf("%d: %s, want %s", off, got, want)
		}
	}
}
