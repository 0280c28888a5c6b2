package host

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
)

// A host may show a certificate in place of a bare identity key (PROTOCOL.certkeys of OpenSSH): then who signed it is
// accepted once for all hosts, in the target's settings, and no host's key by itself.

// signedBy checks identity keys of a target whose settings name who signs them; nil when they name nobody.
func signedBy(a connect.Access) (func(ssh.PublicKey) error, error) {
	line := a.Settings[authoritySetting]
	if line == "" {
		return nil, nil
	}
	authority, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return nil, fmt.Errorf("its setting %s is no public key: %w", authoritySetting, err)
	}
	address, _, err := net.SplitHostPort(a.Address)
	if err != nil {
		address = a.Address
	}
	return func(key ssh.PublicKey) error {
		cert, ok := key.(*ssh.Certificate)
		switch {
		case !ok:
			return errors.New("it shows a bare identity key, " + ssh.FingerprintSHA256(key) + ", and no certificate; its setting " +
				authoritySetting + " asks for one")
		case cert.CertType != ssh.HostCert:
			return errors.New("it shows a certificate that is not a host's")
		case !bytes.Equal(cert.SignatureKey.Marshal(), authority.Marshal()):
			return errors.New("its certificate was signed by " + ssh.FingerprintSHA256(cert.SignatureKey) + ", and not by " +
				ssh.FingerprintSHA256(authority))
		}
		var first error
		for _, name := range []string{a.Target, address} { // a certificate names hosts as people do, or as the network does
			checker := ssh.CertChecker{Clock: time.Now, IsHostAuthority: func(ssh.PublicKey, string) bool { return true }}
			err := checker.CheckCert(name, cert)
			if err == nil {
				return nil
			}
			if first == nil {
				first = err
			}
		}
		return fmt.Errorf("its certificate does not hold for it: %s (it is for %s)", connect.Printable(first.Error()),
			connect.Printable(strings.Join(cert.ValidPrincipals, ", ")))
	}, nil
}
