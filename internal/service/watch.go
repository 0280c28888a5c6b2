package service

import (
	"context"
	"time"

	"hen-roost/internal/store"
)

// Watched is what has happened since somebody looked last.
type Watched struct {
	Entries []Entry   `json:"entries" doc:"new lines of the record, oldest first"`
	Missed  int       `json:"missed" doc:"entries that came too fast to be told here; the record has them"`
	Rounds  []Round   `json:"rounds" doc:"rounds under way, as they stand now"`
	Targets []Target  `json:"targets" doc:"targets that were tried since"`
	At      time.Time `json:"at"`
	last    int64
}

const watchMost = 200

// Watch tells what happened since an earlier watch; the zero value begins with now.
func (s *Service) Watch(ctx context.Context, who Operator, since Watched) (Watched, error) {
	if err := who.may(Look); err != nil {
		return Watched{}, err
	}
	now := Watched{Entries: []Entry{}, Rounds: []Round{}, Targets: []Target{}, At: s.now(), last: since.last}
	newest, err := s.Store.Entries(ctx, store.EntryFilter{}, 1)
	if err != nil {
		return now, err
	}
	if len(newest) > 0 {
		now.last = newest[0].Seq
	}
	if since.At.IsZero() {
		return now, s.watchRounds(ctx, &now)
	}
	if missed := int(now.last - since.last); missed > 0 {
		now.Missed = max(0, missed-watchMost)
		rows, err := s.Store.Entries(ctx, store.EntryFilter{}, min(missed, watchMost))
		if err != nil {
			return now, err
		}
		for i := len(rows) - 1; i >= 0; i-- {
			if rows[i].Seq > since.last {
				now.Entries = append(now.Entries, entryOf(rows[i]))
			}
		}
	}
	targets, err := s.targets(ctx, who)
	if err != nil && ProblemOf(err).Kind != NotYet {
		return now, err
	}
	for _, t := range targets {
		if t.TriedAt != nil && t.TriedAt.After(since.At) && len(now.Targets) < watchMost {
			now.Targets = append(now.Targets, t)
		}
	}
	return now, s.watchRounds(ctx, &now)
}

func (s *Service) watchRounds(ctx context.Context, now *Watched) error {
	rows, err := s.Store.UnfinishedRounds(ctx)
	if err != nil {
		return err
	}
	for _, r := range rows {
		one, err := s.round(ctx, r)
		if err != nil {
			return err
		}
		now.Rounds = append(now.Rounds, one)
	}
	return nil
}
