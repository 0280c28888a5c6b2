package life

import (
	"context"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Ending is an access that ends by itself on a day.
type Ending struct {
	User       string `json:"user"`
	Name       string `json:"name" doc:"the person's full name"`
	Role       string `json:"role,omitempty" doc:"what ends; left out with credential: everything, it is their last day"`
	Credential string `json:"credential,omitempty" enum:"key,certificate,password" doc:"what ends"`
	Target     string `json:"target,omitempty" doc:"of a password: where"`
	Account    string `json:"account,omitempty" doc:"of a password: whose"`
	Until      string `json:"until" doc:"the last day on which it holds"`
	Days       int    `json:"days" doc:"until then; 0: today"`
	Because    string `json:"because,omitempty" doc:"why the role was given"`
	At         string `json:"at" doc:"file:line:column of the declaration"`
}

// Endings are those within some days, the earliest first: a page, and how many there are in all.
type Endings struct {
	Items []Ending `json:"items"`
	Total int      `json:"total"`
}

// withinMost bounds how far ahead is looked.
const withinMost = 3660 // days

// certificatesTold bounds how many certificates a list of endings holds.
const certificatesTold = 10_000

// Ending tells what ends within some days from today.
func (s *Life) Ending(ctx context.Context, who door.Operator, within int, p door.Page) (Endings, error) {
	if err := who.May(door.Look); err != nil {
		return Endings{}, err
	}
	if within < 0 || within > withinMost {
		return Endings{}, door.Wrong("within", "%d days; between 0 and %d can be looked ahead", within, withinMost)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Endings{}, err
	}
	today := s.Now().Truncate(24 * time.Hour)
	all := access.Endings(c.Declared, today.Format(time.DateOnly), today.AddDate(0, 0, within).Format(time.DateOnly))
	certificates, err := s.Store.CertificatesEnding(ctx, today, today.AddDate(0, 0, within+1), certificatesTold)
	if err != nil {
		return Endings{}, err
	}
	for _, x := range certificates {
		all = append(all, access.Ending{User: x.User, Credential: "certificate", Until: day(x.Until)})
	}
	passwords, err := s.passwordsEnding(ctx, today, today.AddDate(0, 0, within))
	if err != nil {
		return Endings{}, err
	}
	all = append(all, passwords...)
	slices.SortStableFunc(all, func(a, b access.Ending) int { return strings.Compare(a.Until, b.Until) })
	out := Endings{Items: []Ending{}, Total: len(all)}
	page := p.Bounded()
	for _, e := range all[min(page.From, len(all)):min(page.From+page.Size, len(all))] {
		x := Ending{User: e.User, Name: c.FullName(e.User), Role: e.Role, Credential: e.Credential, Target: e.Target, Account: e.Account,
			Until: e.Until, Because: e.Because,
			At: c.Declared.Locate(e.Pos).String()}
		if day, err := time.Parse(time.DateOnly, e.Until); err == nil {
			x.Days = int(day.Sub(today) / (24 * time.Hour))
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

// passwordsEnding are the passwords that targets told of as running out, and whose last day is within two.
func (s *Life) passwordsEnding(ctx context.Context, from, to time.Time) (out []access.Ending, err error) {
	rows, _, err := s.Store.Findings(ctx, store.FindingFilter{Kinds: []string{string(model.RunningOut)}}, "", certificatesTold)
	for _, f := range rows {
		if last := f.Before().One(model.PasswordEnds); last >= day(from) && last <= day(to) {
			out = append(out, access.Ending{User: f.User, Credential: "password", Target: f.Target, Account: f.Name, Until: last})
		}
	}
	return out, err
}

// Extend lets an access end on a later day: a role of a user's, or with none named their own last day.
func (s *Life) Extend(ctx context.Context, who door.Operator, user, role, until, because string) (declared.Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return declared.Revision{}, err
	}
	if _, err := time.Parse(time.DateOnly, until); err != nil {
		return declared.Revision{}, door.Wrong("until", "%q is not a day; write it as 2026-12-31", until)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return declared.Revision{}, err
	}
	if err := c.Check(declared.Choice{Users: []string{user}}); err != nil {
		return declared.Revision{}, err
	}
	u := c.Declared.Users[user]
	edits := []declare.Edit{{Section: "users", Name: user, Key: "until", Do: declare.Set, Value: until}}
	was := u.Span.Until
	if role != "" {
		h, n := held(u, role)
		if n != 1 {
			return declared.Revision{}, door.Clashing("%s is given the role %s %s by name; what is not given once is edited", user, role,
				door.Count(n, "time", "times"))
		}
		was = h.Span.Until
		value := map[string]any{"role": role, "until": until}
		if h.Span.From != "" {
			value["from"] = h.Span.From
		}
		if h.Because != "" {
			value["because"] = h.Because
		}
		edits = []declare.Edit{{Section: "users", Name: user, Key: "roles", Do: declare.Take, Value: role},
			{Section: "users", Name: user, Key: "roles", Do: declare.Add, Value: value}}
	}
	switch what := "the role " + role; {
	case was == "":
		if role == "" {
			what = user
		}
		return declared.Revision{}, door.Clashing("%s of %s has no last day, and goes on", what, user)
	case until < was:
		return declared.Revision{}, door.Wrong("until", "it ends on %s, which is later than %s; what is to end earlier is edited", was,
			until)
	}
	return s.Edit(ctx, who, c.Revision, edits, because)
}

// held is how a user is given a role by name, and how often.
func held(u *model.User, role string) (h model.Holding, n int) {
	for _, x := range u.Roles {
		if x.Name == role {
			h, n = x, n+1
		}
	}
	return h, n
}
