package door

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"time"

	"hen-roost/internal/store"
)

// The service has an authority of its own for client certificates: a key that is
// sealed as all secrets are, and a certificate that targets are told to trust. It
// is made when it is first asked for.

const (
	authorityName = "~authority" // a secret of no such name can be set by anybody
	authorityFor  = 10 * 365 * 24 * time.Hour
	listFor       = 24 * time.Hour // a list of what is withdrawn is good for
	backdated     = 5 * time.Minute
)

// Authority issues client certificates.
type Authority struct {
	Certificate *x509.Certificate
	key         crypto.Signer
}

// Authority opens the service's own, and makes it when there is none.
func (s *Door) Authority(ctx context.Context) (*Authority, error) {
	text, err := s.Secret(ctx, authorityName)
	if errors.Is(err, store.ErrNone) {
		if text, err = newAuthority(s.Now()); err == nil {
			text, err = s.keepAuthority(ctx, text)
		}
	}
	if err != nil {
		return nil, err
	}
	return readAuthority(text)
}

// keepAuthority keeps the authority unless another service was quicker, and returns the one that is kept.
func (s *Door) keepAuthority(ctx context.Context, text []byte) ([]byte, error) {
	sealed, err := s.seal.close(text)
	if err != nil {
		return nil, err
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "secret", Operator: Itself.Name, Words: "made the authority for client certificates"}},
			tx.AddSecret(ctx, store.Secret{Name: authorityName, Sealed: sealed, SetAt: s.Now(), SetBy: Itself.Name})
	})
	if err != nil {
		return nil, err
	}
	return s.Secret(ctx, authorityName)
}

// newAuthority makes a key and its certificate, in PEM.
func newAuthority(now time.Time) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := NewSerial()
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Hen Roost client certificates"},
		NotBefore: now.Add(-backdated), NotAfter: now.Add(authorityFor), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...), nil
}

func readAuthority(text []byte) (*Authority, error) {
	broken := errors.New("the authority for client certificates cannot be read")
	private, rest := pem.Decode(text)
	if private == nil {
		return nil, broken
	}
	public, _ := pem.Decode(rest)
	if public == nil {
		return nil, broken
	}
	key, err := x509.ParsePKCS8PrivateKey(private.Bytes)
	if err != nil {
		return nil, broken // the cause could echo the key
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, broken
	}
	c, err := x509.ParseCertificate(public.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", broken, err)
	}
	return &Authority{c, signer}, nil
}

// NewSerial makes a number for a certificate: 128 bits at random (RFC 5280 §4.1.2.2).
func NewSerial() (*big.Int, error) {
	return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
}

// PEM is the authority's certificate, for targets to trust.
func (a *Authority) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.Certificate.Raw})
}

// Issue makes a key and a client certificate for somebody: both in PEM, the
// authority's certificate behind them.
func (a *Authority) Issue(user, mail string, serial *big.Int, from, until time.Time) ([]byte, error) {
	if until.After(a.Certificate.NotAfter) {
		return nil, fmt.Errorf("the authority itself ends on %s", a.Certificate.NotAfter.Format(time.DateOnly))
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: user}, NotBefore: from.Add(-backdated), NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, BasicConstraintsValid: true}
	if mail != "" {
		t.EmailAddresses = []string{mail}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Certificate, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
	return append(append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...), a.PEM()...), nil
}

// Withdrawn signs the list of certificates that are let in no more (RFC 5280 §5), in DER.
func (a *Authority) Withdrawn(list []store.Certificate, at time.Time) ([]byte, error) {
	t := &x509.RevocationList{Number: big.NewInt(at.UnixMicro()), ThisUpdate: at.Add(-backdated), NextUpdate: at.Add(listFor)}
	for _, c := range list {
		serial, ok := new(big.Int).SetString(c.Serial, 10)
		if !ok {
			return nil, fmt.Errorf("a certificate has the number %q", c.Serial)
		}
		e := x509.RevocationListEntry{SerialNumber: serial, RevocationTime: *c.WithdrawnAt}
		if c.Held {
			e.ReasonCode = 6 // certificateHold
		}
		t.RevokedCertificateEntries = append(t.RevokedCertificateEntries, e)
	}
	return x509.CreateRevocationList(rand.Reader, t, a.Certificate, a.key)
}
