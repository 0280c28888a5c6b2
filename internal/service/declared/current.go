// Package declared is the service's room for what is declared: revisions, what a
// new one would mean, edits and imports.
package declared

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/guard"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Declared knows what is declared: the newest revision, read and resolved.
type Declared struct {
	*door.Door
	schemas atomic.Pointer[map[string]model.Schema]
	// Weigh works out what a reading does, made on a revision or on nothing (nil).
	// The room above sets it before anything is declared.
	Weigh func(ctx context.Context, from *Current, read *Reading) (Weighed, error)

	mu    sync.Mutex
	plans map[string]*Current // the resolved declaration, by day; one day is kept

	looked looked
}

// New makes the room; schemas say by kind of target what such a target can hold.
func New(d *door.Door, schemas map[string]model.Schema) *Declared {
	s := &Declared{Door: d, plans: map[string]*Current{}}
	s.schemas.Store(&schemas)
	return s
}

// Schemas returns what each kind of target holds.
func (s *Declared) Schemas() map[string]model.Schema { return *s.schemas.Load() }

// Relearn takes other schemas, and reads the newest revision anew with them. Where that cannot be read with them, its error
// says why, and all stays as it was.
func (s *Declared) Relearn(ctx context.Context, schemas map[string]model.Schema) error {
	rev, err := s.Store.LastRevision(ctx)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	if err == nil {
		if _, err := New(s.Door, schemas).ReadRevision(ctx, nil, rev, s.Now()); err != nil {
			return err
		}
	}
	s.mu.Lock()
	s.schemas.Store(&schemas)
	s.plans = map[string]*Current{}
	s.mu.Unlock()
	s.looked.forget()
	return nil
}

// Current is the newest revision, read and resolved for a day.
type Current struct {
	Revision int
	made     store.Revision              // without its text
	Declared *model.Declaration          // with the guarded settings that are in force
	Guarded  map[guard.Thing]guard.State // what of them is approved, and what waits
	Source   *declare.Source             // as it was declared
	Plan     *resolve.Plan
}

// Reading is a declaration read and resolved for a day.
type Reading struct {
	source  *declare.Source
	guarded map[guard.Thing]guard.State
	moved   map[guard.Thing]guard.State // those that are otherwise than before
	Plan    *resolve.Plan
	Change  *resolve.Change // what is otherwise than in the plan before; nil: anything may be

	// Aside is what Weigh found, kept as long as the reading is: who looks at a reading and then declares it need not wait twice.
	Aside *sync.Map
}

// Current reads and resolves the newest revision for today; a Problem of kind NotYet
// before the first.
func (s *Declared) Current(ctx context.Context) (*Current, error) {
	number, err := s.Store.LastRevisionNumber(ctx)
	if err != nil {
		return nil, err
	}
	if number == 0 {
		return nil, &door.Problem{Kind: door.NotYet, Words: "nothing is declared yet; begin with: roost declare FILES --because REASON"}
	}
	day := s.Now().Format(time.DateOnly)
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.plans[day]; c != nil && c.Revision == number {
		return c, nil
	}
	rev, err := s.Store.LastRevision(ctx)
	if err != nil {
		return nil, err
	}
	var last *Current // on which this one is read
	for _, c := range s.plans {
		last = c
	}
	c, err := s.ReadRevision(ctx, last, rev, s.Now())
	if err != nil {
		return nil, err
	}
	s.plans = map[string]*Current{day: c}
	return c, nil
}

// ReadRevision reads a stored revision on another, nil for none, and resolves it for a day.
func (s *Declared) ReadRevision(ctx context.Context, on *Current, rev store.Revision, day time.Time) (*Current, error) {
	files, err := s.Store.Files(ctx, rev)
	if err != nil {
		return nil, err
	}
	a, err := s.authorAt(ctx, on, rev)
	if err != nil {
		return nil, err
	}
	r, err := s.read(on, files, day, a)
	if err != nil {
		return nil, fmt.Errorf("revision %d cannot be read by this version: %w", rev.Number, err)
	}
	return r.current(rev), nil
}

func (r *Reading) current(rev store.Revision) *Current {
	rev.Packed = nil
	return &Current{Revision: rev.Number, made: rev, Declared: r.Plan.Declaration(), Guarded: r.guarded, Source: r.source, Plan: r.Plan}
}

// read checks files and resolves them for a day, on what was read before, nil
// for nothing, with the guarded settings that are in force.
func (s *Declared) read(on *Current, files []declare.File, day time.Time, a author) (*Reading, error) {
	var before *declare.Source
	if on != nil {
		before = on.Source
	}
	source, err := declare.ReadOn(before, files, s.Schemas())
	if err != nil {
		return nil, err
	}
	if !source.Whole && !a.anew && on.Plan.Day == day.UTC().Format(time.DateOnly) {
		inForce := *source.Declaration // of which only users are otherwise
		inForce.Targets, inForce.Roles, inForce.Rights, inForce.Policies = on.Declared.Targets, on.Declared.Roles, on.Declared.Rights,
			on.Declared.Policies
		if plan, change, err := on.Plan.Follow(&inForce, source.Touched); err == nil {
			return &Reading{source: source, guarded: on.Guarded, Plan: plan, Change: change}, nil
		}
	}
	r, err := s.resolved(source, day, a)
	var faults declare.Faults
	if errors.As(err, &faults) {
		return nil, declare.WithLines(faults, files)
	}
	return r, err
}

