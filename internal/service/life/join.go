package life

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// Joiner is somebody who joins. Fields left empty are not said.
type Joiner struct {
	ID      string            `json:"id" example:"ines.silva"`
	Name    string            `json:"name,omitempty" example:"Inês Silva"`
	Given   string            `json:"given,omitempty"`
	Family  string            `json:"family,omitempty"`
	Number  string            `json:"number,omitempty" example:"1201"`
	Mail    string            `json:"mail,omitempty"`
	Manager string            `json:"manager,omitempty"`
	From    string            `json:"from,omitempty" example:"2027-04-01"`
	Until   string            `json:"until,omitempty" example:"2027-10-31"`
	Roles   []string          `json:"roles,omitempty"`
	Details map[string]string `json:"details,omitempty"`
}

// JoinRequest says who joins: one by one, or by a table.
type JoinRequest struct {
	People   []Joiner
	CSV      string
	Columns  map[string]string // of the table: field → column
	Like     string            // a colleague whose roles, mail pattern and details they get
	Roles    []string          // beside those
	Without  []string          // but not these of the colleague's
	From     string            // for those who say none
	Until    string
	File     string // of the declaration, for the new entries
	Batch    string // what their passwords are handed over as
	Aloud    bool
	Keeps    bool
	Lasts    time.Duration
	NoSecret bool // no passwords are made
	Because  string
	Look     bool // say what it would do, and store nothing
}

// JoinLine is one who joins, and what becomes of them.
type JoinLine struct {
	Line    int    `json:"line,omitempty" doc:"of the table"`
	User    string `json:"user"`
	Outcome string `json:"outcome" enum:"joins,comes back,refused"`
	Words   string `json:"words,omitempty"`
}

// joinMost is how many can join at once.
const joinMost = 20_000

// Join declares people, with the roles they hold and the days they are there, and
// makes each a password that is handed over once. Those who have left come back.
// Lines that cannot be are refused with the reason; the others join all the same.
func (s *Life) Join(ctx context.Context, who door.Operator, q JoinRequest) (Passage, error) {
	c, because, err := s.passing(ctx, who, q.Look, q.Because)
	if err != nil {
		return Passage{}, err
	}
	if err := who.May(door.Credential); err != nil && !q.NoSecret {
		return Passage{}, err
	}
	lasts, err := lasting(q.Lasts)
	if err != nil {
		return Passage{}, err
	}
	j, err := s.joining(ctx, c, q)
	if err != nil {
		return Passage{}, err
	}
	if q.Batch == "" && len(j.users) > linksMost {
		q.Batch = "joined-" + day(s.Now())
	}
	out := Passage{Sides: []access.Side{}, Lines: j.lines, Handovers: []Handover{}}
	if len(j.edits) == 0 {
		out.Words = "nobody joins"
		return out, nil
	}
	if q.Look {
		out.Meaning, _, err = s.MeansEdits(ctx, who, j.edits)
		return out, err
	}
	// Their handovers come first: nobody must be declared whose password nobody waits for.
	var ids []int64
	done := context.WithoutCancel(ctx)
	if !q.NoSecret {
		if ids, err = s.promise(ctx, who, j.users, q, because, lasts); err != nil {
			return out, err
		}
	}
	if out.Revision, err = s.Edit(ctx, who, c.Revision, j.edits, because); err != nil {
		return out, errors.Join(err, s.abandon(done, who, ids, "they were not declared"))
	}
	if out.Round, out.Words, err = s.follow(done, who, rounds.DraftRequest{Choice: declared.Choice{Users: j.users}}, because); err != nil {
		return out, err
	}
	s.enliven()
	out.Handovers, out.Links, err = s.linkedTo(done, who, ids, q.Batch == "")
	return out, err
}

// joined are those who join, as edits.
type joined struct {
	edits []declare.Edit
	users []string
	lines []JoinLine
}

