// Package work runs surveys and rounds: several targets at once, one worker a
// target, under leases, with a journal written before anything is tried. What
// it needs to remember goes through the Journal, which its user provides.
package work

import (
	"context"
	"fmt"
	"sync"
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
	// Put takes objects, in portions, so that they can be stored while more come.
	Put func([]model.Object) error
	// Trials are the changes that may be on trial there: they are ended before
	// anything is read. nil: there are none.
	Trials func() ([]connect.Mark, error)
}

// Survey reads a whole target. It returns how many accounts it saw that are
// people's rather than the target's own.
func Survey(ctx context.Context, c connect.Connector, a connect.Access, to Sink) (accounts int, err error) {
	s, err := c.Open(ctx, a)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	if err := settle(ctx, s, to.Trials); err != nil {
		return 0, err
	}
	const portion = 1000
	batch := make([]model.Object, 0, portion)
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := to.Put(batch)
		batch = batch[:0]
		return err
	}
	seen := 0
	err = s.Survey(ctx, func(o model.Object) error {
		if seen++; seen > ObjectsMost {
			return fmt.Errorf("it holds more than %d objects, the most that is looked after on one target", ObjectsMost)
		}
		fit(&o)
		if o.Kind == model.Account && !o.System {
			accounts++
		}
		if batch = append(batch, o); len(batch) == portion {
			return flush()
		}
		return nil
	})
	if err == nil {
		err = flush()
	}
	return accounts, err
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
