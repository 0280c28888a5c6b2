package door

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// Guesses side by side are counted before they are looked at; a stranger shuts out nobody but himself.
func TestGuessing(t *testing.T) {
	s := start(t)
	made, err := s.FirstOperator(ctx, "odd.strand", "Odd Strand", "")
	if err != nil {
		t.Fatal(err)
	}
	signIn := func(name, password, from string) Kind {
		_, _, _, err := s.SignIn(ctx, name, password, "", from)
		if err == nil {
			return ""
		}
		return ProblemOf(err).Kind
	}
	if got := signIn("odd.strand", made, "192.0.2.7"); got != "" {
		t.Fatal(got)
	}
	now := time.Now()
	s.Clock = func() time.Time { return now }
	var wg sync.WaitGroup
	var mu sync.Mutex
	kinds := map[Kind]int{}
	for i := range 60 {
		wg.Go(func() {
			got := signIn("odd.strand", fmt.Sprintf("a wrong guess %d", i), "198.51.100.9")
			mu.Lock()
			kinds[got]++
			mu.Unlock()
		})
	}
	wg.Wait()
	if kinds[SignedOut] > pairFrom || kinds[SignedOut]+kinds[TooOften] != 60 {
		t.Errorf("of 60 guesses at once: %v", kinds)
	}
	if got := signIn("odd.strand", made, "192.0.2.7"); got != "" {
		t.Errorf("the owner, from a known address: %v", got)
	}
	if got := signIn("odd.strand", made, "198.51.100.9"); got != TooOften {
		t.Errorf("the guesser's address: %v", got)
	}
	// A service that starts anew, or another one, has forgotten nothing.
	other, err := New(s.Config)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := other.SignIn(ctx, "odd.strand", made, "", "198.51.100.9"); err == nil || ProblemOf(err).Kind != TooOften {
		t.Errorf("another service: %v", err)
	}
	// The same wrong password again is one guess.
	for range 10 {
		if got := signIn("odd.strand", "stuck caps lock", "192.0.2.7"); got != SignedOut {
			t.Fatalf("the same again: %v", got)
		}
	}
	if got := signIn("odd.strand", made, "192.0.2.7"); got != "" {
		t.Errorf("after one wrong password typed ten times: %v", got)
	}
	var waits []int
	for i := range 8 {
		for signIn("nobody", fmt.Sprint("guess number ", i), "203.0.113.5") == TooOften {
			now = now.Add(time.Second)
			if len(waits) <= i {
				waits = append(waits, make([]int, i+1-len(waits))...)
			}
			waits[i]++
		}
	}
	if !slices.Equal(waits, []int{0, 0, 0, 1, 2, 4, 8, 16}) {
		t.Errorf("waits in seconds: %v", waits)
	}
	if originOf("2001:db8::1") != originOf("2001:db8::2") || originOf("::ffff:192.0.2.1") != "192.0.2.1" {
		t.Error("an IPv6 network counts as many addresses")
	}
}

// Who knows their password can change it; what was signed in with it ends.
func TestOwnPassword(t *testing.T) {
	s := start(t)
	made, err := s.FirstOperator(ctx, "odd.strand", "Odd Strand", "")
	if err != nil {
		t.Fatal(err)
	}
	who, mine, _, err := s.SignIn(ctx, "odd.strand", made, "", "192.0.2.7")
	if err != nil {
		t.Fatal(err)
	}
	_, other, _, err := s.SignIn(ctx, "odd.strand", made, "laptop", "192.0.2.7")
	if err != nil {
		t.Fatal(err)
	}
	for want, c := range map[string][2]string{"that is not the password you have": {"not the one", "a long new password"},
		"at least 12": {made, "short"}, "the password you have": {made, made}} {
		if err := s.ChangePassword(ctx, who, mine, c[0], c[1], "192.0.2.7"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	if err := s.ChangePassword(ctx, who, mine, made, "a long new password", "192.0.2.7"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Who(ctx, mine); err != nil {
		t.Error("the session it was changed in has ended")
	}
	if _, err := s.Who(ctx, other); err == nil {
		t.Error("another sign-in with the old password still counts")
	}
	if _, _, _, err := s.SignIn(ctx, "odd.strand", "a long new password", "", "192.0.2.7"); err != nil {
		t.Error(err)
	}
}
