package intake

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"hen-roost/internal/scim"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// bodyMost bounds what is kept of one person.
const bodyMost = 256 << 10

// Person is somebody whom a system has pushed in.
type Person struct {
	store.Pushed
	Resource scim.Resource
}

// person reads one from its row.
func person(p store.Pushed) (Person, error) {
	out := Person{Pushed: p}
	err := json.Unmarshal(p.Body, &out.Resource)
	return out, err
}

// mayPush says whether an operator is a system that was set up to push people in. What is refused is an *scim.Error.
func (s *Intake) mayPush(ctx context.Context, who door.Operator) error {
	if err := who.May(door.Push); err != nil {
		return scim.NewError(403, "", err.Error())
	}
	all, err := s.Store.Intakes(ctx)
	if err != nil {
		return err
	}
	if _, ok := all[who.Name]; !ok {
		return scim.NewError(403, "", who.Name+" was not set up to push people in: roost intake set "+who.Name)
	}
	return nil
}

// Names are the declared groups, and the roles with what they are for: what a system that pushes may read of the declaration.
func (s *Intake) Names(ctx context.Context, who door.Operator) (groups []string, roles map[string]string, err error) {
	if err := s.mayPush(ctx, who); err != nil {
		return nil, nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	roles = map[string]string{}
	for name, r := range c.Declared.Roles {
		roles[name] = r.About
	}
	return door.KeysOf(c.Declared.Groups), roles, nil
}

// Add takes somebody new in (RFC 7644 §3.3).
func (s *Intake) Add(ctx context.Context, who door.Operator, body []byte) (Person, error) {
	if err := s.mayPush(ctx, who); err != nil {
		return Person{}, err
	}
	r, err := read(body)
	if err != nil {
		return Person{}, err
	}
	now := s.moment()
	p := store.Pushed{Source: who.Name, ID: rand.Text(), Version: 1, Made: now, At: now}
	if err := fill(&p, r); err != nil {
		return Person{}, err
	}
	if err := s.Store.AddPushed(ctx, p); errors.Is(err, store.ErrTaken) {
		return Person{}, scim.NewError(409, "uniqueness", "there is a "+r.Text("userName")+" already")
	} else if err != nil {
		return Person{}, err
	}
	return Person{p, r}, nil
}

// moment is now, as finely as it is kept.
func (s *Intake) moment() time.Time { return s.Now().UTC().Truncate(time.Microsecond) }

// read reads a resource as it was sent.
func read(body []byte) (scim.Resource, error) {
	var r scim.Resource
	if err := json.Unmarshal(body, &r); err != nil || r == nil {
		return nil, scim.NewError(400, "invalidSyntax", "a user is a JSON object")
	}
	return r, nil
}

// fill puts a resource into its row, without what is not for whoever sends it to say, and without passwords.
func fill(p *store.Pushed, r scim.Resource) error {
	for k := range r {
		switch strings.ToLower(k) {
		case "id", "meta", "groups", "password":
			delete(r, k)
		}
	}
	login := r.Text("userName")
	if login == "" || len(login) > 255 || strings.ContainsFunc(login, func(c rune) bool { return c < ' ' || c == 0x7f || c == 0xfffd }) {
		return scim.NewError(400, "invalidValue", "userName is missing, longer than 255 bytes, or has control characters in it")
	}
	if _, isBool := r.Get("active").(bool); r.Get("active") != nil && !isBool {
		return scim.NewError(400, "invalidValue", "active is true or false")
	}
	if r.Get("schemas") == nil { // what is answered always says (RFC 7643 §3)
		r["schemas"] = []any{scim.UserSchema}
	}
	p.Name = strings.ToLower(login)
	var err error
	if p.Body, err = json.Marshal(r); err != nil || len(p.Body) > bodyMost {
		return scim.NewError(413, "tooMany", "a user has at most 256 KB")
	}
	return nil
}

// One returns somebody by their id.
func (s *Intake) One(ctx context.Context, who door.Operator, id string) (Person, error) {
	if err := s.mayPush(ctx, who); err != nil {
		return Person{}, err
	}
	p, err := s.Store.PushedOne(ctx, who.Name, id)
	if errors.Is(err, store.ErrNone) || err == nil && p.Gone {
		return Person{}, scim.NewError(404, "", "there is no user "+id)
	}
	if err != nil {
		return Person{}, err
	}
	return person(p)
}

// Change puts what after makes of somebody in their place. version is the one that was seen, 0 for any; what others wrote
// meanwhile is not overwritten.
func (s *Intake) Change(ctx context.Context, who door.Operator, id string, version int, after func(scim.Resource) (scim.Resource, error)) (
	Person, error) {
	for try := 0; ; try++ {
		p, err := s.One(ctx, who, id)
		if err != nil {
			return Person{}, err
		}
		if version != 0 && p.Version != version {
			return Person{}, scim.NewError(412, "", "it was changed since that version")
		}
		r, err := after(p.Resource)
		if err != nil {
			return Person{}, err
		}
		row := p.Pushed
		if err := fill(&row, r); err != nil {
			return Person{}, err
		}
		if string(row.Body) == string(p.Body) {
			return p, nil
		}
		row.At = s.moment()
		switch err := s.Store.PutPushed(ctx, row); {
		case errors.Is(err, store.ErrTaken):
			return Person{}, scim.NewError(409, "uniqueness", "there is another "+r.Text("userName"))
		case errors.Is(err, store.ErrNone) && try < 3:
			continue
		case err != nil:
			return Person{}, err
		}
		row.Version++
		return Person{row, r}, nil
	}
}

// Remove takes somebody away, so that their leaving is proposed.
func (s *Intake) Remove(ctx context.Context, who door.Operator, id string, version int) error {
	p, err := s.One(ctx, who, id)
	if err != nil {
		return err
	}
	if version != 0 && p.Version != version {
		return scim.NewError(412, "", "it was changed since that version")
	}
	p.Gone, p.At = true, s.moment()
	if err := s.Store.PutPushed(ctx, p.Pushed); errors.Is(err, store.ErrNone) {
		return scim.NewError(412, "", "somebody else changed it at this moment")
	} else if err != nil {
		return err
	}
	return nil
}

// Find returns a page of those whom a filter chooses, the oldest first, and how many there are. start counts from 1.
func (s *Intake) Find(ctx context.Context, who door.Operator, filter string, start, count int) (page []Person, total int, err error) {
	if err := s.mayPush(ctx, who); err != nil {
		return nil, 0, err
	}
	var f scim.Filter
	if filter != "" {
		if f, err = scim.ParseFilter(filter); err != nil {
			return nil, 0, err
		}
	}
	var bad error
	take := func(p store.Pushed) bool {
		if p.Gone {
			return true
		}
		inside := total+1 >= start && len(page) < count
		if filter == "" && !inside {
			total++
			return true
		}
		x, err := person(p)
		if err != nil {
			bad = err
			return false
		}
		if filter != "" && !f.Match(shown(x)) {
			return true
		}
		if inside {
			page = append(page, x)
		}
		total++
		return true
	}
	if names, ok := f.AnyOf("userName"); ok && filter != "" {
		for i := range names {
			names[i] = strings.ToLower(names[i])
		}
		rows, err := s.Store.PushedNamed(ctx, who.Name, names)
		if err != nil {
			return nil, 0, err
		}
		for _, p := range rows {
			take(p)
		}
		return page, total, bad
	}
	err = s.Store.EachPushed(ctx, who.Name, take)
	return page, total, errors.Join(err, bad)
}

// shown is somebody with what the server says of them.
func shown(p Person) scim.Resource {
	r := p.Resource.Copy()
	r["id"] = p.ID
	return r
}
