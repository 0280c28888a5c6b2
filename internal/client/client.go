// Package client calls the API of a Hen Roost service.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
)

// Client calls one service. It is safe for concurrent use.
type Client struct {
	Server string // https://host:port
	Token  string
	http   *http.Client
}

// Problem is what the service says when it does not do something (RFC 9457).
type Problem struct {
	Status  int             `json:"status"`
	Detail  string          `json:"detail"`
	Code    string          `json:"code"`
	Nearest string          `json:"nearest"`
	Faults  declare.Faults  `json:"faults"`
	Clashes []declare.Clash `json:"clashes"`
}

func (p *Problem) Error() string {
	if len(p.Faults) > 0 {
		return p.Faults.Error() + "\n" + p.Detail
	}
	return p.Detail
}

// StrangerError says that the service's certificate is not the one that was
// accepted, or that none was accepted yet.
type StrangerError struct{ Print, Accepted string }

func (e *StrangerError) Error() string {
	if e.Accepted == "" {
		return "the service shows a certificate nobody has accepted yet: " + e.Print
	}
	return fmt.Sprintf("REFUSED: the service shows the certificate %s instead of %s; if it was renewed, sign in again with --fingerprint "+
		"%s", e.Print, e.Accepted, e.Print)
}

// New makes a client. print is the accepted fingerprint of the service's
// certificate; with "" the system's authorities decide.
func New(server, token, print string) *Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = &tls.Config{
		MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // checked below: by fingerprint, or by the system's authorities
		VerifyConnection: func(cs tls.ConnectionState) error { return check(cs, print) },
	}
	t.ResponseHeaderTimeout = 0 // a survey answers when it is done
	return &Client{Server: strings.TrimRight(server, "/"), Token: token, http: &http.Client{Transport: t}}
}

// Close closes connections that nothing is under way on.
func (c *Client) Close() { c.http.CloseIdleConnections() }

func check(cs tls.ConnectionState, accepted string) error {
	leaf := cs.PeerCertificates[0]
	print := Fingerprint(leaf)
	if accepted == print {
		return nil
	}
	if accepted == "" {
		between := x509.NewCertPool()
		for _, c := range cs.PeerCertificates[1:] {
			between.AddCert(c)
		}
		if _, err := leaf.Verify(x509.VerifyOptions{DNSName: cs.ServerName, Intermediates: between}); err == nil {
			return nil
		}
	}
	return &StrangerError{Print: print, Accepted: accepted}
}

// Fingerprint is a certificate's, as it is shown to people.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Get fetches path with a query into out.
func (c *Client) Get(ctx context.Context, path string, q url.Values, out any) error {
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	return c.do(ctx, http.MethodGet, path, nil, out)
}

// Send sends in by the method and reads the answer into out; either may be nil.
func (c *Client) Send(ctx context.Context, method, path string, in, out any) error {
	return c.do(ctx, method, path, in, out)
}

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Server+"/api"+path, body)
	if err != nil {
		return nil, err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	resp, err := c.http.Do(req)
	var stranger *StrangerError
	if errors.As(err, &stranger) {
		return nil, stranger
	}
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, fmt.Errorf("%s does not answer: %w", c.Server, err)
	}
	return resp, nil
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	resp, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return problemOf(resp)
	}
	if out == nil || resp.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.Server, err)
	}
	return nil
}

// Copy writes the answer to a GET as it comes.
func (c *Client) Copy(ctx context.Context, path string, to io.Writer) error {
	resp, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return problemOf(resp)
	}
	_, err = io.Copy(to, resp.Body)
	return err
}

func problemOf(resp *http.Response) error {
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	p := &Problem{Status: resp.StatusCode}
	if json.Unmarshal(b, p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("the service answered %s", resp.Status)
	}
	return p
}

// Events follows server-sent events until they end. Each is handed on by name
// with its data; an error from each ends it. A broken connection is taken up
// again for as long as the service answers within a minute.
func (c *Client) Events(ctx context.Context, path string, each func(event string, data []byte) (over bool, err error)) error {
	for broken := 0; ; broken++ {
		over, err := c.events(ctx, path, func(event string, data []byte) (bool, error) {
			broken = 0
			return each(event, data)
		})
		if over || ctx.Err() != nil {
			return err
		}
		var p *Problem
		if errors.As(err, &p) && p.Status < 500 || broken > 60 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (c *Client) events(ctx context.Context, path string, each func(string, []byte) (bool, error)) (bool, error) {
	resp, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return false, problemOf(resp)
	}
	sc := bufio.NewScanner(resp.Body)
	sc.Buffer(nil, 16<<20)
	event := "message"
	for sc.Scan() {
		line := sc.Text()
		switch {
		case line == "":
			event = "message"
		case strings.HasPrefix(line, "event: "):
			event = line[7:]
		case strings.HasPrefix(line, "data: "):
			if over, err := each(event, []byte(line[6:])); over || err != nil {
				return true, err
			}
		}
	}
	return false, sc.Err()
}
