package store

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
)

// Ending is what the end of a batch of steps on one target leaves to be stored.
type Ending struct {
	Round        int64
	Target       string
	At           time.Time
	Steps        []Step         // their numbers, outcomes and words
	Read         []model.Object // as they were read back
	Gone         []model.Named
	Removed      []model.Act // of accounts, that were done: what was put right of them is not contested by that
	Moves        []Move
	Given, Taken []model.Link
	Mended       []string // keys of what was put right
	Forget       []string // keys of what was changed on purpose
	Handed       []HandedOut
	Archives     []Archive // homes that wait there to be fetched
	Except       Exception // of what was changed against the declaration
	Purpose      []string  // keys of the acts that would open what was shut on purpose
}

// EndBatch stores an ending, all or nothing. It returns how many of the steps
// ran until now: when they are fewer than all, nothing should be kept.
func (tx *Tx) EndBatch(ctx context.Context, e Ending) (int, error) {
	if err := tx.Disturbed(ctx, e.Target); err != nil {
		return 0, err
	}
	ended, err := tx.EndSteps(ctx, e.Round, e.Steps, e.At)
	if err != nil || int(ended) < len(e.Steps) {
		return int(ended), err
	}
	for _, write := range []func() error{
		func() error { return tx.forgetRemoved(ctx, e) },
		func() error { return tx.PutObjects(ctx, e.Target, e.Read, e.Gone, e.At) },
		func() error { return tx.PutMoves(ctx, e.Target, e.Moves, e.At) },
		func() error { return tx.PutLinks(ctx, e.Target, e.Given, e.Round, e.At) },
		func() error { return tx.DropLinks(ctx, e.Target, e.Taken, e.At) },
		func() error { return tx.ForgetMended(ctx, e.Target, e.Forget) },
		func() error { return tx.handOut(ctx, e.Handed, e.At) },
		func() error { return tx.AwaitArchives(ctx, e.Archives) },
		func() error { return tx.NotePurpose(ctx, e.Target, e.Purpose, e.Round, e.At) },
		func() error { return tx.except(ctx, e.Target, e.Except, e.At) },
		func() error { return tx.NoteMended(ctx, e.Target, e.Mended, e.Round, e.At) },
	} {
		if err := write(); err != nil {
			return int(ended), err
		}
	}
	return int(ended), nil
}

// forgetRemoved forgets that accounts which steps removed were made, and brought into sets: that they are gone is our own doing.
func (tx *Tx) forgetRemoved(ctx context.Context, e Ending) error {
	user, gone := map[string]string{}, []objectKey{}
	var keys []string
	for _, a := range e.Removed {
		user[a.Name] = a.User
		gone = append(gone, objectKey{a.Object.String(), a.Name})
		a.Verb = model.Create
		keys = append(keys, a.Key())
	}
	moves, err := tx.leavings(ctx, e.Target, gone)
	if err != nil {
		return err
	}
	for _, m := range moves {
		a := model.Act{Target: e.Target, Verb: model.JoinIt, Object: m.Set.Kind, Name: m.Set.Name, Member: m.Member.Name,
			MemberKind: m.Member.Kind, User: user[m.Member.Name]}
		keys = append(keys, a.Key())
	}
	return tx.ForgetMended(ctx, e.Target, keys)
}

// Exception is that findings, if they come, are accepted until a day, and no longer where that is nil.
type Exception struct {
	Keys        []string
	Until       *time.Time
	By, Because string
}

func (tx *Tx) except(ctx context.Context, target string, x Exception, at time.Time) error {
	for from, to := range groups(len(x.Keys), 500) {
		var args []any
		for _, key := range x.Keys[from:to] {
			id, err := findingID(key)
			if err != nil {
				return err
			}
			args = append(args, target, id, x.Until, x.By, x.Because, at)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO care (target, id, accepted_until, accepted_by, because, at) VALUES `+
			rows(to-from, 6)+` ON DUPLICATE KEY UPDATE accepted_until = VALUES(accepted_until), accepted_by = VALUES(accepted_by),
				because = VALUES(because), at = VALUES(at)`, args...); err != nil {
			return err
		}
	}
	return nil
}
