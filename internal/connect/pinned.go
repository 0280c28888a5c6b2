package connect

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"net"
	"net/http"
	"strings"
)

// Client is an HTTP client that speaks TLS to a target which is known by its accepted key, with so many connections at most. It
// follows no redirection and knows no proxy: what is sent is for nobody else. A key that is not accepted is a *KeyError.
func Client(a Access, host string, connections int, as ...tls.Certificate) *http.Client {
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{MaxIdleConnsPerHost: connections, MaxConnsPerHost: connections, ResponseHeaderTimeout: a.Patience(),
			MaxResponseHeaderBytes: 64 << 10, Proxy: nil,
			DialTLSContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				c, err := a.Connect(ctx)
				if err != nil {
					return nil, err
				}
				conf, refused := Pinned(a, host, as...)
				t := tls.Client(c, conf)
				if err = t.HandshakeContext(ctx); err == nil {
					return t, nil
				}
				c.Close()
				if k := refused(); k != nil {
					return nil, k
				}
				return nil, err
			}}}
}

// Pinned is TLS to a target that is known by its own key, of a certificate that nobody else signed, or by its authority's key and
// its name together: the chain must lead from a certificate for the host that was asked for to that key. The
// chain is checked against nothing else: which authorities this machine trusts does not matter. refused tells, once the
// handshake has failed, whether it was the key.
func Pinned(a Access, host string, as ...tls.Certificate) (conf *tls.Config, refused func() *KeyError) {
	var keyErr *KeyError
	return &tls.Config{
		MinVersion: tls.VersionTLS12, ServerName: host, Certificates: as, InsecureSkipVerify: true,
		VerifyConnection: func(cs tls.ConnectionState) error {
			if keyErr = checkChain(a, host, cs.PeerCertificates); keyErr != nil {
				return keyErr
			}
			return verify(cs.PeerCertificates, host)
		},
	}, func() *KeyError { return keyErr }
}

// checkChain compares the key at the top of the shown chain with the accepted one.
func checkChain(a Access, host string, chain []*x509.Certificate) *KeyError {
	top := chain[len(chain)-1]
	print := fingerprint(top)
	if len(chain) > 1 {
		print += ofHost + host
	}
	switch a.Key {
	case ofAuthority + print, ofAuthority + fingerprint(top): // without the name, as earlier versions kept it
		return nil
	}
	return &KeyError{Target: a.Target, Offered: ofAuthority + print, Print: print, Accepted: a.Key,
		Was: strings.TrimPrefix(a.Key, ofAuthority)}
}

// ofAuthority begins what is kept of an accepted key, and ofHost stands before the name, where it is an authority's.
const (
	ofAuthority = "authority "
	ofHost      = " for "
)

func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// verify checks that the server's certificate is for this address and leads to the chain's top. One that is its own
// top is known by its key, whatever it is made out to.
func verify(chain []*x509.Certificate, host string) error {
	if len(chain) == 1 {
		return nil
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AddCert(chain[len(chain)-1])
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err := chain[0].Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, DNSName: host})
	return err
}
