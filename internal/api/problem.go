package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/door"
)

// Problem is a problem document (RFC 9457). Code is stable; programs may rely on it.
type Problem struct {
	Type    string          `json:"type" example:"about:blank"`
	Title   string          `json:"title"`
	Status  int             `json:"status"`
	Detail  string          `json:"detail"`
	Code    string          `json:"code"`
	Field   string          `json:"field,omitempty"`
	Nearest string          `json:"nearest,omitempty"`
	Retry   int             `json:"retry,omitempty"`
	Faults  declare.Faults  `json:"faults,omitempty"`
	Clashes []declare.Clash `json:"clashes,omitempty" doc:"what somebody else changed meanwhile in another way, with both sides"`
}

func (p *Problem) Error() string             { return p.Detail }
func (p *Problem) GetStatus() int            { return p.Status }
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// GetHeaders tells when to come back (RFC 9110 §10.2.3).
func (p *Problem) GetHeaders() http.Header {
	if p.Retry == 0 {
		return nil
	}
	return http.Header{"Retry-After": {strconv.Itoa(p.Retry)}}
}

var statusOf = map[door.Kind]int{
	door.Unknown: http.StatusNotFound, door.Invalid: http.StatusUnprocessableEntity, door.Faulty: http.StatusUnprocessableEntity,
	door.Conflict: http.StatusConflict, door.NotYet: http.StatusConflict, door.Forbidden: http.StatusForbidden,
	door.PasswordNeeded: http.StatusForbidden,
	door.SignedOut:      http.StatusUnauthorized, door.TooOften: http.StatusTooManyRequests, door.Away: http.StatusServiceUnavailable,
	door.Unexpected: http.StatusInternalServerError,
}

// problem turns an error of the service into a problem document. What is not
// meant for people goes to the log only.
func problem(_ context.Context, err error) error {
	if err == nil {
		return nil
	}
	p := document(door.ProblemOf(err))
	if errors.Is(err, context.Canceled) { // whoever asked has gone, and reads no answer
		p.Status = http.StatusRequestTimeout // for the log
	}
	if p.Status >= http.StatusInternalServerError {
		slog.Error("request failed", "error", err)
	}
	if h := p.GetHeaders(); h != nil {
		return huma.ErrorWithHeaders(p, h)
	}
	return p
}

func document(p *door.Problem) *Problem {
	status := statusOf[p.Kind]
	return &Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: p.Words, Code: string(p.Kind),
		Field: p.Field, Nearest: p.Nearest, Retry: p.Retry, Faults: p.Faults, Clashes: p.Clashes}
}

func writeProblem(w http.ResponseWriter, p *door.Problem) { writeDocument(w, document(p)) }

func writeDocument(w http.ResponseWriter, d *Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	for k, v := range d.GetHeaders() {
		w.Header()[k] = v
	}
	w.WriteHeader(d.Status)
	_ = json.NewEncoder(w).Encode(d)
}

func init() {
	huma.DefaultArrayNullable = false // a list that is empty is an empty list

	// The framework's own refusals (a missing field, a wrong type) take the
	// same shape, and never echo what was sent: it may hold a password.
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		p := &Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: msg, Code: string(door.Invalid)}
		for _, err := range errs {
			if d, ok := err.(huma.ErrorDetailer); ok {
				p.Detail += "; " + d.ErrorDetail().Location + ": " + d.ErrorDetail().Message
			} else if err != nil {
				p.Detail += "; " + err.Error()
			}
		}
		return p
	}
}
