package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/scim"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Proposal is what the people whom a system has pushed in would change of the declaration.
type Proposal struct {
	Source string `json:"source"`
	exchange.Summary
	Leaving []string          `json:"leaving" doc:"users who were taken away there, or are not active any more, and would have left as of yesterday"`
	Back    []string          `json:"back" doc:"users who had left, and are active there again"`
	Faults  []exchange.Unread `json:"faults" doc:"of whom not enough is said; the others go on"`
	Edits   []declare.Edit    `json:"edits"`
	Held    string            `json:"held,omitempty" doc:"why it is not taken by itself, nor without saying how many leave"`
}

// Empty says whether it would change nothing.
func (p *Proposal) Empty() bool { return len(p.Edits) == 0 }

// Propose works out what a system's pushes would change.
func (s *Intake) Propose(ctx context.Context, who door.Operator, source string) (Proposal, error) {
	if err := who.May(door.Look); err != nil {
		return Proposal{}, err
	}
	from, err := s.named(ctx, source)
	if err != nil {
		return Proposal{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Proposal{}, err
	}
	return s.propose(ctx, c, from)
}

func (s *Intake) propose(ctx context.Context, c *declared.Current, from Source) (Proposal, error) {
	out := Proposal{Source: from.Name, Leaving: []string{}, Back: []string{}, Faults: []exchange.Unread{}, Edits: []declare.Edit{}}
	ids := map[string]string{} // of the people, by the id that each is known by there: managers are named so
	var stay []exchange.User
	var gone []string
	line := 0
	err := s.Store.EachPushed(ctx, from.Name, func(p store.Pushed) bool {
		line++
		x, err := person(p)
		if err != nil {
			out.Faults = append(out.Faults, exchange.Unread{Line: line, Words: p.Name + ": " + err.Error()})
			return true
		}
		u, err := asUser(x.Resource, from.Settings)
		switch {
		case err != nil:
			out.Faults = append(out.Faults, exchange.Unread{Line: line, Words: fmt.Sprintf("%s: %v", p.Name, err)})
		case p.Gone || x.Resource.Get("active") == false:
			gone = append(gone, u.ID)
		default:
			u.Line = line
			ids[p.ID] = u.ID
			stay = append(stay, u)
		}
		return true
	})
	if err != nil {
		return out, err
	}
	for i := range stay {
		if login, ok := ids[stay[i].Manager]; ok {
			stay[i].Manager = login
		} else if c.Declared.Users[stay[i].Manager] == nil {
			stay[i].Manager = "" // somebody whom it has not pushed
		}
	}
	stay, out.Faults = exchange.Gather(stay, out.Faults)
	edits, sum := exchange.Edits(c.Declared, stay, from.Settings.Roles, from.Settings.File, filled(c))
	out.Summary = sum
	out.Edits = append(out.Edits, edits...)
	s.comeAndGo(c, stay, gone, &out)
	if n, all := len(out.Leaving), len(c.Declared.Users); n > fewLeaving && n*100 > all*from.Settings.share() {
		out.Held = fmt.Sprintf("%d of %d users would leave, which is more than %d %%", n, all, from.Settings.share())
	}
	return out, nil
}

// comeAndGo proposes last days for those who are gone, and takes them back from those who came again.
func (s *Intake) comeAndGo(c *declared.Current, stay []exchange.User, gone []string, out *Proposal) {
	today := s.Now().UTC()
	yesterday := today.AddDate(0, 0, -1).Format(time.DateOnly)
	here := map[string]bool{}
	for _, u := range stay {
		here[u.ID] = true
		if known := c.Declared.Users[u.ID]; known != nil && u.Until == "" && known.Span.Until != "" &&
			known.Span.Until < today.Format(time.DateOnly) {
			out.Back = append(out.Back, u.ID)
			out.Edits = append(out.Edits, declare.Edit{Section: "users", Name: u.ID, Key: "until", Do: declare.Take})
		}
	}
	for _, id := range gone {
		known := c.Declared.Users[id]
		if known == nil || here[id] || known.Span.Until != "" && known.Span.Until <= yesterday {
			continue
		}
		out.Leaving = append(out.Leaving, id)
		out.Edits = append(out.Edits, declare.Edit{Section: "users", Name: id, Key: "until", Do: declare.Set, Value: yesterday})
	}
}

// filled is how a field of a declared user comes out.
func filled(c *declared.Current) func(id, field string) string {
	return func(id, field string) string {
		p, ok := c.Plan.Person(id)
		if !ok {
			return ""
		}
		switch field {
		case "from":
			return p.Declared.Span.From
		case "until":
			return p.Declared.Span.Until
		}
		text, _ := p.Text(field)
		return text
	}
}

// asUser is a resource as a user of the declaration.
func asUser(r scim.Resource, x Settings) (exchange.User, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return exchange.User{}, err
	}
	users, faults := exchange.ReadSCIM(string(text))
	if len(users) != 1 {
		words := "it cannot be read"
		if len(faults) > 0 {
			words = faults[0].Words
		}
		return exchange.User{}, errors.New(words)
	}
	u := users[0]
	for field, path := range x.Fields {
		if v := word(r, path); v != "" {
			if err := u.Set(field, v); err != nil {
				return u, err
			}
		}
	}
	for _, text := range append([]string{u.ID, u.Name, u.Given, u.Family, u.Mail, u.Manager}, slices.Collect(maps.Values(u.Details))...) {
		if strings.Contains(text, "${") {
			return u, errors.New("it holds ${, which the declaration would take for something to work out")
		}
	}
	return u, nil
}

