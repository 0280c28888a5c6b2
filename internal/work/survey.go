// Package work runs surveys and rounds: several targets at once, one worker a
// target, under leases, with a journal written before anything is tried. What
// it needs to remember goes through the Journal, which its user provides.
package work

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
	"unicode/utf8"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// What is taken of one target, and of one object.
const (
	ObjectsMost = 5_000_000
	uniqueMost  = 100     // letters
	bodyMost    = 8 << 20 // bytes of attributes, members not counted
)

// fit makes an object one that can be stored: what is too long is cut, and the
// object marked as odd, so that a person hears of it and nobody acts on it.
func fit(o *model.Object) {
	odd := func(words string, args ...any) {
		o.Marked, o.Attributes = true, o.Attributes.With(model.Odd, fmt.Sprintf(words, args...))
	}
	if short, cut := model.Short(o.Name); cut {
		letters := utf8.RuneCountInString(o.Name)
		o.Name = short
		odd("its name has %d letters, and %d are the most that can be looked after; this is how it begins", letters, model.NameMost)
	}
	if utf8.RuneCountInString(o.Unique) > uniqueMost {
		o.Unique = "" // it is known by its name alone
	}
	for _, attribute := range []string{model.Members, model.MemberGroups} {
		fitMembers(o, attribute)
	}
	if size := len(o.Attributes); size > bodyMost {
		rest := o.Attributes.Without(model.Members, model.MemberGroups)
		if len(rest) <= bodyMost {
			return
		}
		o.Attributes = ""
		odd("it has %d bytes of values, and %d are the most that can be looked after; none of them is kept", size, bodyMost)
	}
}

// fitMembers cuts names of members that are too long.
func fitMembers(o *model.Object, attribute string) {
	c := o.Attributes.Cursor()
	values, _ := c.Seek(attribute)
	long := false
	for m := range values.All() {
		long = long || len(m) > model.NameMost
	}
	if !long {
		return
	}
	list := values.List()
	for i := range list {
		list[i], _ = model.Short(list[i])
	}
	o.Attributes = o.Attributes.With(attribute, list...)
}

// Sink takes what a survey tells.
type Sink struct {
	// Mark is from where to go on, where the target can; "" for a whole survey.
	Mark string
	// Begin is told before anything else whether everything will be told of, or
	// what changed since the mark.
	Begin func(whole bool) error
	// Put takes objects, in portions, so that they can be stored while more come.
	Put func([]model.Object) error
	// Gone takes, of a survey of what changed, what is no longer there.
	Gone func([]connect.Gone) error
	// Trials are the changes that may be on trial there: they are ended before
	// anything is read. nil: there are none.
	Trials func() ([]connect.Mark, error)
}

// Seen is how a survey went.
type Seen struct {
	Accounts int    // of people rather than the target's own that it told of
	Whole    bool   // it told of everything
	Mark     string // to go on from; "" when there is none
}

// Survey reads a target: what changed since a mark where that can be, else all of it.
func Survey(ctx context.Context, c connect.Connector, a connect.Access, to Sink) (Seen, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, surveyFor, fmt.Errorf("it was not read whole within %s", surveyFor))
	defer cancel()
	s, err := connect.Open(ctx, c, a)
	if err != nil {
		return Seen{}, err
	}
	defer s.Close()
	strikes := a.Strikes()
	if err := settle(ctx, s, to.Trials); err != nil {
		return Seen{}, strikes.Error(err)
	}
	p := portions{Sink: to, strikes: strikes}
	defer p.stop()
	var gone []connect.Gone
	p.Mark, err = connect.Since(ctx, s, to.Mark, func(o model.Object) error { return p.begun(false, o) }, func(g connect.Gone) error {
		gone = append(gone, g)
		return nil
	})
	switch {
	case errors.Is(err, connect.ErrVoid):
		p.Seen.Whole = true
		p.Seen.Mark, err = connect.Survey(ctx, s, func(o model.Object) error { return p.begun(true, o) })
	default:
		p.Seen.Mark = p.Mark
	}
	if err == nil {
		err = p.end(gone)
	}
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = &connect.Error{Target: a.Target, Op: "survey", Err: context.Cause(ctx)}
	}
	return p.Seen, strikes.Error(err)
}

