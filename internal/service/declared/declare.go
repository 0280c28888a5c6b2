package declared

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/guard"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Checked is what a set of files amounts to.
type Checked struct {
	Users   int `json:"users"`
	Groups  int `json:"groups"`
	Roles   int `json:"roles"`
	Targets int `json:"targets"`
}

// Check reads files without storing them. Faults come as declare.Faults.
func (s *Declared) Check(ctx context.Context, who door.Operator, files []declare.File) (Checked, error) {
	if err := who.May(door.Look); err != nil {
		return Checked{}, err
	}
	on := s.Newest(ctx)
	a, err := s.authorOf(ctx, on, who, on.number())
	if err != nil {
		return Checked{}, err
	}
	r, err := s.readNew(on, files, s.Now(), a)
	if err != nil {
		return Checked{}, faulty(err)
	}
	return size(r.source.Declaration), nil
}

// CheckFiles is Check without any service: by the schemas alone, for a day.
func CheckFiles(schemas map[string]model.Schema, files []declare.File, day time.Time) (Checked, error) {
	s := New(nil, schemas)
	r, err := s.readNew(nil, files, day, author{})
	if err != nil {
		return Checked{}, faulty(err)
	}
	return size(r.source.Declaration), nil
}

// faulty makes of faults a problem that speaks of nothing but them.
func faulty(err error) error {
	var faults declare.Faults
	if errors.As(err, &faults) {
		return &door.Problem{Kind: door.Faulty, Words: door.Count(len(faults), "fault", "faults") + " in the declaration", Faults: faults,
			Err: err}
	}
	return err
}

func size(d *model.Declaration) Checked {
	return Checked{len(d.Users), len(d.Groups), len(d.Roles), len(d.Targets)}
}

// Revision is one stored version of the declaration, without its files.
type Revision struct {
	Number   int       `json:"number"`
	Operator string    `json:"operator"`
	Because  string    `json:"because"`
	MadeAt   time.Time `json:"made-at"`
	Checked
	Pending   int                  `json:"pending" doc:"changes of guarded settings that wait for approval"`
	Findings  int                  `json:"findings" doc:"findings against the last survey"`
	Unchanged bool                 `json:"unchanged,omitempty" doc:"it holds just this already: nothing was declared"`
	Beside    int                  `json:"beside,omitempty" doc:"the revision that somebody declared meanwhile, and whose changes came along"`
	Merged    []declare.LineChange `json:"merged,omitempty" doc:"those changes"`
}

// Made says who declared the revision, when and why, and how large it is.
func (c *Current) Made() Revision {
	return Revision{Number: c.Revision, Operator: c.made.Operator, Because: c.made.Because, MadeAt: c.made.MadeAt,
		Checked: size(c.Declared)}
}

// Declare stores files as a new revision, whatever is declared now, and compares
// what the targets were last seen to hold with it.
func (s *Declared) Declare(ctx context.Context, who door.Operator, files []declare.File, because string) (Revision, error) {
	number, err := s.Store.LastRevisionNumber(ctx)
	if err != nil {
		return Revision{}, err
	}
	return s.DeclareFrom(ctx, who, number, files, because)
}

// DeclareFrom is Declare for files that were made from a revision, 0 for none.
// When somebody has declared another since, their changes come along where
// they do not touch those made here; where they do, both sides are told and
// nothing is stored.
func (s *Declared) DeclareFrom(ctx context.Context, who door.Operator, from int, files []declare.File, because string) (Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return Revision{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Revision{}, err
	}
	for try := 1; ; try++ {
		b, err := s.beside(ctx, from, files)
		if err != nil {
			return Revision{}, err
		}
		r, err := s.declare(ctx, who, s.Newest(ctx), b.files, because, b.last)
		if errors.Is(err, store.ErrNotLast) && try < 5 {
			continue
		}
		if err == nil && b.last != from {
			r.Beside, r.Merged = b.last, b.took
		}
		return r, err
	}
}

// besides are files with what others declared since they were begun.
type besides struct {
	last  int // the newest revision, with which the files can be declared
	files []declare.File
	took  []declare.LineChange // what came along
}

// beside puts files that were made from a revision together with the newest one.
func (s *Declared) beside(ctx context.Context, from int, files []declare.File) (besides, error) {
	last, err := s.Store.LastRevisionNumber(ctx)
	if err != nil || from == last {
		return besides{last: last, files: files}, err
	}
	if from == 0 {
		return besides{}, door.Clashing("revision %d is declared; begin from it (you began from none), so that nobody's changes are lost",
			last)
	}
	if from > last {
		return besides{}, door.Clashing("revision %d is declared; begin from it (you began from revision %d), so that nobody's changes "+
			"are lost",
			last, from)
	}
	_, base, err := s.filesOf(ctx, from)
	if err != nil {
		return besides{}, err
	}
	rev, theirs, err := s.filesOf(ctx, last)
	if err != nil {
		return besides{}, err
	}
	merged, clashes := declare.Merge(base, theirs, files)
	if len(clashes) > 0 {
		place := fmt.Sprintf("%s, line %d", clashes[0].File, clashes[0].Line)
		if more := len(clashes) - 1; more > 0 {
			place += " and " + door.Count(more, "place", "places") + " more"
		}
		return besides{}, &door.Problem{Kind: door.Conflict, Clashes: clashes,
			Words: fmt.Sprintf("revision %d, declared by %s since revision %d that you began from, changes the same lines (%s); nothing "+
				"was stored", last, rev.Operator, from, place)}
	}
	return besides{last: last, files: merged, took: declare.Compare(base, theirs)}, nil
}

