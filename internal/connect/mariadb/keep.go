package mariadb

import (
	"context"
	"encoding/json"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Keep implements connect.Offers. What is kept of a password is every way in with what the server keeps for it.
func (s *session) Keep(ctx context.Context, accounts []string) (map[string]connect.Kept, error) {
	acts := make([]connect.Act, len(accounts))
	for i, n := range accounts {
		acts[i] = connect.Act{Act: model.Act{Verb: keeping, Object: model.Account, Name: n}}
	}
	st, err := s.lookup(ctx, acts)
	if err != nil {
		return nil, s.fail("read what makes accounts again", err)
	}
	out := map[string]connect.Kept{}
	for _, n := range accounts {
		e := st.accounts[n]
		if e == nil {
			continue
		}
		var k connect.Kept
		o := st.object(n, e)
		for name, values := range o.Attributes.All() {
			a, _ := schema.Find(model.Account, name)
			asUsual := name == passwordMost && values[0] == asTheServer
			if (a.Settable || name == model.Disabled) && !asUsual {
				k.Changes = append(k.Changes, model.Change{Attribute: name, After: values})
			}
		}
		ways, err := json.Marshal(e.priv.ways())
		if err != nil {
			return nil, err
		}
		k.Hash = connect.Seal(ways)
		k.Sets = slices.Clone(st.held(model.Named{Kind: model.Account, Name: n}))
		out[n] = k
	}
	return out, nil
}
