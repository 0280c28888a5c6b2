package seen

import (
	"context"
	"errors"
	"slices"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Explanation says why a person has or lacks things on a target, on a day.
type Explanation struct {
	User     string          `json:"user"`
	UserName string          `json:"user-name"`
	Target   string          `json:"target"`
	Day      string          `json:"day"`
	Revision int             `json:"revision"`
	Account  string          `json:"account,omitempty" doc:"the name of the account there"`
	Others   []string        `json:"others,omitempty" doc:"names of further accounts of theirs there, to be asked for by name"`
	State    string          `json:"state" enum:"expected,active,suspended,left" doc:"of the user, on the day"`
	Answers  []access.Answer `json:"answers"`
	Action   *Action         `json:"action,omitempty" doc:"whether they may do what was asked about"`
	SignIn   *SignIn         `json:"sign-in,omitempty" doc:"what happens when they sign in from the address that was asked about"`
}

// moment is a plan and the time by which observations are looked up.
type moment struct {
	*declared.Current
	at   time.Time
	past bool
}

// on is the declaration as it was at the end of a day, resolved for that day; "" means today.
func (s *Seen) on(ctx context.Context, day string) (moment, error) {
	today := s.Now().Format(time.DateOnly)
	if day == "" || day == today {
		c, err := s.Current(ctx)
		return moment{Current: c, at: s.Now()}, err
	}
	date, err := time.Parse(time.DateOnly, day)
	if err != nil {
		return moment{}, door.Wrong("on", "%q is not a day; write it as 2026-03-01", day)
	}
	if day > today {
		return moment{}, door.Wrong("on", "%s is still to come; what is declared for it shows with: roost check", day)
	}
	at := date.AddDate(0, 0, 1).Add(-time.Microsecond)
	rev, err := s.Store.RevisionAt(ctx, at)
	if errors.Is(err, store.ErrNone) {
		return moment{}, &door.Problem{Kind: door.NotYet, Words: "nothing was declared by the end of " + day}
	}
	if err != nil {
		return moment{}, err
	}
	c, err := s.ReadRevision(ctx, s.Newest(ctx), rev, date)
	if err != nil {
		return moment{}, err
	}
	return moment{Current: c, at: at, past: true}, nil
}

// Explain says why a user has or lacks something on a target, or all there is.
// Of several accounts of theirs there it speaks of the one that is named, or of the first.
func (s *Seen) Explain(ctx context.Context, who door.Operator, q Question) (Explanation, error) {
	user, target := q.User, q.Target
	if err := who.May(door.Look); err != nil {
		return Explanation{}, err
	}
	m, err := s.on(ctx, q.Day)
	if err != nil {
		return Explanation{}, err
	}
	if err := m.Check(declared.Choice{Users: []string{user}, Targets: []string{target}}); err != nil {
		return Explanation{}, err
	}
	p, _ := m.Plan.Person(user)
	seen, err := s.seenAt(ctx, m, p, q)
	if err != nil {
		return Explanation{}, err
	}
	out := Explanation{User: user, UserName: p.Name, Target: target, Day: m.Plan.Day, Revision: m.Revision, State: p.State,
		Answers: []access.Answer{}}
	switch {
	case q.Action != "" && q.What != "":
		return out, door.Wrong("action", "ask of an action, or of %s", q.What)
	case q.Action != "":
		out.Action, err = s.action(ctx, who, m, p, seen, q)
	default:
		if out.Answers, err = access.Explain(m.Plan.Targets[target], p, seen, q.What); err != nil {
			err = &door.Problem{Kind: door.Unknown, Words: err.Error()}
		}
	}
	if err != nil {
		return Explanation{}, err
	}
	if seen.Account != nil {
		out.Account = seen.Account.Name
	}
	for _, a := range m.Plan.Accounts(user, target) {
		if a.Name != out.Account && len(m.Plan.Accounts(user, target)) > 1 {
			out.Others = append(out.Others, a.Name)
		}
	}
	if q.From != "" {
		out.SignIn, err = s.signIn(ctx, m, out, q.From)
	}
	return out, err
}

// Question is what Explain is asked.
type Question struct {
	User, Target string
	Account      string // of theirs there; "" for the only one, or the first
	What         string // an attribute, a set, "account"; "" for all there is
	Action       string // something to be done there, in place of What
	Day          string // "" for today
	From         string // an address that they sign in from; "" for none
}

// seenAt is what a survey knew of a person on a target at a moment.
func (s *Seen) seenAt(ctx context.Context, m moment, p *resolve.Person, q Question) (access.Seen, error) {
	target := q.Target
	if m.past {
		return s.seenBefore(ctx, m, p, q)
	}
	row, err := s.Store.Target(ctx, target)
	if err != nil {
		return access.Seen{}, err
	}
	seen := access.Seen{Surveyed: row.SurveyedAt != nil}
	name := q.Account
	links, err := s.Store.LinksOf(ctx, p.ID)
	if err != nil {
		return seen, err
	}
	for _, l := range links {
		if l.Target == target && (name == "" || name == l.Name) {
			name, seen.Adopted = l.Name, true
		}
	}
	findings, _, err := s.Store.Findings(ctx, store.FindingFilter{Targets: []string{target}, Users: []string{p.ID}}, "",
		door.PageMost)
	if err != nil {
		return seen, err
	}
	for _, f := range findings {
		if f.Object != model.Account || f.Moves() || q.Account != "" && f.Name != q.Account {
			continue
		}
		if f.Kind != model.Unmatched && name == "" && f.Verb != model.Create {
			name = f.Name
		}
		seen.Note = string(f.Kind) + ": " + round.What(f.Act)
		if f.Note != "" {
			seen.Note = string(f.Kind) + ": " + f.Note
		}
	}
	if name == "" {
		return seen, nil
	}
	o, err := s.Store.Object(ctx, target, model.Account, name)
	if errors.Is(err, store.ErrNone) {
		return seen, nil
	}
	if err != nil {
		return seen, err
	}
	seen.Account = &o
	seen.Sets, err = s.Store.SetsOf(ctx, target, model.Named{Kind: model.Account, Name: name})
	return seen, err
}

// seenBefore is seenAt for a day that is over: the target as it was is looked through.
func (s *Seen) seenBefore(ctx context.Context, m moment, p *resolve.Person, q Question) (access.Seen, error) {
	target := q.Target
	accounts, others, err := s.Store.ObservedAt(ctx, target, m.at)
	if err != nil {
		return access.Seen{}, err
	}
	links, err := s.Store.LinksAt(ctx, target, m.at)
	if err != nil {
		return access.Seen{}, err
	}
	seen := access.Seen{Surveyed: len(accounts)+len(others) > 0}
	name := q.Account
	if list := m.Plan.Accounts(p.ID, target); len(list) > 0 && name == "" {
		name = list[0].Name
	}
	for _, l := range links {
		if l.User == p.ID && (q.Account == "" || q.Account == l.Name) {
			name, seen.Adopted = l.Name, true
		}
	}
	for i := range accounts {
		if accounts[i].Name == name && name != "" {
			seen.Account = &accounts[i]
		}
	}
	for _, o := range others {
		if seen.Account != nil && slices.Contains(o.Attributes.Get(model.Members), name) {
			seen.Sets = append(seen.Sets, model.Named{Kind: o.Kind, Name: o.Name})
		}
	}
	return seen, nil
}
