package seen

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Session is somebody who is signed in to a target now.
type Session struct {
	Target   string   `json:"target"`
	Name     string   `json:"name" doc:"what ends it"`
	Account  string   `json:"account"`
	User     string   `json:"user,omitempty"`
	UserName string   `json:"user-name,omitempty"`
	Since    string   `json:"since,omitempty"`
	From     string   `json:"from,omitempty"`
	Holds    []string `json:"holds,omitempty" doc:"the sets by which it may do what it may, where the target tells"`
}

// Sessions are those of some targets, and what could not be asked.
type Sessions struct {
	Items []Session         `json:"items"`
	Not   map[string]string `json:"not" doc:"targets that could not be asked, and why"`
}

// TargetSessions asks a target who is signed in now.
func (s *Seen) TargetSessions(ctx context.Context, who door.Operator, target string) (Sessions, error) {
	if err := who.May(door.Run); err != nil {
		return Sessions{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Sessions{}, err
	}
	if _, err := s.targetNames(c, []string{target}); err != nil {
		return Sessions{}, err
	}
	return s.watch(ctx, c, []string{target}, "")
}

// UserSessions asks every target on which a user has an account who is signed in
// with it now.
func (s *Seen) UserSessions(ctx context.Context, who door.Operator, user string) (Sessions, error) {
	if err := who.May(door.Run); err != nil {
		return Sessions{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Sessions{}, err
	}
	if err := c.Check(declared.Choice{Users: []string{user}}); err != nil {
		return Sessions{}, err
	}
	links, err := s.Store.LinksOf(ctx, user)
	if err != nil {
		return Sessions{}, err
	}
	var targets []string
	for _, l := range links {
		if d := c.Plan.Targets[l.Target]; d != nil && d.Schema.Of(model.SessionKind) != nil {
			targets = append(targets, l.Target)
		}
	}
	return s.watch(ctx, c, slices.Compact(targets), user)
}

// watch asks targets for sessions, of everybody or of one user.
func (s *Seen) watch(ctx context.Context, c *declared.Current, targets []string, user string) (Sessions, error) {
	out := Sessions{Items: []Session{}, Not: map[string]string{}}
	var mu sync.Mutex
	work.Each(ctx, targets, s.Width, func(ctx context.Context, target string) {
		list, err := s.sessionsOn(ctx, c, target)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			out.Not[target] = err.Error()
			return
		}
		for _, x := range list {
			if user == "" || x.User == user {
				out.Items = append(out.Items, x)
			}
		}
	})
	slices.SortFunc(out.Items, func(a, b Session) int {
		return strings.Compare(a.Target+"\x00"+a.Since+a.Name, b.Target+"\x00"+b.Since+b.Name)
	})
	return out, ctx.Err()
}

// watchFor is how long a target may take to tell who is signed in.
const watchFor = 15 * time.Second

// SessionOn connects to a target, to look, or to do what cannot wait.
func (s *Seen) SessionOn(ctx context.Context, target string) (connect.Session, error) {
	connector, access, err := s.Reach(ctx, target)
	if err != nil {
		return nil, err
	}
	access.Wait, access.Urgent = min(access.Patience(), watchFor), true
	return connect.Open(ctx, connector, access)
}

func (s *Seen) sessionsOn(ctx context.Context, c *declared.Current, target string) ([]Session, error) {
	x, err := s.SessionOn(ctx, target)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	list, err := connect.Watch(ctx, x)
	strikes := s.Strikes(ctx, target)
	if err != nil {
		return nil, strikes.Error(err)
	}
	for i := range list {
		strikes.Object(&list[i])
	}
	var names []string
	for _, o := range list {
		names = append(names, o.Attributes.One(model.HeldBy))
	}
	owners, err := s.Store.LinkedNames(ctx, target, names)
	if err != nil {
		return nil, err
	}
	out := make([]Session, len(list))
	for i, o := range list {
		user := owners[names[i]]
		out[i] = Session{Target: target, Name: o.Name, Account: names[i], User: user, UserName: c.FullName(user),
			Since: o.Attributes.One(model.Since), From: o.Attributes.One(model.From), Holds: o.Attributes.Get(model.HoldsSets)}
	}
	return out, nil
}

// EndedSession is what became of a session that was to be ended.
type EndedSession struct {
	Session
	Outcome string `json:"outcome" enum:"done,already-so,failed,out-of-reach,not-tried"`
	Words   string `json:"words,omitempty"`
}

// EndSessions ends sessions on a target by their names, with a reason. Each is
// answered, and stands in the record.
func (s *Seen) EndSessions(ctx context.Context, who door.Operator, target string, names []string, because string) ([]EndedSession, error) {
	if err := who.May(door.Run); err != nil {
		return nil, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 || len(names) > door.PageMost {
		return nil, door.Wrong("names", "%d sessions are named; between 1 and %d can be", len(names), door.PageMost)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := s.targetNames(c, []string{target}); err != nil {
		return nil, err
	}
	known, err := s.sessionsOn(ctx, c, target)
	if errors.Is(err, errors.ErrUnsupported) {
		return nil, &door.Problem{Kind: door.Unknown, Words: err.Error()}
	}
	x, err := s.SessionOn(ctx, target)
	if err != nil {
		return nil, &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	defer x.Close()
	answers := connect.End(ctx, x, names)
	out, entries := make([]EndedSession, len(names)), make([]*store.Entry, len(names))
	strikes := s.Strikes(ctx, target)
	for i, a := range answers {
		strikes.Answer(&a)
		if a.Outcome == connect.Unsure {
			a.Outcome = connect.OutOfReach
		}
		out[i] = EndedSession{Session{Target: target, Name: names[i]}, string(a.Outcome), a.Words}
		if at := slices.IndexFunc(known, func(k Session) bool { return k.Name == names[i] }); at >= 0 {
			out[i].Session = known[at]
		}
		whose := out[i].Account
		if whose == "" {
			whose = "an account not known"
		}
		entries[i] = &store.Entry{At: s.Now(), Kind: "session", Operator: who.Name, Target: target, User: out[i].User, Because: because,
			Words: door.ClipTo(strings.TrimSuffix(fmt.Sprintf("end session %s of %s: %s, %s", names[i], whose, a.Outcome, a.Words), ", "),
				2000)}
	}
	return out, s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) { return entries, nil })
}
