// Package service is what can be asked of Hen Roost, one method a verb. It is
// the only place that joins core, store and work, and the place where duties
// are enforced: every method that acts for somebody takes that Operator first.
package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash/maphash"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
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
	Alone     bool             // operators may lift holds on rounds they drafted themselves: for very small teams
}

// Service answers for Hen Roost. It is safe for concurrent use.
type Service struct {
	Config
	seal    *sealer
	signer  *signer
	schemas map[string]model.Schema
	runner  *work.Runner

	known sync.Map     // by target: what comparisons found right
	seed  maphash.Seed // of its hashes

	mu    sync.Mutex
	plans map[string]*current // the resolved declaration, by day; one day is kept

	ctx      context.Context // ends when the service stops
	cancel   context.CancelFunc
	carrying sync.WaitGroup
	busy     sync.Map      // targets on which this process carries steps, and other work that goes on once
	warm     atomic.Bool   // the declaration was read once
	aside    atomic.Int64  // how much of that other work is under way
	slots    *slots        // how many of them at once
	wake     chan struct{} // there may be something to carry
}

// current is the newest revision, read and resolved for a day.
type current struct {
	revision int
	made     store.Revision // without its text
	pieced   bool           // its text is stored in pieces
	declared *model.Declaration
	source   *declare.Source
	plan     *resolve.Plan
}

// New makes a service. It does nothing of its own accord until Begin.
func New(c Config) (*Service, error) {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	if c.Width == 0 {
		c.Width = 12
	}
	if c.Batch == 0 {
		c.Batch = 250
	}
	if c.Probation == 0 {
		c.Probation = defaultProbation
	}
	seal, err := openSealer(c.KeyFile)
	if err != nil {
		return nil, err
	}
	signer, err := openSigner(filepath.Dir(c.KeyFile))
	if err != nil {
		return nil, err
	}
	s := &Service{Config: c, seal: seal, signer: signer, schemas: c.Kinds.Schemas(), seed: maphash.MakeSeed(), plans: map[string]*current{}}
	s.slots, s.wake = newSlots(c.Width, c.Widths), make(chan struct{}, 1)
	s.ctx, s.cancel = context.WithCancel(context.Background())
	host, _ := os.Hostname()
	s.runner = &work.Runner{Owner: fmt.Sprintf("%.60s-%s", host, rand.Text()[:12]), Journal: journal{s}, Reach: s.reach, Unseal: s.unseal,
		Log: c.Log, Batch: c.Batch}
	return s, nil
}

// Begin carries rounds, those too that another service left unfinished, and does
// what is to be done at its time, while the service lives.
func (s *Service) Begin() {
	s.carrying.Go(s.carryAll)
	s.carrying.Go(s.keepTime)
}

// Close stops taking up work, finishes the batches under way, and leaves the
// other steps waiting for the next service.
func (s *Service) Close() {
	s.cancel()
	s.carrying.Wait()
}

func (s *Service) now() time.Time { return s.Clock().UTC() }

// Ready says whether the service can answer: its database does, and the
// declaration was read once.
func (s *Service) Ready(ctx context.Context) error {
	if !s.warm.Load() {
		return &Problem{Kind: Away, Words: "the declaration is being read", Retry: 2}
	}
	return s.Store.Ping(ctx)
}

// Warm reads the declaration, so that the first who ask need not wait for it.
func (s *Service) Warm(ctx context.Context) {
	if _, err := s.current(ctx); err != nil && ProblemOf(err).Kind != NotYet {
		s.Log.Error("the declaration cannot be read", "error", err)
	}
	s.warm.Store(true)
}

// Work is what there is and what is under way, in figures for /metrics. It names nobody.
type Work = store.Work

// Work counts it.
func (s *Service) Work(ctx context.Context) (Work, error) { return s.Store.Work(ctx) }

// Schemas returns what each kind of target holds.
func (s *Service) Schemas() map[string]model.Schema { return s.schemas }

// current reads and resolves the newest revision for today; ErrNone-like
// Problem before the first.
func (s *Service) current(ctx context.Context) (*current, error) {
	number, err := s.Store.LastRevisionNumber(ctx)
	if err != nil {
		return nil, err
	}
	if number == 0 {
		return nil, &Problem{Kind: NotYet, Words: "nothing is declared yet; begin with: roost declare FILES --because REASON"}
	}
	day := s.now().Format(time.DateOnly)
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.plans[day]; c != nil && c.revision == number {
		return c, nil
	}
	rev, err := s.Store.LastRevision(ctx)
	if err != nil {
		return nil, err
	}
	var last *current // on which this one is read
	for _, c := range s.plans {
		last = c
	}
	c, err := s.readRevision(ctx, last, rev, s.now())
	if err != nil {
		return nil, err
	}
	s.plans = map[string]*current{day: c}
	return c, nil
}

