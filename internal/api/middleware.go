package api

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
)

// cookieName begins with __Host-, so that a browser takes it only over TLS and only from us (RFC 6265bis §4.1.3).
const cookieName = "__Host-roost"

type ctxKey int

const (
	whoKey ctxKey = iota
	credentialKey
	addressKey
)

func who(ctx context.Context) door.Operator {
	o, _ := ctx.Value(whoKey).(door.Operator)
	return o
}

func credential(ctx context.Context) string { s, _ := ctx.Value(credentialKey).(string); return s }
func address(ctx context.Context) string    { s, _ := ctx.Value(addressKey).(string); return s }

// known finds out who asks, by API token or session cookie. Those who are
// nobody may go on: the service refuses them what needs a duty.
func known(s *service.Service) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			ctx := r.Context()
			host, _, _ := net.SplitHostPort(r.RemoteAddr)
			ctx = context.WithValue(ctx, addressKey, host)
			secret, fromHeader := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
			if c, err := r.Cookie(cookieName); !fromHeader && err == nil {
				secret = c.Value
			}
			if secret != "" {
				o, err := s.Who(ctx, secret)
				p := door.ProblemOf(err)
				if err != nil && p.Kind != door.SignedOut {
					writeProblem(w, p)
					return
				}
				if err == nil {
					ctx = context.WithValue(context.WithValue(ctx, whoKey, o), credentialKey, secret)
				}
			}
			next.ServeHTTP(w, r.WithContext(ctx))
		})
	}
}

// named refuses requests that are meant for somebody else: a name of an
// attacker's that leads to our address makes a browser think that we are theirs.
func named(names []string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			host := r.Host
			if h, _, err := net.SplitHostPort(host); err == nil {
				host = h
			}
			host = strings.ToLower(strings.Trim(strings.TrimSuffix(host, "."), "[]"))
			if len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool {
				return n == host || strings.HasPrefix(n, "*.") &&
					strings.HasSuffix(host, n[1:])
			}) {
				p := document(&door.Problem{Kind: door.Forbidden,
					Words: "this service is not called so; the setting names says what it is called"})
				p.Status, p.Title = http.StatusMisdirectedRequest, http.StatusText(http.StatusMisdirectedRequest)
				writeDocument(w, p)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// forMetrics lets those read /metrics who may.
func forMetrics(whom string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		ip := net.ParseIP(host)
		if whom == "everybody" || whom == "loopback" && ip != nil && ip.IsLoopback() {
			next.ServeHTTP(w, r)
			return
		}
		writeProblem(w, &door.Problem{Kind: door.Forbidden, Words: "the setting metrics says who may read this, and from where: " +
			whom})
	})
}

// sameOrigin refuses what a page of somebody else's asks a browser to send.
func sameOrigin(next http.Handler) http.Handler {
	guard := http.NewCrossOriginProtection()
	guard.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, &door.Problem{Kind: door.Forbidden, Words: "this came from a page of another origin; it was refused"})
	}))
	return guard.Handler(next)
}

// headers keep browsers from being helpful to anybody but the operator.
func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors "+
			"'none'; base-uri 'none'; form-action 'self'")
		h.Set("Strict-Transport-Security", "max-age=31536000")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

func recovered(log *slog.Logger) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			defer func() {
				if v := recover(); v != nil && v != http.ErrAbortHandler {
					log.Error("panic", "path", r.URL.Path, "value", v, "stack", string(debug.Stack()))
					writeProblem(w, &door.Problem{Kind: door.Unexpected,
						Words: "something went wrong inside Hen Roost; its log says what"})
				}
			}()
			next.ServeHTTP(w, r)
		})
	}
}

// logged writes one line a request, and counts it. The query is left out: names are nobody's business in a log.
func logged(log *slog.Logger, m *metrics) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			began := time.Now()
			ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
			next.ServeHTTP(ww, r)
			route := chi.RouteContext(r.Context()).RoutePattern()
			if route == "" {
				route = "console"
			}
			m.took.WithLabelValues(methodOf(r), route, http.StatusText(ww.Status())).Observe(time.Since(began).Seconds())
			level := slog.LevelDebug
			switch {
			case r.Context().Err() != nil: // whoever asked has gone
			case ww.Status() == http.StatusServiceUnavailable:
				level = slog.LevelWarn
			case ww.Status() >= 500:
				level = slog.LevelError
			}
			log.Log(r.Context(), level, "request", "method", r.Method, "route", route, "status", ww.Status(), "took", time.Since(began))
		})
	}
}

// methodOf is a request's method as far as there are such: what a label holds must be bounded.
func methodOf(r *http.Request) string {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return r.Method
	}
	return "other"
}

func ready(s *service.Service) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
		defer cancel()
		if err := s.Ready(ctx); err != nil {
			http.Error(w, door.ProblemOf(err).Words, http.StatusServiceUnavailable)
			return
		}
		w.Write([]byte("ready\n"))
	}
}