// joining works out who joins and as what.
func (s *Life) joining(ctx context.Context, c *declared.Current, q JoinRequest) (joined, error) {
	var out joined
	people, faults, err := joiners(c, q)
	if err != nil {
		return out, err
	}
	if n := len(people) + len(faults); n == 0 || n > joinMost {
		return out, door.Wrong("people", "%d people; between 1 and %d can join at once", n, joinMost)
	}
	for _, f := range faults {
		out.lines = append(out.lines, JoinLine{Line: f.Line, Outcome: "refused", Words: f.Words})
	}
	var fresh []exchange.User
	numbers := newNumbers(s, c)
	today := s.Now().Format(time.DateOnly)
	for _, u := range people {
		line := JoinLine{Line: u.Line, User: u.ID, Outcome: "joins"}
		if u.Number == "" && c.Declared.Users[u.ID] == nil {
			n, why, err := numbers.next(ctx, model.Account, declare.NumbersOf(c.Declared, u.Roles), u.ID)
			if err != nil {
				return out, err
			}
			if why != "" {
				line.Outcome, line.Words = "refused", why
				out.lines = append(out.lines, line)
				continue
			}
			u.Number = n
		}
		why := wrongJoiner(c, u, numbers.users)
		switch known := c.Declared.Users[u.ID]; {
		case why != "":
			line.Outcome, line.Words = "refused", why
		case known == nil:
			if u.From == "" {
				u.From = today
			}
			fresh = append(fresh, u)
		case known.Span.Until != "" && known.Span.Until < today && (u.Until == "" || u.Until >= today):
			line.Outcome, line.Words = "comes back", "left on "+known.Span.Until
			out.edits = append(out.edits, returning(known, u, today)...)
		default:
			line.Outcome, line.Words = "refused", "is here already; roost move changes what they do, roost edit anything else"
		}
		if line.Outcome != "refused" {
			out.users = append(out.users, u.ID)
		}
		out.lines = append(out.lines, line)
	}
	edits, _ := exchange.Edits(c.Declared, fresh, nil, q.File, func(string, string) string { return "" })
	unnumbered, err := s.unnumbered(ctx, fresh, edits)
	if err != nil {
		return out, err
	}
	if len(unnumbered) > 0 {
		fresh = slices.DeleteFunc(fresh, func(u exchange.User) bool { return unnumbered[u.ID] != "" })
		edits, _ = exchange.Edits(c.Declared, fresh, nil, q.File, func(string, string) string { return "" })
		out.users = slices.DeleteFunc(out.users, func(id string) bool { return unnumbered[id] != "" })
		for i, l := range out.lines {
			if why := unnumbered[l.User]; why != "" && l.Outcome == "joins" {
				out.lines[i].Outcome, out.lines[i].Words = "refused", why
			}
		}
	}
	for i := range edits {
		if edits[i].File == "" && edits[i].Key == "" {
			edits[i].File = fileFor(c, q.Like, fresh, edits[i].Name)
		}
	}
	out.edits = append(out.edits, edits...)
	return out, nil
}

// fileFor is the file of the declaration into which somebody new goes: that of the colleague like whom they are, or else that in
// which most of those who have one of their roles by name stand; "" for none.
func fileFor(c *declared.Current, like string, fresh []exchange.User, id string) string {
	file := func(u *model.User) string { return c.Declared.Why(model.Origin{At: u.Pos}).At.File }
	if u := c.Declared.Users[like]; u != nil {
		return file(u)
	}
	at := slices.IndexFunc(fresh, func(u exchange.User) bool { return u.ID == id })
	if at < 0 {
		return ""
	}
	in := map[string]int{}
	for _, u := range c.Declared.Users {
		if slices.ContainsFunc(u.Roles, func(h model.Holding) bool { return slices.Contains(fresh[at].Roles, h.Name) }) {
			in[file(u)]++
		}
	}
	best := ""
	for _, name := range door.KeysOf(in) {
		if in[name] > in[best] {
			best = name
		}
	}
	return best
}

// unnumbered says of those who would join without a number where each target that needs one would give them another.
func (s *Life) unnumbered(ctx context.Context, fresh []exchange.User, edits []declare.Edit) (map[string]string, error) {
	out := map[string]string{}
	if !slices.ContainsFunc(fresh, func(u exchange.User) bool { return u.Number == "" }) {
		return out, nil
	}
	plans := map[string]*resolve.Plan{} // by first day
	for _, u := range fresh {
		if u.Number != "" {
			continue
		}
		plan, known := plans[u.From]
		if !known {
			day, err := dayOr("from", u.From, s.Now())
			if err == nil {
				plan, err = s.PlanAfter(ctx, edits, day)
			}
			if err != nil { // what is wrong with it is told where it is declared
				plan = nil
			}
			plans[u.From] = plan
		}
		if plan == nil {
			continue
		}
		for _, name := range door.KeysOf(plan.Targets) {
			x, has := plan.Targets[name].Schema.Find(model.Account, model.Number)
			if has && x.From == "number" && len(plan.Accounts(u.ID, name)) > 0 {
				out[u.ID] = fmt.Sprintf("%s needs a number for an account there, the same everywhere: name one (--number), or give a role "+
					"of theirs a range (numbers: 1200-1399)", name)
				break
			}
		}
	}
	return out, nil
}

// wrongJoiner says what of somebody who joins would keep all from joining; "" when nothing does.
func wrongJoiner(c *declared.Current, u exchange.User, numbers map[string]string) string {
	for _, r := range u.Roles {
		if c.Declared.Roles[r] == nil {
			return declare.Meant(fmt.Sprintf("no role is called %q", r), r, door.KeysOf(c.Declared.Roles))
		}
	}
	if u.Manager != "" && c.Declared.Users[u.Manager] == nil {
		return declare.Meant(fmt.Sprintf("no user is called %q, who is to be the manager", u.Manager), u.Manager,
			door.KeysOf(c.Declared.Users))
	}
	if other := numbers[u.Number]; u.Number != "" && other != "" && other != u.ID {
		return fmt.Sprintf("the number %s is that of %s", u.Number, other)
	}
	if u.From != "" && u.Until != "" && u.Until < u.From {
		return fmt.Sprintf("the last day %s comes before the first, %s", u.Until, u.From)
	}
	if u.Number != "" {
		numbers[u.Number] = u.ID
	}
	return ""
}

