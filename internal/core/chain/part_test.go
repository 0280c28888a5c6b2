package chain

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"fmt"
	"reflect"
	"testing"
	"time"
)

var sealer = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, 32))

// many makes entries that follow from a head.
func many(from Head, n int) (list []Entry, at Head) {
	at = from
	for i := range n {
		e := Entry{Seq: at.Seq + 1, At: time.UnixMicro(1_790_000_000_000_000 + int64(i)*1234).UTC(), Kind: "step", Operator: "odd.strand",
			Target: fmt.Sprint("host-", i%3), User: fmt.Sprint("Åse ", i), Round: int64(i % 5), About: int64(i % 7 / 6), Because: "spring",
			Words: "changed\x00 it", Body: bytes.Repeat([]byte{byte(i), 0xff}, i%9), Before: at.Hash}
		e.Hash = e.Seal()
		list, at = append(list, e), Head{e.Seq, e.Hash}
	}
	return list, at
}

// A part gives back what it was made of; whatever is changed in it is noticed, by
// who trusts the seal and by who walks through it.
func TestPart(t *testing.T) {
	_, from := many(Start(), 10)
	list, last := many(from, 300)
	p, err := Pack(from, list, sealer)
	if err != nil || !p.SealedWith(sealer.Public().(ed25519.PublicKey)) {
		t.Fatal(err)
	}
	if next, err := p.Follows(from); err != nil || next.Seq != last.Seq || !bytes.Equal(next.Hash, last.Hash) {
		t.Errorf("%+v %v", next, err)
	}
	var got []Entry
	if err := p.Each(func(e *Entry) error { got = append(got, *e); return nil }); err != nil {
		t.Fatal(err)
	}
	for i := range got {
		if got[i].Body = append([]byte(nil), got[i].Body...); len(got[i].Body) == 0 {
			got[i].Body, list[i].Body = nil, nil
		}
	}
	if !reflect.DeepEqual(got, list) {
		t.Error("the entries come back otherwise")
	}
	var broken *BrokenError
	for i := range p.Body {
		q := *p
		q.Body = bytes.Clone(p.Body)
		q.Body[i] ^= 0x10
		if q.SealedWith(p.Key) {
			t.Fatalf("byte %d: the seal is that of another part", i)
		}
		if i%7 == 0 {
			if err := q.Each(func(*Entry) error { return nil }); !errors.As(err, &broken) {
				t.Fatalf("byte %d: %v", i, err)
			}
		}
	}
	for what, change := range map[string]func(*Part){"first": func(q *Part) { q.First++ }, "last": func(q *Part) { q.Last-- },
		"before": func(q *Part) { q.Before = last.Hash }, "hash": func(q *Part) { q.Hash = from.Hash }} {
		q := *p
		if change(&q); q.SealedWith(p.Key) {
			t.Errorf("another %s is not noticed by the seal", what)
		}
		if err := q.Each(func(*Entry) error { return nil }); !errors.As(err, &broken) {
			t.Errorf("another %s is not noticed by the walk: %v", what, err)
		}
	}
	other := ed25519.NewKeyFromSeed(make([]byte, 32))
	if again, _ := Pack(from, list, other); again.SealedWith(p.Key) {
		t.Error("anybody's seal will do")
	}
	list[5].Words = "nothing"
	if _, err := Pack(from, list, sealer); !errors.As(err, &broken) || broken.Seq != 16 {
		t.Errorf("an altered entry is sealed: %v", err)
	}
}

func BenchmarkPart(b *testing.B) {
	list, _ := many(Start(), 2000)
	p, err := Pack(Start(), list, sealer)
	if err != nil {
		b.Fatal(err)
	}
	b.Run("seal", func(b *testing.B) {
		for b.Loop() {
			if !p.SealedWith(p.Key) {
				b.Fatal("not sealed")
			}
		}
		b.ReportMetric(float64(len(list))*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
	})
	b.Run("walk", func(b *testing.B) {
		for b.Loop() {
			if err := p.Each(func(*Entry) error { return nil }); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(len(list))*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
	})
}
