// Package api puts HTTP in front of service: chi routes, an OpenAPI 3.1
// document made from the same types, sign-in by cookie or token, problems by
// RFC 9457. Each operation decodes, calls one method of service, and encodes;
// duties are enforced there.
package api

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
)

// Config says how the API is served.
type Config struct {
	Names   []string // that the service may be asked for by, in the Host header; nil: by any
	Metrics string   // who may read /metrics: "loopback", "everybody" or "nobody"
	Log     *slog.Logger
	Version string
}

// New returns the handler for everything that is served: the API under /api,
// the console for all else.
func New(s *service.Service, console http.Handler, c Config) http.Handler {
	m := newMetrics()
	m.registry.MustRegister(working{s.Work})
	room := &bodies{left: bodiesMost}
	r := chi.NewRouter()
	r.Use(logged(c.Log, m), recovered(c.Log), headers, named(c.Names))
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("ok\n")) })
	r.Get("/readyz", ready(s))
	r.Method(http.MethodGet, "/metrics", forMetrics(c.Metrics, promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})))
	r.Group(func(r chi.Router) {
		r.Use(sameOrigin, known(s), signedIn, roomFor(room))
		Routes(r, s, c.Version)
	})
	r.Route(scimAt, func(r chi.Router) {
		r.Use(known(s), roomFor(room))
		pushing(r, s)
	})
	r.NotFound(func(w http.ResponseWriter, q *http.Request) {
		if len(q.URL.Path) >= 5 && q.URL.Path[:5] == "/api/" {
			writeProblem(w, &door.Problem{Kind: door.Unknown, Words: "no such operation; /api/openapi.json lists them all"})
			return
		}
		console.ServeHTTP(w, q)
	})
	return r
}

// Routes registers every operation and returns the API, whose document the
// console's client is made from. s may be nil to make only the document.
func Routes(r chi.Router, s *service.Service, version string) huma.API {
	conf := huma.DefaultConfig("Hen Roost", version)
	conf.OpenAPIPath, conf.DocsPath, conf.SchemasPath = "/api/openapi", "", ""
	conf.CreateHooks = nil // no $schema in answers
	conf.RejectUnknownQueryParameters = true
	conf.Info.Description = "Declare users, groups and roles once; Hen Roost brings them to every target and tells what differs."
	conf.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer", Description: "an API token, from roost sign-in or roost token"},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName, Description: "the console's session"},
	}
	conf.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	api := humachi.New(r, conf)
	h := &handlers{Service: s}
	h.signIn(api)
	h.declaration(api)
	h.hosts(api)
	h.users(api)
	h.life(api)
	h.people(api)
	h.credentials(api)
	h.exchange(api)
	h.targets(api)
	h.drift(api)
	h.rounds(api)
	h.record(api)
	h.operators(api)
	h.intakes(api)
	return api
}

type handlers struct {
	*service.Service
	open streams
}

// body is an answer with a JSON body.
type body[T any] struct{ Body T }

// What an operation asks of whoever calls it, where it is no duty.
const (
	open   door.Duty = "open to all"
	anyone door.Duty = "any operator"
)

// op registers one operation with the duty that it needs. Its handler gets the
// operator who asks, and who has it.
func op[I, O any](api huma.API, duty door.Duty, method, path, id, summary string,
	do func(ctx context.Context, who door.Operator, in *I) (O, error)) {
	huma.Register(api, operation(duty, method, path, id, summary), func(ctx context.Context, in *I) (*body[O], error) {
		if err := may(ctx, duty); err != nil {
			return nil, problem(ctx, err)
		}
		out, err := do(ctx, who(ctx), in)
		if err != nil {
			return nil, problem(ctx, err)
		}
		return &body[O]{out}, nil
	})
}

// act registers an operation that answers with nothing but success.
func act[I any](api huma.API, duty door.Duty, method, path, id, summary string,
	do func(ctx context.Context, who door.Operator, in *I) error) {
	o := operation(duty, method, path, id, summary)
	o.DefaultStatus = http.StatusNoContent
	huma.Register(api, o, func(ctx context.Context, in *I) (*struct{}, error) {
		if err := may(ctx, duty); err != nil {
			return nil, problem(ctx, err)
		}
		return nil, problem(ctx, do(ctx, who(ctx), in))
	})
}

// may says whether whoever asks has a duty. The service asks once more.
func may(ctx context.Context, duty door.Duty) error {
	if duty == open || duty == anyone {
		return nil
	}
	return who(ctx).May(duty)
}

func operation(duty door.Duty, method, path, id, summary string) huma.Operation {
	return huma.Operation{Method: method, Path: "/api" + path, OperationID: id, Summary: summary, MaxBodyBytes: 1 << 20,
		BodyReadTimeout: 30 * time.Second,
		Extensions:      map[string]any{"x-duty": string(duty)},
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict,
			http.StatusUnprocessableEntity, http.StatusServiceUnavailable}}
}

// Paging is how every list is asked for in parts.
type Paging struct {
	From int `query:"from" minimum:"0" doc:"how many to pass over"`
	Size int `query:"size" minimum:"0" maximum:"1000" doc:"how many at most; 0 means 100"`
}

// Following asks for the page behind another, by what that one named as next: it
// costs what is on it, however far back it is.
type Following struct {
	After string `query:"after" doc:"next of the page before; empty: the first page"`
	Size  int    `query:"size" minimum:"0" maximum:"1000" doc:"how many at most; 0 means 100"`
}

func (p Paging) page() door.Page { return door.Page{From: p.From, Size: p.Size} }
