package door

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"

	"golang.org/x/crypto/argon2"
)

const (
	minPassword = 12
	maxPassword = 1000 // bytes
)

// toil is what it costs to hash a password.
type toil struct {
	time, memory uint32
	threads      uint8
}

// usual is the second recommended option of RFC 9106 §4: 64 MiB, three passes.
var usual = toil{3, 64 << 10, 4}

// hashing lets two hashes run at once, so that sign-ins cannot take all memory,
// and few more wait for them, so that a burst of them makes nobody wait for long.
var (
	hashing = make(chan struct{}, 2)
	queue   = make(chan struct{}, 12)
)

// hashPassword returns the password's hash in PHC form.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, usual.memory, usual.time, usual.threads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(argon(password, salt, usual)))
}

func argon(password string, salt []byte, t toil) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, t.time, t.memory, t.threads, 32)
}

// checkPassword says whether the password is the hashed one. It takes as long
// for a hash that cannot be read. When too many wait already it does not look.
func checkPassword(ctx context.Context, password, phc string) (bool, error) {
	select {
	case queue <- struct{}{}:
		defer func() { <-queue }()
	default:
		return false, &Problem{Kind: TooOften, Retry: 5, Words: "too many sign in at this moment; try again in 5 seconds"}
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	var v int
	var m, t uint32
	var p uint8
	var rest string
	if _, err := fmt.Sscanf(phc, "$argon2id$v=%d$m=%d,t=%d,p=%d$%s", &v, &m, &t, &p, &rest); err != nil || len(rest) != 22+1+43 {
		argon(password, make([]byte, 16), usual)
		return false, nil
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(rest[:22])
	want, err2 := base64.RawStdEncoding.DecodeString(rest[23:])
	if err1 != nil || err2 != nil {
		return false, nil
	}
	return subtle.ConstantTimeCompare(argon(password, salt, toil{t, m, p}), want) == 1, nil
}
