package seen

import (
	"context"
	"fmt"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// RenameRequest gives a user another id.
type RenameRequest struct {
	User, To string
	Because  string
	Look     bool
}

// Renaming is what came of it, or would.
type Renaming struct {
	User     string            `json:"user"`
	To       string            `json:"to"`
	Places   int               `json:"places" doc:"of the declaration that name the user, and are changed"`
	Also     []string          `json:"also,omitempty" doc:"where the old id still stands, in comments and conditions, for a person to look at: FILE:LINE:COLUMN"`
	Accounts []HeldAccount     `json:"accounts" doc:"which stay as they are, under the login that they have"`
	Sources  []string          `json:"sources,omitempty" doc:"sources that tell of this person by the old id: they would bring it back until it is changed there"`
	Revision declared.Revision `json:"revision" doc:"its number is 0 when it was only looked at"`
}

// HeldAccount is an account on a target.
type HeldAccount struct {
	Target  string `json:"target"`
	Account string `json:"account"`
}

// alsoMost bounds how many places are told.
const alsoMost = 50

// Rename gives a user another id, everywhere in the declaration and in all that is known of them, in one transaction: their
// accounts stay theirs, under the login that they have there. The record and the past keep the old id, and are found by both.
func (s *Seen) Rename(ctx context.Context, who door.Operator, q RenameRequest) (Renaming, error) {
	if err := who.May(door.Draft); err != nil {
		return Renaming{}, err
	}
	because := ""
	if !q.Look {
		var err error
		if because, err = door.Reason(q.Because); err != nil {
			return Renaming{}, err
		}
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Renaming{}, err
	}
	if err := c.Check(declared.Choice{Users: []string{q.User}}); err != nil {
		return Renaming{}, err
	}
	if err := s.mayBeCalled(ctx, c, q.To); err != nil {
		return Renaming{}, err
	}
	files, places, rest, err := c.Source.Rename(q.User, q.To)
	if err != nil {
		return Renaming{}, door.Clashing("%v", err)
	}
	out := Renaming{User: q.User, To: q.To, Places: places, Accounts: []HeldAccount{}}
	for _, l := range rest[:min(len(rest), alsoMost)] {
		out.Also = append(out.Also, l.String())
	}
	links, err := s.Store.LinksOf(ctx, q.User)
	if err != nil {
		return out, err
	}
	for _, l := range links {
		out.Accounts = append(out.Accounts, HeldAccount{l.Target, l.Name})
	}
	if out.Sources, err = s.Store.SourcesOf(ctx, q.User); err != nil {
		return out, err
	}
	findings, _, err := s.Store.Findings(ctx, store.FindingFilter{Users: []string{q.User}}, "", door.PageMost)
	if err != nil {
		return out, err
	}
	if err := recognised(q.User, findings); err != nil {
		return out, err
	}
	if q.Look {
		_, err = s.Check(ctx, who, files)
		return out, err
	}
	r := &renaming{s: s, c: c, findings: findings, from: q.User, to: q.To, links: links, entry: store.Entry{At: s.Now(), Kind: "revision",
		Operator: who.Name, User: q.To, Because: because, Words: fmt.Sprintf("the user %s is called %s from now on; %s theirs, under the "+
			"logins that they have", q.User, q.To, door.Count(len(links), "account stays", "accounts stay"))}}
	out.Revision, err = s.DeclareWith(ctx, who, c, files, because, func(read *declared.Reading) declared.Weighed {
		r.read = read
		return r
	})
	return out, err
}

// mayBeCalled says why nobody can be given an id: it is somebody's, or was and things are known by it.
func (s *Seen) mayBeCalled(ctx context.Context, c *declared.Current, id string) error {
	if id == "" {
		return door.Wrong("to", "is missing; write the new id")
	}
	if c.Declared.Users[id] != nil {
		return door.Clashing("the user %s is declared already", id)
	}
	links, err := s.Store.LinksOf(ctx, id)
	if err != nil {
		return err
	}
	if len(links) > 0 {
		return door.Clashing("the account %s on %s, and %d in all, belong to a user %s who is no longer declared; give them to somebody "+
			"first (roost adopt), or remove them", links[0].Name, links[0].Target, len(links), id)
	}
	_, n, err := s.Store.Rounds(ctx, []string{"running"}, store.Page{Size: 1})
	if err == nil && n > 0 {
		err = door.Clashing("%s at work, and may make accounts for them; try again when it has ended: roost round list",
			door.Count(n, "round is", "rounds are"))
	}
	return err
}

// recognised says where an account is known, or thought, to be a user's by their id and name alone: under another id it would no
// longer be recognised, and be made a second time. Once it is adopted it stays theirs.
func recognised(user string, findings []store.Finding) error {
	for _, f := range findings {
		if f.Object != model.Account {
			continue
		}
		if f.Verb == model.AdoptIt {
			return door.Clashing("the account %s on %s is recognised as %s’s and not adopted yet; under another id it would no longer be: "+
				"adopt it first with a round (roost draft --user %s), then rename", f.Name, f.Target, user, user)
		}
		// An account that is to be made says what it is to have; one that somebody must decide about does not.
		if f.Kind == model.Unmatched && len(f.Candidates) > 0 && len(f.Changes) == 0 {
			return door.Clashing("whether the account %s on %s is %s’s is not decided; decide (roost adopt %s %s %s) and adopt it with a "+
				"round, then rename", f.Candidates[0], f.Target, user, f.Target, f.Candidates[0], user)
		}
	}
	return nil
}

// renaming is a Weighed: a revision in which somebody has another id. Only where they have accounts, or should, does anything
// change.
type renaming struct {
	s        *Seen
	c        *declared.Current // what was declared before
	read     *declared.Reading
	from, to string
	links    []model.Link
	findings []store.Finding // of the user
	entry    store.Entry
	late     []string // targets that are compared anew; nil: all
}

func (r *renaming) Findings(context.Context) (int, error) { return 0, nil }

func (r *renaming) Keep(ctx context.Context, tx *store.Tx, revision int) ([]*store.Entry, error) {
	entries := []*store.Entry{&r.entry}
	if err := tx.RenameUser(ctx, r.from, r.to, r.entry.Operator, r.entry.At); err != nil {
		return nil, err
	}
	for target, keys := range r.keys() {
		if err := tx.RenameFindings(ctx, target, keys); err != nil {
			return nil, err
		}
	}
	theirs := r.targets()
	if r.read.Change == nil || revision != r.c.Revision+1 || theirs == nil {
		return entries, nil
	}
	_, more, err := r.s.apply(ctx, tx, nil, theirs, r.c.Revision, revision, r.read.Plan.Day)
	r.late = theirs
	return append(entries, more...), err
}

// keys are, by target, those of the user's findings and of their single changes, each with the one that it has from now on.
func (r *renaming) keys() map[string]map[string]string {
	out := map[string]map[string]string{}
	note := func(target, from, to string) {
		if out[target] == nil {
			out[target] = map[string]string{}
		}
		out[target][from] = to
	}
	for _, f := range r.findings {
		now := f.Finding
		now.User = r.to
		note(f.Target, f.Key, now.Key())
		parts := now.Act.Parts()
		for i, part := range f.Finding.Act.Parts() {
			note(f.Target, part.Key(), parts[i].Key())
		}
	}
	return out
}

// targets are those on which the user has accounts, or should have some; nil: any may be, since groups name them.
func (r *renaming) targets() []string {
	for _, g := range r.c.Declared.Groups {
		if slices.ContainsFunc(g.Keepers, func(k model.Ref) bool { return k.Name == r.from }) {
			return nil
		}
	}
	out := []string{}
	for _, l := range r.links {
		out = append(out, l.Target)
	}
	for _, a := range r.c.Plan.AccountsOf(r.from) {
		out = append(out, a.On().Target.Name)
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(name string) bool { return r.read.Plan.Targets[name] == nil })
}

// Settle compares those targets.
func (r *renaming) Settle(ctx context.Context) error {
	if r.late == nil {
		return r.s.CompareAll(ctx)
	}
	return r.s.compareSome(ctx, r.late, shown{})
}