const (
	portion      = 2500             // objects handed on at once
	portionBytes = 4 << 20          // or fewer, when they are large
	surveyFor    = 15 * time.Minute // the longest that one survey may take
)

// portions gathers what a survey tells, and has it taken while more comes.
type portions struct {
	Sink
	strikes *connect.Striker // the secrets that the target was told
	Seen    Seen
	batch   []model.Object
	bytes   int // that it holds
	began   bool
	seen    int

	full   chan []model.Object
	failed chan error // of who takes them; closed when all are taken
}

// waiting is how many portions may wait to be taken.
const waiting = 4

// begun takes an object.
func (p *portions) begun(whole bool, o model.Object) error {
	if err := p.start(whole); err != nil {
		return err
	}
	if p.seen++; p.seen > ObjectsMost {
		return fmt.Errorf("it holds more than %d objects, the most that is looked after on one target", ObjectsMost)
	}
	p.strikes.Object(&o)
	fit(&o)
	if o.Kind == model.Account && !o.System {
		p.Seen.Accounts++
	}
	p.bytes += len(o.Name) + len(o.Unique) + len(o.Attributes)
	if p.batch = append(p.batch, o); len(p.batch) == portion || p.bytes > portionBytes {
		return p.flush()
	}
	return nil
}

func (p *portions) start(whole bool) error {
	if p.began || p.Begin == nil {
		return nil
	}
	p.began = true
	return p.Begin(whole)
}

func (p *portions) flush() error {
	if len(p.batch) == 0 {
		return nil
	}
	if p.full == nil {
		p.full, p.failed = make(chan []model.Object, waiting), make(chan error, 1)
		go func() {
			defer close(p.failed)
			for batch := range p.full {
				if err := p.Put(batch); err != nil {
					p.failed <- err
					return
				}
			}
		}()
	}
	select {
	case err := <-p.failed:
		return p.stopped(err)
	case p.full <- p.batch:
	}
	p.batch, p.bytes = make([]model.Object, 0, portion), 0
	return nil
}

// taken waits until all portions are taken.
func (p *portions) taken() error {
	if p.full == nil {
		return nil
	}
	close(p.full)
	err := <-p.failed
	return p.stopped(err)
}

// stopped notes that nobody takes portions any more.
func (p *portions) stopped(err error) error {
	p.full = nil
	return err
}

// stop waits for who takes portions, when a survey has failed.
func (p *portions) stop() { _ = p.taken() }

func (p *portions) end(gone []connect.Gone) error {
	if err := p.start(p.Seen.Whole); err != nil {
		return err
	}
	if err := p.flush(); err != nil {
		return err
	}
	if err := p.taken(); err != nil || len(gone) == 0 {
		return err
	}
	return p.Gone(gone)
}

// settle ends what may be on trial, where a target takes anything so.
func settle(ctx context.Context, s connect.Session, trials func() ([]connect.Mark, error)) error {
	if trials == nil || !connect.AllOrNothing(s) {
		return nil
	}
	marks, err := trials()
	for _, m := range marks {
		if err == nil {
			err = connect.Settle(ctx, s, m)
		}
	}
	return err
}

// Each calls do for every item, at most width at once, and waits for all.
func Each[T any](ctx context.Context, items []T, width int, do func(context.Context, T)) {
	var wg sync.WaitGroup
	queue := make(chan T)
	for range min(width, len(items)) {
		wg.Go(func() {
			for item := range queue {
				do(ctx, item)
			}
		})
	}
	for _, item := range items {
		queue <- item
	}
	close(queue)
	wg.Wait()
}
