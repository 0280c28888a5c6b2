package seen

import (
	"context"
	"fmt"
	"slices"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

// GiveUp leaves what is contested to whatever changes it back: the attributes that rounds put right, and that were changed
// again, are declared as left to others on those targets. Accounts that are made get them all the same. What the findings
// show beside, and was never put right, stays ours.
func (s *Seen) GiveUp(ctx context.Context, who door.Operator, keys []string, because string) (declared.Revision, error) {
	if err := who.May(door.Draft); err != nil {
		return declared.Revision{}, err
	}
	if len(keys) == 0 || len(keys) > door.PageMost {
		return declared.Revision{}, door.Wrong("keys", "name between 1 and %d findings", door.PageMost)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return declared.Revision{}, err
	}
	given := map[string][]string{} // attributes, by target
	for _, key := range keys {
		f, err := s.FindingRow(ctx, key)
		if err != nil {
			return declared.Revision{}, err
		}
		attributes, err := s.flipped(ctx, f.Finding)
		if err != nil {
			return declared.Revision{}, err
		}
		given[f.Target] = append(given[f.Target], attributes...)
	}
	var edits []declare.Edit
	for _, name := range door.KeysOf(given) {
		t := c.Declared.Targets[name]
		if t == nil {
			return declared.Revision{}, door.Clashing("%s is no longer declared", name)
		}
		all := slices.Concat(t.Leaves, given[name])
		slices.Sort(all)
		list := []any{}
		for _, a := range slices.Compact(all) {
			list = append(list, a)
		}
		edits = append(edits, declare.Edit{Section: "targets", Name: name, Key: "leaves", Do: declare.Set, Value: list})
	}
	return s.Edit(ctx, who, c.Revision, edits, because)
}

// flipped are the attributes of a finding that were put right before and changed back.
func (s *Seen) flipped(ctx context.Context, f model.Finding) (out []string, err error) {
	what := fmt.Sprintf("the finding about %s on %s", f.Name, f.Target)
	if f.Kind != model.Contested {
		return nil, door.Clashing("%s is %s, not contested: nothing puts back what a round did", what, f.Kind)
	}
	if f.Verb != model.Modify {
		return nil, door.Clashing("%s is no value of an account, and only those are left to others; take out of the declaration what asks "+
			"for it", what)
	}
	var keys []string
	for _, part := range f.Parts() {
		keys = append(keys, part.Key())
	}
	mended, err := s.Store.MendedAmong(ctx, []string{f.Target}, keys, s.Now().Add(-contestFor))
	if err != nil {
		return nil, err
	}
	for _, part := range f.Parts() {
		if attribute := part.Changes[0].Attribute; mended[part.Key()].Times > 0 {
			if slices.Contains(model.Unleft, attribute) {
				return nil, door.Clashing("%s is about %s, which is never left to others", what, attribute)
			}
			out = append(out, attribute)
		}
	}
	if len(out) == 0 {
		return nil, door.Clashing("%s is contested no more; look again: roost drift --kind contested", what)
	}
	return out, nil
}
