package declared

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Meaning is what files would change if they were declared now.
type Meaning struct {
	Checked
	Pending  []PendingSetting `json:"pending" doc:"changes of guarded settings: the old values stay in force until somebody else approves them"`
	Waits    int              `json:"waits" doc:"how many changes of guarded settings there are"`
	Unset    []string         `json:"secrets-not-set,omitempty" doc:"secrets that targets are declared with and nobody has set: Hen Roost does not go there before"`
	Short    []string         `json:"pools-short,omitempty" doc:"shared pools of seats with fewer seats than people are given: who takes the last is held"`
	Ungiven  []string         `json:"groups-not-given,omitempty" doc:"declared groups that no role gives, the first of them: they are made on no target"`
	Moves    []Move           `json:"moves" doc:"what changes for people, the first of them"`
	People   int              `json:"people" doc:"for how many people something changes"`
	Findings int              `json:"findings" doc:"findings that the last surveys would yield"`
	Before   int              `json:"before" doc:"findings there are now"`

	Revision int                  `json:"revision" doc:"the newest: declaring names it, or the one that the files were made from"`
	Merged   []declare.LineChange `json:"merged,omitempty" doc:"what others declared since the files were begun, and comes along"`
}

// Move is what changes for one person.
type Move struct {
	access.Move
	Say string `json:"say" doc:"the same in one sentence"`
}

const movesMost = 200

// Means says what files would change, in people and access, without storing them.
func (s *Declared) Means(ctx context.Context, who door.Operator, files []declare.File) (Meaning, error) {
	number, err := s.Store.LastRevisionNumber(ctx)
	if err != nil {
		return Meaning{}, err
	}
	return s.MeansFrom(ctx, who, number, files)
}

// MeansFrom is Means for files that were made from a revision, with what others declared since.
func (s *Declared) MeansFrom(ctx context.Context, who door.Operator, began int, files []declare.File) (Meaning, error) {
	if err := who.May(door.Look); err != nil {
		return Meaning{}, err
	}
	b, err := s.beside(ctx, began, files)
	if err != nil {
		return Meaning{}, err
	}
	from := s.Newest(ctx)
	a, err := s.authorOf(ctx, from, who, b.last)
	if err != nil {
		return Meaning{}, err
	}
	read, err := s.readNew(from, b.files, s.Now(), a)
	if err != nil {
		return Meaning{}, err
	}
	waits := waitsWith(read.moved, a.revision)
	out := Meaning{Checked: size(read.source.Declaration), Revision: b.last, Merged: b.took, Pending: waits[:min(len(waits), pendingMost)],
		Waits: len(waits)}
	var before *resolve.Plan
	if from != nil {
		before = from.Plan
	}
	out.Moves, out.People = movesOf(before, read.Plan)
	if out.Unset, err = s.unset(ctx, read.source.Declaration); err != nil {
		return Meaning{}, err
	}
	out.Ungiven, out.Short = ungiven(read.Plan.Declaration()), short(from, read)
	if out.Before, err = s.Store.AllFindings(ctx); err != nil {
		return Meaning{}, err
	}
	weighed, err := s.Weigh(ctx, from, read)
	if err != nil {
		return Meaning{}, err
	}
	out.Findings, err = weighed.Findings(ctx)
	return out, err
}

// ungiven are the first of the declared groups that no role gives, nor one inside them: they are made on no target.
func ungiven(d *model.Declaration) (out []string) {
	const most = 20
	given := map[string]bool{}
	var give func(name string)
	give = func(name string) {
		if g := d.Groups[name]; g != nil && !given[name] {
			given[name] = true
			for _, outer := range g.In {
				give(outer.Name)
			}
		}
	}
	for _, r := range d.Roles {
		for _, g := range r.Gives {
			for _, group := range g.Groups {
				give(group.Name)
			}
		}
	}
	for _, name := range door.KeysOf(d.Groups) {
		if !given[name] && len(out) < most {
			out = append(out, name)
		}
	}
	return out
}

