package service

import (
	"cmp"
	"context"
	"time"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// Watched is what has happened since somebody looked last.
type Watched struct {
	Entries []door.Entry   `json:"entries" doc:"new lines of the record, oldest first"`
	Missed  int            `json:"missed" doc:"entries that came too fast to be told here; the record has them"`
	Rounds  []rounds.Round `json:"rounds" doc:"rounds under way, as they stand now"`
	Targets []seen.Target  `json:"targets" doc:"targets that were tried since"`
	At      time.Time      `json:"at"`
	last    int64
}

const (
	watchMost = 1000   // entries told at once; more follow at the next look
	watchLag  = 20_000 // entries that somebody may be behind before some are passed over
)

// Watch tells what happened since an earlier watch, in order and without gaps;
// the zero value begins with now.
func (s *Service) Watch(ctx context.Context, who door.Operator, since Watched) (Watched, error) {
	if err := who.May(door.Look); err != nil {
		return Watched{}, err
	}
	now := Watched{Entries: []door.Entry{}, Rounds: []rounds.Round{}, Targets: []seen.Target{}, At: s.Now(), last: since.last}
	head, err := s.Store.Head(ctx)
	if err != nil {
		return now, err
	}
	if since.At.IsZero() {
		now.last = head.Seq
		return now, s.watchRounds(ctx, &now)
	}
	if behind := head.Seq - since.last; behind > watchLag {
		now.Missed = int(behind - watchMost)
		now.last = head.Seq - watchMost
	}
	if head.Seq > now.last {
		rows, _, err := s.Store.Entries(ctx, store.EntryFilter{After: cmp.Or(now.last, -1)}, watchMost)
		if err != nil {
			return now, err
		}
		for _, r := range rows {
			now.Entries, now.last = append(now.Entries, door.EntryOf(r)), r.Seq
		}
	}
	targets, err := s.AllTargets(ctx, who)
	if err != nil && door.ProblemOf(err).Kind != door.NotYet {
		return now, err
	}
	for _, t := range targets {
		if t.TriedAt != nil && t.TriedAt.After(since.At) && len(now.Targets) < watchMost {
			now.Targets = append(now.Targets, t)
		}
	}
	return now, s.watchRounds(ctx, &now)
}

// More says whether there is more to tell at once.
func (w Watched) More() bool { return len(w.Entries) == watchMost }

func (s *Service) watchRounds(ctx context.Context, now *Watched) error {
	rows, err := s.Store.UnfinishedRounds(ctx)
	if err != nil {
		return err
	}
	for _, r := range rows {
		one, err := s.RoundOf(ctx, r)
		if err != nil {
			return err
		}
		now.Rounds = append(now.Rounds, one)
	}
	return nil
}
