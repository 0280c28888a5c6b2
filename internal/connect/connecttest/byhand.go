package connecttest

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// ByHand is a carrier that answers acts itself, without reading: for targets that are simulated.
type ByHand func(ctx context.Context, acts []connect.Act) []connect.Answer

// Object implements connect.View: nothing was read.
func (ByHand) Object(model.Named) *model.Object { return nil }

// Member implements connect.View.
func (ByHand) Member(_, _ model.Named) bool { return false }

// Judge implements connect.Carrier: whatever is asked is tried.
func (ByHand) Judge(connect.Act, connect.View) (connect.Standing, string) { return connect.Ready, "" }

// Carry implements connect.Carrier.
func (f ByHand) Carry(ctx context.Context, b *connect.Batch, ready []int) {
	acts := make([]connect.Act, len(ready))
	for k, i := range ready {
		acts[k] = b.Acts[i]
	}
	for k, a := range f(ctx, acts) {
		b.Answers[ready[k]] = a
	}
}

// ReadBack implements connect.Carrier.
func (f ByHand) ReadBack(context.Context, *connect.Batch) (connect.View, error) { return f, nil }

// Answer implements connect.Carrier: all are answered.
func (ByHand) Answer(connect.Act, connect.View, error) connect.Answer { return connect.Answer{} }
