package declared

import (
	"context"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

// Formats users can be read from and written to.
var Formats = []string{"csv", "ldif", "scim"}

// ImportRequest is a text to read users from.
type ImportRequest struct {
	Format  string
	Text    string
	Columns map[string]string // of CSV: field → column
	Roles   []string          // for those who are new
	File    string            // of the declaration, for those who are new
}

// Import is what reading users would change: edits, to be looked at and declared.
type Import struct {
	exchange.Summary
	Edits  []declare.Edit    `json:"edits"`
	Faults []exchange.Unread `json:"faults" doc:"users that cannot be read, with the reason"`
}

// ReadUsers reads users and makes the edits that bring the declaration to what
// they say. Nothing is stored. Nobody is taken away by it.
func (s *Declared) ReadUsers(ctx context.Context, who door.Operator, q ImportRequest) (Import, error) {
	if err := who.May(door.Look); err != nil {
		return Import{}, err
	}
	var users []exchange.User
	var faults []exchange.Unread
	switch q.Format {
	case "csv":
		users, faults = exchange.ReadCSV(q.Text, q.Columns)
	case "ldif":
		users, faults = exchange.ReadLDIF(q.Text)
	case "scim":
		users, faults = exchange.ReadSCIM(q.Text)
	default:
		return Import{}, door.NotKnown("format", q.Format, Formats)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Import{}, err
	}
	for _, r := range q.Roles {
		if c.Declared.Roles[r] == nil {
			return Import{}, door.NotKnown("role", r, door.KeysOf(c.Declared.Roles))
		}
	}
	out := Import{Faults: faults}
	if out.Faults == nil {
		out.Faults = []exchange.Unread{}
	}
	out.Edits, out.Summary = exchange.Edits(c.Declared, users, q.Roles, q.File, c.Filled)
	if out.Edits == nil {
		out.Edits = []declare.Edit{}
	}
	return out, nil
}

// Filled is what a field of a declared user comes to; "" for nobody, and for nothing.
func (c *Current) Filled(id, field string) string {
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

// WriteUsers writes all declared users in a format. base is the DN that LDIF entries stand below.
func (s *Declared) WriteUsers(ctx context.Context, who door.Operator, format, base string) (string, error) {
	if err := who.May(door.Look); err != nil {
		return "", err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return "", err
	}
	var users []exchange.User
	for _, p := range c.Plan.People {
		u := exchange.User{ID: p.ID, Name: p.Name, Given: p.Given, Family: p.Family, Mail: p.Mail, Manager: p.Declared.Manager.Name,
			Number: p.Number(),
			From:   p.Declared.Span.From, Until: p.Declared.Span.Until, Roles: names(p.Declared.Roles), Details: map[string]string{}}
		for _, x := range p.Declared.Details {
			u.Details[x.Name], _ = p.Text("details." + x.Name)
		}
		users = append(users, u)
	}
	switch format {
	case "csv":
		return exchange.WriteCSV(users), nil
	case "ldif":
		return exchange.WriteLDIF(users, base), nil
	case "scim":
		return exchange.WriteSCIM(users), nil
	}
	return "", door.NotKnown("format", format, Formats)
}

func names(held []model.Holding) []string {
	out := make([]string, len(held))
	for i, h := range held {
		out[i] = h.Name
	}
	return out
}
