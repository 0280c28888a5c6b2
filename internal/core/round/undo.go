package round

import (
	"fmt"
	"slices"

	"hen-roost/internal/core/model"
)

// Loss is what an undo cannot bring back, or not whole.
type Loss struct {
	Act   model.Act
	Words string
}

// Nobody is the owner of an account that is nobody's.
const Nobody = "nobody"

// Undo makes the acts that take back what the given acts did, in the order in
// which they were done, from the values that were there before. What cannot be
// brought back is told beside. kept tells what makes the account again that
// an act has removed, by its place; nil where nothing was kept.
func Undo(done []model.Act, removes func(target string) bool, kept func(int) *Kept) (acts []model.Act, lost []Loss) {
	for i, a := range slices.Backward(withoutMade(done, removes)) {
		u := model.Act{Target: a.Target, Object: a.Object, Name: a.Name, Member: a.Member, MemberKind: a.MemberKind, User: a.User}
		lose := func(format string, args ...any) { lost = append(lost, Loss{a, fmt.Sprintf(format, args...)}) }
		switch a.Verb {
		case model.Create:
			var stays string
			if u, stays = unmade(a, u, removes(a.Target)); stays != "" {
				lose("%s", stays)
			}
			if u.Verb == model.NoRemedy {
				continue
			}
		case model.Modify, model.SetRule:
			u.Verb, u.Changes = a.Verb, turned(a.Changes)
			if len(u.Changes) < len(a.Changes) {
				lose("what was set of %s on %s and cannot be read stays as it is", a.Name, a.Target)
			}
			if len(u.Changes) == 0 && len(a.Changes) > 0 {
				continue
			}
			emptied(u, lose)
		case model.Disable:
			u.Verb, u.Changes = model.Enable, opened(a, lose)
		case model.Enable:
			u.Verb, u.Changes = model.Disable, shutAgain(a.Changes)
		case model.Remove:
			if k := kept(i); k != nil {
				acts = append(acts, k.again(a)...)
				continue
			}
			again, ok := remake(a)
			if !ok {
				lose(forGood, What(a), a.Name, a.Target)
				continue
			}
			if a.Object != model.Account {
				u = again
				break
			}
			lose(bare, a.Name, a.Target)
			acts, u = append(acts, again), shutting(u)
		case model.JoinIt:
			u.Verb, u.Changes = model.LeaveIt, turned(a.Changes)
		case model.LeaveIt:
			u.Verb, u.Changes = model.JoinIt, turned(a.Changes)
		case model.AdoptIt:
			u.Verb = model.AdoptIt
			u.Changes = []model.Change{{Attribute: model.Owner, Before: []string{a.User}, After: ownedBefore(a)}}
		case model.NoRemedy:
			continue
		default:
			lose(forGood, What(a), a.Name, a.Target)
			continue
		}
		acts = append(acts, u)
	}
	return acts, lost
}

// unmade takes away what an act made, or shuts it where it cannot go; stays says what is left.
func unmade(a, u model.Act, removes bool) (_ model.Act, stays string) {
	switch {
	case a.Formerly() != "":
		u.Verb, u.Name, u.Changes = model.Create, a.Formerly(), slices.Clone(a.Changes)
		for i, c := range u.Changes {
			if c.Attribute == model.Formerly {
				u.Changes[i].Before = []string{a.Name}
			}
		}
	case removes:
		u.Verb = model.Remove
	case a.Object != model.Account:
		stays = fmt.Sprintf("%s %s on %s was made and stays: it can be removed there by hand", a.Object, a.Name, a.Target)
	default:
		u, stays = shutting(u), fmt.Sprintf("account %s on %s was made and stays, but is shut", a.Name, a.Target)
	}
	return u, stays
}

