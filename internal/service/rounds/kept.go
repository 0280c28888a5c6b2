package rounds

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/store"
)

// KeptFor is how long an account that was removed can be made again as it was: then what is known of its password is forgotten.
const KeptFor = 365 * 24 * time.Hour

// kept is what makes an account again that a step has removed. It is stored sealed: how its password is kept is in it.
type kept struct {
	Changes []model.Change
	Sets    []model.Named
	Hash    []byte
}

// Keep implements work.Journal.
func (j journal) Keep(ctx context.Context, round int64, list map[int]connect.Kept) error {
	sealed := make(map[int][]byte, len(list))
	for seq, k := range list {
		b, err := json.Marshal(kept{k.Changes, k.Sets, k.Hash.Reveal()})
		if err != nil {
			return err
		}
		x, err := j.s.Sealed(b)
		if err != nil {
			return err
		}
		sealed[seq] = x.Body
	}
	return j.s.Store.KeepRemoved(ctx, round, sealed, j.s.Now())
}

func (s *Carrier) openKept(body []byte) (k kept, err error) {
	plain, err := s.Open(body)
	if err == nil {
		err = json.Unmarshal(plain, &k)
	}
	return k, err
}

// keptOf is what makes the accounts again that a round has removed, by step. A password is in it by the id under which
// unseal finds it.
func (s *Carrier) keptOf(ctx context.Context, id int64) (map[int]*round.Kept, error) {
	bodies, err := s.Store.Removed(ctx, id)
	if err != nil {
		return nil, err
	}
	out := map[int]*round.Kept{}
	for seq, body := range bodies {
		k, err := s.openKept(body)
		if err != nil {
			return nil, err
		}
		if len(k.Hash) > 0 {
			k.Changes = append(k.Changes, model.Change{Attribute: model.PasswordKept, Sealed: fmt.Sprintf(keptID, id, seq)})
		}
		out[seq] = &round.Kept{Changes: k.Changes, Sets: k.Sets}
	}
	return out, nil
}

// keptID is the id of the password of an account that was removed: by which step of which round.
const keptID = "removed %d %d"

// unseal opens a sealed value of an act.
func (s *Carrier) unseal(ctx context.Context, id string) (connect.Secret, error) {
	var of int64
	var seq int
	if n, _ := fmt.Sscanf(id, keptID, &of, &seq); n != 2 {
		return s.Unseal(ctx, id)
	}
	body, err := s.Store.RemovedBy(ctx, of, seq)
	if err == store.ErrNone {
		return connect.Secret{}, errors.New("is no longer kept")
	}
	if err != nil {
		return connect.Secret{}, err
	}
	k, err := s.openKept(body)
	return connect.Seal(k.Hash), err
}
