package connecttest

import (
	"context"
	"errors"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// renewal gives our own login another secret and takes the first away, and the other
// way round: nobody is locked out in between, and what was taken away is refused.
func (x suite) renewal() {
	ctx := context.Background()
	if x.schema.Renews != (x.Fresh != nil) {
		x.Errorf("the schema says of renewing our login %v", x.schema.Renews)
	}
	if x.Fresh == nil {
		if err := connect.Renew(ctx, x.open(), connect.Seal([]byte("x"))); !errors.Is(err, errors.ErrUnsupported) {
			x.Errorf("it is said to be renewed: %v", err)
		}
		return
	}
	first := x.Access
	second := x.Access
	second.Secret = x.Fresh
	for _, turn := range [][2]connect.Access{{first, second}, {second, first}} {
		old, fresh := turn[0], turn[1]
		for range 2 { // twice is as once
			both := old
			both.Next = fresh.Secret
			s, err := connect.Open(ctx, x.Connector, both)
			if err != nil {
				x.Fatalf("while it is renewed: %v", err)
			}
			if err := connect.Renew(ctx, s, connect.Seal(fresh.Secret)); err != nil {
				x.Fatal(err)
			}
			s.Close()
		}
		for range 2 {
			if err := connect.Retire(ctx, Open(x, x.Connector, fresh), connect.Seal(old.Secret)); err != nil {
				x.Fatal(err)
			}
		}
		var refused *connect.Refused
		if s, err := x.Connector.Open(ctx, old); !errors.As(err, &refused) {
			if err == nil {
				s.Close()
			}
			x.Errorf("the old secret is not refused: %v", err)
		}
		if err := Open(x, x.Connector, fresh).Survey(ctx, func(model.Object) error { return nil }); err != nil {
			x.Errorf("with the fresh one: %v", err)
		}
	}
	if err := connect.Renew(ctx, x.open(), connect.Seal(nil)); err == nil {
		x.Error("our own secret is nothing")
	}
}