// Take takes a system's proposal as a revision of the declaration. leaving is how many leave by it, as whoever takes it has seen:
// of one that is held it must be that many.
func (s *Intake) Take(ctx context.Context, who door.Operator, source, because string, leaving int) (declared.Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return declared.Revision{}, err
	}
	p, err := s.Propose(ctx, who, source)
	if err != nil {
		return declared.Revision{}, err
	}
	if p.Empty() {
		return declared.Revision{}, door.Clashing("nothing that %s has pushed would change the declaration", source)
	}
	if p.Held != "" && leaving != len(p.Leaving) {
		return declared.Revision{}, door.Clashing("%s; to take it all the same, say how many leave: roost intake take %s --leaving %d",
			p.Held,
			source, len(p.Leaving))
	}
	return s.Edit(ctx, who, 0, p.Edits, because)
}

// quiet is how long nothing must have been pushed before it is taken by itself: people come one after the other.
const quiet = 5 * time.Second

// Begin takes what is to be taken by itself, until the service's life ends.
func (s *Intake) Begin() {
	go func() {
		done := map[string]time.Time{} // by source: its last push, when that was looked at
		for {
			select {
			case <-s.end.Done():
				return
			case <-time.After(quiet / 2):
			}
			if err := s.byItself(s.end, done); err != nil && s.end.Err() == nil && door.ProblemOf(err).Kind != door.NotYet {
				s.Log.Warn("what was pushed in was not looked at", "error", err)
			}
		}
	}()
}

func (s *Intake) byItself(ctx context.Context, done map[string]time.Time) error {
	sources, err := s.Sources(ctx, door.Itself)
	if err != nil {
		return err
	}
	for _, x := range sources {
		if !x.Settings.AtOnce || x.Last == nil || s.Now().Sub(*x.Last) < quiet || done[x.Name].Equal(*x.Last) {
			continue
		}
		done[x.Name] = *x.Last
		s.once("intake/"+x.Name, func(ctx context.Context) error { return s.takeByItself(ctx, x) })
	}
	return nil
}

func (s *Intake) takeByItself(ctx context.Context, x Source) error {
	p, err := s.Propose(ctx, door.Itself, x.Name)
	if err != nil || p.Empty() || p.Held != "" {
		return err
	}
	words := []string{}
	for _, n := range []struct {
		n    int
		what string
	}{{p.New, "new"}, {p.Changed, "changed"}, {len(p.Leaving), "leaving"}, {len(p.Back), "back"}} {
		if n.n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n.n, n.what))
		}
	}
	who := door.Operator{Name: x.Name, Duties: []door.Duty{door.Draft, door.Look}}
	_, err = s.Edit(ctx, who, 0, p.Edits, "pushed in: "+strings.Join(words, ", "))
	return err
}
