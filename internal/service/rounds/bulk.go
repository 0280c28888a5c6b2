package rounds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// BulkLine asks for one change: for a person, on a target, what.
type BulkLine struct {
	User   string `json:"user" example:"marit.fell" doc:"empty for what is no account: remove group NAME"`
	Target string `json:"target" example:"arctic-tern" doc:"a target, or * for all where they have an account"`
	What   string `json:"what" example:"leave stores" doc:"disable, enable, remove, join GROUP, leave GROUP, or change ATTRIBUTE=VALUE; without a user: remove group NAME"`
}

// BulkRequest asks for changes line by line, or for one change of all users a condition holds for.
type BulkRequest struct {
	Lines   []BulkLine
	CSV     string // in place of lines: a table with the columns user, target, what
	Where   string // CEL over user, day and params
	Targets []string
	What    string
	Because string
	First   string
	Until   string // what is against the declaration is kept until this day; "" until the next round
	Look    bool   // say what would become of each line, and draft nothing
}

// BulkAnswer is what became of one line.
type BulkAnswer struct {
	Line int `json:"line" doc:"of the request, counted from 1; of a table, as an editor counts"`
	BulkLine
	Outcome string `json:"outcome" enum:"drafted,to-draft,already-so,refused" doc:"to-draft: where it is only looked at"`
	Words   string `json:"words,omitempty"`
}

// BulkResult is the round drafted, and an answer for each line.
type BulkResult struct {
	Round Round        `json:"round" doc:"its id is 0 when there is nothing to do"`
	Lines []BulkAnswer `json:"lines"`
}

const bulkMost = 100_000

