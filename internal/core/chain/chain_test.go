package chain_test

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/chain"
)

var key = ed25519.NewKeyFromSeed(make([]byte, 32))

// export writes a chain of some entries with a checkpoint at its end.
func export(t *testing.T, words ...string) (lines []string, head chain.Head) {
	t.Helper()
	head = chain.Start()
	put := func(v any) {
		b, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, string(b))
	}
	for _, w := range words {
		e := chain.Entry{Seq: head.Seq + 1, At: time.Date(2026, 11, 25, 9, 47, 48, 123456000, time.UTC), Kind: "round",
			Operator: "odd.strand", Words: w, Body: []byte(`{"a":1}`), Before: head.Hash}
		e.Hash = e.Seal()
		var err error
		if head, err = head.Follow(&e); err != nil {
			t.Fatal(err)
		}
		put(e)
	}
	put(chain.Sign(head, time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC), key))
	return lines, head
}

func TestVerify(t *testing.T) {
	lines, head := export(t, "one", "two", "three")
	whole := strings.Join(lines, "\n")
	v, err := chain.Verify(strings.NewReader(whole+"\n\n"), nil)
	if err != nil || v.Head.Seq != 3 || !bytes.Equal(v.Head.Hash, head.Hash) || v.Checkpoints != 1 || !v.Last.Signed() ||
		!strings.HasPrefix(v.Last.Print(), "SHA256:") {
		t.Fatalf("%+v %v", v, err)
	}
	other, _ := export(t, "one", "another two", "three")
	forged := chain.Sign(head, time.Now(), ed25519.NewKeyFromSeed(bytes.Repeat([]byte{1}, 32)))
	byAnother, _ := json.Marshal(forged)
	for want, text := range map[string]string{
		"entry 2 is missing":                     lines[0] + "\n" + lines[2],
		"entry 1 is missing":                     lines[1],
		"entry 2 has been altered":               strings.Replace(whole, `"two"`, `"tvo"`, 1),
		"entry 3 does not follow from entry 2":   strings.Join([]string{lines[0], other[1], lines[2]}, "\n"),
		"entry 3 is not the one that was signed": strings.Join([]string{other[0], other[1], other[2], lines[3]}, "\n"), // all computed anew
		"entry 3 is not the one":                 lines[0] + "\n" + lines[1] + "\n" + lines[3],                         // the tail was cut
		"does not carry the signature":           strings.Replace(whole, `"checkpoint":3`, `"checkpoint":4`, 1),
		"is signed with another key":             whole + "\n" + string(byAnother),
		"line 1 cannot be read":                  "{",
		"line 1 is neither an entry":             `{"x":1}`,
	} {
		if _, err := chain.Verify(strings.NewReader(text), key.Public().(ed25519.PublicKey)); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// Whatever single byte of an export is altered, it does not hold as it was.
func TestEveryByte(t *testing.T) {
	lines, _ := export(t, "one", "two")
	whole := []byte(strings.Join(lines, "\n"))
	for i := range whole {
		if whole[i] == '\n' {
			continue
		}
		bad := bytes.Clone(whole)
		bad[i] ^= 1
		if bad[i] == '\n' || bad[i] == whole[i] {
			continue
		}
		v, err := chain.Verify(bytes.NewReader(bad), key.Public().(ed25519.PublicKey))
		if err == nil && v.Checkpoints == 1 && v.Head.Seq == 2 && !sameMeaning(whole, bad) {
			t.Fatalf("byte %d: %q holds", i, bad)
		}
	}
}

// sameMeaning says whether two texts decode to the same values: the case of a key, say, means nothing.
func sameMeaning(a, b []byte) bool {
	read := func(text []byte) (out []chain.Entry) {
		for line := range bytes.SplitSeq(text, []byte("\n")) {
			var e chain.Entry
			_ = json.Unmarshal(line, &e)
			out = append(out, e)
		}
		return out
	}
	x, _ := json.Marshal(read(a))
	y, _ := json.Marshal(read(b))
	return bytes.Equal(x, y)
}

// BenchmarkVerify walks an export of b.N entries, as they are written.
func BenchmarkVerify(b *testing.B) {
	r, w := io.Pipe()
	go func() {
		lines := bufio.NewWriter(w)
		to := json.NewEncoder(lines)
		head := chain.Start()
		for i := range b.N {
			e := chain.Entry{Seq: int64(i + 1), At: time.Unix(1_764_000_000, 0).UTC(), Kind: "step", Operator: "odd.strand",
				Target: "arctic-tern", Words: "create account marit.fell: done", Before: head.Hash}
			e.Hash = e.Seal()
			head = chain.Head{e.Seq, e.Hash}
			if to.Encode(e) != nil {
				return
			}
		}
		lines.Flush()
		w.Close()
	}()
	b.ReportAllocs()
	if v, err := chain.Verify(r, nil); err != nil || v.Head.Seq != int64(b.N) {
		b.Fatal(v.Head.Seq, err)
	}
}
