package life

import (
	"cmp"
	"context"
	"slices"
	"time"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Moment is one point, or stretch, on a person's line of time.
type Moment struct {
	Day   string `json:"day" doc:"when it began, or begins"`
	Until string `json:"until,omitempty" doc:"its last day, of what has one"`
	What  string `json:"what" enum:"joined,role,suspended,restored,handover,left" doc:"joined and left: also of days to come"`
	Words string `json:"words"`
	When  string `json:"when" enum:"past,now,to come"`
}

const (
	past   = "past"
	now    = "now"
	toCome = "to come"
)

// suspensionsShown bounds how many suspensions, and handovers, a line of time goes back.
const suspensionsShown = 50

// TimeLine tells of a person's coming, roles, suspensions, credentials and going, in order of days.
func (s *Life) TimeLine(ctx context.Context, who door.Operator, user string) ([]Moment, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.Check(declared.Choice{Users: []string{user}}); err != nil {
		return nil, err
	}
	out := declaredMoments(c, user)
	cut, err := s.Store.Suspensions(ctx, store.SuspensionFilter{User: user}, suspensionsShown)
	if err != nil {
		return nil, err
	}
	for _, x := range cut {
		m := Moment{Day: day(x.At), What: "suspended", Words: "by " + x.Operator + ": " + x.Because, When: now}
		if x.EndedAt == nil { // the declaration says so too
			out = slices.DeleteFunc(out, func(m Moment) bool { return m.What == "suspended" && m.When == now })
		} else {
			m.Until, m.When = day(*x.EndedAt), past
			out = append(out, Moment{Day: day(*x.EndedAt), What: "restored", Words: "by " + x.EndedBy + ": " + x.EndedBecause, When: past})
		}
		out = append(out, m)
	}
	handed, err := s.Store.Handovers(ctx, store.HandoverFilter{User: user}, suspensionsShown)
	if err != nil {
		return nil, err
	}
	for _, h := range handed {
		m := Moment{Day: day(h.MadeAt), What: "handover", Words: h.What + " made by " + h.Operator + ", " + h.State, When: past}
		if h.State == Made || h.State == ToCollect {
			m.When = now
		} else if h.EndedBy != "" {
			m.Words += ": " + h.EndedBy
		}
		out = append(out, m)
	}
	slices.SortStableFunc(out, func(a, b Moment) int { return cmp.Compare(a.Day, b.Day) })
	return out, nil
}

func day(at time.Time) string { return at.UTC().Format(time.DateOnly) }

// declaredMoments are those that the declaration tells of.
func declaredMoments(c *declared.Current, user string) []Moment {
	today, u := c.Plan.Day, c.Declared.Users[user]
	out := []Moment{}
	add := func(m Moment) {
		switch {
		case m.Day > today:
			m.When = toCome
		case m.Until != "" && m.Until < today, m.What == "left" || m.What == "joined":
			m.When = past
		default:
			m.When = now
		}
		out = append(out, m)
	}
	if u.Span.From != "" {
		add(Moment{Day: u.Span.From, What: "joined", Words: "first day"})
	}
	if u.Span.Until != "" {
		add(Moment{Day: u.Span.Until, What: "left", Words: "last day"})
	}
	for _, h := range u.Roles {
		m := Moment{Day: cmp.Or(h.Span.From, u.Span.From), Until: h.Span.Until, What: "role", Words: h.Name}
		if h.Because != "" {
			m.Words += ": " + h.Because
		}
		add(m)
	}
	if x := u.Suspended; x.Since != "" {
		add(Moment{Day: x.Since, What: "suspended", Words: "declared: " + x.Because})
	}
	return out
}
