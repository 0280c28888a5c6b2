package door

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"hen-roost/internal/connect"
	"hen-roost/internal/store"
)

// sealer seals secrets under a key file that the server alone reads.
type sealer struct{ id *age.X25519Identity }

// openSealer reads the key file, and makes it when there is none.
func openSealer(file string) (*sealer, error) {
	b, err := readKey(file, "it opens every secret")
	if errors.Is(err, os.ErrNotExist) {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		return &sealer{id}, writeKey(file, id.String())
	}
	if err != nil {
		return nil, err
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(b)))
	if err != nil {
		return nil, fmt.Errorf("key file %s does not hold a key", file) // the cause could echo the key
	}
	return &sealer{id}, nil
}

// readKey reads a key file that nobody else may read.
func readKey(file, why string) ([]byte, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("key file %s can be read by others (mode %o); %s: chmod 600 it", file, info.Mode().Perm(), why)
	}
	return b, nil
}

// writeKey makes a key file, and fails when there is one.
func writeKey(file, key string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	_, err = io.WriteString(f, key+"\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	return nil
}

// Secret opens a secret that is kept under a name; store.ErrNone when there is none.
func (s *Door) Secret(ctx context.Context, name string) ([]byte, error) {
	sealed, err := s.Store.Secret(ctx, name)
	if err != nil {
		return nil, err
	}
	plain, err := s.seal.open(sealed.Sealed)
	if err != nil {
		return nil, fmt.Errorf("secret %q: %w", name, err)
	}
	return plain, nil
}

// Sealed seals a value that an act sets, or that waits for its person. Nothing is stored.
func (s *Door) Sealed(plain []byte) (store.Sealing, error) {
	body, err := s.seal.close(plain)
	return store.Sealing{ID: rand.Text(), Body: body}, err
}

// PutSecret seals a secret under its name, in a transaction.
func (s *Door) PutSecret(ctx context.Context, tx *store.Tx, who Operator, name string, plain []byte) error {
	sealed, err := s.seal.close(plain)
	if err != nil {
		return err
	}
	return tx.PutSecret(ctx, store.Secret{Name: name, Sealed: sealed, SetAt: s.Now(), SetBy: who.Name})
}

// Open opens a sealed value.
func (s *Door) Open(body []byte) ([]byte, error) { return s.seal.open(body) }

// Mark is what is kept of something short in place of it: to be compared, and not
// to be guessed without the key file. of says what it is.
func (s *Door) Mark(of, text string) []byte {
	mac := hmac.New(sha256.New, []byte(s.seal.id.String()))
	fmt.Fprintf(mac, "%s:%d:%s", of, len(text), text)
	return mac.Sum(nil)
}

// Unseal opens a value for a target, at the last moment.
func (s *Door) Unseal(ctx context.Context, id string) (connect.Secret, error) {
	body, err := s.Store.Sealed(ctx, id)
	if err == store.ErrNone {
		return connect.Secret{}, errors.New("is no longer kept")
	}
	if err != nil {
		return connect.Secret{}, err
	}
	plain, err := s.seal.open(body)
	return connect.Seal(plain), err
}

// Sealing seals what is written to it as it comes, for what is too large to be held. It must be closed.
func (s *Door) Sealing(to io.Writer) (io.WriteCloser, error) {
	return age.Encrypt(to, s.seal.id.Recipient())
}

// Opening opens it again.
func (s *Door) Opening(from io.Reader) (io.Reader, error) { return age.Decrypt(from, s.seal.id) }

func (s *sealer) close(plain []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, s.id.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}

func (s *sealer) open(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), s.id)
	if err != nil {
		return nil, errors.New("cannot be opened with this key file; it was sealed under another one")
	}
	return io.ReadAll(r)
}
