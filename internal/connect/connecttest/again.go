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
	for i, a := range connect.Apply(context.Background(), x.open(), acts) {
		if a.Outcome != connect.Done {
			x.Errorf("made again, step %d: %s %s", i, a.Outcome, a.Words)
		}
	}
	open := x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"))
	x.try("opened", []model.Act{open}, connect.Done)
	last := "six" // see secrets and elevation
	if x.Elevates {
		last = "five"
	}
	if p, words := connect.Prove(context.Background(), x.open(), x.name, connect.Seal([]byte(last+thePassword))); p != connect.Proved {
		x.Errorf("its password is not what it was: %s %s", p, words)
	}
	if len(k.Sets) == 0 {
		x.Error("it was in nothing")
	}
	x.try("removed for good", []model.Act{x.account(model.Remove, x.name)}, connect.Done)
}

// Keep implements connect.Offers.
func (s *memorySession) Keep(_ context.Context, accounts []string) (map[string]connect.Kept, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.trouble("keep"); err != nil {
		return nil, err
	}
	out := map[string]connect.Kept{}
	for _, name := range accounts {
		n := model.Named{Kind: model.Account, Name: name}
		o := s.objects[n]
		if o == nil {
			continue
		}
		k := connect.Kept{Hash: connect.Seal([]byte(s.secrets[n]))}
		for attribute, values := range o.Attributes.All() {
			if a, _ := MemorySchema.Find(model.Account, attribute); a.Settable || attribute == model.Disabled {
				k.Changes = append(k.Changes, model.Change{Attribute: attribute, After: values})
			}
		}
		for move, in := range s.members {
			if in && move[1] == n {
				k.Sets = append(k.Sets, move[0])
			}
		}
		out[name] = k
	}
	return out, nil
}
