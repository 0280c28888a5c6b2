// Package candidate carries out acts on systems that collect changes in a candidate before they hold.
//
// A system says how its candidate is opened, compared, checked, taken on trial, confirmed and dropped. This package does the rest: it
// makes all acts of a batch hold or none, stores a mark before a trial begins, signs our own login in during the trial, confirms
// the trial or ends it, and ends a trial that a crash left.
package candidate

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// System is what a system with a candidate has of its own. Each of its errors is the system's own words, but where Broken says that
// the connection is lost.
type System interface {
	// Begin reads what acts speak of. What it returns carries them out in the candidate; it is asked to read back only where the
	// candidate was kept at once.
	Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error)
	// Open opens the candidate, as what holds now. An error says why that cannot be.
	Open(ctx context.Context) error
	// Difference is between the candidate and what holds, line by line.
	Difference(ctx context.Context) ([]string, error)
	// Check has the system check the candidate.
	Check(ctx context.Context) error
	// Keep makes the candidate hold.
	Keep(ctx context.Context) error
	// Drop throws the candidate away, or ends the trial.
	Drop(ctx context.Context) error
	// Mark is how a trial that begins now will be found again.
	Mark() connect.Mark
	// Try takes the candidate on trial.
	Try(ctx context.Context, mark connect.Mark) error
	// Again signs our own login in once more, while a change is on trial. An error says why it is let in no more.
	Again(ctx context.Context) (Second, error)
	// Runs says whether the trial that a mark tells of still runs.
	Runs(ctx context.Context, mark connect.Mark) (bool, error)
	// Broken says of an error that the connection is lost.
	Broken(err error) bool
	// Fail is an error of what we were about to do.
	Fail(op string, err error) error
}

// Second is a session that was opened while a change was on trial.
type Second interface {
	// Read reads what acts speak of.
	Read(ctx context.Context, acts []connect.Act) (connect.View, error)
	// Confirm ends the trial: what is on trial holds.
	Confirm(ctx context.Context, mark connect.Mark) error
	Close() error
}

// Begin is connect.Session's: acts are carried out in a candidate that is kept at once.
func Begin(ctx context.Context, s System, acts []connect.Act) (connect.Carrier, error) {
	c, err := s.Begin(ctx, acts)
	if err != nil {
		return nil, s.Fail("read", err)
	}
	return &staged{Carrier: c, system: s}, nil
}

// Trial is what such a system offers.
func Trial(s System) *connect.Trial {
	return &connect.Trial{
		Whole: func(ctx context.Context, acts []connect.Act, tell func(connect.Mark) error) []connect.Answer {
			return whole(ctx, s, acts, tell)
		},
		Settle: func(ctx context.Context, mark connect.Mark) error {
			runs, err := s.Runs(ctx, mark)
			if err == nil && runs {
				err = s.Drop(ctx)
			}
			if err != nil {
				return s.Fail("end the trial", err)
			}
			return nil
		}}
}

// staged carries acts out in a candidate.
type staged struct {
	connect.Carrier
	system System
	open   bool  // something stands in the candidate
	no     error // why it cannot be opened
}

// Carry implements connect.Carrier.
func (x *staged) Carry(ctx context.Context, b *connect.Batch, ready []int) {
	if x.no != nil || !slices.ContainsFunc(ready, func(i int) bool { return b.Acts[i].Verb != model.AdoptIt }) {
		return
	}
	if !x.open {
		if x.no = x.system.Open(ctx); x.no != nil {
			if x.system.Broken(x.no) {
				b.Lost = x.no
			}
			return
		}
		x.open = true
	}
	x.Carrier.Carry(ctx, b, ready)
}

// ReadBack implements connect.Carrier: the candidate is kept.
func (x *staged) ReadBack(ctx context.Context, b *connect.Batch) (connect.View, error) {
	if b.Lost == nil && x.no != nil {
		return x.unchanged(b, x.no.Error()), nil
	}
	if b.Lost == nil && x.open {
		err := x.system.Keep(ctx)
		if err != nil && !x.system.Broken(err) {
			dropped := x.system.Drop(ctx)
			if !x.system.Broken(dropped) {
				return x.unchanged(b, err.Error()), nil
			}
			err = dropped
		}
		b.Lost = err
	}
	return x.Carrier.ReadBack(ctx, b)
}

// unchanged says of all that nothing was changed, and why; what was read before holds.
func (x *staged) unchanged(b *connect.Batch, words string) connect.View {
	for i, a := range b.Acts {
		if b.Trouble[i] == nil && a.Verb != model.AdoptIt {
			b.Trouble[i] = errors.New(words)
		}
	}
	return x.Carrier
}

