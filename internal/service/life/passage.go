package life

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// People come, move and go by edits of the declaration, which are shown first; the
// round that follows from them is run at once by those who may, and drafted for
// others. Nothing else is changed by it: it is of those people alone.

// Side is what a change means for one person on one target.
type Side = access.Side

// Passage is what came of somebody's coming, moving or going, or would.
type Passage struct {
	Meaning   declared.Meaning  `json:"meaning" doc:"what changes for people today"`
	Sides     []access.Side     `json:"sides" doc:"of one who moves or goes: what they keep, gain and lose, target by target, when all of it has come to pass"`
	By        string            `json:"by,omitempty" doc:"the day by which it has"`
	Lines     []JoinLine        `json:"lines,omitempty" doc:"of those who join: each, and what becomes of them"`
	Revision  declared.Revision `json:"revision" doc:"its number is 0 when it was only looked at"`
	Round     rounds.Round      `json:"round" doc:"that brings it to the targets; its id is 0 when there is nothing to do today"`
	Handovers []Handover        `json:"handovers"`
	Links     []Linked          `json:"links,omitempty" doc:"of few people: how each collects it; neither link nor code can be had again"`
	Words     string            `json:"words" doc:"what is true now"`
}

// passing is the declaration for an operator who may change it, and the reason, which is asked for unless it is only looked at.
func (s *Life) passing(ctx context.Context, who door.Operator, look bool, because string) (*declared.Current, string, error) {
	if err := who.May(door.Draft); err != nil {
		return nil, "", err
	}
	because, err := reasonUnless(look, because)
	if err != nil {
		return nil, "", err
	}
	c, err := s.Current(ctx)
	return c, because, err
}

func reasonUnless(look bool, because string) (string, error) {
	if look {
		return "", nil
	}
	return door.Reason(because)
}

// follow drafts what the declaration means for some people and, for those who may
// do so, runs it. words say what became of it.
func (s *Life) follow(ctx context.Context, who door.Operator, what rounds.DraftRequest, because string) (rounds.Round, string, error) {
	what.Because = because
	r, err := s.Draft(ctx, who, what)
	if err != nil {
		return r, "", err
	}
	return s.begin(ctx, who, r)
}

// begin runs a round that was drafted for those who may do so. words say what became of it.
func (s *Life) begin(ctx context.Context, who door.Operator, r rounds.Round) (rounds.Round, string, error) {
	decide := ""
	if r.Undecided > 0 {
		decide = fmt.Sprintf("; %s for a person to decide: roost drift", door.Count(r.Undecided, "finding is", "findings are"))
	}
	switch {
	case r.ID == 0:
		return r, "declared, and nothing is to be done today" + decide, nil
	case r.State == rounds.OnHold:
		return r, fmt.Sprintf("declared; round %d is held, and somebody else must approve it%s", r.ID, decide), nil
	case who.May(door.Approve) != nil || who.May(door.Run) != nil:
		return r, fmt.Sprintf("declared; round %d is drafted, for somebody who may approve and run it%s", r.ID, decide), nil
	}
	undecided, shown := r.Undecided, r.Decide
	_, err := s.Approve(ctx, who, r.ID)
	if err == nil {
		r, err = s.RunRound(ctx, who, r.ID)
	}
	r.Undecided, r.Decide = undecided, shown
	return r, fmt.Sprintf("declared; round %d brings it to the targets%s", r.ID, decide), err
}

func dayOr(field, text string, otherwise time.Time) (time.Time, error) {
	if text == "" {
		return otherwise, nil
	}
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return day, door.Wrong(field, "%q is not a day; write it as 2026-12-31", text)
	}
	return day, nil
}

// pass shows what edits mean for one person when all of it has come to pass, on a
// day and, unless it is only looked at, declares them and follows.
func (s *Life) pass(ctx context.Context, who door.Operator, c *declared.Current, user string, edits []declare.Edit, when time.Time,
	because string, look bool) (Passage, error) {
	return s.passWith(ctx, who, c, user, edits, when, because, look, func(done context.Context, before map[string]string) (rounds.Round,
		string, error) {
		fresh, err := s.freshSince(done, user, before)
		if err != nil || len(fresh) == 0 {
			return rounds.Round{}, "declared, and nothing is to be done today", err
		}
		return s.follow(done, who, rounds.DraftRequest{Findings: fresh}, because)
	})
}

// passWith is pass with what follows from it: before are the keys of what differed of the person before.
func (s *Life) passWith(ctx context.Context, who door.Operator, c *declared.Current, user string, edits []declare.Edit, when time.Time,
	because string, look bool, follows func(context.Context, map[string]string) (rounds.Round, string, error)) (Passage, error) {
	out := Passage{Handovers: []Handover{}, By: when.Format(time.DateOnly)}
	after, err := s.PlanAfter(ctx, edits, when)
	if err != nil {
		return out, err
	}
	out.Sides = access.SideBySide(c.Plan, after, user)
	if look {
		out.Meaning, _, err = s.MeansEdits(ctx, who, edits)
		return out, err
	}
	before, err := s.keysOf(ctx, user)
	if err != nil {
		return out, err
	}
	if out.Revision, err = s.Edit(ctx, who, c.Revision, edits, because); err != nil {
		return out, err
	}
	out.Round, out.Words, err = follows(context.WithoutCancel(ctx), before)
	return out, err
}

// freshSince are the keys of what differs of a person, and did not before or not in this: what did is none of an act's business.
func (s *Life) freshSince(ctx context.Context, user string, before map[string]string) (fresh []string, err error) {
	now, err := s.keysOf(ctx, user)
	for key, changes := range now {
		if was, differed := before[key]; !differed || was != changes {
			fresh = append(fresh, key)
		}
	}
	slices.Sort(fresh)
	return fresh, err
}

// keysOf are the keys of what differs of a person, each with the changes that would put it right.
func (s *Life) keysOf(ctx context.Context, user string) (map[string]string, error) {
	rows, _, err := s.Store.Findings(ctx, store.FindingFilter{Users: []string{user}}, "", door.PageMost)
	out := map[string]string{}
	for _, f := range rows {
		out[f.Key] = fmt.Sprintf("%q", f.Changes)
	}
	return out, err
}
