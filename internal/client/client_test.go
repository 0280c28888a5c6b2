package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
)

var ctx = context.Background()

func serve(t *testing.T, h http.HandlerFunc) (*httptest.Server, string) {
	t.Helper()
	s := httptest.NewTLSServer(h)
	t.Cleanup(s.Close)
	return s, Fingerprint(s.Certificate())
}

func TestStrangers(t *testing.T) {
	asked := 0
	s, print := serve(t, func(w http.ResponseWriter, _ *http.Request) { asked++; w.Write([]byte(`{}`)) })
	var stranger *StrangerError
	if err := New(s.URL, "secret-token", "").Get(ctx, "/x", nil, nil); !errors.As(err, &stranger) || stranger.Print != print ||
		stranger.Accepted != "" || !strings.Contains(err.Error(), "nobody has accepted yet") {
		t.Errorf("%v", err)
	}
	if err := New(s.URL, "secret-token", "SHA256:other").Get(ctx, "/x", nil, nil); !errors.As(err, &stranger) ||
		!strings.Contains(err.Error(), "REFUSED") {
		t.Errorf("%v", err)
	}
	if asked != 0 {
		t.Error("a stranger was sent something")
	}
	if err := New(s.URL+"/", "t", print).Get(ctx, "/x", nil, nil); err != nil || asked != 1 {
		t.Errorf("%v", err)
	}
}

func TestRequests(t *testing.T) {
	var got *http.Request
	var sent map[string]string
	s, print := serve(t, func(w http.ResponseWriter, r *http.Request) {
		got, sent = r, nil
		_ = json.NewDecoder(r.Body).Decode(&sent)
		switch r.URL.Path {
		case "/api/none":
			w.WriteHeader(http.StatusNoContent)
		case "/api/broken":
			w.Write([]byte("<html>"))
		case "/api/problem":
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(422)
			w.Write([]byte(`{"status":422,"detail":"1 fault in the declaration","code":"faulty-declaration","faults":[{"at":{"file":"a.yaml","line":3,"column":5},"message":"unknown key","line":"  x: y"}]}`))
		case "/api/proxy":
			http.Error(w, "bad gateway", 502)
		default:
			w.Write([]byte(`{"name":"Marit"}`))
		}
	})
	c := New(s.URL, "t0ken", print)
	var out struct{ Name string }
	if err := c.Get(ctx, "/users", url.Values{"text": {"å&b"}}, &out); err != nil || out.Name != "Marit" ||
		got.URL.Query().Get("text") != "å&b" || got.Header.Get("Authorization") != "Bearer t0ken" {
		t.Errorf("%v %+v", err, out)
	}
	if err := c.Send(ctx, http.MethodPut, "/none", map[string]string{"a": "b"}, &out); err != nil || got.Method != "PUT" ||
		sent["a"] != "b" || got.Header.Get("Content-Type") != "application/json" {
		t.Errorf("%v %v", err, sent)
	}
	if err := c.Get(ctx, "/broken", nil, &out); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Error(err)
	}
	var p *Problem
	if err := c.Get(ctx, "/problem", nil, &out); !errors.As(err, &p) || p.Status != 422 ||
		err.Error() != "a.yaml:3:5: unknown key\n      3 |   x: y\n1 fault in the declaration" {
		t.Errorf("%v", err)
	}
	if err := c.Get(ctx, "/proxy", nil, &out); !errors.As(err, &p) || p.Detail != "the service answered 502 Bad Gateway" {
		t.Errorf("%v", err)
	}
	s.Close()
	if err := c.Get(ctx, "/users", nil, nil); err == nil || !strings.Contains(err.Error(), "does not answer") ||
		strings.Contains(err.Error(), "t0ken") {
		t.Errorf("%v", err)
	}
}

// Events that break off are taken up again, until they say that they are over.
func TestEvents(t *testing.T) {
	calls := 0
	s, print := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		if calls++; calls == 1 {
			fmt.Fprint(w, "event: round\ndata: 1\n\n: a comment\nid: 4\ndata: plain\n\n")
			return // and hangs up
		}
		fmt.Fprint(w, "event: round\ndata: 2\n\nevent: round\ndata: 3\n\n")
	})
	var got []string
	err := New(s.URL, "", print).Events(ctx, "/rounds/1/events", func(event string, data []byte) (bool, error) {
		got = append(got, event+" "+string(data))
		return string(data) == "2", nil
	})
	if want := "round 1; message plain; round 2"; err != nil || strings.Join(got, "; ") != want || calls != 2 {
		t.Errorf("%v %v in %d calls", err, got, calls)
	}
	stop := errors.New("stop")
	if err := New(s.URL, "", print).Events(ctx, "/x", func(string, []byte) (bool, error) { return false, stop }); !errors.Is(err, stop) {
		t.Error(err)
	}
	refused, print2 := serve(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403); fmt.Fprint(w, `{"detail":"no"}`) })
	if err := New(refused.URL, "", print2).Events(ctx, "/x", func(string, []byte) (bool, error) { return true, nil }); err == nil ||
		err.Error() != "no" {
		t.Error(err)
	}
}
