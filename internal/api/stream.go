package api

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
)

// Streams (server-sent events) last as long as who asked for them may look: a
// stream ends with its operator, their duty and their session. What is wrong
// before it begins is answered as for any other operation.

const (
	streamsMost = 8                // of one operator at once
	askAgain    = 5 * time.Second  // how often it is asked whether the operator may still look
	sayAgain    = 10 * time.Second // say something, so that a dead connection is noticed
)

func init() {
	// Over HTTP/2 a deadline for writing cuts a stream that has nothing to say: it must outlast the silence between two beats.
	sse.WriteTimeout = 6 * sayAgain
}

// streams counts those under way by operator.
type streams struct {
	mu sync.Mutex
	n  map[string]int
}

func (s *streams) take(operator string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.n == nil {
		s.n = map[string]int{}
	}
	if s.n[operator] >= streamsMost {
		return false
	}
	s.n[operator]++
	return true
}

func (s *streams) give(operator string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.n[operator]--; s.n[operator] <= 0 {
		delete(s.n, operator)
	}
}

// streaming makes an operation answer, before its stream begins, what first finds wrong.
func (h *handlers) streaming(o huma.Operation, first func(ctx context.Context, param func(string) string) error) huma.Operation {
	o.Middlewares = append(o.Middlewares, func(hc huma.Context, next func(huma.Context)) {
		asks := who(hc.Context())
		if err := first(hc.Context(), hc.Param); err != nil {
			refuse(hc, door.ProblemOf(err))
			return
		}
		if !h.open.take(asks.Name) {
			refuse(hc, &door.Problem{Kind: door.TooOften, Retry: 30,
				Words: "you follow as much as one operator may at once already; end something of it first"})
			return
		}
		defer h.open.give(asks.Name)
		next(hc)
	})
	return o
}

func refuse(hc huma.Context, p *door.Problem) {
	d := document(p)
	hc.SetHeader("Content-Type", "application/problem+json")
	for k, v := range d.GetHeaders() {
		hc.SetHeader(k, v[0])
	}
	hc.SetStatus(d.Status)
	_ = json.NewEncoder(hc.BodyWriter()).Encode(d)
}

// watcher tells, now and then, whether who asked for a stream may still look.
type watcher struct {
	h     *handlers
	asked time.Time
}

func (w *watcher) may(ctx context.Context) error {
	if time.Since(w.asked) < askAgain {
		return nil
	}
	w.asked = time.Now()
	o, err := w.h.Who(ctx, credential(ctx))
	if err == nil {
		err = o.May(door.Look)
	}
	return err
}

// watch sends what happens, as it does, until the caller leaves.
func (h *handlers) watch(ctx context.Context, _ *struct{}, send sse.Sender) {
	var last service.Watched
	asks := watcher{h, time.Now()}
	said := time.Now()
	for first := true; ; first = false {
		now, err := h.Watch(ctx, who(ctx), last)
		if may := asks.may(ctx); may != nil {
			err = may
		}
		if err != nil {
			if ctx.Err() == nil {
				_ = send.Data(*document(door.ProblemOf(err)))
			}
			return
		}
		news := len(now.Entries)+len(now.Targets) > 0 || len(now.Rounds) > 0 || len(last.Rounds) > 0
		if first || news || time.Since(said) > sayAgain {
			if send.Data(now) != nil {
				return
			}
			said = time.Now()
		}
		last = now
		if !now.More() && !pause(ctx, watchEvery) {
			return
		}
	}
}

const (
	watchEvery  = 500 * time.Millisecond
	followEvery = 250 * time.Millisecond
)

// follow sends a round's counts whenever they change, and ends when it does.
// It asks the database rather than this process, since another may carry the round.
func (h *handlers) follow(ctx context.Context, in *roundRequest, send sse.Sender) {
	last, asks, said := -1, watcher{h, time.Now()}, time.Time{}
	for {
		r, err := h.Round(ctx, who(ctx), in.ID)
		if may := asks.may(ctx); may != nil {
			err = may
		}
		if err != nil {
			_ = send.Data(*document(door.ProblemOf(err)))
			return
		}
		ended := 0
		for _, t := range r.Targets {
			ended += t.Ended
		}
		over := r.EndedAt != nil || r.State != rounds.Running && r.State != rounds.Stopped
		if ended != last || over || time.Since(said) > sayAgain {
			if send.Data(r) != nil {
				return
			}
			last, said = ended, time.Now()
		}
		if over || !pause(ctx, followEvery) {
			return
		}
	}
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// bodies bounds what is in memory of all requests' bodies together.
type bodies struct {
	mu   sync.Mutex
	left int64
}

// What is read of a body is in memory more than once while it is taken apart.
const (
	bodiesMost = 384 << 20 // bytes of memory for all of them together
	bodyWeight = 5         // what a byte of a body takes
)

func (b *bodies) take(n int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if n > b.left {
		return false
	}
	b.left -= n
	return true
}

func (b *bodies) give(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.left += n
}

// openPaths are what those may ask for who have not signed in; no operation among
// them reads more than strangersMost.
var openPaths = map[string]bool{"/api/session": true, "/api/openapi.json": true, "/api/openapi.yaml": true,
	"/api/collect": true, "/api/collect/look": true, "/api/authority": true, "/api/authority/withdrawn": true}

const strangersMost = 16 << 10

// signedIn refuses whoever is nobody before a byte of what they send is read,
// but for signing in.
func signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if who(r.Context()).Name == "" && !openPaths[r.URL.Path] {
			w.Header().Set("Connection", "close") // whatever they go on sending
			writeProblem(w, &door.Problem{Kind: door.SignedOut, Words: "you are not signed in, or no longer: roost sign-in"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

// roomFor refuses what together would be more than there is room for.
func roomFor(room *bodies) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			n := min(r.ContentLength, maxDeclaration)
			if n < 0 {
				n = maxDeclaration // it does not say how much is to come
			}
			if who(r.Context()).Name == "" {
				n = min(n, strangersMost)
			}
			n *= bodyWeight
			if !room.take(n) {
				w.Header().Set("Connection", "close")
				writeProblem(w, &door.Problem{Kind: door.Away, Retry: 5,
					Words: "more is being sent to the service at this moment than it has room for; nothing was changed, try again in a " +
						"moment"})
				return
			}
			defer room.give(n)
			next.ServeHTTP(w, r)
		})
	}
}
