package work

import (
	"context"

	"hen-roost/internal/connect"
)

// Guard says which steps may not be carried out; read reads the target as it is now.
type Guard func(ctx context.Context, steps []Step, read Read) (Refusal, error)

// Refusal is what a guard refuses.
type Refusal struct {
	All  string         // why no step may be carried out, and the round is stopped; "" when it goes on
	Some map[int]string // by their places: steps that may not be, each with why; the others go on without them
}

// refused asks the guard, unless the target is given up already.
func (w *worker) refused(ctx context.Context, steps []Step) (refusal Refusal, err error) {
	if w.Guard == nil || w.lost != nil {
		return refusal, nil
	}
	err = w.persist(ctx, func() (err error) {
		refusal, err = w.Guard(ctx, steps, w.read)
		if w.lost != nil {
			err = nil // the target could not be read: its steps end as those of a target that cannot be reached
		}
		return err
	})
	return refusal, err
}

// spared is a step that a guard keeps from being carried out. Of one that had begun before, the target is asked what became of it.
func (w *worker) spared(ctx context.Context, s Step, why string) Result {
	one := []Result{{Step: s}}
	was := w.lost
	w.lost = &connect.Answer{Outcome: connect.NotTried, Words: "left out by a guard: " + why}
	w.giveUp(ctx, one, []int{0})
	w.lost = was
	return one[0]
}