// unset are the secrets of targets that are not set, by name: those too that wait for approval.
func (s *Declared) unset(ctx context.Context, d *model.Declaration) (out []string, err error) {
	rows, err := s.Store.Secrets(ctx)
	for _, t := range d.Targets {
		name := t.Login.Secret
		if name != "" && !slices.Contains(out, name) && !slices.ContainsFunc(rows, func(r store.Secret) bool { return r.Name == name }) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, err
}

func movesOf(before, after *resolve.Plan) ([]Move, int) {
	all := access.Meaning(before, after)
	out := make([]Move, 0, min(len(all), movesMost))
	for _, m := range all[:min(len(all), movesMost)] {
		out = append(out, Move{m, m.Say()})
	}
	return out, len(all)
}

// MeansEdits is Means for edits of the newest revision. With it come the lines
// that the edits change, the first of them.
func (s *Declared) MeansEdits(ctx context.Context, who door.Operator, edits []declare.Edit) (Meaning, []declare.LineChange, error) {
	if err := who.May(door.Look); err != nil {
		return Meaning{}, nil, err
	}
	files, c, err := s.edited(ctx, edits)
	if err != nil {
		return Meaning{}, nil, err
	}
	m, err := s.Means(ctx, who, files)
	lines := declare.Compare(c.Source.Files(), files)
	return m, lines[:min(len(lines), movesMost)], err
}

// PlanAfter is the plan for a day as it would be after edits of the newest
// revision. Nothing is stored.
func (s *Declared) PlanAfter(ctx context.Context, edits []declare.Edit, day time.Time) (*resolve.Plan, error) {
	files, c, err := s.edited(ctx, edits)
	if err != nil {
		return nil, err
	}
	r, err := s.read(c, files, day, author{known: c.Guarded, revision: c.Revision + 1})
	if err != nil {
		return nil, err
	}
	return r.Plan, r.source.Fresh()
}

// edited are the files of the newest revision after some edits.
func (s *Declared) edited(ctx context.Context, edits []declare.Edit) ([]declare.File, *Current, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	files, err := c.Source.Apply(edits, ctx.Err)
	if ctx.Err() != nil {
		return nil, nil, ctx.Err()
	}
	if err != nil {
		return nil, nil, &door.Problem{Kind: door.Invalid, Field: "edits", Words: err.Error()}
	}
	return files, c, nil
}

// Edit changes a revision in its own text, comments and order kept, and declares
// the outcome as a new one. from is the revision that was looked at, 0 for the
// newest; what others declared since comes along, as for DeclareFrom.
func (s *Declared) Edit(ctx context.Context, who door.Operator, from int, edits []declare.Edit, because string) (Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return Revision{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Revision{}, err
	}
	for try := 1; ; try++ {
		files, c, err := s.edited(ctx, edits)
		if err != nil {
			return Revision{}, err
		}
		if from != 0 && from != c.Revision {
			return s.editOf(ctx, who, from, edits, because)
		}
		r, err := s.declare(ctx, who, c, files, because, c.Revision)
		if errors.Is(err, store.ErrNotLast) && from == 0 && try < 5 {
			continue // the edits are made anew, in what is declared by then
		}
		return r, err
	}
}

// editOf makes edits in an earlier revision, and declares the outcome with what came since.
func (s *Declared) editOf(ctx context.Context, who door.Operator, from int, edits []declare.Edit, because string) (Revision, error) {
	_, files, err := s.filesOf(ctx, from)
	if err != nil {
		return Revision{}, err
	}
	files, err = declare.Apply(files, edits)
	if err != nil {
		return Revision{}, &door.Problem{Kind: door.Invalid, Field: "edits", Words: err.Error()}
	}
	return s.DeclareFrom(ctx, who, from, files, because)
}

// Revisions lists revisions, newest first, and how many there are.
func (s *Declared) Revisions(ctx context.Context, who door.Operator, p door.Page) ([]Revision, int, error) {
	if err := who.May(door.Look); err != nil {
		return nil, 0, err
	}
	rows, total, err := s.Store.Revisions(ctx, p.Bounded())
	out := make([]Revision, len(rows))
	for i, r := range rows {
		out[i] = Revision{Number: r.Number, Operator: r.Operator, Because: r.Because, MadeAt: r.MadeAt}
	}
	return out, total, err
}

func (s *Declared) filesOf(ctx context.Context, number int) (store.Revision, []declare.File, error) {
	rev, err := s.Store.RevisionOf(ctx, number)
	if number == 0 {
		rev, err = s.Store.LastRevision(ctx)
	}
	if errors.Is(err, store.ErrNone) {
		return rev, nil, &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no revision %d; roost revision list shows them",
			number)}
	}
	if err != nil {
		return rev, nil, err
	}
	files, err := s.Store.Files(ctx, rev)
	return rev, files, err
}

