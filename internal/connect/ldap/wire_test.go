package ldap

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	goldap "github.com/go-ldap/ldap/v3"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// message builds an LDAPMessage with a number and an operation.
func message(id int64, tag asn1.Tag, op func(b *cryptobyte.Builder), controls ...string) []byte {
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(id)
		b.AddASN1(tag, op)
		for _, cookie := range controls {
			b.AddASN1(tagControls, func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					octets(b, pagedResults)
					b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) {
						b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1Int64(0); octets(b, cookie) })
					})
				})
			})
		}
	})
	return b.BytesOrPanic()
}

func outcome(code int64, text string) func(*cryptobyte.Builder) {
	return func(b *cryptobyte.Builder) { b.AddASN1Enum(code); octets(b, ""); octets(b, text) }
}

func person(dn string, pairs ...string) func(*cryptobyte.Builder) {
	return func(b *cryptobyte.Builder) {
		octets(b, dn)
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			for i := 0; i < len(pairs); i += 2 {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					octets(b, pairs[i])
					b.AddASN1(asn1.SET, func(b *cryptobyte.Builder) {
						for _, v := range strings.Split(pairs[i+1], "|") {
							octets(b, v)
						}
					})
				})
			}
		})
	}
}

// talk runs a client against a server that answers request by request with the given bytes.
func talk(t *testing.T, answers [][]byte, client func(w *wire)) {
	t.Helper()
	ours, theirs := net.Pipe()
	done := make(chan bool)
	go func() {
		defer close(done)
		defer theirs.Close()
		b := make([]byte, 64<<10)
		for _, a := range answers {
			if _, err := theirs.Read(b); err != nil {
				return
			}
			if _, err := theirs.Write(a); err != nil {
				return
			}
		}
	}()
	client(newWire(ours, time.Second))
	ours.Close()
	<-done
}

func everyone(t *testing.T) query {
	t.Helper()
	f, err := goldap.CompileFilter("(uid=*)")
	if err != nil {
		t.Fatal(err)
	}
	return query{base: "dc=x", filter: f.Bytes(), attributes: []string{"uid"}, page: 2}
}

func TestPages(t *testing.T) {
	first := bytes.Join([][]byte{
		message(7, tagEntry, person("uid=late,dc=x", "uid", "late")), // an answer to a search given up
		message(1, tagEntry, person("uid=a,dc=x", "uid", "a", "mail", "a@x|b@x")),
		message(1, tagReference, func(b *cryptobyte.Builder) { octets(b, "ldap://elsewhere") }),
		message(1, tagEntry, person("uid=b,dc=x", "uid", "b")),
		message(1, tagSearchDone, outcome(0, ""), "more"),
	}, nil)
	second := bytes.Join([][]byte{message(2, tagEntry, person("uid=c,dc=x")), message(2, tagSearchDone, outcome(0, ""), "")}, nil)
	talk(t, [][]byte{first, second}, func(w *wire) {
		var got []string
		err := w.search(everyone(t), func(e *entry) error {
			got = append(got, fmt.Sprintf("%s %v", e.dn, e.attributes))
			return nil
		})
		if want := "uid=a,dc=x [{uid [a]} {mail [a@x b@x]}]; uid=b,dc=x [{uid [b]}]; uid=c,dc=x []"; err != nil ||
			strings.Join(got, "; ") != want {
			t.Errorf("%v\ngot  %s\nwant %s", err, strings.Join(got, "; "), want)
		}
	})
}

func TestBind(t *testing.T) {
	talk(t, [][]byte{message(1, tagBindResponse, outcome(0, ""))}, func(w *wire) {
		if err := w.bind("cn=x", []byte("secret")); err != nil {
			t.Error(err)
		}
	})
	talk(t, [][]byte{message(1, tagBindResponse, outcome(49, "bad\x00credentials"))}, func(w *wire) {
		var code *codeError
		if err := w.bind("cn=x", nil); !errors.As(err, &code) || code.code != 49 || err.Error() != "LDAP result 49: bad credentials" {
			t.Errorf("%v", err)
		}
	})
}

// A directory that is broken or hostile makes an error, never a panic, a hang or a heap of memory.
func TestHostile(t *testing.T) {
	for name, c := range map[string]struct {
		bytes []byte
		want  string
	}{
		"not LDAP":           {[]byte("HTTP/1.1 400\r\n"), "not LDAP"},
		"endless length":     {[]byte{0x30, 0x80, 0, 0}, "impossible length"},
		"four gigabytes":     {[]byte{0x30, 0x84, 0xff, 0xff, 0xff, 0xff}, "the most is"},
		"length of a length": {[]byte{0x30, 0x88, 1, 1, 1, 1, 1, 1, 1, 1}, "impossible length"},
		"hangs up":           {[]byte{0x30, 0x05, 2}, io.ErrUnexpectedEOF.Error()},
		"nothing in it":      {[]byte{0x30, 0x00}, "not LDAP"},
		"goodbye":            {message(0, asn1.Tag(0x78), outcome(52, "")), "ended the connection"},
		"an entry of noise": {message(1, tagEntry, func(b *cryptobyte.Builder) { b.AddBytes([]byte{1, 2, 3}) }),
			"an entry that cannot be read"},
		"a bind in a search": {message(1, tagBindResponse, outcome(0, "")), "an unasked message"},
		"refused":            {message(1, tagSearchDone, outcome(50, "no")), "LDAP result 50: no"},
		"a result of noise": {message(1, tagSearchDone, func(b *cryptobyte.Builder) { b.AddBytes([]byte{9}) }),
			"a result that cannot be read"},
	} {
		talk(t, [][]byte{c.bytes}, func(w *wire) {
			if err := w.search(everyone(t), func(*entry) error { return nil }); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want %s", name, err, c.want)
			}
		})
	}
	stop := errors.New("stop")
	talk(t, [][]byte{message(1, tagEntry, person("uid=a", "uid", "a"))}, func(w *wire) {
		if err := w.search(everyone(t), func(*entry) error { return stop }); err != stop {
			t.Errorf("the search was not ended: %v", err)
		}
	})
}