// readRevision reads a stored revision on another, nil for none, and resolves it for a day.
func (s *Service) readRevision(ctx context.Context, on *current, rev store.Revision, day time.Time) (*current, error) {
	files, err := s.Store.Files(ctx, rev)
	if err != nil {
		return nil, err
	}
	r, err := s.read(on, files, day)
	if err != nil {
		return nil, fmt.Errorf("revision %d cannot be read by this version: %w", rev.Number, err)
	}
	return r.current(rev), nil
}

func (r *reading) current(rev store.Revision) *current {
	pieced := rev.InPieces()
	rev.Packed = nil
	return &current{revision: rev.Number, made: rev, pieced: pieced, declared: r.source.Declaration, source: r.source, plan: r.plan}
}

// read checks files and resolves them for a day, on what was read before, nil
// for nothing.
func (s *Service) read(on *current, files []declare.File, day time.Time) (*reading, error) {
	var before *declare.Source
	if on != nil {
		before = on.source
	}
	source, err := declare.ReadOn(before, files, s.schemas)
	if err != nil {
		return nil, err
	}
	if !source.Whole && on.plan.Day == day.UTC().Format(time.DateOnly) {
		if plan, change, err := on.plan.Follow(source.Declaration, source.Touched); err == nil {
			return &reading{source, plan, change}, nil
		}
	}
	plan, err := resolve.Resolve(source.Declaration, s.schemas, day, nil)
	var faults declare.Faults
	if errors.As(err, &faults) {
		return nil, declare.WithLines(faults, files)
	}
	return &reading{source: source, plan: plan}, err
}

// readNew is read for files that are to be stored.
func (s *Service) readNew(on *current, files []declare.File, day time.Time) (*reading, error) {
	r, err := s.read(on, files, day)
	if err != nil {
		return nil, err
	}
	return r, r.source.Fresh()
}

// newest is the current revision to read another on; nil before the first, and
// when it cannot be read: that must not keep anybody from declaring a better one.
func (s *Service) newest(ctx context.Context) *current {
	c, err := s.current(ctx)
	if err != nil {
		return nil
	}
	return c
}

// reach says how to reach a target, its secret unsealed.
func (s *Service) reach(ctx context.Context, name string) (connect.Connector, connect.Access, error) {
	c, err := s.current(ctx)
	if err != nil {
		return nil, connect.Access{}, err
	}
	t := c.plan.Targets[name]
	if t == nil {
		return nil, connect.Access{}, fmt.Errorf("%s: is no longer declared", name)
	}
	row, err := s.Store.Target(ctx, name)
	if err != nil {
		return nil, connect.Access{}, err
	}
	a := connect.Access{Target: name, Address: t.Address, As: t.Login, Settings: t.Settings, Key: row.Accepted, Wait: s.Wait}
	if secret := t.Target.Login.Secret; secret != "" {
		sealed, err := s.Store.Secret(ctx, secret)
		if err == store.ErrNone {
			return nil, a, &connect.Error{Target: name, Op: "sign in",
				Err: &connect.Refused{Err: fmt.Errorf("no secret %q is set; set it with: roost secret set %s", secret, secret)}}
		}
		if err != nil {
			return nil, a, err
		}
		if a.Secret, err = s.seal.open(sealed.Sealed); err != nil {
			return nil, a, fmt.Errorf("secret %q: %w", secret, err)
		}
	}
	return s.Kinds[t.Target.Kind], a, nil
}

// write runs fn in a transaction and appends the entries it returns, so that
// nothing is done without its line in the record.
func (s *Service) write(ctx context.Context, fn func(*store.Tx) ([]*store.Entry, error)) error {
	return s.Store.Tx(ctx, func(tx *store.Tx) error {
		entries, err := fn(tx)
		if err != nil {
			return err
		}
		return tx.Append(ctx, entries...)
	})
}

// reason checks the reason given for something that changes much.
func reason(because string) (string, error) {
	because = strings.TrimSpace(because)
	switch {
	case because == "":
		return "", invalid("because", "a reason is required: say why, for those who read the record (--because)")
	case len(because) > 500:
		return "", invalid("because", "the reason is longer than 500 bytes")
	}
	return because, nil
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
