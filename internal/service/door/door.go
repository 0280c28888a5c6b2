// Package door is the service's lowest room: who may do what, how they sign in,
// the secrets, and the record of what was done. Every verb of the rooms above
// takes the Operator who asks first, and asks May of them; every change goes
// through Write, with its line in the record.
package door

import (
	"context"
	"log/slog"
	"path/filepath"
	"time"

	"hen-roost/internal/store"
)

// Config is what a Door is made of.
type Config struct {
	Store     *store.Store
	KeyFile   string // seals the secrets; made when it is not there
	Log       *slog.Logger
	Clock     func() time.Time
	Life      context.Context // ends when the service stops
	Probation time.Duration   // see foureyes.go; 0: seven days
}

// Door says who may do what, and keeps the secrets and the record. It is safe
// for concurrent use, as all rooms above it are.
type Door struct {
	Config
	seal   *sealer
	signer *signer
	// Fit says why an operator should not have a password that somebody chose for
	// them. The room above sets it.
	Fit func(ctx context.Context, name, full, password string) error
}

// New opens the keys beside the key file, and makes those that are not there.
func New(c Config) (*Door, error) {
	if c.Probation == 0 {
		c.Probation = defaultProbation
	}
	seal, err := openSealer(c.KeyFile)
	if err != nil {
		return nil, err
	}
	signer, err := openSigner(filepath.Dir(c.KeyFile))
	if err != nil {
		return nil, err
	}
	return &Door{Config: c, seal: seal, signer: signer}, nil
}

// Now is the moment, in UTC.
func (s *Door) Now() time.Time { return s.Clock().UTC() }

// Write runs fn in a transaction and appends the entries it returns, so that
// nothing is done without its line in the record.
func (s *Door) Write(ctx context.Context, fn func(*store.Tx) ([]*store.Entry, error)) error {
	return s.Store.Tx(ctx, func(tx *store.Tx) error {
		entries, err := fn(tx)
		if err != nil {
			return err
		}
		return tx.Append(ctx, entries...)
	})
}
