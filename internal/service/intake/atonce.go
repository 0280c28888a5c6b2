package intake

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

const (
	quiet = 5 * time.Second // nothing must have been pushed for so long before it is taken by itself: people come one after the other
	again = time.Minute     // after which what could not be taken is tried once more
)

// attempts are when each system's pushes were looked at, and when they may be next.
type attempts struct {
	mu   sync.Mutex
	done map[string]time.Time // by system: the last push that was dealt with
	next map[string]time.Time
}

// due says whether a system's pushes are to be looked at now, and that nobody else looks at them for a while.
func (a *attempts) due(x Source, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !x.Settings.AtOnce || x.Last == nil || now.Sub(*x.Last) < quiet || a.done[x.Name].Equal(*x.Last) || now.Before(a.next[x.Name]) {
		return false
	}
	a.next[x.Name] = now.Add(again)
	return true
}

// settled notes that pushes up to a time were dealt with.
func (a *attempts) settled(system string, last time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.done[system] = last
	delete(a.next, system)
}

// Begin takes what is to be taken by itself, until the service's life ends.
func (s *Intake) Begin() {
	go func() {
		a := &attempts{done: map[string]time.Time{}, next: map[string]time.Time{}}
		for {
			select {
			case <-s.end.Done():
				return
			case <-time.After(quiet / 2):
			}
			if s.drops != "" {
				s.lookInto(s.drops)
			}
			if err := s.byItself(s.end, a); err != nil && s.end.Err() == nil && door.ProblemOf(err).Kind != door.NotYet {
				s.Log.Warn("what was pushed in was not looked at", "error", err)
			}
		}
	}()
}

func (s *Intake) byItself(ctx context.Context, a *attempts) error {
	sources, err := s.Sources(ctx, door.Itself)
	if err != nil {
		return err
	}
	for _, x := range sources {
		if a.due(x, s.Now()) {
			s.once("intake/"+x.Name, func(ctx context.Context) error {
				err := s.takeByItself(ctx, x)
				if err == nil {
					a.settled(x.Name, *x.Last)
				}
				return err
			})
		}
	}
	return nil
}

// takeByItself takes a proposal, or tells in the record that it is held.
func (s *Intake) takeByItself(ctx context.Context, x Source) error {
	p, err := s.Propose(ctx, door.Itself, x.Name)
	switch {
	case err != nil || p.Empty():
		return err
	case p.Held != "":
		return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
			return []*store.Entry{{At: s.Now(), Kind: "revision", Operator: x.Name, Words: fmt.Sprintf("pushed in what is held: %s; "+
				"roost intake show %s", p.Held, x.Name)}}, nil
		})
	}
	var words []string
	for _, n := range []struct {
		n    int
		what string
	}{{p.New, "new"}, {p.Changed, "changed"}, {len(p.Leaving), "leaving"}, {len(p.Back), "back"}} {
		if n.n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n.n, n.what))
		}
	}
	if err := s.note(ctx, x.Name, p); err != nil {
		return err
	}
	who := door.Operator{Name: x.Name, Duties: []door.Duty{door.Draft, door.Look}}
	_, err = s.Edit(ctx, who, p.On, p.Edits, "pushed in: "+strings.Join(words, ", "))
	return err
}