// Bulk drafts a round from changes asked for one by one. Lines that cannot be
// are refused with the reason; the others are drafted all the same.
func (s *Carrier) Bulk(ctx context.Context, who door.Operator, q BulkRequest) (BulkResult, error) {
	if err := who.May(door.Draft); err != nil {
		return BulkResult{}, err
	}
	if _, err := door.Reason(q.Because); err != nil && !q.Look {
		return BulkResult{}, err
	}
	until, err := keptUntil(q.Until, s.Now())
	if err != nil {
		return BulkResult{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return BulkResult{}, err
	}
	if q.Where != "" {
		if q.Lines, err = s.selected(c, q); err != nil {
			return BulkResult{}, err
		}
	}
	numbers := []int{} // of the lines
	if q.CSV != "" {
		changes, err := exchange.ReadChanges(q.CSV)
		if err != nil {
			return BulkResult{}, door.Wrong("csv", "%v", err)
		}
		for _, x := range changes {
			q.Lines, numbers = append(q.Lines, BulkLine{User: x.User, Target: x.Target, What: x.What}), append(numbers, x.Line)
		}
	}
	if len(q.Lines) == 0 || len(q.Lines) > bulkMost {
		return BulkResult{}, door.Wrong("lines", "%d lines; a bulk change has between 1 and %d", len(q.Lines), bulkMost)
	}
	b := bulk{s: s, c: c, until: q.Until, wrong: map[string]string{}, links: map[string]map[string][]string{}, seen: map[string]bool{}}
	out := BulkResult{Lines: []BulkAnswer{}}
	for i, l := range q.Lines {
		n := i + 1
		if len(numbers) == len(q.Lines) {
			n = numbers[i]
		}
		if err := b.line(ctx, n, l); err != nil {
			return BulkResult{}, err
		}
		if len(b.acts) > maxSteps {
			return BulkResult{}, door.Wrong("lines",
				"by line %d there are more than %d steps, the most that one round takes; ask for it in "+
					"parts", n, maxSteps)
		}
	}
	if out.Lines = b.out; q.Look {
		for i := range out.Lines {
			if out.Lines[i].Outcome == "drafted" {
				out.Lines[i].Outcome = "to-draft"
			}
		}
		return out, nil
	}
	out.Round, err = s.draft(ctx, who, c, b.acts, store.Round{Because: q.Because, First: q.First, Bulk: true, KeptUntil: until})
	return out, err
}

// Ask drafts a round of acts that were asked for in so many words.
func (s *Carrier) Ask(ctx context.Context, who door.Operator, acts []model.Act, because string) (Round, error) {
	if err := who.May(door.Draft); err != nil {
		return Round{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Round{}, err
	}
	return s.draft(ctx, who, c, acts, store.Round{Because: because, Bulk: true})
}

// selected makes the lines of a selection.
func (s *Carrier) selected(c *declared.Current, q BulkRequest) ([]BulkLine, error) {
	if q.What == "" {
		return nil, door.Wrong("what", "say what to do for those selected: disable, enable, remove, join GROUP, leave GROUP, or change "+
			"ATTRIBUTE=VALUE")
	}
	users, err := c.Where(q.Where)
	if err != nil {
		return nil, err
	}
	targets := q.Targets
	if len(targets) == 0 {
		targets = []string{"*"}
	}
	var out []BulkLine
	for _, user := range users {
		for _, t := range targets {
			out = append(out, BulkLine{User: user, Target: t, What: q.What})
		}
	}
	return out, nil
}

type bulk struct {
	s     *Carrier
	c     *declared.Current
	until string
	wrong map[string]string              // what was said of names that are not there, by target, kind and name
	links map[string]map[string][]string // by user: target → accounts
	acts  []model.Act
	seen  map[string]bool // acts asked for by an earlier line
	out   []BulkAnswer
}

func (b *bulk) line(ctx context.Context, n int, l BulkLine) error {
	answer := func(target, outcome, format string, args ...any) {
		one := l
		one.Target = target
		b.out = append(b.out, BulkAnswer{Line: n, BulkLine: one, Outcome: outcome, Words: fmt.Sprintf(format, args...)})
	}
	choice := declared.Choice{Users: []string{l.User}}
	if l.Target != "*" {
		choice.Targets = []string{l.Target}
	}
	if l.User == "" && l.Target != "*" {
		return b.removeSet(ctx, l, answer)
	}
	if err := b.s.CheckChosen(ctx, b.c, choice); err != nil {
		answer(l.Target, "refused", "%v", err)
		return nil
	}
	accounts := b.links[l.User]
	if accounts == nil {
		links, err := b.s.Store.LinksOf(ctx, l.User)
		if err != nil {
			return err
		}
		accounts = map[string][]string{}
		for _, x := range links {
			accounts[x.Target] = append(accounts[x.Target], x.Name)
		}
		b.links[l.User] = accounts
	}
	targets := choice.Targets
	if l.Target == "*" {
		if targets = door.KeysOf(accounts); len(targets) == 0 {
			answer("*", "refused", "%s has no account anywhere yet", l.User)
		}
	}
	for _, target := range targets {
		if len(accounts[target]) == 0 || b.c.Plan.Targets[target] == nil {
			answer(target, "refused", "%s has no account on %s that we know of; declare it, or adopt the one there", l.User, target)
			continue
		}
		for _, name := range accounts[target] {
			outcome, words, err := b.account(ctx, l, target, name)
			if err != nil {
				return err
			}
			if len(accounts[target]) > 1 {
				words = strings.TrimSuffix(name+": "+words, ": ")
			}
			answer(target, outcome, "%s", words)
		}
	}
	return nil
}

// account drafts what a line asks for on one account, and says what became of it.
func (b *bulk) account(ctx context.Context, l BulkLine, target, name string) (outcome, words string, err error) {
	act, words, err := b.act(ctx, l, target, name)
	switch {
	case err != nil:
		return "", "", err
	case words != "":
		return "refused", words, nil
	case act == nil:
		return "already-so", "", nil
	case b.seen[act.Key()]:
		return "refused", "an earlier line asks for it", nil
	}
	b.seen[act.Key()] = true
	b.acts = append(b.acts, *act)
	return "drafted", b.against(*act), nil
}

// against says of an act that the declaration asks for the opposite, and until when it lasts.
func (b *bulk) against(a model.Act) string {
	back := askedInstead(b.c.Plan, a)
	if len(back) == 0 || a.Verb == model.Disable { // what is shut on purpose is not opened by itself
		return ""
	}
	b.c.Plan.Trace(&back[0])
	why := ""
	if len(back[0].Changes) > 0 {
		if why = round.Because(back[0]); why != "" {
			why = " (" + why + ")"
		}
	}
	if b.until != "" {
		return fmt.Sprintf("against the declaration%s: it is kept until %s, and the next round after that takes it back", why, b.until)
	}
	return fmt.Sprintf("against the declaration%s: it lasts until the next round; to keep it until a day: --until DAY", why)
}

// act works out what a line asks for. It returns nil when it is so already, and words when it cannot be.
func (b *bulk) act(ctx context.Context, l BulkLine, target, name string) (act *model.Act, words string, err error) {
	o, err := b.s.Store.Object(ctx, target, model.Account, name)
	if errors.Is(err, store.ErrNone) {
		return nil, fmt.Sprintf("the account %s was not on %s when it was last surveyed", name, target), nil
	}
	if err != nil {
		return nil, "", err
	}
	d := b.c.Plan.Targets[target]
	act = &model.Act{Target: target, Object: model.Account, Name: name, User: l.User}
	verb, rest, _ := strings.Cut(strings.TrimSpace(l.What), " ")
	rest = strings.TrimSpace(rest)
	door := o.Attributes.Get(model.Disabled)
	switch verb {
	case "disable", "enable":
		act.Verb = model.Verb(verb)
		after := map[string]string{"disable": "yes", "enable": "no"}[verb]
		if slices.Equal(door, []string{after}) {
			return nil, "", nil
		}
		act.Changes = []model.Change{{Attribute: model.Disabled, Before: door, After: []string{after}}}
	case "remove":
		switch {
		case rest != "" && rest != name: // of several accounts one alone
			return nil, "", nil
		case !d.Schema.Account().Does(model.Remove):
			return nil, fmt.Sprintf("accounts on %s cannot be removed from here; disable it", target), nil
		}
		act.Verb, act.Changes = model.Remove, drift.Removal(d, &o)
	case "join", "leave":
		return b.member(ctx, act, verb, rest)
	case "change":
		attribute, value, ok := strings.Cut(rest, "=")
		s, known := d.Schema.Find(model.Account, attribute)
		if !ok || !known || !s.Settable || s.Many {
			return nil, fmt.Sprintf("%q: write change ATTRIBUTE=VALUE, with an attribute of one value that can be set on %s", l.What,
				target), nil
		}
		before := o.Attributes.Get(attribute)
		if slices.Equal(before, []string{value}) {
			return nil, "", nil
		}
		act.Verb, act.Changes = model.Modify, []model.Change{{Attribute: attribute, Before: before, After: []string{value}}}
	default:
		return nil, fmt.Sprintf("%q is not one of disable, enable, remove, join GROUP, leave GROUP, change ATTRIBUTE=VALUE", l.What), nil
	}
	return act, "", nil
}

// member works out who joins or leaves a set: GROUP, or KIND NAME as in "right counter".
func (b *bulk) member(ctx context.Context, act *model.Act, verb, what string) (*model.Act, string, error) {
	set := model.Named{Kind: model.GroupKind, Name: what}
	if word, name, two := strings.Cut(what, " "); two && model.KindNamed(word).IsSet() {
		set = model.Named{Kind: model.KindNamed(word), Name: strings.TrimSpace(name)}
	}
	if !b.c.Plan.Targets[act.Target].Schema.Of(set.Kind).Does(model.JoinIt) {
		return nil, fmt.Sprintf("nobody can join or leave a %s on %s", set.Kind, act.Target), nil
	}
	if _, err := b.s.Store.Object(ctx, act.Target, set.Kind, set.Name); errors.Is(err, store.ErrNone) {
		return nil, b.notHeld(ctx, act.Target, set), nil
	} else if err != nil {
		return nil, "", err
	}
	in, err := b.s.Store.InSet(ctx, act.Target, set, model.Named{Kind: model.Account, Name: act.Name})
	if err != nil || in == (verb == "join") {
		return nil, "", err
	}
	act.Member, act.MemberKind = act.Name, model.Account
	act.Object, act.Name, act.Verb, act.Changes = set.Kind, set.Name, model.Verb(verb), model.Entering(verb == "join")
	return act, "", nil
}
