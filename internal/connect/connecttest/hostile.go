package connecttest

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"net"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Hostile peers mean no good: they say nothing, drip, flood, hang up, repeat what they are told, or are somebody else the next
// time. Every connector survives them: it gives up within a bound, keeps little in memory, and repeats no secret.

// HostileSecret is what we sign in to hostile peers with: none of it may come back in words.
const HostileSecret = "Ferry-rope-90-knots-Ærø"

// memoryMost is how much of memory may be in use beside a hostile peer, in bytes, more than before.
const memoryMost = 400 << 20

// behaviours are what a peer does with a connection, whatever protocol is spoken on it.
var behaviours = map[string]func(net.Conn){
	"says nothing": func(c net.Conn) { _, _ = c.Read(make([]byte, 1)); time.Sleep(time.Minute) },
	"drips":        func(c net.Conn) { each(c, []byte("a"), 20*time.Millisecond) },
	"floods":       func(c net.Conn) { each(c, []byte(strings.Repeat("a", 64<<10)), 0) },
	"floods lines": func(c net.Conn) { each(c, []byte(strings.Repeat("x\n", 32<<10)), 0) },
	"floods zeros": func(c net.Conn) { each(c, make([]byte, 64<<10), 0) },
	"hangs up":     func(net.Conn) {},
	"repeats": func(c net.Conn) {
		b := make([]byte, 4096)
		for {
			n, err := c.Read(b)
			if err != nil {
				return
			}
			if _, err := c.Write(append([]byte("?? no such thing: "), b[:n]...)); err != nil {
				return
			}
		}
	},
	"redirects": func(c net.Conn) {
		_, _ = c.Read(make([]byte, 4096))
		fmt.Fprint(c, "HTTP/1.1 307 Temporary Redirect\r\nLocation: https://127.0.0.1:1/\r\nContent-Length: 0\r\n\r\n")
	},
}

func each(c net.Conn, b []byte, pause time.Duration) {
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(pause) {
		if _, err := c.Write(b); err != nil {
			return
		}
	}
}

// Listen serves connections on loopback until the test ends, each by itself.
func Listen(t testing.TB, serve func(net.Conn)) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return l.Addr().String()
}

// Certified is TLS with a key of its own, for 127.0.0.1.
func Certified(t testing.TB) *tls.Config {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "hostile"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
}

// Survives has a connector meet every peer that speaks no protocol at all, in clear and over TLS. access has what the connector
// wants to know of a target beside its address and secret.
func Survives(t *testing.T, c connect.Connector, access connect.Access) {
	t.Helper()
	if access.Target, access.Wait = "hostile", time.Second; access.Secret == nil {
		access.Secret = []byte(HostileSecret)
	}
	for what, does := range behaviours {
		for _, secure := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, over TLS %v", what, secure), func(t *testing.T) {
				if !strings.HasPrefix(what, "floods") { // those wait, and can do so together
					t.Parallel()
				}
				a, serve := access, does
				if secure {
					conf := Certified(t)
					serve = func(c net.Conn) { does(tls.Server(c, conf)) }
				}
				a.Address = Listen(t, serve)
				Bears(t, c, a)
			})
		}
	}
}

// bearFor is how long a connector may bear with a peer that waits a second for each answer.
const bearFor = 90 * time.Second

// actWithin is within what a survey must have ended for an act to be tried too: both have the same patience.
const actWithin = 5 * time.Second

// Bears opens a target that means no good, accepts the key that it shows, surveys it and carries out an act there: it ends within a
// bound, keeps little, and says no secret. It returns what went wrong, "" for nothing.
func Bears(t *testing.T, c connect.Connector, a connect.Access) (words string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*bearFor)
	defer cancel()
	began, high := time.Now(), watchMemory(ctx)
	say := func(err error) {
		if err != nil {
			words += err.Error() + "\n"
		}
	}
	strikes := a.Strikes()
	for range 3 { // the key is accepted as it comes
		s, err := connect.Open(ctx, c, a)
		var key *connect.KeyError
		if errors.As(err, &key) && a.Key == "" {
			a.Key = key.Offered
			continue
		}
		say(err)
		if err != nil {
			break
		}
		_, err = connect.Survey(ctx, s, func(o model.Object) error {
			strikes.Object(&o)
			if strings.Contains(o.Name+string(o.Attributes), HostileSecret) {
				t.Errorf("the secret stands in %s %s", o.Kind, o.Name)
			}
			return nil
		})
		say(strikes.Error(err))
		if time.Since(began) > actWithin {
			s.Close()
			break
		}
		if s2, err := connect.Open(ctx, c, a); err == nil {
			for _, answer := range connect.Apply(ctx, s2, []connect.Act{Act(model.Create, model.Account, "marit")}) {
				strikes.Answer(&answer)
				say(errors.New(answer.Words))
			}
			s2.Close()
		}
		s.Close()
		break
	}
	if took := time.Since(began); took > bearFor {
		t.Errorf("it took %s", took)
	}
	if more := high(); more > memoryMost {
		t.Errorf("%d MB of memory were in use more than before", more>>20)
	}
	if strings.Contains(words, HostileSecret) || strings.Contains(words, HostileSecret[4:16]) {
		t.Errorf("the secret was told: %s", words)
	}
	return words
}

// watchMemory notes how much memory is in use at most, beyond what is now, until ctx ends or it is asked.
func watchMemory(ctx context.Context) (most func() int64) {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	before, high := int64(m.HeapInuse), atomic.Int64{}
	ctx, stop := context.WithCancel(ctx)
	go func() {
		for ctx.Err() == nil {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			if more := int64(now.HeapInuse) - before; more > high.Load() {
				high.Store(more)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}()
	return func() int64 {
		stop()
		return high.Load()
	}
}
