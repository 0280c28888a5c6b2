package connect_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
)

// replica is a session with a database at one of its addresses.
type replica struct {
	connect.Session
	address, shut string
	closed        bool
}

func (r *replica) Close() error { r.closed = true; return nil }

// Of several addresses the first that takes changes is taken; of none that does the first that answers, which says of each why.
func TestSeveral(t *testing.T) {
	key := &connect.KeyError{Target: "stores", Print: "SHA256:x"}
	for name, c := range map[string]struct {
		at         map[string]any // by address: why it takes no changes, or an error
		also, want string
		words      string
	}{
		"alone":      {map[string]any{"a": ""}, "", "a", ""},
		"the first":  {map[string]any{"a": "", "b": ""}, "b", "a", ""},
		"the second": {map[string]any{"a": "read-only", "b": ""}, "b c", "b", ""},
		"the third":  {map[string]any{"a": errors.New("away"), "b": "a replica", "c": ""}, "b,c", "c", ""},
		"none": {map[string]any{"a": "read-only", "b": "a replica", "c": errors.New("away")}, " b,  c ", "a",
			"read-only; a replica; away"},
		"one that answers":   {map[string]any{"a": errors.New("away"), "b": "a replica"}, "b", "b", "a replica; away"},
		"nobody":             {map[string]any{"a": errors.New("away"), "b": errors.New("asleep")}, "b", "", "away"},
		"a key that changed": {map[string]any{"a": errors.New("away"), "b": key}, "b", "", "SHA256:x"},
	} {
		t.Run(name, func(t *testing.T) {
			var opened []*replica
			s, err := connect.Several(context.Background(), connect.Access{Address: "a"}, c.also,
				func(_ context.Context, a connect.Access) (*replica, error) {
					if err, is := c.at[a.Address].(error); is {
						return nil, err
					}
					words, known := c.at[a.Address].(string)
					if !known {
						t.Fatalf("%s is asked", a.Address)
					}
					opened = append(opened, &replica{address: a.Address, shut: words})
					return opened[len(opened)-1], nil
				}, func(r *replica) *string { return &r.shut })
			if c.want == "" {
				if err == nil || !strings.Contains(err.Error(), c.words) {
					t.Errorf("%v, want %s", err, c.words)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range opened {
				if r.closed == (r == s.(*replica)) {
					t.Errorf("the session at %s is closed: %v", r.address, r.closed)
				}
			}
			if r := s.(*replica); r.address != c.want || r.shut != c.words {
				t.Errorf("at %s: %q, want %s: %q", r.address, r.shut, c.want, c.words)
			}
		})
	}
}

// certificate is one for some addresses, signed by another or by itself.
func certificate(t *testing.T, by *tls.Certificate, authority bool, ips ...string) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "x"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: authority, BasicConstraintsValid: true,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, ip := range ips {
		c.IPAddresses = append(c.IPAddresses, net.ParseIP(ip))
	}
	parent, signer, chain := c, any(key), [][]byte(nil)
	if by != nil {
		parent, signer, chain = by.Leaf, by.PrivateKey, by.Certificate
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: append([][]byte{der}, chain...), PrivateKey: key, Leaf: leaf}
}

// A target is known by the key at the top of the chain that it shows, and what stands below an authority is for the address.
func TestPinned(t *testing.T) {
	authority := certificate(t, nil, true)
	itself, good, elsewhere := certificate(t, nil, false), certificate(t, &authority, false, "127.0.0.1"),
		certificate(t, &authority, false, "127.0.0.9")
	shake := func(shown tls.Certificate, accepted string) (*connect.KeyError, error) {
		server, client := net.Pipe()
		defer server.Close()
		go func() { _ = tls.Server(server, &tls.Config{Certificates: []tls.Certificate{shown}}).Handshake() }()
		conf, refused := connect.Pinned(connect.Access{Target: "stores", Key: accepted}, "127.0.0.1")
		c := tls.Client(client, conf)
		defer client.Close()
		_ = client.SetDeadline(time.Now().Add(10 * time.Second))
		err := c.Handshake()
		return refused(), err
	}
	keyOf := func(c tls.Certificate) string {
		k, err := shake(c, "")
		if k == nil || err == nil || k.Accepted != "" || !strings.HasPrefix(k.Offered, "authority SHA256:") {
			t.Fatalf("%+v %v", k, err)
		}
		return k.Offered
	}
	if keyOf(good) != keyOf(elsewhere) || keyOf(good) == keyOf(itself) {
		t.Error("an authority is not one, whatever it signs")
	}
	for name, c := range map[string]struct {
		shown    tls.Certificate
		accepted string
		refused  bool
		words    string
	}{
		"by its authority":        {good, keyOf(good), false, ""},
		"by itself, for whatever": {itself, keyOf(itself), false, ""},
		"another authority":       {good, keyOf(itself), true, "REFUSED: the identity key has changed"},
		"for another address":     {elsewhere, keyOf(good), false, "127.0.0.1"},
	} {
		k, err := shake(c.shown, c.accepted)
		if (k != nil) != c.refused || (err == nil) != (c.words == "") || err != nil && !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v %v", name, k, err)
		}
	}
}
