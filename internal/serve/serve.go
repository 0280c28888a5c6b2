// Package serve puts the rooms together: database, service, API and console
// behind one TLS address.
package serve

import (
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/api"
	"hen-roost/internal/client"
	"hen-roost/internal/connect"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/connect/scim"
	"hen-roost/internal/dbserver"
	"hen-roost/internal/service"
	"hen-roost/internal/store"
	"hen-roost/web"
)

// Kinds lists the connectors, those that dialects in a folder teach among them; "" is no folder. A new kind of target is one line
// here, or a file there.
func Kinds(dialects string) (connect.Kinds, error) { return kindsWith(dialects, nil) }

func kindsWith(dialects string, known *keptDialects) (connect.Kinds, error) {
	kinds := connect.Kinds{
		host.Kind:     host.Connector{},
		ldap.Kind:     ldap.Connector{},
		mariadb.Kind:  mariadb.Connector{},
		postgres.Kind: postgres.Connector{},
		scim.Kind:     scim.Connector{},
	}
	return kinds, taught(kinds, dialects, known)
}

// Config says how to serve.
type Config struct {
	Listen         string // host:port; port 0 picks a free one
	Data           string // folder for what is not in the database
	Database       string // DSN; "" keeps a private MariaDB under Data
	Certificate    string // PEM files; "" makes a certificate under Data
	CertificateKey string
	KeyFile        string        // seals the secrets; "" is Data/seal.key
	Wait           time.Duration // patience with targets
	Batch          int
	Drops          string         // folder with a folder for each system that drops files with people; "": there is none
	Dialects       string         // folder with the files that teach kinds of targets; "": there is none
	AtOnce         map[string]int // targets of a kind at once
	Names          []string       // the service may be asked for by, beside those of its certificate; "*" among them: any
	Metrics        string         // who may read /metrics; "": loopback
	Probation      time.Duration  // how long who made an operator is kept together with them; 0: as usual
	Throwaway      bool           // the database need not outlive a power cut
	Log            *slog.Logger
	Version        string
}

// Server is a running service.
type Server struct {
	Address string // https://host:port
	Print   string // fingerprint of its certificate
	Service *service.Service
	db      *dbserver.Server
	store   *store.Store
	http    *http.Server
	log     *slog.Logger
	known   *keptDialects
	end     context.CancelFunc // of what looks after the dialects
	over    chan struct{}      // closed when that has ended
	failed  chan error
}

// Open opens the database and the service without listening, for commands on the server itself.
func Open(ctx context.Context, c Config) (*Server, error) {
	s := &Server{failed: make(chan error, 1)}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, err
	}
	dsn := c.Database
	if dsn == "" {
		db, err := dbserver.Start(ctx, dbserver.Options{Dir: filepath.Join(c.Data, "db"), Throwaway: c.Throwaway})
		if err != nil {
			return nil, err
		}
		s.db = db
		dsn = db.DSN()
	}
	known := &keptDialects{folder: filepath.Join(c.Data, "dialects")}
	s.known, s.log = known, cmp.Or(c.Log, slog.Default())
	kinds, err := kindsWith(c.Dialects, known)
	if err != nil {
		s.Close()
		return nil, err
	}
	for _, why := range known.broken {
		s.log.Error("a dialect is broken, and targets of its kind stand still; all else goes on", "error", why)
	}
	if s.store, err = store.Open(ctx, dsn); err != nil {
		s.Close()
		return nil, err
	}
	if c.KeyFile == "" {
		c.KeyFile = filepath.Join(c.Data, "seal.key")
	}
	s.Service, err = service.New(service.Config{Store: s.store, Kinds: kinds, Teach: learn, KeyFile: c.KeyFile, Log: c.Log, Wait: c.Wait,
		Batch: c.Batch, Probation: c.Probation, Widths: c.AtOnce, Drops: c.Drops})
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Start opens everything and listens. The configuration is checked before the port opens.
func Start(ctx context.Context, c Config) (*Server, error) {
	if (c.Certificate == "") != (c.CertificateKey == "") {
		return nil, errors.New("certificate and certificate-key go together; only one is given")
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, err
	}
	cert, err := certificate(c)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen: %w", err)
	}
	s, err := Open(ctx, c)
	if err != nil {
		listener.Close()
		return nil, err
	}
	leaf, err := x509.ParseCertificate(cert.Certificate[0])
	if err != nil {
		listener.Close()
		s.Close()
		return nil, err
	}
	s.Service.TakeOver(ctx)
	s.Service.Begin()
	alive, end := context.WithCancel(context.WithoutCancel(ctx))
	s.end, s.over = end, make(chan struct{})
	go func() { // also without a folder of dialects: the signal must not end the service
		defer close(s.over)
		s.reread(alive, c, s.known)
	}()
	s.Print = client.Fingerprint(leaf)
	s.Address = "https://" + listener.Addr().String()
	s.http = &http.Server{
		Handler: api.New(s.Service, console(), api.Config{Names: names(c, leaf), Metrics: cmp.Or(c.Metrics, "loopback"),
			Log: c.Log, Version: c.Version}),
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{cert}},
		ErrorLog:  slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug), MaxHeaderBytes: 64 << 10,
	}
	go func() {
		if err := s.http.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
	s.Service.Warm(ctx) // who is told that it is ready is answered at once
	return s, nil
}

