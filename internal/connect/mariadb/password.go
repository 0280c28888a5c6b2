package mariadb

import (
	"crypto/sha1"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"filippo.io/edwards25519"
)

// The ways of keeping a password that the server has, by its plugins' names.
const (
	edPlugin     = "ed25519"
	nativePlugin = "mysql_native_password"
	oldPlugin    = "mysql_old_password"
	parsecPlugin = "parsec"                // of later servers
	shaPlugin    = "caching_sha2_password" // of later servers, for those who come from elsewhere
)

// noPassword is a hash that no password has: the server keeps the word for it.
const noPassword = "invalid"

// hashed is a password as a plugin keeps it, so that no clear text travels in a statement or lands in a server's log.
func hashed(plugin string, password []byte) string {
	if plugin == edPlugin {
		return edHash(password)
	}
	once := sha1.Sum(password)
	twice := sha1.Sum(once[:])
	return "*" + strings.ToUpper(hex.EncodeToString(twice[:]))
}

// edHash is the public key whose secret key is made of the password as of a seed (RFC 8032 §5.1.5), of any length.
func edHash(password []byte) string {
	h := sha512.Sum512(password)
	s, err := edwards25519.NewScalar().SetBytesWithClamping(h[:32])
	if err != nil {
		panic(err) // of 32 bytes there is none
	}
	return base64.RawStdEncoding.EncodeToString(new(edwards25519.Point).ScalarBaseMult(s).Bytes())
}

// means says whether a plugin keeps passwords.
func means(plugin string) bool {
	switch plugin {
	case byPassword, edPlugin, nativePlugin, oldPlugin, parsecPlugin, shaPlugin:
		return true
	}
	return false
}

// preferred is the plugin that keeps passwords which are set from here: the one that is asked for, else the best of those
// that the server has.
func preferred(has []string, asked string) (string, error) {
	switch {
	case asked == "" && slices.Contains(has, edPlugin):
		return edPlugin, nil
	case asked == "" || asked == nativePlugin:
		return nativePlugin, nil
	case asked == edPlugin && slices.Contains(has, edPlugin):
		return edPlugin, nil
	case asked == edPlugin:
		return "", fmt.Errorf("passwords should be kept as %s, and the server has no such plugin (INSTALL SONAME 'auth_ed25519')", edPlugin)
	}
	return "", fmt.Errorf("setting %s is %q; it is %s or %s", passwordsAs, asked, edPlugin, nativePlugin)
}
