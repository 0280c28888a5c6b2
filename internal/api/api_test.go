package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/door"
)

func TestProblems(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		code   string
		detail string
	}{
		{&door.Problem{Kind: door.Unknown, Words: "no user", Nearest: "marit"}, 404, "unknown-name", "no user"},
		{&door.Problem{Kind: door.Invalid, Words: "w"}, 422, "invalid", "w"},
		{declare.Faults{{Message: "a"}, {Message: "b"}}, 422, "faulty-declaration", "2 faults in the declaration; nothing was stored"},
		{&door.Problem{Kind: door.Conflict, Words: "w"}, 409, "conflict", "w"},
		{&door.Problem{Kind: door.NotYet, Words: "w"}, 409, "nothing-declared", "w"},
		{&door.Problem{Kind: door.Forbidden, Words: "w"}, 403, "duty-missing", "w"},
		{&door.Problem{Kind: door.SignedOut, Words: "w"}, 401, "not-signed-in", "w"},
		{&door.Problem{Kind: door.TooOften, Words: "w", Retry: 8}, 429, "too-often", "w"},
		{errors.New("dial unix: secret detail"), 503, "database-away",
			"the database does not answer; nothing was changed, try again in a moment"},
	} {
		err := problem(context.Background(), c.err)
		var p *Problem
		if !errors.As(err, &p) || p.Status != c.status || p.Code != c.code || p.Detail != c.detail ||
			p.Title != http.StatusText(c.status) || p.ContentType("") != "application/problem+json" {
			t.Errorf("%v: %+v", c.err, p)
		}
		b, _ := json.Marshal(p)
		if strings.Contains(string(b), "secret detail") {
			t.Errorf("the cause is told to whoever asks: %s", b)
		}
		w := httptest.NewRecorder()
		writeProblem(w, door.ProblemOf(c.err))
		if w.Code != c.status || w.Header().Get("Content-Type") != "application/problem+json" ||
			(p.Retry > 0) != (w.Header().Get("Retry-After") != "") {
			t.Errorf("%v: %d %v", c.err, w.Code, w.Header())
		}
	}
	if problem(context.Background(), nil) != nil {
		t.Error("no error became one")
	}
	p := huma.NewError(422, "validation failed", &huma.ErrorDetail{Message: "expected string", Location: "body.password",
		Value: "hunter2"}, errors.New("x"))
	if got := p.Error(); strings.Contains(got, "hunter2") || got != "validation failed; body.password: expected string; x" {
		t.Errorf("%s", got)
	}
}

// The document names every operation, says what can go wrong, and never lets a list be null.
func TestDocument(t *testing.T) {
	b, err := Routes(chi.NewRouter(), nil, "7").OpenAPI().MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		OpenAPI string
		Info    struct{ Title, Version string }
		Paths   map[string]map[string]struct {
			OperationID, Summary string
			Responses            map[string]any
		}
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		t.Fatal(err)
	}
	if doc.OpenAPI != "3.1.0" || doc.Info.Title != "Hen Roost" || doc.Info.Version != "7" || len(doc.Paths) < 25 {
		t.Errorf("%s %+v, %d paths", doc.OpenAPI, doc.Info, len(doc.Paths))
	}
	seen := map[string]bool{}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			if op.OperationID == "" || op.Summary == "" || seen[op.OperationID] || !strings.HasPrefix(path, "/api/") {
				t.Errorf("%s %s: %+v", method, path, op)
			}
			seen[op.OperationID] = true
			for _, status := range []string{"401", "403", "404", "409", "422", "503"} {
				if op.Responses[status] == nil {
					t.Errorf("%s does not say what %s means", op.OperationID, status)
				}
			}
		}
	}
	if bytes.Contains(b, []byte(`"null"`)) {
		t.Error("something may be null")
	}
}

func TestMiddleware(t *testing.T) {
	var log bytes.Buffer
	l := slog.New(slog.NewTextHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	r := chi.NewRouter()
	r.Use(logged(l, newMetrics()), recovered(l), headers)
	r.With(sameOrigin).Post("/api/x", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) })
	r.Get("/api/panic", func(http.ResponseWriter, *http.Request) { panic("boom") })
	ask := func(method, path string, header ...string) *httptest.ResponseRecorder {
		req := httptest.NewRequest(method, path, nil)
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		r.ServeHTTP(w, req)
		return w
	}
	if w := ask("POST", "/api/x?password=hunter2"); w.Code != 204 || w.Header().Get("Cache-Control") != "no-store" {
		t.Errorf("%d %v", w.Code, w.Header())
	}
	if strings.Contains(log.String(), "hunter2") || !strings.Contains(log.String(), "route=/api/x status=204") {
		t.Errorf("the log: %s", log.String())
	}
	for _, foreign := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Origin", "https://elsewhere.example"}} {
		if w := ask("POST", "/api/x", foreign...); w.Code != 403 || !strings.Contains(w.Body.String(), "another origin") {
			t.Errorf("%v: %d %s", foreign, w.Code, w.Body)
		}
	}
	if w := ask("GET", "/api/panic"); w.Code != 500 || strings.Contains(w.Body.String(), "boom") ||
		!strings.Contains(log.String(), "boom") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}