// Files returns a revision with its files; number 0 is the newest.
func (s *Declared) Files(ctx context.Context, who door.Operator, number int) (Revision, []declare.File, error) {
	if err := who.May(door.Look); err != nil {
		return Revision{}, nil, err
	}
	rev, files, err := s.filesOf(ctx, number)
	return Revision{Number: rev.Number, Operator: rev.Operator, Because: rev.Because, MadeAt: rev.MadeAt}, files, err
}

// Compared is how two revisions differ.
type Compared struct {
	From   int                  `json:"from"`
	To     int                  `json:"to"`
	Moves  []Move               `json:"moves" doc:"what changed for people, the first of them"`
	People int                  `json:"people"`
	Lines  []declare.LineChange `json:"lines"`
}

// CompareRevisions says what changed from one revision to another, in people
// and access and in lines. Both are read for today.
func (s *Declared) CompareRevisions(ctx context.Context, who door.Operator, from, to int) (Compared, error) {
	if err := who.May(door.Look); err != nil {
		return Compared{}, err
	}
	var plans [2]*resolve.Plan
	var files [2][]declare.File
	for i, number := range []int{from, to} {
		rev, f, err := s.filesOf(ctx, number)
		if err != nil {
			return Compared{}, err
		}
		on := s.Newest(ctx)
		a, err := s.authorAt(ctx, on, rev)
		if err != nil {
			return Compared{}, err
		}
		r, err := s.read(on, f, s.Now(), a)
		if err != nil {
			return Compared{}, fmt.Errorf("revision %d cannot be read by this version: %w", rev.Number, err)
		}
		plans[i], files[i] = r.Plan, f
		if i == 0 {
			from = rev.Number
		} else {
			to = rev.Number
		}
	}
	out := Compared{From: from, To: to, Lines: declare.Compare(files[0], files[1])}
	if out.Lines == nil {
		out.Lines = []declare.LineChange{}
	}
	out.Moves, out.People = movesOf(plans[0], plans[1])
	return out, nil
}

// Restore declares the files of an earlier revision anew. from is the revision
// that was looked at, and is refused when another was declared since; 0 is the newest.
func (s *Declared) Restore(ctx context.Context, who door.Operator, number, from int, because string) (Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return Revision{}, err
	}
	_, files, err := s.filesOf(ctx, number)
	if err != nil {
		return Revision{}, err
	}
	if _, err := door.Reason(because); err != nil {
		return Revision{}, err
	}
	last, err := s.Store.LastRevisionNumber(ctx)
	if err != nil {
		return Revision{}, err
	}
	if from != 0 && from != last {
		return Revision{}, door.Clashing("revision %d is declared since you looked (at revision %d); look at what it changed before "+
			"another "+
			"takes its place", last, from)
	}
	return s.DeclareFrom(ctx, who, last, files, fmt.Sprintf("revision %d brought back: %s", number, because))
}
