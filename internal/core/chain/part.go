package chain

import (
	"bytes"
	"compress/flate"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// Part is a stretch of the record, packed and sealed: its entries were found to
// hold, each following from the one before, when it was made. Whoever trusts the
// key need only see that the part is the one that was sealed; all others can
// walk through its entries, whose hashes are not kept but computed anew.
type Part struct {
	First, Last int64
	Before      []byte // hash that the first entry follows from
	Hash        []byte // of the last entry
	Body        []byte // entries, packed
	Key         []byte // public, Ed25519 (RFC 8032)
	Signature   []byte
}

// partMost bounds what a part unpacks to.
const partMost = 256 << 20

// Pack makes a part of entries that follow from a head, and seals it. It returns a
// *BrokenError when they do not hold.
func Pack(from Head, entries []Entry, key ed25519.PrivateKey) (*Part, error) {
	if len(entries) == 0 {
		return nil, errors.New("a part of nothing")
	}
	p := &Part{First: from.Seq + 1, Before: from.Hash, Key: key.Public().(ed25519.PublicKey)}
	var plain []byte
	at, when := from, int64(0)
	for i := range entries {
		e := &entries[i]
		var err error
		if at, err = at.Follow(e); err != nil {
			return nil, err
		}
		plain = binary.AppendVarint(plain, e.At.UnixMicro()-when)
		when = e.At.UnixMicro()
		plain = binary.AppendVarint(plain, e.Round)
		plain = binary.AppendVarint(plain, e.About)
		for _, s := range []string{e.Kind, e.Operator, e.Target, e.User, e.Because, e.Words, string(e.Body)} {
			plain = append(binary.AppendUvarint(plain, uint64(len(s))), s...)
		}
	}
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.DefaultCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	p.Last, p.Hash, p.Body = at.Seq, at.Hash, packed.Bytes()
	p.Signature = ed25519.Sign(key, p.text())
	return p, nil
}

func (p *Part) text() []byte {
	return fmt.Appendf(nil, "hen-roost record part 1\n%d\n%d\n%x\n%x\n%x\n", p.First, p.Last, p.Before, p.Hash, sha256.Sum256(p.Body))
}

// SealedWith says whether the part is just the one that was sealed with a key.
func (p *Part) SealedWith(key []byte) bool {
	return len(key) == ed25519.PublicKeySize && bytes.Equal(p.Key, key) && ed25519.Verify(key, p.text(), p.Signature)
}

// Follows checks that the part follows from a head, and returns the head behind it.
func (p *Part) Follows(from Head) (Head, error) {
	switch {
	case p.First != from.Seq+1:
		return from, &BrokenError{from.Seq + 1, fmt.Sprintf("entry %d is missing", from.Seq+1)}
	case !bytes.Equal(p.Before, from.Hash):
		return from, &BrokenError{p.First, fmt.Sprintf("entry %d does not follow from entry %d", p.First, from.Seq)}
	}
	return Head{p.Last, p.Hash}, nil
}

// Each hands on the entries in order, with their hashes. It returns a *BrokenError
// when they are not those of which the part was made.
func (p *Part) Each(each func(*Entry) error) error {
	altered := &BrokenError{p.First, fmt.Sprintf("the entries from %d to %d have been altered", p.First, p.Last)}
	plain, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(p.Body)), partMost))
	if err != nil {
		return altered
	}
	r := unpacking{rest: plain}
	at, when := Head{p.First - 1, p.Before}, int64(0)
	for at.Seq < p.Last {
		var e Entry
		when += r.number()
		e.Seq, e.Before, e.At = at.Seq+1, at.Hash, time.UnixMicro(when).UTC()
		e.Round, e.About = r.number(), r.number()
		e.Kind, e.Operator, e.Target, e.User = r.text(), r.text(), r.text(), r.text()
		e.Because, e.Words, e.Body = r.text(), r.text(), []byte(r.text())
		if r.short {
			return altered
		}
		e.Hash = e.Seal()
		if at = (Head{e.Seq, e.Hash}); at.Seq == p.Last && (!bytes.Equal(at.Hash, p.Hash) || len(r.rest) > 0) {
			return altered
		}
		if err := each(&e); err != nil {
			return err
		}
	}
	return nil
}

// unpacking takes a packed text apart; short turns true where it ends too soon.
type unpacking struct {
	rest  []byte
	short bool
}

func (u *unpacking) number() int64 {
	v, n := binary.Varint(u.rest)
	if n <= 0 {
		u.short = true
		return 0
	}
	u.rest = u.rest[n:]
	return v
}

func (u *unpacking) text() string {
	v, n := binary.Uvarint(u.rest)
	if n <= 0 || v > uint64(len(u.rest)-n) {
		u.short, u.rest = true, nil
		return ""
	}
	s := string(u.rest[n : n+int(v)])
	u.rest = u.rest[n+int(v):]
	return s
}