// none answers that nothing of a batch was done: one act with why it cannot be, those that could have been as not tried.
func (x *staged) none(b *connect.Batch, why string) []connect.Answer {
	answers := b.Conclude(x.unchanged(b, ""), nil)
	for i := range answers {
		if b.Acts[i].Verb != model.AdoptIt && answers[i].Outcome == connect.Failed && (b.Trouble[i] == nil || b.Trouble[i].Error() == "") {
			answers[i] = connect.Answer{Outcome: connect.NotTried, Words: why}
		}
	}
	return answers
}

// stage judges acts, and carries those that are ready out in the candidate.
func stage(ctx context.Context, s System, acts []connect.Act) (*staged, *connect.Batch, error) {
	c, err := s.Begin(ctx, acts)
	if err != nil {
		return nil, nil, err
	}
	x := &staged{Carrier: c, system: s}
	b := connect.NewBatch(acts, x)
	b.Stages(func(ready []int) { x.Carry(ctx, b, ready) })
	return x, b, nil
}

const allOrNothing = "the target takes all of it or nothing: "

// whole is connect.Trial's.
func whole(ctx context.Context, s System, acts []connect.Act, tell func(connect.Mark) error) []connect.Answer {
	x, b, err := stage(ctx, s, acts)
	unsure := func(err error) []connect.Answer {
		return connect.All(acts, connect.Unsure, s.Fail("change", err).Error())
	}
	switch {
	case err != nil:
		return unsure(err)
	case b.Lost != nil:
		return unsure(b.Lost)
	case x.no != nil:
		return x.none(b, x.no.Error())
	case !x.open:
		return b.Conclude(x.Carrier, nil)
	}
	trial := false
	back := func(why string) []connect.Answer {
		if err := s.Drop(ctx); s.Broken(err) || trial && err != nil { // then it goes back by itself, and not before
			return unsure(err)
		}
		return x.none(b, why)
	}
	if bad := fault(b); bad != "" {
		return back(allOrNothing + bad)
	}
	if err := s.Check(ctx); s.Broken(err) {
		return unsure(err)
	} else if err != nil {
		return back("the target's own check: " + err.Error())
	}
	mark := s.Mark()
	if err := tell(mark); err != nil {
		return back(err.Error())
	}
	if err := s.Try(ctx, mark); s.Broken(err) {
		return unsure(err)
	} else if err != nil {
		return back(err.Error())
	}
	trial = true
	second, err := s.Again(ctx)
	if err != nil {
		return back("gone back: after it our own login was let in no more: " + connect.Printable(err.Error()))
	}
	defer second.Close()
	after, err := second.Read(ctx, acts)
	if err != nil {
		return back("gone back: after it our own login could not read it: " + connect.Printable(err.Error()))
	}
	found := slices.Clone(b.Answers)
	answers := b.Conclude(after, nil)
	bad := slices.IndexFunc(answers, func(a connect.Answer) bool { return a.Outcome == connect.Failed || a.Outcome == connect.Moved })
	why := ""
	if bad >= 0 {
		why = allOrNothing + answers[bad].Words
	} else if err := second.Confirm(ctx, mark); err == nil {
		return answers
	} else if s.Broken(err) {
		return unsure(err)
	} else {
		why = "gone back: after it our own login could not confirm it: " + err.Error()
	}
	b.Answers = found
	return back(why)
}

// fault is why not all of a batch can be, "" when it can.
func fault(b *connect.Batch) string {
	for i, a := range b.Acts {
		if b.Trouble[i] != nil {
			return fmt.Sprintf("%s %s: %v", a.Verb, a.Name, b.Trouble[i])
		}
		if o := b.Answers[i].Outcome; o == connect.Moved || o == connect.Failed {
			return fmt.Sprintf("%s %s: %s", a.Verb, a.Name, b.Answers[i].Words)
		}
	}
	return ""
}

// Preview is the system's own difference of a candidate that is thrown away.
func Preview(ctx context.Context, s System, acts []connect.Act) ([]string, error) {
	fail := func(err error) ([]string, error) { return nil, s.Fail("look at a candidate", err) }
	x, b, err := stage(ctx, s, acts)
	if err == nil {
		err = errors.Join(b.Lost, x.no)
	}
	if err != nil {
		return fail(err)
	}
	if bad := fault(b); bad != "" {
		return fail(errors.Join(errors.New("it takes all of it or nothing: "+bad), s.Drop(ctx)))
	}
	if !x.open {
		return nil, nil
	}
	lines, err := s.Difference(ctx)
	if err = errors.Join(err, s.Drop(ctx)); err != nil {
		return fail(err)
	}
	return lines, nil
}
