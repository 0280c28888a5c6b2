package seen

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// User is one line of the list of users.
type User struct {
	ID        string   `json:"id"`
	Name      string   `json:"name"`
	Number    int      `json:"number,omitempty"`
	Mail      string   `json:"mail,omitempty"`
	Service   bool     `json:"service,omitempty"`
	State     string   `json:"state" enum:"expected,active,suspended,left"`
	Suspended string   `json:"suspended,omitempty" doc:"since when and why every account is shut"`
	From      string   `json:"from,omitempty" doc:"first day, 2006-01-02"`
	Until     string   `json:"until,omitempty" doc:"last day"`
	Roles     []string `json:"roles"`
	Targets   int      `json:"targets" doc:"targets where an account is asked for"`
	Findings  int      `json:"findings"`
}

// Users is one page of users.
type Users struct {
	Items []User `json:"items"`
	Total int    `json:"total"`
	From  int    `json:"from"`
}

// Users lists declared users whose id, name, mail or role holds the text.
func (s *Seen) Users(ctx context.Context, who door.Operator, text string, p door.Page) (Users, error) {
	if err := who.May(door.Look); err != nil {
		return Users{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Users{}, err
	}
	page := p.Bounded()
	out := Users{Items: []User{}, From: page.From}
	text = strings.ToLower(strings.TrimSpace(text))
	for _, one := range c.Plan.People {
		if text != "" && !speaksOf(one, text) {
			continue
		}
		if out.Total >= page.From && len(out.Items) < page.Size {
			out.Items = append(out.Items, userOf(c, one))
		}
		out.Total++
	}
	ids := make([]string, len(out.Items))
	for i, u := range out.Items {
		ids[i] = u.ID
	}
	n, err := s.Store.CountFindingsOf(ctx, ids, c.Plan.Day)
	for i := range out.Items {
		out.Items[i].Findings = n[out.Items[i].ID]
	}
	return out, err
}

func speaksOf(p *resolve.Person, text string) bool {
	return strings.Contains(p.ID, text) || strings.Contains(strings.ToLower(p.Name), text) ||
		strings.Contains(strings.ToLower(p.Mail), text) ||
		slices.Contains(p.Roles(), text)
}

func userOf(c *declared.Current, p *resolve.Person) User {
	roles := p.Roles()
	if roles == nil {
		roles = []string{}
	}
	return User{ID: p.ID, Name: p.Name, Number: p.Declared.Number, Mail: p.Mail, Service: p.Declared.Service, State: p.State,
		From: p.Declared.Span.From, Until: p.Declared.Span.Until,
		Roles: roles, Targets: targetsOf(c.Plan.AccountsOf(p.ID)), Suspended: suspended(p)}
}

// targetsOf counts the targets of accounts, which come target by target.
func targetsOf(list []resolve.Account) int {
	return len(slices.CompactFunc(list, func(a, b resolve.Account) bool { return a.On() == b.On() }))
}

// suspended says since when somebody is, or is to be, and why.
func suspended(p *resolve.Person) string {
	s := p.Declared.Suspended
	if s.Since == "" {
		return ""
	}
	return "since " + s.Since + ": " + s.Because
}

// Account is what a user has, or should have, on one target.
type Account struct {
	Target     string              `json:"target"`
	Kind       string              `json:"kind"`
	Name       string              `json:"name"`
	State      string              `json:"state" enum:"as declared,missing,found,not asked for,shut,open to question,not surveyed"`
	Attributes map[string][]string `json:"attributes,omitempty"`
	Groups     []string            `json:"groups"`
	Rights     []string            `json:"rights,omitempty"`
	Licences   []string            `json:"licences,omitempty"`
	Elevation  []string            `json:"elevation,omitempty" doc:"what may be done as superuser, where that is given by name"`
	Findings   []Finding           `json:"findings"`
	Because    string              `json:"because,omitempty" doc:"the role that asks for the account"`
}

// UserDetail is a user with their accounts on every target, side by side.
type UserDetail struct {
	User
	Accounts []Account `json:"accounts"`
	At       string    `json:"at" doc:"file:line:column of the declaration"`
	Formerly []string  `json:"formerly,omitempty" doc:"ids that the user had before, the newest first"`
}

// User returns one user with everything they have anywhere.
func (s *Seen) User(ctx context.Context, who door.Operator, id string) (UserDetail, error) {
	if err := who.May(door.Look); err != nil {
		return UserDetail{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return UserDetail{}, err
	}
	person, ok := c.Plan.Person(id)
	if !ok {
		if now, err := s.Store.NameNow(ctx, id); err != nil || now != "" {
			return UserDetail{}, cmp.Or(err, error(&door.Problem{Kind: door.Unknown, Nearest: now,
				Words: fmt.Sprintf("no user is called %q any more; %s is called %s now", id, id, now)}))
		}
		return UserDetail{}, door.NotKnown("user", id, door.KeysOf(c.Declared.Users))
	}
	out := UserDetail{User: userOf(c, person), Accounts: []Account{}, At: c.Declared.Locate(person.Declared.Pos).String()}
	findings, _, err := s.Store.Findings(ctx, store.FindingFilter{Users: []string{id}}, "", door.PageMost)
	if err != nil {
		return out, err
	}
	n, err := s.Store.CountFindingsOf(ctx, []string{id}, c.Plan.Day)
	if err != nil {
		return out, err
	}
	out.Findings = n[id]
	links, err := s.Store.LinksOf(ctx, id)
	if err != nil {
		return out, err
	}
	if out.Formerly, err = s.Store.FormerNames(ctx, id); err != nil {
		return out, err
	}
	known, err := s.surveyedHere(ctx, c)
	if err != nil {
		return out, err
	}
	for _, target := range door.KeysOf(c.Plan.Targets) {
		for _, a := range accountsOf(c, id, target, findings, links) {
			if err := s.seen(ctx, a, known[target]); err != nil {
				return out, err
			}
			out.Accounts = append(out.Accounts, a.Account)
		}
	}
	return out, nil
}

// accountOf is an account of a user, and whether the declaration asks for it.
type accountOf struct {
	Account
	asked, suspended bool
}

// accountsOf are those that a user has or should have on a target: asked for, known
// to be theirs, or found. Each is told apart by what is behind the login.
func accountsOf(c *declared.Current, user, target string, findings []store.Finding, links []model.Link) []*accountOf {
	schema := c.Plan.Targets[target].Schema.Account()
	by := map[string]*accountOf{}
	of := func(name string) *accountOf {
		_, rest := schema.Login(name)
		if by[rest] == nil {
			by[rest] = &accountOf{Account: Account{Target: target, Kind: c.Plan.Targets[target].Target.Kind, Name: name,
				Groups: []string{}, Findings: []Finding{}}}
		}
		return by[rest]
	}
	for _, asked := range c.Plan.Accounts(user, target) {
		a := of(asked.Name)
		a.Name, a.Because, a.asked, a.suspended = asked.Name, "role "+asked.Why().Role, true, asked.Suspended()
	}
	for _, f := range findings {
		if f.Target != target {
			continue
		}
		name := f.Account()
		if name == "" {
			name = f.Name
		}
		a := of(name)
		a.Findings = append(a.Findings, FindingOf(c, f))
		if f.Account() != "" && f.Kind != model.Unmatched {
			a.Name = name
		}
	}
	for _, l := range links {
		if l.Target == target {
			of(l.Name).Name = l.Name
		}
	}
	out := make([]*accountOf, 0, len(by))
	for _, rest := range door.KeysOf(by) {
		out = append(out, by[rest])
	}
	return out
}

// put says which sets the account is in.
func (a *Account) put(sets []model.Named) {
	for _, s := range sets {
		switch s.Kind {
		case model.RightKind:
			a.Rights = append(a.Rights, s.Name)
		case model.LicenceKind:
			a.Licences = append(a.Licences, s.Name)
		case model.ElevationKind:
			a.Elevation = append(a.Elevation, s.Name)
		default:
			a.Groups = append(a.Groups, s.Name)
		}
	}
}

// seen fills in what the target was last seen to hold.
func (s *Seen) seen(ctx context.Context, a *accountOf, surveyed bool) error {
	o, err := s.Store.Object(ctx, a.Target, model.Account, a.Name)
	if err != nil && err != store.ErrNone {
		return err
	}
	there := err == nil
	if there {
		a.Attributes = o.Attributes.Map()
		sets, err := s.Store.SetsOf(ctx, a.Target, model.Named{Kind: model.Account, Name: a.Name})
		if err != nil {
			return err
		}
		a.put(sets)
	}
	doubt := slices.ContainsFunc(a.Findings, func(f Finding) bool { return f.Kind == string(model.Unmatched) })
	switch {
	case !surveyed:
		a.State = "not surveyed"
	case doubt:
		a.State = "open to question"
	case !there:
		a.State = "missing"
	case (!a.asked || a.suspended && len(a.Findings) == 0) && o.Attributes.One(model.Disabled) == "yes":
		a.State = "shut"
	case !a.asked:
		a.State = "not asked for"
	case len(a.Findings) > 0:
		a.State = "found"
	default:
		a.State = "as declared"
	}
	return nil
}
