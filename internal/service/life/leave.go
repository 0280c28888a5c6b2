package life

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// LeaveRequest says who goes, and when.
type LeaveRequest struct {
	User    string
	On      string // the last day; "" today
	AtOnce  bool   // the last day was yesterday: the accounts are shut now
	Remove  bool   // at once, and the accounts are removed where they can be
	HandTo  string // who looks after what they looked after; needed where there is something
	Because string
	Look    bool
}

// Leave gives somebody their last day, after which their accounts are shut, and
// hands what they looked after to somebody else.
func (s *Life) Leave(ctx context.Context, who door.Operator, q LeaveRequest) (Passage, error) {
	c, because, err := s.passing(ctx, who, q.Look, q.Because)
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
	if q.Remove && !q.AtOnce {
		return Passage{}, door.Wrong("remove", "accounts are removed at once only: say that too; otherwise the removal of their "+
			"target says how long they are kept")
	}
	if q.AtOnce {
		last = today.AddDate(0, 0, -1)
	}
	u := c.Declared.Users[q.User]
	var edits []declare.Edit
	if q.AtOnce && u.Span.From == today.Format(time.DateOnly) { // who joined today can leave today
		u = &model.User{Span: model.Span{Until: u.Span.Until}}
		edits = append(edits, declare.Edit{Section: "users", Name: q.User, Key: "from", Do: declare.Take})
	}
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
	edits = append(edits, declare.Edit{Section: "users", Name: q.User, Key: "until", Do: declare.Set, Value: last.Format(time.DateOnly)})
	edits = append(edits, handed...)
	var out Passage
	if q.Remove {
		out, err = s.goes(ctx, who, c, q, edits, last.AddDate(0, 0, 1), because)
	} else {
		out, err = s.pass(ctx, who, c, q.User, edits, last.AddDate(0, 0, 1), because, q.Look)
	}
	if err == nil && q.AtOnce && !q.Look { // a password that waits would open nothing any more
		err = s.Write(context.WithoutCancel(ctx), func(tx *store.Tx) ([]*store.Entry, error) {
			return s.withdrawOpen(ctx, tx, who, q.User, "has left", because)
		})
	}
	return out, err
}

// goes is a leaving with which accounts are removed: where that cannot be they are shut.
func (s *Life) goes(ctx context.Context, who door.Operator, c *declared.Current, q LeaveRequest, edits []declare.Edit, by time.Time,
	because string) (Passage, error) {
	acts, err := s.removing(ctx, c, q.User)
	if err != nil {
		return Passage{}, err
	}
	follows := func(context.Context, map[string]string) (rounds.Round, string, error) {
		if len(acts) == 0 {
			return rounds.Round{}, "declared, and nothing is to be done today", nil
		}
		r, err := s.Ask(context.WithoutCancel(ctx), who, acts, because)
		if err != nil {
			return r, "", err
		}
		return s.begin(context.WithoutCancel(ctx), who, r)
	}
	out, err := s.passWith(ctx, who, c, q.User, edits, by, because, q.Look, follows)
	for i := range out.Sides {
		for _, a := range acts {
			if a.Target == out.Sides[i].Target && a.Verb == model.Remove {
				out.Sides[i].Loses = append(out.Sides[i].Loses, "account "+a.Name+" is removed")
			}
		}
	}
	return out, err
}

// removing are the acts that remove the accounts of somebody, and shut those that cannot be.
func (s *Life) removing(ctx context.Context, c *declared.Current, user string) (acts []model.Act, err error) {
	links, err := s.Store.LinksOf(ctx, user)
	if err != nil {
		return nil, err
	}
	for _, l := range links {
		d := c.Plan.Targets[l.Target]
		o, err := s.Store.Object(ctx, l.Target, model.Account, l.Name)
		if errors.Is(err, store.ErrNone) || d == nil {
			continue
		}
		if err != nil {
			return nil, err
		}
		a := model.Act{Target: l.Target, Verb: model.Remove, Object: model.Account, Name: l.Name, User: user, Changes: drift.Removal(d, &o)}
		if !d.Schema.Account().Does(model.Remove) {
			if o.Attributes.One(model.Disabled) == "yes" {
				continue
			}
			a.Verb, a.Changes = model.Disable, []model.Change{{Attribute: model.Disabled, Before: o.Attributes.Get(model.Disabled),
				After: []string{"yes"}}}
		}
		acts = append(acts, a)
	}
	return acts, nil
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