// returning lets somebody who left begin again.
func returning(known *model.User, u exchange.User, today string) (out []declare.Edit) {
	from := u.From
	if from == "" {
		from = today
	}
	set := func(key string, value any) {
		out = append(out, declare.Edit{Section: "users", Name: u.ID, Key: key, Do: declare.Set, Value: value})
	}
	set("from", from)
	if u.Until != "" {
		set("until", u.Until)
	} else {
		out = append(out, declare.Edit{Section: "users", Name: u.ID, Key: "until", Do: declare.Take})
	}
	for _, role := range u.Roles {
		if _, n := held(known, role); n == 0 {
			out = append(out, declare.Edit{Section: "users", Name: u.ID, Key: "roles", Do: declare.Add, Value: role})
		}
	}
	return out
}

// joiners reads who joins, with what all of them get.
func joiners(c *declared.Current, q JoinRequest) (people []exchange.User, faults []exchange.Unread, err error) {
	if q.CSV != "" && len(q.People) > 0 {
		return nil, nil, door.Wrong("people", "people one by one, or a table: not both")
	}
	if q.CSV != "" {
		people, faults = exchange.ReadCSV(q.CSV, q.Columns)
	}
	for _, p := range q.People {
		u := exchange.User{ID: p.ID, Name: p.Name, Given: p.Given, Family: p.Family, Number: p.Number, Mail: p.Mail, Manager: p.Manager,
			From: p.From, Until: p.Until, Roles: p.Roles, Details: p.Details}
		if u.Name == "" {
			u.Name = strings.TrimSpace(u.Given + " " + u.Family)
		}
		if known := c.Declared.Users[p.ID]; u.Name == "" && known != nil {
			u.Name = known.Name.Raw
		}
		if u.ID == "" || u.Name == "" {
			return nil, nil, door.Wrong("people", "each who joins has an id and a name")
		}
		people = append(people, u)
	}
	roles, details, mail, err := like(c, q)
	if err != nil {
		return nil, nil, err
	}
	for i := range people {
		u := &people[i]
		if u.From == "" {
			u.From = q.From
		}
		if u.Until == "" {
			u.Until = q.Until
		}
		if u.Mail == "" {
			u.Mail = mail
		}
		for _, r := range roles {
			if !slices.Contains(u.Roles, r) {
				u.Roles = append(u.Roles, r)
			}
		}
		all := maps.Clone(details)
		maps.Copy(all, u.Details)
		if u.Details = all; len(all) == 0 {
			u.Details = nil
		}
	}
	return people, faults, nil
}

// like is what everybody who joins gets: what a colleague has, and what is named beside it.
func like(c *declared.Current, q JoinRequest) (roles []string, details map[string]string, mail string, err error) {
	details = map[string]string{}
	if q.Like != "" {
		if err := c.Check(declared.Choice{Users: []string{q.Like}}); err != nil {
			return nil, nil, "", err
		}
		u := c.Declared.Users[q.Like]
		for _, h := range u.Roles {
			if h.Span.Holds(c.Plan.Day) {
				roles = append(roles, h.Name)
			}
		}
		for _, d := range u.Details {
			details[d.Name] = d.Text.Raw
		}
		if strings.Contains(u.Mail.Raw, "${user.") { // a pattern, not their own address
			mail = u.Mail.Raw
		}
	}
	for _, w := range q.Without {
		if !slices.Contains(roles, w) {
			return nil, nil, "", door.NotKnown("role of "+q.Like, w, roles)
		}
		roles = slices.DeleteFunc(roles, func(r string) bool { return r == w })
	}
	for _, r := range q.Roles {
		if c.Declared.Roles[r] == nil {
			return nil, nil, "", door.NotKnown("role", r, door.KeysOf(c.Declared.Roles))
		}
		if !slices.Contains(roles, r) {
			roles = append(roles, r)
		}
	}
	return roles, details, mail, nil
}

// promise makes handovers for people whose accounts are to be made: what is in
// them is made when that is drafted, today or on their first day.
func (s *Life) promise(ctx context.Context, who door.Operator, users []string, q JoinRequest, because string,
	lasts time.Duration) (ids []int64, err error) {
	now := s.Now()
	waiting, err := s.Store.OpenHandovers(ctx, users)
	if err != nil {
		return nil, err
	}
	has := map[string]int64{}
	for _, h := range waiting {
		has[h.User] = h.ID
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		ids = ids[:0]
		for _, user := range users {
			if has[user] != 0 {
				ids = append(ids, has[user])
				continue
			}
			id, err := tx.AddHandover(ctx, store.Handover{User: user, What: passwordKind, State: Made, Batch: q.Batch, Aloud: q.Aloud,
				Keeps: q.Keeps, Operator: who.Name, Because: because, MadeAt: now, Lasts: int(lasts / time.Second)})
			if err != nil {
				return nil, err
			}
			ids = append(ids, id)
			entries = append(entries, &store.Entry{At: now, Kind: "handover", Operator: who.Name, User: user, Because: because,
				Words: fmt.Sprintf("made handover %d: a first password for %s", id, user)})
		}
		return entries, nil
	})
	return ids, err
}
