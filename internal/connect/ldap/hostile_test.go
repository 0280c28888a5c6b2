package ldap

import (
	"crypto/tls"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
)

// hostileMessage is one of the protocol's (RFC 4511 §4.1.1), with a cookie of paged results when there is one.
func hostileMessage(id int64, op asn1.Tag, build func(*cryptobyte.Builder), cookie string) []byte {
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(id)
		b.AddASN1(op, build)
		if cookie != "" {
			b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					octets(b, "1.2.840.113556.1.4.319")
					var v cryptobyte.Builder
					v.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddASN1Int64(0)
						octets(b, cookie)
					})
					octets(b, string(v.BytesOrPanic()))
				})
			})
		}
	})
	return b.BytesOrPanic()
}

func hostileOutcome(code int64, words string) func(*cryptobyte.Builder) {
	return func(b *cryptobyte.Builder) {
		b.AddASN1Enum(code)
		octets(b, "")
		octets(b, words)
	}
}

func hostilePerson(name, text string) func(*cryptobyte.Builder) {
	return func(b *cryptobyte.Builder) {
		octets(b, "uid="+name+",ou=People,dc=x")
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			for _, a := range [][2]string{{"uid", name}, {"cn", text}, {"uidNumber", "1"}, {"objectClass", "posixAccount"}} {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					octets(b, a[0])
					b.AddASN1(asn1.SET, func(b *cryptobyte.Builder) { octets(b, a[1]) })
				})
			}
		})
	}
}

const (
	bound    = asn1.Tag(1) | 0x60 // BindResponse
	asks     = asn1.Tag(3) | 0x60 // SearchRequest
	oneFound = asn1.Tag(4) | 0x60
	allFound = asn1.Tag(5) | 0x60
)

// hostile lets everybody in and answers searches as a test has it.
func hostile(t *testing.T, lets int64, words string, answer func(c net.Conn, id int64) error) connect.Access {
	conf := connecttest.Certified(t)
	address := connecttest.Listen(t, func(raw net.Conn) {
		c := tls.Server(raw, conf)
		w := newWire(c, time.Minute)
		for {
			m, err := w.message()
			if err != nil {
				return
			}
			body, id, op := cryptobyte.String(m), int64(0), asn1.Tag(0)
			var rest cryptobyte.String
			if !body.ReadASN1Integer(&id) || !body.ReadAnyASN1(&rest, &op) {
				return
			}
			switch {
			case op == asks:
				err = answer(c, id)
			case op != asn1.Tag(2)|0x40: // it is left at once
				_, err = c.Write(hostileMessage(id, op+1, hostileOutcome(lets, words), ""))
			}
			if err != nil {
				return
			}
		}
	})
	return connect.Access{Target: "hostile", Address: address, As: "cn=roost,dc=x", Secret: []byte(connecttest.HostileSecret),
		Wait: 2 * time.Second, Settings: map[string]string{"people": "ou=People,dc=x", "groups": "ou=Groups,dc=x"}}
}

func TestHostileServers(t *testing.T) {
	settings := map[string]string{"people": "ou=People,dc=x", "groups": "ou=Groups,dc=x"}
	connecttest.Survives(t, Connector{}, connect.Access{As: "cn=roost,dc=x", Settings: settings})
	for what, c := range map[string]struct {
		lets   int64
		words  string
		answer func(c net.Conn, id int64) error
		want   string
	}{
		"entries without end": {0, "", func(c net.Conn, id int64) error {
			m := hostileMessage(id, oneFound, hostilePerson("marit", strings.Repeat("x", 50_000)), "")
			for {
				if _, err := c.Write(m); err != nil {
					return err
				}
			}
		}, ""},
		"the same page for ever": {0, "", func(c net.Conn, id int64) error {
			_, err := c.Write(append(hostileMessage(id, oneFound, hostilePerson("marit", "Marit"), ""),
				hostileMessage(id, allFound, hostileOutcome(0, ""), "again")...))
			return err
		}, ""},
		"repeats the password": {49, "no: " + connecttest.HostileSecret, nil, "(sealed)"},
		"an entry of its own size": {0, "", func(c net.Conn, id int64) error {
			_, err := c.Write([]byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff, 2, 1, byte(id)})
			return err
		}, "the most is"},
	} {
		t.Run(what, func(t *testing.T) {
			words := connecttest.Bears(t, Connector{}, hostile(t, c.lets, c.words, c.answer))
			if words == "" || !strings.Contains(words, c.want) {
				t.Errorf("%q", words)
			}
		})
	}
}
