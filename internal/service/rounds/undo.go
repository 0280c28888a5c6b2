package rounds

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// needed leaves out the removal of sets that others have come into since, and says so: what a round brought is taken back, and
// not what others have come to need.
func (s *Carrier) needed(ctx context.Context, acts []model.Act) (rest []model.Act, words []string, err error) {
	type member struct {
		target      string
		set, member model.Named
	}
	goes := map[member]bool{} // who is taken out by the same acts
	gone := map[member]bool{} // accounts and sets that go with them, of no set
	for _, a := range acts {
		if a.Verb == model.LeaveIt {
			goes[member{a.Target, a.Of(), model.Named{Kind: a.MemberKind, Name: a.Member}}] = true
		}
		if a.Verb == model.Remove {
			gone[member{a.Target, model.Named{}, a.Of()}] = true
		}
	}
	for _, a := range acts {
		if a.Verb != model.Remove || !a.Object.IsSet() {
			rest = append(rest, a)
			continue
		}
		set, err := s.Store.Set(ctx, a.Target, a.Of())
		if err != nil && err != store.ErrNone {
			return nil, nil, err
		}
		var others []string
		for _, kind := range []model.ObjectKind{model.Account, model.GroupKind} {
			for _, name := range set.Attributes.Get(model.MembersOf(kind)) {
				m := model.Named{Kind: kind, Name: name}
				if !goes[member{a.Target, a.Of(), m}] && !gone[member{a.Target, model.Named{}, m}] {
					others = append(others, name)
				}
			}
		}
		if others == nil {
			rest = append(rest, a)
			continue
		}
		words = append(words, fmt.Sprintf("%s %s on %s stays: others have come into it since: %s", a.Object, a.Name, a.Target,
			few(others)))
	}
	return rest, words, nil
}

// few are the first of some names.
func few(names []string) string {
	const most = 5
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// stillAsked says of what a round did whether the declaration still asks for it: then the next round brings it back.
func stillAsked(p *resolve.Plan, done []model.Act) []string {
	var what []string
	for _, a := range done {
		if a.Verb != model.AdoptIt && p.Asks(a) {
			if one := round.What(a) + " " + round.Subject(a) + " on " + a.Target; !slices.Contains(what, one) {
				what = append(what, one)
			}
		}
	}
	if what == nil {
		return nil
	}
	return []string{fmt.Sprintf("the declaration still asks for %s of this, and the next round brings it back: %s",
		door.Count(len(what), "step", "steps"), few(what))}
}
