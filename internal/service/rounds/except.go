package rounds

import (
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// What a round changes against the declaration lasts until the next round, or, where its draft says so, until a day: then the
// findings that it leaves are accepted until that day, and undoing it ends that.

// exceptedMost is how far away the day may be.
const exceptedMost = 2 // years

// keptUntil reads the day until which something is kept; nil for none.
func keptUntil(text string, now time.Time) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	day, err := time.Parse(time.DateOnly, text)
	today := now.UTC().Truncate(24 * time.Hour)
	switch {
	case err != nil:
		return nil, door.Wrong("until", "%q is not a day; write it as 2026-12-31", text)
	case day.Before(today):
		return nil, door.Wrong("until", "%s is over already", text)
	case day.After(today.AddDate(exceptedMost, 0, 0)):
		return nil, door.Wrong("until", "%s is more than two years away; what may stay for good belongs in the declaration", text)
	}
	return &day, nil
}

// exception is what the results of a round's batch leave to be accepted or, where the round takes such a one back, no longer.
func exception(p *resolve.Plan, r store.Round, results []work.Result) store.Exception {
	if r.KeptUntil == nil {
		return store.Exception{}
	}
	x := store.Exception{Until: r.KeptUntil, By: r.RunBy, Because: r.Because}
	if r.Undoes != 0 {
		x.Until = nil
	}
	for _, res := range results {
		if !held(string(res.Outcome)) {
			continue
		}
		acts := []model.Act{res.Act.Act} // of one that takes back: it is what the finding asked for
		if r.Undoes == 0 {
			acts = askedInstead(p, res.Act.Act)
		}
		for _, a := range acts {
			for _, kind := range []model.FindingKind{model.Missing, model.Unexpected, model.Different, model.Contested, model.Beyond} {
				x.Keys = append(x.Keys, model.Finding{Kind: kind, Act: a}.Key())
			}
		}
	}
	return x
}

// askedInstead are the acts by which the declaration would put right what an act changes against it; none where it does not.
func askedInstead(p *resolve.Plan, a model.Act) (acts []model.Act) {
	back := opposite(a)
	if a.Verb == model.Modify {
		back.Changes = make([]model.Change, len(a.Changes))
		for i, c := range a.Changes {
			back.Changes[i] = model.Change{Attribute: c.Attribute, Before: c.After, After: c.Before}
		}
	}
	if a.Verb != model.Remove {
		if back.Verb == a.Verb && a.Verb != model.Modify || !p.Asks(back) {
			return nil
		}
		return []model.Act{back}
	}
	back.Verb = model.Create
	if a.Object != model.Account {
		if p.Asks(back) {
			acts = append(acts, back)
		}
		return acts
	}
	list := p.Accounts(a.User, a.Target)
	for _, x := range list { // it would be made anew, under its declared name, and brought into its sets
		if schema := p.Targets[a.Target].Schema.Account(); len(list) > 1 && rest(schema, x.Name) != rest(schema, a.Name) {
			continue
		}
		back.Name = x.Name
		acts = append(acts, back)
		for _, j := range x.Sets() {
			acts = append(acts, model.Act{Target: a.Target, Verb: model.JoinIt, Object: j.Set.Kind, Name: j.Set.Name, Member: x.Name,
				MemberKind: model.Account, User: a.User})
		}
	}
	return acts
}

// rest is what is behind the login in an account's name.
func rest(k *model.KindSchema, name string) string {
	_, rest := k.Login(name)
	return rest
}