func FuzzMessages(f *testing.F) {
	f.Add(message(1, tagEntry, person("uid=a,dc=x", "uid", "a", "mail", "a|b")))
	f.Add(message(1, tagSearchDone, outcome(0, ""), "cookie"))
	f.Add([]byte{0x30, 0x84, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, in []byte) {
		ours, theirs := net.Pipe()
		go func() {
			_, _ = theirs.Write(in)
			theirs.Close()
		}()
		w := newWire(ours, time.Second)
		w.id = 1
		for range 100 {
			if _, err := w.page(func(e *entry) error { e.one("uid"); return nil }); err != nil {
				break
			}
		}
		ours.Close()
	})
}

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		"UID=Marit,OU=People,DC=x":         "uid=marit,ou=people,dc=x",
		`uid=Durand\2C \22A\22, ou=People`: `uid=durand\, \"a\",ou=people`,
		`uid=Durand\, \"A\",ou=People`:     `uid=durand\, \"a\",ou=people`,
		`uid=\ leading,ou=x`:               `uid=\ leading,ou=x`,
		"not a name at all = , ":           "not a name at all = , ",
	} {
		if got := normal(in); got != want {
			t.Errorf("normal(%q) = %q, want %q", in, got, want)
		}
	}
	for _, c := range []struct{ dn, attribute, want string }{
		{"uid=marit.fell,ou=People", "uid", "marit.fell"}, {`uid=Durand\, A,ou=x`, "uid", "Durand, A"}, {`uid=a\2Bb,ou=x`, "uid", "a+b"},
		{"cn=marit,ou=x", "uid", ""}, {"", "uid", ""},
	} {
		if got, _ := rdn(c.dn, c.attribute); got != c.want {
			t.Errorf("rdn(%q) = %q, want %q", c.dn, got, c.want)
		}
	}
	n := 0
	for filter := range orFilters("uid", map[string]bool{"a*b": true, "(c)": true}) {
		n++
		if !strings.Contains(filter, `(uid=a\2ab)`) || !strings.Contains(filter, `(uid=\28c\29)`) {
			t.Error(filter)
		}
	}
	if n != 1 {
		t.Errorf("%d filters for two names", n)
	}
}

// Whatever a directory sends as changes, it is read to its end or refused, and ids are ids.
func FuzzSince(f *testing.F) {
	id := bytes.Repeat([]byte{7}, 16)
	control := func(oid string, value func(b *cryptobyte.Builder)) func(b *cryptobyte.Builder) {
		return func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
				octets(b, oid)
				b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) { b.AddASN1(asn1.SEQUENCE, value) })
			})
		}
	}
	with := func(tag asn1.Tag, op, controls func(b *cryptobyte.Builder)) []byte {
		var b cryptobyte.Builder
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1Int64(1)
			b.AddASN1(tag, op)
			b.AddASN1(asn1.Tag(0).Constructed().ContextSpecific(), controls)
		})
		return b.BytesOrPanic()
	}
	gone := with(tagEntry, person("uid=a,dc=x", "uid", "a"), control(syncState, func(b *cryptobyte.Builder) {
		b.AddASN1Enum(stateDelete)
		octets(b, string(id))
	}))
	done := with(tagSearchDone, outcome(0, ""), control(syncDone, func(b *cryptobyte.Builder) {
		octets(b, "next")
		b.AddASN1Boolean(true)
	}))
	f.Add(append(bytes.Clone(gone), done...))
	f.Add(bytes.Replace(append(bytes.Clone(gone), done...), id, id[:15], 1))
	f.Fuzz(func(t *testing.T, in []byte) {
		ours, theirs := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, theirs) }()
		go func() {
			_, _ = theirs.Write(in)
			theirs.Close()
		}()
		w := newWire(ours, time.Second)
		w.id = 0
		r, err := w.since(everyone(t), []byte("from"))
		ours.Close()
		if (err == nil) != (r != nil) {
			t.Fatalf("%v %v", r, err)
		}
		if r != nil {
			for _, id := range r.gone {
				if len(id) != 36 {
					t.Errorf("%q is no id", id)
				}
			}
		}
		if bytes.Equal(in, append(bytes.Clone(gone), done...)) && (err != nil || len(r.gone) != 1 || string(r.cookie) != "next") {
			t.Errorf("%+v %v", r, err)
		}
	})
}
