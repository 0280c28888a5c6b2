package intake

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
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
	Leaving   []string          `json:"leaving" doc:"users who were taken away there, or are not active any more, and would have left as of yesterday"`
	NotTheirs []string          `json:"not-theirs" doc:"users who would have left, and whom the system neither brought nor was given: nothing is done about them"`
	Back      []string          `json:"back" doc:"users who had left, and are active there again"`
	Faults    []exchange.Unread `json:"faults" doc:"of whom not enough is said; the others go on"`
	Edits     []declare.Edit    `json:"edits"`
	Mark      string            `json:"mark" doc:"stands for these very edits: whoever takes them says it"`
	On        int               `json:"revision" doc:"of the declaration, on which it was worked out"`
	Held      string            `json:"held,omitempty" doc:"why it is not taken by itself, nor without saying how many leave"`
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

// unfitRounds bounds how often a proposal is worked out again without those of whom the declaration cannot say it.
const unfitRounds = 4

func (s *Intake) propose(ctx context.Context, c *declared.Current, from Source) (Proposal, error) {
	stay, gone, faults, err := s.pushed(ctx, from)
	if err != nil {
		return Proposal{}, err
	}
	taken := reserved(c)
	stay = slices.DeleteFunc(stay, func(u exchange.User) bool {
		if c.Declared.Users[u.ID] != nil {
			return false
		}
		why := taken(u.ID)
		if why != "" {
			faults = append(faults, exchange.Unread{Line: u.Line, Words: u.ID + ": " + why})
		}
		return why != ""
	})
	for round := 1; ; round++ {
		out := s.amount(c, from, stay, gone)
		if err := errors.Join(s.theirs(ctx, from, &out), s.hold(ctx, c, from, &out)); err != nil {
			return out, err
		}
		unfit, err := s.unfit(ctx, out.Edits)
		if err != nil {
			return out, err
		}
		if len(unfit) == 0 || round == unfitRounds {
			out.Faults = append(out.Faults, faults...)
			text, err := json.Marshal(out.Edits)
			hash := sha256.Sum256(text)
			out.Mark = hex.EncodeToString(hash[:])
			return out, err
		}
		stay = slices.DeleteFunc(stay, func(u exchange.User) bool {
			why := unfit[u.ID]
			if why != "" {
				faults = append(faults, exchange.Unread{Line: u.Line, Words: u.ID + ": " + why})
			}
			return why != ""
		})
	}
}

// pushed are the people whom a system has pushed in: those who stay, those who are gone by their login, and of whom too little
// is said.
func (s *Intake) pushed(ctx context.Context, from Source) (stay []exchange.User, gone []string, faults []exchange.Unread, err error) {
	ids := map[string]string{} // of the people, by the id that each is known by there: managers are named so
	line := 0
	unread := func(p store.Pushed, err error) {
		faults = append(faults, exchange.Unread{Line: line, Words: door.ClipTo(p.Name, 100) + ": " + err.Error()})
	}
	err = s.Store.EachPushed(ctx, from.Name, func(p store.Pushed) bool {
		line++
		x, err := person(p)
		if err != nil {
			unread(p, err)
			return true
		}
		if p.Gone || x.Resource.Get("active") == false { // who leaves need not be described
			gone = append(gone, cmp.Or(word(x.Resource, from.Settings.Fields["id"]), x.Resource.Text("userName")))
			return true
		}
		u, err := asUser(x.Resource, from.Settings)
		if err != nil {
			unread(p, err)
			return true
		}
		u.Line = line
		ids[p.ID] = u.ID
		stay = append(stay, u)
		return true
	})
	for i := range stay {
		stay[i].Manager = cmp.Or(ids[stay[i].Manager], stay[i].Manager)
	}
	stay, faults = exchange.Gather(stay, faults)
	return stay, gone, faults, err
}

// amount is what those who stay and those who are gone amount to.
func (s *Intake) amount(c *declared.Current, from Source, stay []exchange.User, gone []string) Proposal {
	out := Proposal{Source: from.Name, On: c.Revision, Leaving: []string{}, Back: []string{}, Faults: []exchange.Unread{},
		Edits: []declare.Edit{}}
	here := map[string]bool{}
	for _, u := range stay {
		here[u.ID] = true
	}
	for i := range stay {
		if m := stay[i].Manager; !here[m] && c.Declared.Users[m] == nil {
			stay[i].Manager = "" // somebody whom it has not pushed, or who cannot be declared
		}
	}
	edits, sum := exchange.Edits(c.Declared, stay, from.Settings.Roles, from.Settings.File, c.Filled)
	out.Summary = sum
	out.Edits = append(out.Edits, edits...)
	s.comeAndGo(c, stay, gone, &out)
	return out
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
	if err := bounded(u); err != nil {
		return u, err
	}
	for _, text := range append([]string{u.ID, u.Name, u.Given, u.Family, u.Mail, u.Manager}, slices.Collect(maps.Values(u.Details))...) {
		if strings.Contains(text, "${") {
			return u, errors.New("it holds ${, which the declaration would take for something to work out")
		}
	}
	return u, nil
}

// Take takes a system's proposal as a revision of the declaration. mark is the proposal's that whoever takes it has seen, and
// leaving how many leave by it: of one that is held it must be that many. What is another one by now is not taken.
func (s *Intake) Take(ctx context.Context, who door.Operator, source, mark, because string, leaving int) (declared.Revision, error) {
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
	if mark != p.Mark {
		return declared.Revision{},
			door.Clashing("what %s would change is no more what %q stands for; look again: roost intake show %s", source,
				mark, source)
	}
	if p.Held != "" && leaving != len(p.Leaving) {
		return declared.Revision{}, door.Clashing("%s; to take it all the same, say how many leave: roost intake take %s %s --leaving %d",
			p.Held, source, p.Mark, len(p.Leaving))
	}
	if _, err := door.Reason(because); err != nil {
		return declared.Revision{}, err
	}
	if err := s.note(ctx, source, p); err != nil {
		return declared.Revision{}, err
	}
	return s.Edit(ctx, who, p.On, p.Edits, because)
}