// names are what the service may be asked for by: what its certificate says, and what is set.
func names(c Config, leaf *x509.Certificate) []string {
	out := []string{}
	for _, n := range append(slices.Clone(leaf.DNSNames), c.Names...) {
		if n == "*" {
			return nil
		}
		out = append(out, strings.ToLower(n))
	}
	for _, ip := range leaf.IPAddresses {
		out = append(out, ip.String())
	}
	return out
}

// Failed tells when the service can no longer listen.
func (s *Server) Failed() <-chan error { return s.failed }

// Close stops in good order: no new requests, batches under way finished, the
// other steps left waiting, then the database.
func (s *Server) Close() {
	if s.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if s.http.Shutdown(ctx) != nil {
			s.http.Close() // those who follow a round do not leave by themselves
		}
	}
	if s.end != nil {
		s.end()
		<-s.over
	}
	if s.Service != nil {
		s.Service.Close()
	}
	if s.store != nil {
		s.store.Close()
	}
	if s.db != nil {
		s.db.Stop()
	}
}

// certificate loads the given certificate, or the one made at the first start.
func certificate(c Config) (tls.Certificate, error) {
	if c.Certificate != "" {
		return tls.LoadX509KeyPair(c.Certificate, c.CertificateKey)
	}
	file, keyFile := filepath.Join(c.Data, "tls.pem"), filepath.Join(c.Data, "tls.key")
	if cert, err := tls.LoadX509KeyPair(file, keyFile); err == nil {
		return cert, nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return tls.Certificate{}, fmt.Errorf("the certificate in %s: %w", c.Data, err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return tls.Certificate{}, err
	}
	name, _ := os.Hostname()
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Hen Roost on " + name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(5, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
		DNSNames: []string{"localhost", name}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	if host, _, err := net.SplitHostPort(c.Listen); err == nil {
		if ip := net.ParseIP(host); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return tls.Certificate{}, err
	}
	if err := os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600); err != nil {
		return tls.Certificate{}, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644); err != nil {
		return tls.Certificate{}, err
	}
	return tls.LoadX509KeyPair(file, keyFile)
}

// console serves the embedded console; every page's address leads to its one document, but for the page of handovers.
func console() http.Handler {
	files := web.Console()
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/")
		page := "index.html"
		if path == "handover" { // those who come there are no operators: they get a small page of its own
			page = "handover.html"
		}
		if info, err := fs.Stat(files, path); err == nil && !info.IsDir() && path != "" {
			if strings.HasPrefix(path, "assets/") { // their names change with their contents
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(path, "assets/") {
			http.NotFound(w, r) // a page in place of a script would only hide that it is missing
			return
		}
		index, err := fs.ReadFile(files, page)
		if err != nil {
			http.Error(w, "this binary was built without the console: make build", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(index)
	})
}
