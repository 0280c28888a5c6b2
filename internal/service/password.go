package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
)

// The cost of a password: RFC 9106 §4, second recommended option (64 MiB, three passes).
const (
	argonTime    = 3
	argonMemory  = 64 << 10
	argonThreads = 4
	minPassword  = 12
)

// hashing lets two hashes run at once, so that sign-ins cannot take all memory.
var hashing = make(chan struct{}, 2)

// hashPassword returns the password's hash in PHC form.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(argon(password, salt, argonTime, argonMemory, argonThreads)))
}

func argon(password string, salt []byte, t, m uint32, p uint8) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, t, m, p, 32)
}

// checkPassword says whether the password is the hashed one. It takes as long for a hash that cannot be read.
func checkPassword(password, phc string) bool {
	var v int
	var m, t uint32
	var p uint8
	var rest string
	if _, err := fmt.Sscanf(phc, "$argon2id$v=%d$m=%d,t=%d,p=%d$%s", &v, &m, &t, &p, &rest); err != nil || len(rest) != 22+1+43 {
		argon(password, make([]byte, 16), argonTime, argonMemory, argonThreads)
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(rest[:22])
	want, err2 := base64.RawStdEncoding.DecodeString(rest[23:])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(argon(password, salt, t, m, p), want) == 1
}

// slowdown makes the next sign-in wait after failed ones: by name and by
// address, doubling from the third failure, up to a quarter of an hour.
type slowdown struct {
	mu    sync.Mutex
	fails map[string]*failures
}

type failures struct {
	n     int
	until time.Time
}

const slowFrom, slowMost = 3, 15 * time.Minute

func newSlowdown() *slowdown { return &slowdown{fails: map[string]*failures{}} }

// wait says how long those concerned must still wait.
func (s *slowdown) wait(now time.Time, who ...string) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	var most time.Duration
	for _, w := range who {
		if f := s.fails[w]; f != nil {
			most = max(most, f.until.Sub(now))
		}
	}
	return most
}

// failed counts a failed sign-in.
func (s *slowdown) failed(now time.Time, who ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.fails) > 10_000 { // many names are being tried: forget those that no longer wait
		for w, f := range s.fails {
			if f.until.Before(now) {
				delete(s.fails, w)
			}
		}
	}
	for _, w := range who {
		f := s.fails[w]
		if f == nil || now.Sub(f.until) > slowMost {
			f = &failures{}
			s.fails[w] = f
		}
		if f.n++; f.n >= slowFrom {
			f.until = now.Add(min(slowMost, time.Second<<min(f.n-slowFrom, 10)))
		} else {
			f.until = now
		}
	}
}

func (s *slowdown) succeeded(who ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range who {
		delete(s.fails, w)
	}
}
