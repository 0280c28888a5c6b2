package work

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// keep keeps what makes accounts again that steps are about to remove.
func (w *worker) keep(ctx context.Context, steps []Step) error {
	var names []string
	for _, s := range steps {
		if s.Verb == model.Remove && s.Object == model.Account {
			names = append(names, s.Name)
		}
	}
	if names == nil || w.lost != nil || w.ready(ctx) != nil || w.lost != nil {
		return nil
	}
	during, cancel := context.WithTimeout(ctx, batchFor)
	defer cancel()
	found, err := connect.Keep(during, w.session, names)
	if err != nil {
		w.session.Close()
		w.session = nil
		w.lost = &connect.Answer{Outcome: connect.OutOfReach, Words: "what would make accounts again could not be read: " + err.Error()}
		return nil
	}
	kept := map[int]connect.Kept{}
	for _, s := range steps {
		if k, there := found[s.Name]; there && s.Verb == model.Remove && s.Object == model.Account {
			kept[s.Seq] = k
		}
	}
	if len(kept) == 0 {
		return nil
	}
	return w.persist(ctx, func() error { return w.Journal.Keep(ctx, w.round, kept) })
}