// withoutMade returns the acts in their places; those that changed a set which another of them made have no verb, since the set
// goes as a whole.
func withoutMade(done []model.Act, removes func(target string) bool) []model.Act {
	type place struct {
		target string
		model.Named
	}
	made := map[place]bool{}
	for _, a := range done {
		if a.Verb == model.Create && a.Object.IsSet() && a.Formerly() == "" && removes(a.Target) {
			made[place{a.Target, a.Of()}] = true
		}
	}
	out := slices.Clone(done)
	for i, a := range out {
		if a.Verb == model.Modify && made[place{a.Target, a.Of()}] {
			out[i].Verb = model.NoRemedy
		}
	}
	return out
}

// ownedBefore is whose an account was before it was adopted.
func ownedBefore(a model.Act) []string {
	if was := a.Before().Get(model.Owner); len(was) > 0 {
		return was
	}
	return []string{Nobody}
}

// Kept is what makes an account again that was removed: what it was made of, with its password as the target kept it by
// the id of a sealed value, and what it was in.
type Kept struct {
	Changes []model.Change
	Sets    []model.Named
}

// again makes the account as it was, and puts it where it was.
func (k *Kept) again(a model.Act) []model.Act {
	out := []model.Act{{Target: a.Target, Verb: model.Create, Object: a.Object, Name: a.Name, User: a.User, Changes: k.Changes}}
	for _, s := range k.Sets {
		out = append(out, model.Act{Target: a.Target, Verb: model.JoinIt, Object: s.Kind, Name: s.Name, Member: a.Name,
			MemberKind: model.Account, User: a.User, Changes: model.Entering(true)})
	}
	return out
}

// opened takes back the shutting of an account, which may have been half shut before.
func opened(a model.Act, lose func(string, ...any)) []model.Change {
	out := turned(a.Changes)
	if len(out) > 0 && len(out[0].After) > 0 && out[0].After[0] == "partly" {
		out[0].After = []string{"no"}
		lose("account %s on %s was half shut before, and will be open", a.Name, a.Target)
	}
	return out
}

// emptied tells of values that were empty before.
func emptied(u model.Act, lose func(string, ...any)) {
	for _, c := range u.Changes {
		if len(c.After) == 0 && c.Attribute != "keys" {
			lose("%s of %s on %s was empty before, and a target may not take that back", c.Attribute, u.Name, u.Target)
		}
	}
}

// shutAgain takes back the opening of an account, half shut as it may have been before.
func shutAgain(changes []model.Change) []model.Change {
	out := turned(changes)
	for i := range out {
		if out[i].Attribute == model.Disabled {
			out[i].After = []string{"yes"}
		}
	}
	return out
}

const (
	forGood = "%s of %s on %s cannot be taken back"
	bare    = "account %s on %s is made again, shut, with its home where that was archived; its password and groups are gone"
)

// shutting shuts an account that is open.
func shutting(u model.Act) model.Act {
	u.Verb, u.Changes = model.Disable, []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}
	return u
}

// remake is what makes an account again that was removed, if enough of it was written down, or a set without its members.
func remake(a model.Act) (model.Act, bool) {
	before := a.Before()
	if a.Object == model.Account && !before.Has(model.Number) || !a.Object.IsSet() && a.Object != model.Account {
		return a, false
	}
	u := model.Act{Target: a.Target, Verb: model.Create, Object: a.Object, Name: a.Name, User: a.User}
	for _, c := range a.Changes {
		private := c.Attribute == model.PrimaryGroup && c.Before[0] == a.Name // it went with the account, and comes back with it
		if c.Attribute != model.Disabled && len(c.Before) > 0 && (len(c.Before) == 1 || a.Object.IsSet()) && !private {
			u.Changes = append(u.Changes, model.Change{Attribute: c.Attribute, After: c.Before})
		}
	}
	return u, true
}

// turned swaps before and after. What nothing asked for has no lineage. A new
// password stays, and with it that it is to be changed.
func turned(changes []model.Change) []model.Change {
	out := make([]model.Change, 0, len(changes))
	secret := slices.ContainsFunc(changes, func(c model.Change) bool { return c.Sealed != "" })
	for _, c := range changes {
		if c.Sealed == "" && !(secret && c.Attribute == model.MustChange) {
			out = append(out, model.Change{Attribute: c.Attribute, Before: c.After, After: c.Before})
		}
	}
	return out
}
