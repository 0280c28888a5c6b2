package spoken

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"
)

// kept is state that stands in a file.
type kept struct{ file string }

func (k kept) load(into any) error {
	text, err := os.ReadFile(k.file)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

func (k kept) save(v any) {
	text, err := json.MarshalIndent(v, "", " ")
	if err == nil {
		if err = os.WriteFile(k.file+".new", text, 0o600); err == nil {
			err = os.Rename(k.file+".new", k.file)
		}
	}
	if err != nil {
		panic(err) // a stand-in that cannot keep its state is of no use
	}
}

// Hashed is a password as it is kept.
func Hashed(password string) string {
	salt := rand.Text()[:8]
	sum := sha256.Sum256([]byte(salt + password))
	return salt + "$" + hex.EncodeToString(sum[:])
}

func opens(kept, password string) bool {
	salt, sum, ok := strings.Cut(kept, "$")
	is := sha256.Sum256([]byte(salt + password))
	return ok && hex.EncodeToString(is[:]) == sum
}

// cell fits a text into a column.
func cell(text string, width int) string {
	if n := len([]rune(text)); n < width {
		return text + strings.Repeat(" ", width-n)
	}
	return text
}
