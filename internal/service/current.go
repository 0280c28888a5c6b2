package service

import (
	"context"
	"errors"
	"fmt"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/store"
	"slices"
	"sync"
	"time"
)

// Declared knows what is declared: the newest revision, read and resolved.
type Declared struct {
	*Door
	schemas map[string]model.Schema
	// Weigh works out what a reading does, made on a revision or on nothing (nil).
	// The room above sets it before anything is declared.
	Weigh func(ctx context.Context, from *current, read *reading) (Weighed, error)

	mu    sync.Mutex
	plans map[string]*current // the resolved declaration, by day; one day is kept
}

// newDeclared makes the room; schemas say by kind of target what such a target can hold.
func newDeclared(d *Door, schemas map[string]model.Schema) *Declared {
	return &Declared{Door: d, schemas: schemas, plans: map[string]*current{}}
}

// Schemas returns what each kind of target holds.
func (s *Declared) Schemas() map[string]model.Schema { return s.schemas }

// current is the newest revision, read and resolved for a day.
type current struct {
	revision int
	made     store.Revision // without its text
	pieced   bool           // its text is stored in pieces
	declared *model.Declaration
	source   *declare.Source
	plan     *resolve.Plan
}

// reading is a declaration read and resolved for a day.
type reading struct {
	source *declare.Source
	plan   *resolve.Plan
	change *resolve.Change // what is otherwise than in the plan before; nil: anything may be
}

// current reads and resolves the newest revision for today; ErrNone-like
// Problem before the first.
func (s *Declared) current(ctx context.Context) (*current, error) {
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
func (s *Declared) readRevision(ctx context.Context, on *current, rev store.Revision, day time.Time) (*current, error) {
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
func (s *Declared) read(on *current, files []declare.File, day time.Time) (*reading, error) {
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
func (s *Declared) readNew(on *current, files []declare.File, day time.Time) (*reading, error) {
	r, err := s.read(on, files, day)
	if err != nil {
		return nil, err
	}
	return r, r.source.Fresh()
}

// newest is the current revision to read another on; nil before the first, and
// when it cannot be read: that must not keep anybody from declaring a better one.
func (s *Declared) newest(ctx context.Context) *current {
	c, err := s.current(ctx)
	if err != nil {
		return nil
	}
	return c
}

// check refuses names that are not known, with the nearest that is.
func (c *current) check(choice Choice) error {
	for _, t := range choice.Targets {
		if c.plan.Targets[t] == nil {
			return unknown("target", t, keysOf(c.plan.Targets))
		}
	}
	for _, u := range choice.Users {
		if c.declared.Users[u] == nil {
			return unknown("user", u, keysOf(c.declared.Users))
		}
	}
	var kinds []string
	for _, k := range model.FindingKinds {
		kinds = append(kinds, string(k))
	}
	for _, k := range choice.Kinds {
		if !slices.Contains(kinds, k) {
			return unknown("kind of finding", k, kinds)
		}
	}
	return nil
}

// fullName is the name of a declared user, for people to read.
func (c *current) fullName(user string) string {
	if p, ok := c.plan.Person(user); ok {
		return p.Name
	}
	return ""
}

// with is the revision with another plan for it.
func (c *current) with(plan *resolve.Plan) *current {
	return &current{revision: c.revision, made: c.made, declared: c.declared, source: c.source, plan: plan}
}

// kindOf is the kind of a target, "" when it is no longer declared.
func (c *current) kindOf(target string) string {
	if t := c.declared.Targets[target]; t != nil {
		return t.Kind
	}
	return ""
}
