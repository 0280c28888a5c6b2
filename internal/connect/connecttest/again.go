package connecttest

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// again makes an account again as it was, with its password and in what it was in, and removes it.
func (x suite) again(k connect.Kept) {
	if k.Changes == nil {
		return
	}
	create := connect.Act{Act: x.account(model.Create, x.name, append(k.Changes, model.Change{Attribute: model.PasswordKept,
		Sealed: "kept"})...),
		Secrets: map[string]connect.Secret{model.PasswordKept: k.Hash}}
	acts := []connect.Act{create}
	for _, s := range k.Sets {
		acts = append(acts, connect.Act{Act: move(model.JoinIt, s.Kind, s.Name, x.name), Stage: 60})
	}
	for i, a := range x.open().Apply(context.Background(), acts) {
		if a.Outcome != connect.Done {
			x.Errorf("made again, step %d: %s %s", i, a.Outcome, a.Words)
		}
	}
	open := x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"))
	x.try("opened", []model.Act{open}, connect.Done)
	if p, words := connect.Prove(context.Background(), x.open(), x.name, connect.Seal([]byte("four"+thePassword))); p != connect.Proved {
		x.Errorf("its password is not what it was: %s %s", p, words)
	}
	if len(k.Sets) == 0 {
		x.Error("it was in nothing")
	}
	x.try("removed for good", []model.Act{x.account(model.Remove, x.name)}, connect.Done)
}
