package door

import (
	"context"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/store"
)

// What one operator asks for that guards power, another approves. A team of one
// is not stuck by that: as long as nobody else could approve, the operator who
// asked approves with their password anew, and the record says so.

// activeFor is how long after their last sign-in an operator counts as somebody who could approve.
const activeFor = 90 * 24 * time.Hour

// Second is how a second look at something is asked for.
type Second struct {
	Authors  []string // who made what is to be approved
	Needs    []Duty   // that it takes
	What     string   // it is, for the words of a refusal: "round 4"
	Password string   // of who approves, asked for anew where they are alone; "" when it was not given
	From     string   // the address the wish came from
}

// Approver says whether an operator may approve. own is true when they approve
// what they made themselves, since nobody else could. A Problem of kind
// PasswordNeeded asks for their password.
func (s *Door) Approver(ctx context.Context, who Operator, q Second) (own bool, err error) {
	for _, d := range q.Needs {
		if err := who.May(d); err != nil {
			return false, err
		}
	}
	if who.Name == Itself.Name {
		return false, nil // whoever is on the server itself can do anything there
	}
	if !slices.Contains(q.Authors, who.Name) {
		for _, a := range q.Authors {
			if err := s.Apart(ctx, who, a); err != nil {
				return false, err
			}
		}
		return false, nil
	}
	others, err := s.othersWith(ctx, who.Name, q.Needs)
	switch {
	case err != nil:
		return false, err
	case len(others) > 0:
		return false, Clashing("%s: you made it yourself, so somebody else must approve it: %s could", q.What, fewNames(others))
	case q.Password == "":
		return false, &Problem{Kind: PasswordNeeded, Field: "password",
			Words: q.What + ": you made it yourself, and nobody else could approve it; confirm it with your password"}
	}
	if err := s.checkSignIn(ctx, who.Name, q.Password, q.From); err != nil {
		if ProblemOf(err).Kind == SignedOut {
			return false, Wrong("password", "that is not your password")
		}
		return false, err
	}
	return true, nil
}

// aloneKept is for how long the overview tells of what somebody approved alone.
const aloneKept = 7 * 24 * time.Hour

// AloneEntry is the record's entry, beside that of the act, of what an operator approved of their own.
func (s *Door) AloneEntry(who Operator, what string, round int64) *store.Entry {
	return &store.Entry{At: s.Now(), Kind: "alone", Operator: who.Name, Round: round,
		Words: ClipTo("approved alone, since nobody else could, and gave the password anew: "+what, 2000)}
}

// ApprovedAlone are the last entries of that kind, of some days.
func (s *Door) ApprovedAlone(ctx context.Context) ([]Entry, error) {
	list, _, err := s.Store.Entries(ctx, store.EntryFilter{Kind: "alone"}, 3)
	out := []Entry{}
	for _, e := range list {
		if s.Now().Sub(e.At) < aloneKept {
			out = append(out, EntryOf(e))
		}
	}
	return out, err
}

// Alone says whether nobody else has the duties.
func (s *Door) Alone(ctx context.Context, who Operator, needs ...Duty) (bool, error) {
	if _, err := s.Store.Operator(ctx, who.Name); err != nil {
		if err == store.ErrNone {
			err = nil // the service itself is not alone: it is nobody
		}
		return false, err
	}
	others, err := s.othersWith(ctx, who.Name, needs)
	return len(others) == 0, err
}

// othersWith are the other operators who could approve what takes some duties. Those who are too new to be somebody else do
// not count, but to those who are newer still; those who were removed, or lost a duty, not long ago do: nobody makes themselves alone.
func (s *Door) othersWith(ctx context.Context, name string, needs []Duty) ([]string, error) {
	rows, err := s.Store.Operators(ctx)
	if err != nil {
		return nil, err
	}
	tokens, err := s.Store.Tokens(ctx, "")
	if err != nil {
		return nil, err
	}
	now, mine := s.Now(), time.Time{}
	if i := slices.IndexFunc(rows, func(o store.Operator) bool { return o.Name == name }); i >= 0 {
		mine = rows[i].MadeAt
	}
	active := map[string]bool{}
	note := func(name string, at *time.Time) {
		active[name] = active[name] || at != nil && now.Sub(*at) < activeFor
	}
	for _, t := range tokens {
		note(t.Operator, t.UsedAt)
	}
	var out []string
	for _, o := range rows {
		note(o.Name, o.SignedInAt)
		older := s.settled(o) || o.MadeAt.Before(mine) // nobody is alone by being new
		if o.Name != name && active[o.Name] && older && haveAll(operatorOf(o).Duties, needs) {
			out = append(out, o.Name)
		}
	}
	parted, err := s.Store.PartedSince(ctx, now.Add(-s.Probation))
	for _, p := range parted {
		older := p.At.Sub(p.MadeAt) > s.Probation || p.MadeAt.Before(mine)
		if p.Name != name && older && haveAll(operatorOf(store.Operator{Duties: p.Duties}).Duties, needs) && !slices.Contains(out, p.Name) {
			until := p.At.Add(s.Probation).UTC().Format(time.DateOnly)
			out = append(out, p.Name+" (until "+until+", though no longer an operator with that duty)")
		}
	}
	return out, err
}

// settled says whether an operator was made long enough ago to be somebody of their own.
func (s *Door) settled(o store.Operator) bool { return s.Now().Sub(o.MadeAt) > s.Probation }

// parting notes an operator who loses duties, so that nobody is alone by that at once.
func (s *Door) parting(ctx context.Context, tx *store.Tx, o store.Operator, left []Duty) error {
	had := operatorOf(o).Duties
	if haveAll(left, had) {
		return nil
	}
	return tx.PutParted(ctx, store.Parted{Name: o.Name, Duties: joined(had), MadeAt: o.MadeAt, At: s.Now()})
}

func haveAll(duties, needs []Duty) bool {
	return !slices.ContainsFunc(needs, func(d Duty) bool { return !slices.Contains(duties, d) })
}

func fewNames(names []string) string {
	if len(names) > 5 {
		names = append(slices.Clone(names[:5]), "and others")
	}
	return strings.Join(names, ", ")
}
