// Package service is what can be asked of Hen Roost, one method a verb. Its
// rooms stand on each other, each in its folder: life on rounds on seen on declared on
// door. Together they are the only place that joins core, store and work.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"os"
	"sync/atomic"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// Config is what a Service is made of.
type Config struct {
	Store     *store.Store
	Kinds     connect.Kinds
	KeyFile   string // seals the secrets; made when it is not there
	Log       *slog.Logger
	Clock     func() time.Time // nil: the system's
	Wait      time.Duration    // patience with targets; 0: the connectors' own
	Width     int              // targets at once; 0: 12
	Batch     int              // steps in a batch; 0: 250
	Widths    map[string]int   // targets of a kind at once, where fewer than Width
	Probation time.Duration    // see foureyes.go; 0: seven days
	Teach     connect.Teach    // makes a connector of a file that is to be tried; nil: nobody can
	Drops     string           // the folder into which systems drop files with people; "": there is none
}

// Service answers for Hen Roost. It is safe for concurrent use.
type Service struct {
	*life.Life
	Intake *intake.Intake
	warm   atomic.Bool // the declaration was read once
	look   door.Shared[Overview]
	end    context.CancelFunc
}

// New makes a service. It does nothing of its own accord until Begin.
func New(c Config) (*Service, error) {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	alive, end := context.WithCancel(context.Background())
	d, err := door.New(door.Config{Store: c.Store, KeyFile: c.KeyFile, Log: c.Log, Clock: c.Clock, Life: alive, Probation: c.Probation})
	if err != nil {
		end()
		return nil, err
	}
	host, _ := os.Hostname()
	s := seen.New(declared.New(d, c.Kinds.Schemas()), seen.Config{Kinds: c.Kinds, Teach: c.Teach, Wait: c.Wait, Width: cmp.Or(c.Width, 12),
		Owner: fmt.Sprintf("%.60s-%s", host, rand.Text()[:12])})
	r := rounds.New(s, rounds.Config{Batch: cmp.Or(c.Batch, 250), Widths: c.Widths})
	return &Service{Life: life.New(r), Intake: intake.New(s.Declared, alive, r.Once, c.Drops), end: end}, nil
}

// TakeOver approves the guarded settings of a declaration that an earlier version stored, as they stand. It is called before Begin.
func (s *Service) TakeOver(ctx context.Context) {
	if err := s.Life.TakeOver(ctx, seen.PlaceOf); err != nil {
		s.Log.Error("guarded settings were not taken over; targets stay unapproved until they are", "error", err)
	}
}

// Begin does what is to be done until the service is closed.
func (s *Service) Begin() {
	s.Life.Begin()
	s.Intake.Begin()
}

// Close stops taking up work, finishes the batches under way, and leaves the
// other steps waiting for the next service.
func (s *Service) Close() {
	s.end()
	s.Drain()
}

// Ready says whether the service can answer: its database does, and the
// declaration was read once.
func (s *Service) Ready(ctx context.Context) error {
	if !s.warm.Load() {
		return &door.Problem{Kind: door.Away, Words: "the declaration is being read", Retry: 2}
	}
	return s.Store.Ping(ctx)
}

// Warm reads the declaration, so that the first who ask need not wait for it.
func (s *Service) Warm(ctx context.Context) {
	if _, err := s.Current(ctx); err != nil && door.ProblemOf(err).Kind != door.NotYet {
		s.Log.Error("the declaration cannot be read", "error", err)
	}
	s.warm.Store(true)
}

// Work is what there is and what is under way, in figures for /metrics. It names nobody.
type Work = store.Work

// Work counts it.
func (s *Service) Work(ctx context.Context) (Work, error) { return s.Store.Work(ctx) }
