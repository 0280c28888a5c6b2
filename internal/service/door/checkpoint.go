package door

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/store"
)

// Checkpoints are signed heads of the record. They go where the owner of the
// database has no hand: into a file beside the key that signs them, into the
// service's log, and to every client that looks at the record. Whoever cuts the
// record's tail, or computes its chain anew, is at odds with one of them.

const (
	checkpointEvery = 5 * time.Minute // when the record has grown
	checkpointsMost = 100_000         // of the file, the last of them, are held against the record
)

// signer signs heads and remembers what was signed.
type signer struct {
	key  ed25519.PrivateKey
	file string // of checkpoints, a line each

	mu   sync.Mutex
	last *chain.Checkpoint // read from the file when it is first asked for
	told int64             // the checkpoint that the record was last found at odds with

	unsealed atomic.Bool // entries that are due do not hold: nothing is sealed until the next start
}

// openSigner reads the signing key beside the key that seals, and makes it when there is none.
func openSigner(dir string) (*signer, error) {
	file := filepath.Join(dir, "sign.key")
	s := &signer{file: filepath.Join(dir, "checkpoints.jsonl")}
	b, err := readKey(file, "it signs the record")
	if errors.Is(err, fs.ErrNotExist) {
		if _, s.key, err = ed25519.GenerateKey(nil); err != nil {
			return nil, err
		}
		return s, writeKey(file, hex.EncodeToString(s.key.Seed()))
	}
	if err != nil {
		return nil, err
	}
	seed, err := hex.DecodeString(string(bytes.TrimSpace(b)))
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("key file %s does not hold a key", file) // the cause could echo the key
	}
	s.key = ed25519.NewKeyFromSeed(seed)
	return s, nil
}

