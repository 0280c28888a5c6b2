package door

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/store"
)

// How the record is sealed: the newest entries stay rows, the others go into parts,
// some of which are made at a time.
const (
	partSize = 500 // whoever asks of a person has a part unpacked for each of their entries
	rowsKept = 5000
	sealedAt = rowsKept + 8*partSize
)

// SealDue says whether there are enough entries to be sealed, and how many are rows.
func (s *Door) SealDue(ctx context.Context) (bool, int64, error) {
	rows, err := s.Store.Unsealed(ctx)
	return rows >= sealedAt && !s.signer.unsealed.Load(), rows, err
}

// SealRecord puts entries that lie far enough back into sealed parts, each checked
// before. At entries that do not hold, or are not those that were signed, it stops,
// and tells so once in the log and in the record.
func (s *Door) SealRecord(ctx context.Context) error {
	err := s.sealRecord(ctx, partSize, rowsKept)
	var broken *chain.BrokenError
	if errors.As(err, &broken) {
		return s.notSealed(ctx, broken)
	}
	return err
}

// notSealed tells once why nothing is sealed any more.
func (s *Door) notSealed(ctx context.Context, broken *chain.BrokenError) error {
	if s.signer.unsealed.Swap(true) {
		return nil
	}
	words := broken.Words + "; nothing is sealed from there on"
	s.Log.Error("the record does not hold", "words", words)
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "intrusion", Operator: Itself.Name, Words: words}}, nil
	})
}

func (s *Door) sealRecord(ctx context.Context, size, keep int64) error {
	last, err := s.Store.SealedTo(ctx)
	if err != nil {
		return err
	}
	signed := map[int64]chain.Checkpoint{}
	if err := s.signer.each(last, func(c chain.Checkpoint) { signed[c.Seq] = c }); err != nil {
		return fmt.Errorf("checkpoints: %w", err)
	}
	for ctx.Err() == nil {
		began := time.Now()
		sealed, err := s.Store.SealPart(ctx, size, keep, func(from chain.Head, entries []chain.Entry) (*chain.Part, error) {
			for i := range entries {
				if c, ok := signed[entries[i].Seq]; ok && !bytes.Equal(c.Hash, entries[i].Hash) {
					return nil, &chain.BrokenError{Seq: c.Seq, Words: writtenAnew(c)}
				}
			}
			return chain.Pack(from, entries, s.signer.key)
		})
		if err != nil || !sealed {
			return err
		}
		select { // it is in no hurry, and others want the database
		case <-ctx.Done():
		case <-time.After(time.Since(began)):
		}
	}
	return ctx.Err()
}
