package world

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// certify makes a small authority and a certificate of its for a server, in a folder: srv.pem with both, srv.key, ca.pem
// and ca.key.
func certify(dir, name, ip string) error {
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tern Sound authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(5, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.CreateCertificate(rand.Reader, ca, ca, &key.PublicKey, key)
	if err != nil {
		return err
	}
	return errors.Join(write(dir, "ca", key, der), certifyBy(dir, dir, name, ip))
}

// certifyBy makes a certificate that the authority in another folder signs.
func certifyBy(dir, authority, name, ip string) error {
	by, err := tls.LoadX509KeyPair(filepath.Join(authority, "ca.pem"), filepath.Join(authority, "ca.key"))
	if err != nil {
		return err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(2, 0, 0),
		IPAddresses: []net.IP{net.ParseIP(ip)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf, by.Leaf, &key.PublicKey, by.PrivateKey)
	if err != nil {
		return err
	}
	return write(dir, "srv", key, der, by.Certificate[0])
}

// write keeps a key and the chain of its certificate.
func write(dir, name string, key *ecdsa.PrivateKey, chain ...[]byte) error {
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	var b []byte
	for _, der := range chain {
		b = append(b, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	return errors.Join(os.WriteFile(filepath.Join(dir, name+".pem"), b, 0o644),
		os.WriteFile(filepath.Join(dir, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
}
