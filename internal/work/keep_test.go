package work

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// keeping is a journal that keeps what it is told, while the target still has it.
type keeping struct {
	*memory
	target *connecttest.Memory
	kept   map[int]connect.Kept
	fails  int // how often it cannot, before it can
	early  bool
}

func (k *keeping) Keep(_ context.Context, _ int64, kept map[int]connect.Kept) error {
	if k.fails > 0 {
		k.fails--
		return errAway
	}
	k.kept = kept
	k.early = k.target.Object(model.Named{Kind: model.Account, Name: "ulla@%"}) != nil
	return nil
}

// What makes accounts again is kept before they are removed; when it cannot be read nothing is removed.
func TestKeepsBeforeRemoving(t *testing.T) {
	for name, c := range map[string]struct {
		trouble error
		fails   int
		want    connect.Outcome
		kept    int
	}{"kept": {nil, 0, connect.Done, 1}, "kept at last": {nil, 1, connect.Done, 1}, "not to be read": {errors.New("too slow"), 0,
		connect.OutOfReach, 0}} {
		t.Run(name, func(t *testing.T) {
			target := &connecttest.Memory{Trouble: func(op string) error {
				if op == "keep" {
					return c.trouble
				}
				return nil
			}}
			account := model.Named{Kind: model.Account, Name: "ulla@%"}
			target.Put(model.Object{Kind: account.Kind, Name: account.Name,
				Attributes: model.Pack(model.Attribute{Name: model.Disabled, Values: []string{"yes"}})})
			target.Put(model.Object{Kind: model.GroupKind, Name: "crew"})
			target.Enter(model.Named{Kind: model.GroupKind, Name: "crew"}, account)
			j := &keeping{memory: newMemory(), target: target, fails: c.fails}
			r := &Runner{Owner: "me", Journal: j, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Batch: 10,
				Reach: func(context.Context, string) (connect.Connector, connect.Access, error) {
					return target, connect.Access{Target: "a", Key: "memory"}, nil
				}}
			remove := Step{Seq: 7, Act: connecttest.Act(model.Remove, model.Account, account.Name)}
			remove.Target = "a"
			if err := r.Target(context.Background(), 1, "a", []Step{remove}, How{FailShare: -1}); err != nil {
				t.Fatal(err)
			}
			if got := j.ended[7]; got.Outcome != c.want || len(j.kept) != c.kept {
				t.Errorf("%s (%s), %d kept", got.Outcome, got.Words, len(j.kept))
			}
			if there := target.Object(account) != nil; there != (c.want != connect.Done) {
				t.Errorf("it is there: %v", there)
			}
			if k := j.kept[7]; c.kept > 0 && (!j.early || len(k.Sets) != 1 || k.Sets[0].Name != "crew") {
				t.Errorf("kept while it was there: %v; %+v", j.early, k.Sets)
			}
		})
	}
}
