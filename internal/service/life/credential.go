package life

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
)

const (
	passwordKind = "password"
	hashKind     = "hash" // of a password that its person has
	keyKind      = "key"
)

// Rotated is what came of asking for new passwords.
type Rotated struct {
	Round     rounds.Round `json:"round" doc:"that sets them; its id is 0 when there is nothing to set"`
	Handovers []Handover   `json:"handovers"`
	Left      []LeftOut    `json:"left" doc:"accounts that get none, and why"`
	Links     []Linked     `json:"links,omitempty" doc:"of few people: how each collects it; neither link nor code can be had again"`
	Words     string       `json:"words"`
}

// LeftOut is an account that something is not done to, and why.
type LeftOut struct {
	User   string `json:"user"`
	Target string `json:"target,omitempty"`
	Name   string `json:"name,omitempty"`
	Words  string `json:"words"`
}

const linksMost = 20 // people for whom links come at once

// acting is an operator who has the duty for one thing that is done through a round.
func acting(who door.Operator) door.Operator {
	return door.Operator{Name: who.Name, Duties: []door.Duty{door.Look, door.Draft, door.Approve, door.Run}}
}

// linkedTo returns handovers in the order of their numbers and, of few where that is wanted, links to them.
func (s *Life) linkedTo(ctx context.Context, who door.Operator, ids []int64, links bool) (list []Handover, out []Linked, err error) {
	at, err := s.handoversByID(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	list = make([]Handover, 0, len(ids))
	for _, id := range ids {
		h := at[id]
		if links && len(ids) <= linksMost {
			l, err := s.LinkTo(ctx, who, id)
			if err != nil {
				return list, out, err
			}
			h.Linked = true
			out = append(out, l)
		}
		list = append(list, h)
	}
	return list, out, nil
}

func lasting(d time.Duration) (time.Duration, error) {
	switch {
	case d == 0:
		return lastsUsual, nil
	case d < lastsLeast || d > lastsMost:
		return 0, door.Wrong("lasts", "%s; a handover waits for between a minute and 90 days", d)
	}
	return d, nil
}

// carryOut drafts a round of acts and, unless it is held, runs it.
func (s *Life) carryOut(ctx context.Context, who door.Operator, acts []model.Act, because string) (rounds.Round, error) {
	r, err := s.Ask(ctx, who, acts, because)
	if err != nil || r.ID == 0 || r.State == rounds.OnHold {
		return r, err
	}
	if _, err := s.Approve(ctx, who, r.ID); err != nil {
		return r, err
	}
	return s.RunRound(ctx, who, r.ID)
}

// forOne is the declaration for an operator who may give one person a credential. Who is cut off gets none.
func (s *Life) forOne(ctx context.Context, who door.Operator, user string) (*declared.Current, error) {
	if err := who.May(door.Credential); err != nil {
		return nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.Check(declared.Choice{Users: []string{user}}); err != nil {
		return nil, err
	}
	cut, err := s.Store.SuspendedAmong(ctx, []string{user})
	if err == nil && cut[user] {
		err = door.Clashing("%s is suspended; end that first: roost restore %s", user, user)
	}
	return c, err
}
