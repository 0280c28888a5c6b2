package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"

	"golang.org/x/text/secure/precis"
)

// iterations is how often a password is hashed, as the server itself does.
const iterations = 4096

// verifier is a password as the server keeps it (SCRAM-SHA-256, RFC 5802 §3 and RFC 7677), so that no clear text travels in
// a statement or lands in a server's log. What SASLprep (RFC 4013) faults is taken as it stands, as the server does.
func verifier(password []byte) (string, error) {
	prepared := string(password)
	if p, err := precis.OpaqueString.String(prepared); err == nil {
		prepared = p
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	return scram(prepared, salt)
}

func scram(password string, salt []byte) (string, error) {
	salted, err := pbkdf2.Key(sha256.New, password, salt, iterations, sha256.Size)
	if err != nil {
		return "", err
	}
	mac := func(key []byte, what string) []byte {
		h := hmac.New(sha256.New, key)
		h.Write([]byte(what))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(mac(salted, "Client Key"))
	b := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", iterations, b(salt), b(stored[:]), b(mac(salted, "Server Key"))), nil
}
