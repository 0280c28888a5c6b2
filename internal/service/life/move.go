package life

import (
	"context"
	"slices"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

// MoveRequest says what somebody does from a day on.
type MoveRequest struct {
	User    string
	To      []string      // roles that begin
	Keep    []string      // roles that go on; all others that were given by name end
	On      string        // the day on which it changes; "" today
	Overlap time.Duration // for so long the old ones go on beside, in whole days
	Because string
	Look    bool
}

// overlapMost bounds for how long somebody does two things.
const overlapMost = 366 * 24 * time.Hour

// Move changes what somebody does on a day: roles begin, and the old ones end, at
// once or after an overlap.
func (s *Life) Move(ctx context.Context, who door.Operator, q MoveRequest) (Passage, error) {
	c, because, err := s.passing(ctx, who, q.Look, q.Because)
	if err != nil {
		return Passage{}, err
	}
	if err := c.Check(declared.Choice{Users: []string{q.User}}); err != nil {
		return Passage{}, err
	}
	today := s.Now().Truncate(24 * time.Hour)
	on, err := dayOr("on", q.On, today)
	if err != nil {
		return Passage{}, err
	}
	if on.Before(today) {
		return Passage{}, door.Wrong("on", "%s has gone by", q.On)
	}
	if q.Overlap < 0 || q.Overlap > overlapMost || q.Overlap%(24*time.Hour) != 0 {
		return Passage{}, door.Wrong("overlap", "%s; it is whole days, at most a year: 14d", q.Overlap)
	}
	edits, err := moving(c, q, on, today)
	if err != nil {
		return Passage{}, err
	}
	return s.pass(ctx, who, c, q.User, edits, on.Add(q.Overlap), because, q.Look)
}

// moving are the edits of a move.
func moving(c *declared.Current, q MoveRequest, on, today time.Time) (edits []declare.Edit, err error) {
	u := c.Declared.Users[q.User]
	if len(q.To) == 0 {
		return nil, door.Wrong("to", "say which roles begin")
	}
	for _, r := range append(slices.Clone(q.To), q.Keep...) {
		if c.Declared.Roles[r] == nil {
			return nil, door.NotKnown("role", r, door.KeysOf(c.Declared.Roles))
		}
	}
	for _, r := range q.Keep {
		if _, n := held(u, r); n == 0 {
			return nil, door.Clashing("%s does not hold %s by name, so it cannot be kept", q.User, r)
		}
	}
	edit := func(do string, value any) {
		edits = append(edits, declare.Edit{Section: "users", Name: q.User, Key: "roles", Do: do, Value: value})
	}
	last := on.Add(q.Overlap).AddDate(0, 0, -1).Format(time.DateOnly)
	for _, h := range u.Roles {
		switch {
		case slices.Contains(q.To, h.Name):
			return nil, door.Clashing("%s is given the role %s already; roost extend and roost edit change its days", q.User, h.Name)
		case slices.Contains(q.Keep, h.Name) || h.Span.Until != "" && h.Span.Until <= last:
			continue // it goes on, or ends by itself before
		}
		if _, n := held(u, h.Name); n > 1 {
			return nil, door.Clashing("%s is given the role %s several times; what is not given once is edited", q.User, h.Name)
		}
		edit(declare.Take, h.Name)
		if first := today.AddDate(0, 0, -1).Format(time.DateOnly); last <= first || h.Span.From > last {
			continue // it ends at once
		}
		value := map[string]any{"role": h.Name, "until": last}
		if h.Span.From != "" {
			value["from"] = h.Span.From
		}
		if h.Because != "" {
			value["because"] = h.Because
		}
		edit(declare.Add, value)
	}
	for _, r := range q.To {
		if on.After(today) {
			edit(declare.Add, map[string]any{"role": r, "from": on.Format(time.DateOnly)})
		} else {
			edit(declare.Add, r)
		}
	}
	return edits, nil
}
