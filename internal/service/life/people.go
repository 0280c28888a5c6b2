package life

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
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
	if err := who.May(door.Draft); err != nil {
		return Passage{}, err
	}
	if err := who.May(door.Credential); err != nil && !q.NoSecret {
		return Passage{}, err
	}
	because, err := reasonUnless(q.Look, q.Because)
	if err != nil {
		return Passage{}, err
	}
	lasts, err := lasting(q.Lasts)
	if err != nil {
		return Passage{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Passage{}, err
	}
	j, err := s.joining(c, q)
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

func reasonUnless(look bool, because string) (string, error) {
	if look {
		return "", nil
	}
	return door.Reason(because)
}

// joined are those who join, as edits.
type joined struct {
	edits []declare.Edit
	users []string
	lines []JoinLine
}

// joining works out who joins and as what.
func (s *Life) joining(c *declared.Current, q JoinRequest) (joined, error) {
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
	numbers := numbersOf(c)
	today := s.Now().Format(time.DateOnly)
	for _, u := range people {
		line := JoinLine{Line: u.Line, User: u.ID, Outcome: "joins"}
		why := wrongJoiner(c, u, numbers)
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
	out.edits = append(out.edits, edits...)
	return out, nil
}

// numbersOf is who has which number.
func numbersOf(c *declared.Current) map[string]string {
	out := map[string]string{}
	for id, u := range c.Declared.Users {
		if u.Number != 0 {
			out[strconv.Itoa(u.Number)] = id
		}
	}
	return out
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

// follow drafts what the declaration means for some people and, for those who may
// do so, runs it. words say what became of it.
func (s *Life) follow(ctx context.Context, who door.Operator, what rounds.DraftRequest, because string) (rounds.Round, string, error) {
	what.Because = because
	r, err := s.Draft(ctx, who, what)
	if err != nil {
		return r, "", err
	}
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
	if _, err = s.Approve(ctx, who, r.ID); err == nil {
		r, err = s.RunRound(ctx, who, r.ID)
	}
	r.Undecided, r.Decide = undecided, shown
	return r, fmt.Sprintf("declared; round %d brings it to the targets%s", r.ID, decide), err
}

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
	if err := who.May(door.Draft); err != nil {
		return Passage{}, err
	}
	because, err := reasonUnless(q.Look, q.Because)
	if err != nil {
		return Passage{}, err
	}
	c, err := s.Current(ctx)
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

// pass shows what edits mean for one person when all of it has come to pass, on a
// day and, unless it is only looked at, declares them and follows.
func (s *Life) pass(ctx context.Context, who door.Operator, c *declared.Current, user string, edits []declare.Edit, when time.Time,
	because string, look bool) (Passage, error) {
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
	done := context.WithoutCancel(ctx)
	fresh, err := s.freshSince(done, user, before)
	if err != nil || len(fresh) == 0 {
		out.Words = "declared, and nothing is to be done today"
		return out, err
	}
	out.Round, out.Words, err = s.follow(done, who, rounds.DraftRequest{Findings: fresh}, because)
	return out, err
}

// freshSince are the keys of what differs of a person, and did not before: what did
// is none of an act's business.
func (s *Life) freshSince(ctx context.Context, user string, before map[string]bool) (fresh []string, err error) {
	now, err := s.keysOf(ctx, user)
	for key := range now {
		if !before[key] {
			fresh = append(fresh, key)
		}
	}
	slices.Sort(fresh)
	return fresh, err
}

// keysOf are the keys of what differs of a person.
func (s *Life) keysOf(ctx context.Context, user string) (map[string]bool, error) {
	rows, _, err := s.Store.Findings(ctx, store.FindingFilter{Users: []string{user}}, "", door.PageMost)
	out := map[string]bool{}
	for _, f := range rows {
		out[f.Key] = true
	}
	return out, err
}

// LeaveRequest says who goes, and when.
type LeaveRequest struct {
	User    string
	On      string // the last day; "" today
	AtOnce  bool   // the last day was yesterday: the accounts are shut now
	HandTo  string // who looks after what they looked after; needed where there is something
	Because string
	Look    bool
}

// Leave gives somebody their last day, after which their accounts are shut, and
// hands what they looked after to somebody else.
func (s *Life) Leave(ctx context.Context, who door.Operator, q LeaveRequest) (Passage, error) {
	if err := who.May(door.Draft); err != nil {
		return Passage{}, err
	}
	because, err := reasonUnless(q.Look, q.Because)
	if err != nil {
		return Passage{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Passage{}, err
	}
	names := []string{q.User}
	if q.HandTo != "" {
		names = append(names, q.HandTo)
	}
	if err := c.Check(declared.Choice{Users: names}); err != nil {
		return Passage{}, err
	}
	today := s.Now().Truncate(24 * time.Hour)
	last, err := dayOr("on", q.On, today)
	if err != nil {
		return Passage{}, err
	}
	if q.AtOnce {
		last = today.AddDate(0, 0, -1)
	}
	u := c.Declared.Users[q.User]
	switch day := last.Format(time.DateOnly); {
	case q.AtOnce && q.On != "":
		return Passage{}, door.Wrong("on", "at once, or on a day: not both")
	case !q.AtOnce && last.Before(today):
		return Passage{}, door.Wrong("on", "%s has gone by; at once is said so", q.On)
	case u.Span.From > day:
		return Passage{}, door.Clashing("%s begins on %s only; who does not come at all is taken out: roost edit users %s --remove", q.User,
			u.Span.From, q.User)
	case u.Span.Until != "" && u.Span.Until <= day:
		return Passage{}, door.Clashing("%s has %s as the last day already", q.User, u.Span.Until)
	}
	handed, err := handing(c, q)
	if err != nil {
		return Passage{}, err
	}
	edits := append([]declare.Edit{{Section: "users", Name: q.User, Key: "until", Do: declare.Set, Value: last.Format(time.DateOnly)}},
		handed...)
	return s.pass(ctx, who, c, q.User, edits, last.AddDate(0, 0, 1), because, q.Look)
}

// managing gives somebody another manager: who takes over or, of them themselves, whoever the one who goes had.
func managing(c *declared.Current, id string, q LeaveRequest) declare.Edit {
	e := declare.Edit{Section: "users", Name: id, Key: "manager", Do: declare.Set, Value: q.HandTo}
	if id == q.HandTo {
		above := c.Declared.Users[q.User].Manager.Name
		if e.Value = above; above == "" || above == id {
			e.Do, e.Value = declare.Take, nil
		}
	}
	return e
}

// handing are the edits that hand what somebody looks after to somebody else.
func handing(c *declared.Current, q LeaveRequest) (edits []declare.Edit, err error) {
	var what []string
	for _, name := range door.KeysOf(c.Declared.Groups) {
		if c.Declared.Groups[name].Owner.Name == q.User {
			what = append(what, "owns group "+name)
			edits = append(edits, declare.Edit{Section: "groups", Name: name, Key: "owner", Do: declare.Set, Value: q.HandTo})
		}
	}
	for _, id := range door.KeysOf(c.Declared.Users) {
		if u := c.Declared.Users[id]; u.Manager.Name == q.User && id != q.User {
			what = append(what, map[bool]string{true: "answers for service ", false: "manages "}[u.Service]+id)
			edits = append(edits, managing(c, id, q))
		}
	}
	switch {
	case len(edits) == 0:
		return nil, nil
	case q.HandTo == q.User:
		return nil, door.Wrong("hand-to", "%s goes, and cannot take over", q.User)
	case q.HandTo != "":
		if p, ok := c.Plan.Person(q.HandTo); ok && p.Declared.Span.Until != "" && p.Declared.Span.Until < c.Plan.Day {
			return nil, door.Wrong("hand-to", "%s has left", q.HandTo)
		}
		return edits, nil
	}
	const few = 6
	more := ""
	if len(what) > few {
		more = fmt.Sprintf(" and %d more", len(what)-few)
		what = what[:few]
	}
	return nil, door.Clashing("%s %s%s; say who takes over: --hand-to", q.User, strings.Join(what, ", "), more)
}
