package door

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"math"
	"net/netip"
	"strings"
	"time"

	"hen-roost/internal/store"
)

// Guessing passwords is slowed down by counting each try before it is looked
// at, in the database, so that tries side by side, other services and a new
// start are all seen. First counts the pair of name and address, so that a
// stranger shuts out nobody but himself; beside it, from addresses that the
// name is not known from, the name and the address each by itself.

const (
	pairFrom   = 3  // tries from which on the next must wait
	nameFrom   = 10 // the same for a name, from strangers
	originFrom = 20 // and for a stranger's address
	waitMost   = 15 * time.Minute
	originFor  = 90 * 24 * time.Hour // for so long an address stays known
)

// originOf is where a request comes from: an address or, of IPv6, its network.
func originOf(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return ClipTo(address, 64)
	}
	if ip = ip.Unmap().WithZone(""); ip.Is6() {
		p, _ := ip.Prefix(64)
		return p.Masked().String()
	}
	return ip.String()
}

// printOf tells a wrong password that is typed again from another one.
func (s *Door) printOf(password, hash string) []byte {
	mac := hmac.New(sha256.New, []byte(s.seal.id.String()))
	fmt.Fprintf(mac, "%d:%s%s", len(password), password, hash)
	return mac.Sum(nil)[:16]
}

// checkSignIn says whether name and password go together, and counts the try.
func (s *Door) checkSignIn(ctx context.Context, name, password, from string) error {
	row, err := s.Store.Operator(ctx, name)
	if err != nil && err != store.ErrNone {
		return err
	}
	wrongly := &Problem{Kind: SignedOut, Words: "name and password do not go together"}
	if len(password) > maxPassword {
		return wrongly
	}
	name, origin := clipName(name), originOf(from)
	print := s.printOf(password, row.Password)
	again, err := s.countTry(ctx, name, origin, print)
	if err != nil {
		return err
	}
	if again {
		return wrongly // the same as before, and wrong then
	}
	right, err := checkPassword(ctx, password, row.Password)
	if err != nil {
		return err
	}
	if right && row.Name != "" {
		return s.signedInFrom(ctx, name, origin)
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "sign-in refused", Operator: name, Words: "refused to sign in from " + from}},
			tx.NotePrint(ctx, name, origin, print)
	})
	if err != nil {
		return err
	}
	return wrongly
}

// tally is one count, and from how many tries on the next must wait.
type tally struct {
	key  [2]string
	from int
}

// tallies are the counts that concern a try.
func (s *Door) tallies(ctx context.Context, name, origin string) ([]tally, error) {
	all := []tally{{[2]string{name, origin}, pairFrom}, {[2]string{name, ""}, nameFrom}, {[2]string{"", origin}, originFrom}}
	known, err := s.Store.KnownOrigin(ctx, name, origin, s.Now().Add(-originFor))
	if known {
		all = all[:1]
	}
	return all, err
}

func keysOfTallies(list []tally) (keys [][2]string) {
	for _, t := range list {
		keys = append(keys, t.key)
	}
	return keys
}

// countTry counts a try as failed before it is looked at. It says whether the
// same wrong password was tried just before, which does not count again, and
// refuses a try that comes too soon.
func (s *Door) countTry(ctx context.Context, name, origin string, print []byte) (again bool, err error) {
	list, err := s.tallies(ctx, name, origin)
	if err != nil {
		return false, err
	}
	now := s.Now()
	err = s.Store.Tx(ctx, func(tx *store.Tx) error {
		again = false
		if err := tx.ForgetGuesses(ctx, now.Add(-24*time.Hour)); err != nil {
			return err
		}
		counts, err := tx.Guesses(ctx, now, keysOfTallies(list)...)
		if err != nil {
			return err
		}
		var wait time.Duration
		for _, g := range counts {
			if w := g.Until.Sub(now); w <= waitMost { // more is asked by nobody but a clock that was set back
				wait = max(wait, w)
			}
		}
		if wait > 0 {
			return &store.Refusal{Err: tooOften(wait)}
		}
		if again = hmac.Equal(counts[0].Print, print); again {
			return nil
		}
		for i, g := range counts {
			if now.Sub(g.Until) > waitMost {
				g.N = 0
			}
			g.N++
			g.Until = now.Add(waitAfter(g.N, list[i].from))
			if err := tx.PutGuess(ctx, g); err != nil {
				return err
			}
		}
		return nil
	})
	return again, err
}

// waitAfter is how long the next try must wait after so many that failed: doubling from the first that counts.
func waitAfter(n, from int) time.Duration {
	if n < from {
		return 0
	}
	return min(waitMost, time.Second<<min(n-from, 10))
}

func tooOften(wait time.Duration) *Problem {
	secs := int(math.Ceil(wait.Seconds()))
	return &Problem{Kind: TooOften, Retry: secs, Words: fmt.Sprintf("too many failed sign-ins; try again in %s",
		Count(secs, "second", "seconds"))}
}

// signedInFrom takes back what was counted of a try that was right, and knows its address from now on.
func (s *Door) signedInFrom(ctx context.Context, name, origin string) error {
	list, err := s.tallies(ctx, name, origin)
	if err != nil {
		return err
	}
	now := s.Now()
	return s.Store.Tx(ctx, func(tx *store.Tx) error {
		counts, err := tx.Guesses(ctx, now, keysOfTallies(list)...)
		if err != nil {
			return err
		}
		for i, g := range counts {
			if g.N = max(0, g.N-1); i == 0 {
				g.N = 0
			}
			g.Until, g.Print = now, []byte(strings.Repeat("\x00", 16))
			if err := tx.PutGuess(ctx, g); err != nil {
				return err
			}
		}
		return tx.NoteOrigin(ctx, name, origin, now)
	})
}