// resolved works out a declaration with the guarded settings that are in force.
func (s *Declared) resolved(source *declare.Source, day time.Time, a author) (*Reading, error) {
	reached, err := resolve.Reached(source.Declaration)
	if err != nil {
		return nil, err
	}
	g := guard.Enforce(source.Declaration, reached, s.Schemas(), a.known, a.by, a.revision)
	if a.trusted {
		g = guard.Enforce(source.Declaration, reached, s.Schemas(), a.trust(g.States), a.by, a.revision)
	}
	plan, err := resolve.Resolve(g.Declaration, s.Schemas(), day, nil)
	return &Reading{source: source, guarded: g.States, moved: changedStates(a.known, g.States), Plan: plan}, err
}

// readNew is read for files that are to be stored. Most are looked at first, to
// see what they would change: then they have been read.
func (s *Declared) readNew(on *Current, files []declare.File, day time.Time, a author) (*Reading, error) {
	if r := s.looked.at(on, files, day); r != nil && !a.trusted {
		return r.by(a), nil
	}
	r, err := s.read(on, files, day, a)
	if err != nil {
		return nil, err
	}
	r.Aside = &sync.Map{}
	if err := r.source.Fresh(); err != nil {
		return r, err
	}
	if on != nil && !a.trusted { // then what is known of guarded settings is that revision's
		s.looked.keep(on, r)
	}
	return r, nil
}

// looked is what was read last to be looked at.
type looked struct {
	mu    sync.Mutex
	on    *Current
	read  *Reading
	later *time.Timer // forgets it
}

// lookedFor is how long a person may take to decide about what they see.
const lookedFor = 2 * time.Minute

// at is what was read last, if it was read of the same files on the same revision and day.
func (l *looked) at(on *Current, files []declare.File, day time.Time) *Reading {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.read == nil || l.on != on || l.read.Plan.Day != day.UTC().Format(time.DateOnly) || !l.read.source.Holds(files) {
		return nil
	}
	return l.read
}

func (l *looked) keep(on *Current, r *Reading) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.later != nil {
		l.later.Stop()
	}
	l.on, l.read = on, r
	l.later = time.AfterFunc(lookedFor, l.forget)
}

func (l *looked) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.on, l.read = nil, nil
}

// Newest is the current revision to read another on; nil before the first, and
// when it cannot be read: that must not keep anybody from declaring a better one.
func (s *Declared) Newest(ctx context.Context) *Current {
	c, err := s.Current(ctx)
	if err != nil {
		return nil
	}
	return c
}

// Check refuses names that are not known, with the nearest that is.
func (c *Current) Check(choice Choice) error {
	for _, t := range choice.Targets {
		if c.Plan.Targets[t] == nil {
			return door.NotKnown("target", t, door.KeysOf(c.Plan.Targets))
		}
	}
	for _, u := range choice.Users {
		if c.Declared.Users[u] == nil {
			return door.NotKnown("user", u, door.KeysOf(c.Declared.Users))
		}
	}
	var kinds []string
	for _, k := range model.FindingKinds {
		kinds = append(kinds, string(k))
	}
	for _, k := range choice.Kinds {
		if !slices.Contains(kinds, k) {
			return door.NotKnown("kind of finding", k, kinds)
		}
	}
	return nil
}

// CheckChosen is Check for findings: of somebody who is no longer declared there may be some as long as accounts of theirs are known.
func (s *Declared) CheckChosen(ctx context.Context, c *Current, choice Choice) error {
	users := choice.Users
	choice.Users = nil
	for _, u := range users {
		if c.Declared.Users[u] == nil {
			links, err := s.Store.LinksOf(ctx, u)
			if err != nil {
				return err
			}
			if len(links) > 0 {
				continue
			}
		}
		choice.Users = append(choice.Users, u)
	}
	return c.Check(choice)
}

// Where returns the users for whom a condition holds: CEL over user, day and params. Nobody is an error.
func (c *Current) Where(condition string) (users []string, err error) {
	set := expr.NewSet()
	if err := set.Check(condition, true); err != nil {
		return nil, door.Wrong("where", "%v", err)
	}
	if err := declare.Fields(c.Declared, condition); err != nil {
		return nil, door.Wrong("where", "%v", err)
	}
	for _, p := range c.Plan.People {
		yes, err := set.Holds(condition, c.Plan.Scope(p))
		if err != nil {
			return nil, door.Wrong("where", "for user %s: %v", p.ID, err)
		}
		if yes {
			users = append(users, p.ID)
		}
	}
	if len(users) == 0 {
		return nil, door.Wrong("where", "it holds for nobody")
	}
	return users, nil
}

// FullName is the name of a declared user, for people to read.
func (c *Current) FullName(user string) string {
	if p, ok := c.Plan.Person(user); ok {
		return p.Name
	}
	return ""
}

// With is the revision with another plan for it.
func (c *Current) With(plan *resolve.Plan) *Current {
	with := *c
	with.Plan = plan
	return &with
}

// KindOf is the kind of a target, "" when it is no longer declared.
func (c *Current) KindOf(target string) string {
	if t := c.Declared.Targets[target]; t != nil {
		return t.Kind
	}
	return ""
}

// number is the revision's; nil is none.
func (c *Current) number() int {
	if c == nil {
		return 0
	}
	return c.Revision
}
