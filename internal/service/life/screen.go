package life

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/secret"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Tried is what Hen Roost says of a password. It holds nothing of it.
type Tried struct {
	secret.Verdict
	Policies []string `json:"policies" doc:"the policies that speak of it"`
	Passes   bool     `json:"passes" doc:"it would be taken: it is fit, or all policies only watch"`
}

// screening is how one person's passwords are looked at.
type screening struct {
	*secret.Screen
	rule     secret.Rule
	policies []string
	watching bool // what is not fit passes, and is counted
}

// screenFor is how a person's passwords on some targets are looked at: by the
// policies there, the person's own names and the company's.
func screenFor(c *declared.Current, user string, targets []string) screening {
	var s screening
	var sources []secret.Words
	refusing := false
	for _, name := range door.KeysOf(c.Declared.Policies) {
		p := c.Declared.Policies[name]
		if !covers(c, p, user, targets) {
			continue
		}
		s.policies = append(s.policies, name)
		sources = append(sources, secret.Words{Of: "the words of policy " + name, List: p.Value(model.PolicyWords)})
		s.rule = s.rule.Strictest(secret.Rule{Length: number(p.Value(model.PolicyLength))})
		refusing = refusing || !slices.Equal(p.Value(model.PolicyScreening), []string{model.ScreenWatch})
	}
	s.watching = len(s.policies) > 0 && !refusing
	if p, ok := c.Plan.Person(user); ok {
		sources = append(sources, ownWords(p.Name+" "+p.Given+" "+p.Family, user, p.Mail)...)
	}
	s.Screen = secret.NewScreen(s.rule, sources...)
	return s
}

func number(values []string) (n int) {
	for _, v := range values {
		for _, d := range v {
			if d < '0' || d > '9' {
				return 0
			}
			n = min(10*n+int(d-'0'), secret.LengthMost)
		}
	}
	return n
}

// covers says whether a policy speaks of a person's passwords on some targets.
func covers(c *declared.Current, p *model.Policy, user string, targets []string) bool {
	there := slices.ContainsFunc(targets, func(name string) bool {
		t := c.Declared.Targets[name]
		return t != nil && slices.ContainsFunc(p.At, func(s model.Selector) bool { return s.Matches(t) })
	})
	if !there || len(p.Groups) == 0 {
		return there
	}
	return slices.ContainsFunc(p.Groups, func(g model.Ref) bool { return isIn(c, user, g.Name) })
}

// ownWords are a person's names, and those of their company as far as their mail address tells.
func ownWords(names, id, mail string) []secret.Words {
	split := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune(" .,-_@'’\"()", r) })
	}
	local, domain, _ := strings.Cut(mail, "@")
	var company []string
	if labels := strings.Split(domain, "."); len(labels) > 1 {
		company = labels[:len(labels)-1]
	}
	return []secret.Words{{Of: "your own names", List: append(append(split(names), split(id)...), split(local)...)},
		{Of: "the company's names", List: company}}
}

// passwordMost bounds what is looked at.
const passwordMost = 1000 // bytes

// TryPassword says what Hen Roost thinks of a password, for a person or, with none
// named, for anybody. Nothing of it is stored or counted.
func (s *Life) TryPassword(ctx context.Context, who door.Operator, user, password string) (Tried, error) {
	if err := who.May(door.Look); err != nil {
		return Tried{}, err
	}
	if len(password) > passwordMost {
		return Tried{}, door.Wrong("password", "it has more than %d bytes", passwordMost)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Tried{}, err
	}
	var targets []string
	if user != "" {
		if err := c.Check(declared.Choice{Users: []string{user}}); err != nil {
			return Tried{}, err
		}
		for _, a := range c.Plan.AccountsOf(user) {
			targets = append(targets, a.On().Target.Name)
		}
	} else {
		targets = door.KeysOf(c.Declared.Targets)
	}
	return screenFor(c, user, targets).try(password), nil
}

func (x screening) try(password string) Tried {
	out := Tried{Verdict: x.Try(password), Policies: x.policies}
	if out.Policies == nil {
		out.Policies = []string{}
	}
	out.Passes = out.Fit || x.watching
	return out
}

// take looks at a password that somebody chose: it is refused with the reason, or
// counted where that is only watched.
func (s *Life) take(ctx context.Context, x screening, user, password string) error {
	if len(password) > passwordMost {
		return door.Wrong("password", "it has more than %d bytes", passwordMost)
	}
	v := x.try(password)
	if v.Fit {
		return nil
	}
	if !v.Passes {
		return unfit(v)
	}
	for _, p := range v.Policies {
		if err := s.Store.CountScreened(ctx, monday(s.Now()), user, p); err != nil {
			return err
		}
	}
	return nil
}

func unfit(v Tried) error {
	return door.Wrong("password", "this password cannot be used: %s; better: %s", strings.Join(v.Why, ", and "), v.Try)
}

// fitOperator looks at the password of somebody who signs in to Hen Roost itself.
func (s *Life) fitOperator(ctx context.Context, id, full, password string) error {
	var sources []secret.Words
	c, err := s.Current(ctx)
	var p *door.Problem
	switch {
	case err == nil:
		for _, name := range door.KeysOf(c.Declared.Policies) {
			sources = append(sources, secret.Words{Of: "the words of policy " + name,
				List: c.Declared.Policies[name].Value(model.PolicyWords)})
		}
	case !errors.As(err, &p) || p.Kind != door.NotYet:
		s.Log.Warn("an operator's password is looked at without the declaration's words", "error", err)
	}
	v := screening{Screen: secret.NewScreen(secret.Rule{}, append(sources, ownWords(full, id, "")...)...)}.try(password)
	if !v.Fit {
		return unfit(v)
	}
	return nil
}

// monday is the day on which the week of a moment began.
func monday(at time.Time) string {
	at = at.UTC()
	return at.AddDate(0, 0, -(int(at.Weekday())+6)%7).Format(time.DateOnly)
}

// toldMost is how many people a week's entry names.
const toldMost = 20

// tellScreenings tells of the last week, once: who took how many passwords that a policy watches for.
func (s *Life) tellScreenings(ctx context.Context) error {
	week := monday(s.Now().AddDate(0, 0, -7))
	list, err := s.Store.Screenings(ctx, week, toldMost+1)
	if err != nil || len(list) == 0 {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		first, err := tx.TellScreenings(ctx, week)
		if err != nil || !first {
			return nil, err
		}
		var parts []string
		for _, x := range list[:min(toldMost, len(list))] {
			parts = append(parts, x.User+" "+door.Count(x.N, "time", "times")+" ("+x.Policy+")")
		}
		if len(list) > toldMost {
			parts = append(parts, "and others")
		}
		return []*store.Entry{{At: s.Now(), Kind: "screening", Operator: door.Itself.Name,
			Words: "in the week from " + week + " passwords were taken that should not be used: " + strings.Join(parts, ", ")}}, nil
	})
}