// declare stores files that were read on what was the newest revision, nil for
// none. after is the revision they were made from, -1 when they were made from none.
func (s *Declared) declare(ctx context.Context, who door.Operator, from *Current, files []declare.File, because string,
	after int) (Revision, error) {
	a, err := s.authorOf(ctx, from, who, max(after, 0))
	if err != nil {
		return Revision{}, err
	}
	read, err := s.readNew(from, files, s.Now(), a)
	if err != nil {
		return Revision{}, err
	}
	if from != nil && from.Source.Holds(files) {
		r := from.Made()
		r.Unchanged = true
		r.Pending = len(pendingOf(from.Guarded))
		r.Findings, err = s.Store.AllFindings(ctx)
		return r, err
	}
	return s.keep(ctx, who, from, read, because, after, nil, "")
}

// keep stores a reading as the next revision. words say what was done where that is not to declare files; also is told beside it.
func (s *Declared) keep(ctx context.Context, who door.Operator, from *Current, read *Reading, because string, after int,
	also []*store.Entry, words string) (Revision, error) {
	weighed, err := s.Weigh(ctx, from, read)
	if err != nil {
		return Revision{}, err
	}
	return s.keepWith(ctx, who, read, because, after, also, words, weighed)
}

// DeclareWith declares files that were made from the newest revision, with what follows from them as the caller works it out.
func (s *Declared) DeclareWith(ctx context.Context, who door.Operator, from *Current, files []declare.File, because string,
	weigh func(*Reading) Weighed) (Revision, error) {
	a, err := s.authorOf(ctx, from, who, from.Revision)
	if err != nil {
		return Revision{}, err
	}
	read, err := s.readNew(from, files, s.Now(), a)
	if err != nil {
		return Revision{}, err
	}
	return s.keepWith(ctx, who, read, because, from.Revision, nil, "", weigh(read))
}

func (s *Declared) keepWith(ctx context.Context, who door.Operator, read *Reading, because string, after int, also []*store.Entry,
	words string, weighed Weighed) (Revision, error) {
	r := Revision{Operator: who.Name, Because: because, MadeAt: s.Now(), Checked: size(read.source.Declaration),
		Pending: len(pendingOf(read.guarded))}
	pieces := read.source.Pieces()
	err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var err error
		if r.Number, err = tx.AddRevision(ctx, pieces, after, who.Name, because, r.MadeAt); err != nil {
			return nil, err
		}
		if err := tx.PutGuarded(ctx, r.Number, read.moved); err != nil {
			return nil, err
		}
		said := words
		if said == "" {
			said = fmt.Sprintf("declared revision %d: %s, %s, %s, %s", r.Number, door.Count(r.Users, "user", "users"),
				door.Count(r.Groups, "group", "groups"), door.Count(r.Roles, "role", "roles"), door.Count(r.Targets, "target", "targets"))
			if waits := waitsWith(read.moved, r.Number); len(waits) > 0 {
				said += "; these changes wait for approval: " + whatOf(waits)
			}
		} else {
			said = fmt.Sprintf("revision %d: %s", r.Number, said)
		}
		entries := []*store.Entry{{At: r.MadeAt, Kind: "revision", Operator: who.Name, Because: because, Words: door.ClipTo(said, 2000)}}
		more, err := weighed.Keep(ctx, tx, r.Number)
		return append(append(entries, also...), more...), err
	})
	if errors.Is(err, store.ErrNotLast) {
		return Revision{}, &door.Problem{Kind: door.Conflict, Err: store.ErrNotLast,
			Words: "others declare one revision after the other, and nothing was stored; look at them with roost revision list, and try " +
				"again"}
	}
	if err != nil {
		return Revision{}, err
	}
	c := read.current(store.Revision{Number: r.Number, Operator: who.Name, Because: because, MadeAt: r.MadeAt})
	s.mu.Lock() // what was just read need not be read again
	s.plans = map[string]*Current{read.Plan.Day: c}
	s.mu.Unlock()
	s.looked.forget()
	done := context.WithoutCancel(ctx) // the revision is stored: what follows from it is found whoever waits for it
	if err = weighed.Settle(done); err == nil {
		r.Findings, err = s.Store.AllFindings(ctx)
	}
	return r, err
}

// waitsWith is what began to wait with a revision.
func waitsWith(states map[guard.Thing]guard.State, revision int) []PendingSetting {
	return slices.DeleteFunc(pendingOf(states), func(p PendingSetting) bool { return p.Revision != revision })
}

// Weighed is what a reading does to the findings that there are of its
// targets. The room above works it out (see Weigh).
type Weighed interface {
	// Findings is how many there would be.
	Findings(ctx context.Context) (int, error)
	// Keep stores what changes, in the transaction that stores the reading as a
	// revision, and returns the entries that tell of it.
	Keep(ctx context.Context, tx *store.Tx, revision int) ([]*store.Entry, error)
	// Settle finds what Keep left open, when the transaction is done.
	Settle(ctx context.Context) error
}
