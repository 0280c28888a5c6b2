package world

import (
	"crypto/tls"
	"net"
	"os"
	"path/filepath"

	"hen-roost/internal/standin"
)

// Application is a made-up application that runs.
type Application struct {
	*standin.Application
	Token string // that it takes
}

// StartApplication starts one, with a certificate of an authority of its own, at an address on loopback.
func StartApplication(dir, ip string, c standin.Choices) (*Application, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := certify(dir, c.Name, ip); err != nil {
		return nil, err
	}
	cert, err := tls.LoadX509KeyPair(filepath.Join(dir, "srv.pem"), filepath.Join(dir, "srv.key"))
	if err != nil {
		return nil, err
	}
	a, err := standin.Start(filepath.Join(dir, "state"), net.JoinHostPort(ip, "0"), cert, c)
	if err != nil {
		return nil, err
	}
	return &Application{a, c.Token}, nil
}
