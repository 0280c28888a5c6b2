package test

import (
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"strings"
	"testing"
)

// What is open to whoever asks takes little, tells little, and keeps nobody waiting.
func TestCollectIsOpen(t *testing.T) {
	d := prepared(t)
	c := calling(t, d)
	for _, x := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"POST", "/api/collect/look", `{"link":"ABCDEFGHIJKLMNOPQRSTUVWXYZ"}`, http.StatusNotFound, "nothing waits behind this link"},
		{"POST", "/api/collect", `{"link":"ABCDEFGHIJKLMNOPQRSTUVWXYZ","code":"123456"}`, http.StatusNotFound,
			"nothing waits behind this link"},
		{"POST", "/api/collect", `{"link":"` + strings.Repeat("A", 101) + `","code":"1"}`, http.StatusUnprocessableEntity, "length"},
		{"POST", "/api/collect", `{"link":"A"}`, http.StatusUnprocessableEntity, "code"},
		{"POST", "/api/collect", `{"link":"A","code":"1","user":"marit.fell"}`, http.StatusUnprocessableEntity, "user"},
		{"POST", "/api/collect", `{"link":"` + strings.Repeat("A", 5000) + `"}`, http.StatusRequestEntityTooLarge, ""},
		{"GET", "/api/collect", "", http.StatusUnauthorized, ""},
		{"POST", "/api/handovers/1/show", "", http.StatusUnauthorized, ""},
		{"GET", "/api/handovers", "", http.StatusUnauthorized, ""},
	} {
		status, text, header := c.call(x.method, x.path, "", x.body)
		if x.method == "GET" && status == http.StatusMethodNotAllowed {
			continue
		}
		if status != x.status || !strings.Contains(text, x.says) || header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s %s %.60s: %d %s %s", x.method, x.path, x.body, status, header.Get("Cache-Control"), text)
		}
	}
	for path, kind := range map[string]string{"/api/authority": "CERTIFICATE", "/api/authority/withdrawn": "X509 CRL"} {
		_, text, _ := c.call("GET", path, "", "")
		block, rest := pem.Decode([]byte(text))
		if block == nil || block.Type != kind || len(rest) > 0 || strings.Contains(text, "PRIVATE") {
			t.Errorf("%s: %s", path, text)
			continue
		}
		if kind == "CERTIFICATE" {
			if a, err := x509.ParseCertificate(block.Bytes); err != nil || !a.IsCA || !a.MaxPathLenZero {
				t.Errorf("%+v %v", a, err)
			}
		}
	}
	if status, text, _ := c.call("GET", "/handover", "", ""); status != http.StatusOK || !strings.Contains(text,
		"<title>Handover</title>") {
		t.Errorf("%d %s", status, text)
	}
}