// each hands on the checkpoints of entries behind one that are in the file and were
// signed with our key, at most the last of them.
func (s *signer) each(after int64, do func(chain.Checkpoint)) error {
	f, err := os.Open(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil {
		const line = 400 // bytes, more than one has
		if past := info.Size() - line*checkpointsMost; past > 0 {
			if _, err := f.Seek(past, io.SeekStart); err != nil {
				return err
			}
		}
	}
	sc := bufio.NewScanner(f)
	for sc.Scan() {
		var c chain.Checkpoint
		if json.Unmarshal(sc.Bytes(), &c) == nil && c.Seq > after && c.Signed() && bytes.Equal(c.Key, s.key.Public().(ed25519.PublicKey)) {
			do(c)
		}
	}
	return sc.Err()
}

// keep appends a checkpoint to the file.
func (s *signer) keep(c chain.Checkpoint) error {
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(s.file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(b, '\n'))
	return errors.Join(err, f.Sync(), f.Close())
}

// latest is the last checkpoint that was kept; nil before the first. s.mu is held.
func (s *signer) latest() (*chain.Checkpoint, error) {
	if s.last == nil {
		err := s.each(-1, func(c chain.Checkpoint) {
			if s.last == nil || c.Seq >= s.last.Seq {
				s.last = &c
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return s.last, nil
}

// atOdds says how the record is at odds with a checkpoint; "" when it holds.
func (s *Door) atOdds(ctx context.Context, head chain.Head, c chain.Checkpoint) (string, error) {
	if head.Seq < c.Seq {
		return fmt.Sprintf("the record ends with entry %d, but entry %d was signed at %s: its tail was cut off", head.Seq, c.Seq,
			signedAt(c)), nil
	}
	hash := head.Hash
	if c.Seq < head.Seq {
		e, err := s.Store.Entry(ctx, c.Seq)
		if err != nil && err != store.ErrNone {
			return "", err
		}
		hash = e.Hash
	}
	if c.Seq > 0 && !bytes.Equal(hash, c.Hash) {
		return writtenAnew(c), nil
	}
	return "", nil
}

func signedAt(c chain.Checkpoint) string { return c.At.Format("2006-01-02 15:04:05 UTC") }

func writtenAnew(c chain.Checkpoint) string {
	return fmt.Sprintf("entry %d is not the one that was signed at %s: the record was written anew", c.Seq, signedAt(c))
}

// Checkpoint signs the record's head, keeps it, and writes it to the log. It
// refuses to sign a record that is at odds with the checkpoint before.
func (s *Door) Checkpoint(ctx context.Context, who Operator) (chain.Checkpoint, error) {
	if err := who.May(Look); err != nil {
		return chain.Checkpoint{}, err
	}
	s.signer.mu.Lock()
	defer s.signer.mu.Unlock()
	head, err := s.Store.Head(ctx)
	if err != nil {
		return chain.Checkpoint{}, err
	}
	last, err := s.signer.latest()
	if err != nil {
		return chain.Checkpoint{}, fmt.Errorf("checkpoints: %w", err)
	}
	if last != nil {
		words, err := s.atOdds(ctx, head, *last)
		if err != nil {
			return chain.Checkpoint{}, err
		}
		if words != "" {
			return chain.Checkpoint{}, errors.Join(Clashing("%s; nothing was signed", words), s.alarm(ctx, last.Seq, words))
		}
	}
	c := chain.Sign(head, s.Now(), s.signer.key)
	if err := s.signer.keep(c); err != nil {
		return c, fmt.Errorf("checkpoints: %w", err)
	}
	s.signer.last = &c
	s.Log.Info("record checkpoint", "entry", c.Seq, "hash", hex.EncodeToString(c.Hash), "at", c.At, "key", c.Print(), "signature",
		hex.EncodeToString(c.Signature))
	return c, nil
}

// alarm tells once, in the log and in the record, that the record is at odds with a checkpoint.
func (s *Door) alarm(ctx context.Context, seq int64, words string) error {
	if s.signer.told == seq {
		return nil
	}
	s.signer.told = seq
	s.Log.Error("the record does not hold", "words", words)
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "intrusion", Operator: Itself.Name, Words: words}}, nil
	})
}

// CheckpointInTime signs the head when it has moved and some time has passed.
func (s *Door) CheckpointInTime(ctx context.Context) error {
	s.signer.mu.Lock()
	last, err := s.signer.latest()
	s.signer.mu.Unlock()
	if err != nil || last != nil && s.Now().Sub(last.At) < checkpointEvery {
		return err
	}
	if head, err := s.Store.Head(ctx); err != nil || last != nil && head.Seq == last.Seq {
		return err
	}
	_, err = s.Checkpoint(ctx, Itself)
	if err != nil && ProblemOf(err).Kind == Conflict {
		return nil // it was told
	}
	return err
}

// RecordHead is how far the record goes, signed, and what it holds at an entry
// that somebody remembers.
type RecordHead struct {
	chain.Checkpoint
	Print string `json:"print" doc:"fingerprint of the key that signs"`
	Then  []byte `json:"then,omitempty" doc:"hash of the entry asked for; absent when the record has none such"`
}

// RecordHead returns the signed head, and the hash of an entry: whoever
// remembers both notices when the record has gone back, or is another.
func (s *Door) RecordHead(ctx context.Context, who Operator, at int64) (RecordHead, error) {
	if err := who.May(Look); err != nil {
		return RecordHead{}, err
	}
	head, err := s.Store.Head(ctx)
	if err != nil {
		return RecordHead{}, err
	}
	out := RecordHead{Checkpoint: chain.Sign(head, s.Now(), s.signer.key)}
	out.Print = out.Checkpoint.Print()
	if at > 0 {
		e, err := s.Store.Entry(ctx, at)
		if err != nil && err != store.ErrNone {
			return out, err
		}
		out.Then = e.Hash
	}
	return out, nil
}

// Verified is the outcome of a walk over the chain.
type Verified struct {
	Holds       bool              `json:"holds"`
	Checked     int64             `json:"checked" doc:"entries that hold, counted from the first"`
	Sealed      int64             `json:"sealed,omitempty" doc:"of those, how many are in parts that are as they were when they were checked and sealed"`
	Broken      int64             `json:"broken,omitempty" doc:"the first entry that does not"`
	Behind      int64             `json:"behind,omitempty" doc:"rows that no service wrote: they do not count"`
	Checkpoints int               `json:"checkpoints" doc:"signed heads that it was held against"`
	Head        *chain.Checkpoint `json:"head,omitempty" doc:"of a record that holds: its head, signed now"`
	Print       string            `json:"print,omitempty" doc:"fingerprint of the key that signs"`
	Words       string            `json:"words"`
}

// VerifyRecord walks the whole chain, and holds it against all checkpoints kept.
// Parts that are as they were when this service checked and sealed them are not
// walked through again, unless every entry is asked for.
func (s *Door) VerifyRecord(ctx context.Context, who Operator, every bool) (Verified, error) {
	if err := who.May(Look); err != nil {
		return Verified{}, err
	}
	signed := map[int64]chain.Checkpoint{}
	if err := s.signer.each(-1, func(c chain.Checkpoint) { signed[c.Seq] = c }); err != nil {
		return Verified{}, fmt.Errorf("checkpoints: %w", err)
	}
	end, err := s.Store.Head(ctx)
	if err != nil {
		return Verified{}, err
	}
	at, out := chain.Start(), Verified{}
	entry := func(e *chain.Entry) (err error) {
		if at, err = at.Follow(e); err != nil {
			return err
		}
		if c, ok := signed[e.Seq]; ok {
			if out.Checkpoints++; !bytes.Equal(c.Hash, e.Hash) {
				return &chain.BrokenError{Seq: e.Seq, Words: writtenAnew(c)}
			}
		}
		return nil
	}
	part := func(p *chain.Part) error {
		next, err := p.Follows(at)
		if err != nil {
			return err
		}
		if every || !p.SealedWith(s.signer.key.Public().(ed25519.PublicKey)) {
			return p.Each(entry)
		}
		at, out.Sealed = next, out.Sealed+p.Last-p.First+1
		if c, ok := signed[p.Last]; ok {
			if out.Checkpoints++; !bytes.Equal(c.Hash, p.Hash) {
				return &chain.BrokenError{Seq: p.Last, Words: writtenAnew(c)}
			}
		}
		return nil
	}
	for more := true; err == nil && more && at.Seq < end.Seq; {
		before := at.Seq
		if err = s.Store.EachPart(ctx, at.Seq, part); err == nil && at.Seq < end.Seq {
			var again bool
			_, again, err = s.Store.EachRow(ctx, at.Seq, end.Seq, entry)
			more = again || at.Seq > before
		}
	}
	var broken *chain.BrokenError
	switch {
	case errors.As(err, &broken):
	case err != nil:
		return Verified{}, err
	case at.Seq != end.Seq || !bytes.Equal(at.Hash, end.Hash):
		broken = &chain.BrokenError{Seq: at.Seq + 1, Words: fmt.Sprintf("entry %d is missing: the record ends before its head", at.Seq+1)}
	default:
		broken, err = s.cutOff(ctx, end, signed)
		if err != nil {
			return Verified{}, err
		}
	}
	if out.Behind, err = s.Store.BehindHead(ctx); err != nil {
		return Verified{}, err
	}
	out.Checked = at.Seq
	if broken != nil {
		out.Broken = broken.Seq
		out.Words = fmt.Sprintf("the record is BROKEN: %s; the %s before it hold", broken.Words,
			Count(int(min(at.Seq, broken.Seq-1)), "entry", "entries"))
		return out, nil
	}
	c, err := s.Checkpoint(ctx, who)
	if err != nil {
		return Verified{}, err
	}
	out.Holds, out.Head, out.Print = true, &c, c.Print()
	out.Words = fmt.Sprintf("the record holds: %s, each following from the one before", Count(int(at.Seq), "entry", "entries"))
	if out.Sealed > 0 {
		out.Words += fmt.Sprintf(" (%s as they were sealed)", Count(int(out.Sealed), "entry", "entries"))
	}
	if out.Checkpoints > 0 {
		out.Words += ", as " + Count(out.Checkpoints, "checkpoint says", "checkpoints say")
	}
	if out.Behind > 0 {
		out.Words += fmt.Sprintf("; %s behind its head were written by no service and do not count", Count(int(out.Behind), "row", "rows"))
	}
	return out, nil
}

// cutOff finds a checkpoint of more entries than there are.
func (s *Door) cutOff(ctx context.Context, end chain.Head, signed map[int64]chain.Checkpoint) (*chain.BrokenError, error) {
	for seq, c := range signed {
		if seq <= end.Seq {
			continue
		}
		if now, err := s.Store.Head(ctx); err != nil || now.Seq >= seq { // it was written while we walked
			return nil, err
		}
		words, err := s.atOdds(ctx, end, c)
		return &chain.BrokenError{Seq: end.Seq + 1, Words: words}, err
	}
	return nil, nil
}

// ExportRecord writes the whole record as lines of JSON, with a checkpoint at
// its end, for roost record --verify FILE to check without any service.
func (s *Door) ExportRecord(ctx context.Context, who Operator, to io.Writer) error {
	if err := who.May(Look); err != nil {
		return err
	}
	head, err := s.Store.Head(ctx)
	if err != nil {
		return err
	}
	w := json.NewEncoder(to)
	w.SetEscapeHTML(false)
	if err := s.Store.EachEntry(ctx, head.Seq, func(e *chain.Entry) error { return w.Encode(e) }); err != nil {
		return err
	}
	return w.Encode(chain.Sign(head, s.Now(), s.signer.key))
}
