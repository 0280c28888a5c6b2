// Package chain says what holds the team record together: each entry is chained
// to the one before by SHA-256, and heads of the chain are signed in
// checkpoints, so that what was cut off or computed anew shows against any
// checkpoint that is kept where the record's owner has no hand.
//
// As text, an entry and a checkpoint are a line of JSON each (JSON Lines):
//
//	{"seq":12,"at":"2026-11-25T09:47:48.123456Z","kind":"round","operator":"odd.strand",…,"before":"…","hash":"…"}
//	{"checkpoint":12,"hash":"…","at":"2026-11-25T09:50:00Z","key":"…","signature":"…"}
package chain

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
)

// Entry is one line of the record. Bytes are written in base64.
type Entry struct {
	Seq      int64     `json:"seq"`
	At       time.Time `json:"at"` // to the microsecond
	Kind     string    `json:"kind"`
	Operator string    `json:"operator"`
	Target   string    `json:"target,omitempty"`
	User     string    `json:"user,omitempty"`
	Round    int64     `json:"round,omitempty"`
	About    int64     `json:"about,omitempty"`
	Because  string    `json:"because,omitempty"`
	Words    string    `json:"words"`
	Body     []byte    `json:"body,omitempty"`
	Before   []byte    `json:"before"` // hash of the entry before
	Hash     []byte    `json:"hash"`
}

// Seal computes the entry's hash: SHA-256 over the hash before it and every
// field, each with its length in front, so that no two entries read alike.
func (e *Entry) Seal() []byte {
	h := sha256.New()
	var n [8]byte
	field := func(b []byte) {
		binary.BigEndian.PutUint64(n[:], uint64(len(b)))
		h.Write(n[:])
		h.Write(b)
	}
	number := func(i int64) {
		binary.BigEndian.PutUint64(n[:], uint64(i))
		h.Write(n[:])
	}
	field(e.Before)
	number(e.Seq)
	number(e.At.UnixMicro())
	for _, s := range []string{e.Kind, e.Operator, e.Target, e.User} {
		field([]byte(s))
	}
	number(e.Round)
	number(e.About)
	field([]byte(e.Because))
	field([]byte(e.Words))
	field(e.Body)
	return h.Sum(nil)
}

// Head is how far a chain goes.
type Head struct {
	Seq  int64
	Hash []byte
}

// Start is the head of the empty chain.
func Start() Head { return Head{Hash: make([]byte, sha256.Size)} }

// BrokenError says where a chain does not hold. Seq is the first entry that does not.
type BrokenError struct {
	Seq   int64
	Words string
}

func (e *BrokenError) Error() string { return e.Words }

// Follow checks that an entry follows from a head, and returns the next head.
func (h Head) Follow(e *Entry) (Head, error) {
	switch {
	case e.Seq != h.Seq+1:
		return h, &BrokenError{h.Seq + 1, fmt.Sprintf("entry %d is missing", h.Seq+1)}
	case !bytes.Equal(e.Before, h.Hash):
		return h, &BrokenError{e.Seq, fmt.Sprintf("entry %d does not follow from entry %d", e.Seq, h.Seq)}
	case !bytes.Equal(e.Seal(), e.Hash):
		return h, &BrokenError{e.Seq, fmt.Sprintf("entry %d has been altered", e.Seq)}
	}
	return Head{e.Seq, e.Hash}, nil
}

// Checkpoint is a head that was signed at a moment.
type Checkpoint struct {
	Seq       int64     `json:"checkpoint"`
	Hash      []byte    `json:"hash"`
	At        time.Time `json:"at"`
	Key       []byte    `json:"key"` // public, Ed25519 (RFC 8032)
	Signature []byte    `json:"signature"`
}

func (c *Checkpoint) text() []byte {
	return fmt.Appendf(nil, "hen-roost record checkpoint 1\n%d\n%x\n%d\n", c.Seq, c.Hash, c.At.Unix())
}

// Sign makes a checkpoint of a head.
func Sign(h Head, at time.Time, key ed25519.PrivateKey) Checkpoint {
	c := Checkpoint{Seq: h.Seq, Hash: h.Hash, At: at.UTC().Truncate(time.Second), Key: key.Public().(ed25519.PublicKey)}
	c.Signature = ed25519.Sign(key, c.text())
	return c
}

// Signed says whether the signature is that of the key the checkpoint names.
func (c *Checkpoint) Signed() bool {
	return len(c.Key) == ed25519.PublicKeySize && ed25519.Verify(c.Key, c.text(), c.Signature)
}

// Print is the fingerprint of the key, for people to compare.
func (c *Checkpoint) Print() string {
	sum := sha256.Sum256(c.Key)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// maxLine bounds one line of an export: the largest body that is kept, in base64.
const maxLine = 32 << 20

// Verified is what a walk over an export found.
type Verified struct {
	Head        Head
	Checkpoints int
	Last        *Checkpoint // the last one, nil: there was none
}

// Verify walks an export line by line, however long it is. It returns a
// *BrokenError where the chain or a checkpoint does not hold. key is the key
// that checkpoints must be signed with; nil takes the first one's.
func Verify(from io.Reader, key []byte) (Verified, error) {
	v := Verified{Head: Start()}
	sc := bufio.NewScanner(from)
	sc.Buffer(make([]byte, 64<<10), maxLine)
	for n := 1; sc.Scan(); n++ {
		text := bytes.TrimSpace(sc.Bytes())
		if len(text) == 0 {
			continue
		}
		if err := v.line(n, text, &key); err != nil {
			return v, err
		}
	}
	if errors.Is(sc.Err(), bufio.ErrTooLong) {
		return v, fmt.Errorf("a line is longer than %d bytes", maxLine)
	}
	return v, sc.Err()
}

// line takes the next line: an entry, or else a checkpoint, the first of which tells the key when none is asked for.
func (v *Verified) line(n int, text []byte, key *[]byte) error {
	var e Entry
	var c Checkpoint
	if err := json.Unmarshal(text, &e); err != nil {
		return &BrokenError{v.Head.Seq + 1, fmt.Sprintf("line %d cannot be read: %v", n, err)}
	}
	if e.Seq > 0 {
		next, err := v.Head.Follow(&e)
		v.Head = next
		return err
	}
	if err := json.Unmarshal(text, &c); err != nil || len(c.Signature) == 0 {
		return &BrokenError{v.Head.Seq + 1, fmt.Sprintf("line %d is neither an entry nor a checkpoint", n)}
	}
	if *key == nil {
		*key = c.Key
	}
	return v.checkpoint(&c, *key)
}

func (v *Verified) checkpoint(c *Checkpoint, key []byte) error {
	switch {
	case !c.Signed():
		return &BrokenError{c.Seq, fmt.Sprintf("the checkpoint of entry %d does not carry the signature it should", c.Seq)}
	case !bytes.Equal(c.Key, key):
		return &BrokenError{c.Seq, fmt.Sprintf("the checkpoint of entry %d is signed with another key, %s", c.Seq, c.Print())}
	case c.Seq != v.Head.Seq || !bytes.Equal(c.Hash, v.Head.Hash):
		return &BrokenError{c.Seq, fmt.Sprintf("entry %d is not the one that was signed at %s", c.Seq, c.At.Format(time.RFC3339))}
	}
	v.Checkpoints, v.Last = v.Checkpoints+1, c
	return nil
}
