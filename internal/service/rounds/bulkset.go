package rounds

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/store"
)

// removeSet drafts the removal of a set, as of a group that nobody needs any more: first its members leave it, so that an undo brings
// them back.
func (b *bulk) removeSet(ctx context.Context, l BulkLine, answer func(target, outcome, format string, args ...any)) error {
	acts, words, err := b.removal(ctx, l)
	switch {
	case err != nil:
		return err
	case words != "":
		answer(l.Target, "refused", "%s", words)
		return nil
	}
	gone := acts[len(acts)-1]
	if b.seen[gone.Key()] {
		answer(l.Target, "refused", "an earlier line asks for it")
		return nil
	}
	b.seen[gone.Key()] = true
	b.acts = append(b.acts, acts...)
	words = b.against(gone)
	if n := len(acts) - 1; n > 0 {
		words = strings.TrimSuffix(fmt.Sprintf("%d members leave it first; %s", n, words), "; ")
	}
	answer(l.Target, "drafted", "%s", words)
	return nil
}

// removal works out the acts by which a set goes, its removal last; words say why it cannot.
func (b *bulk) removal(ctx context.Context, l BulkLine) (acts []model.Act, words string, err error) {
	if err := b.c.Check(declared.Choice{Targets: []string{l.Target}}); err != nil {
		return nil, err.Error(), nil
	}
	verb, what, _ := strings.Cut(strings.TrimSpace(l.What), " ")
	kind, name, _ := strings.Cut(strings.TrimSpace(what), " ")
	set := model.Named{Kind: model.KindNamed(kind), Name: strings.TrimSpace(name)}
	d := b.c.Plan.Targets[l.Target]
	switch k := d.Schema.Of(set.Kind); {
	case verb != "remove" || !set.Kind.IsSet() || set.Name == "":
		return nil, fmt.Sprintf("%q: a line without a user is remove group NAME", l.What), nil
	case !k.Does(model.Remove):
		return nil, fmt.Sprintf("a %s on %s cannot be removed from here", set.Kind, l.Target), nil
	}
	o, err := b.s.Store.Set(ctx, l.Target, set)
	if errors.Is(err, store.ErrNone) {
		return nil, b.notHeld(ctx, l.Target, set), nil
	}
	if err != nil {
		return nil, "", err
	}
	if why, covered := d.Shield().Covers(&o); covered {
		return nil, fmt.Sprintf("the %s %s on %s is %s, and no step touches it", set.Kind, set.Name, l.Target, why), nil
	}
	inside, members := o.Attributes.Get(model.MemberGroups), o.Attributes.Get(model.Members)
	if n := len(inside) + len(members); n > maxSteps {
		return nil, fmt.Sprintf("it has %d members, and one round takes at most %d steps", n, maxSteps), nil
	}
	users, err := b.s.Store.LinkedNames(ctx, l.Target, members)
	if err != nil {
		return nil, "", err
	}
	leave := func(kind model.ObjectKind, name, user string) {
		acts = append(acts, model.Act{Target: l.Target, Verb: model.LeaveIt, Object: set.Kind, Name: set.Name, Member: name,
			MemberKind: kind, User: user, Changes: model.Entering(false)})
	}
	for _, name := range members {
		leave(model.Account, name, users[name])
	}
	for _, name := range inside {
		leave(model.GroupKind, name, "")
	}
	gone := model.Act{Target: l.Target, Verb: model.Remove, Object: set.Kind, Name: set.Name}
	for _, s := range d.Schema.Of(set.Kind).Attributes { // what it is made of, so that it can be made again
		if v := o.Attributes.Get(s.Name); s.Settable && len(v) > 0 && s.Name != model.Members && s.Name != model.MemberGroups {
			gone.Changes = append(gone.Changes, model.Change{Attribute: s.Name, Before: v})
		}
	}
	return append(acts, gone), "", nil
}

// notHeld says that a target holds no such set, once looked up for all lines that name it.
func (b *bulk) notHeld(ctx context.Context, target string, set model.Named) string {
	key := fmt.Sprintf("%q %v %q", target, set.Kind, set.Name)
	if b.wrong[key] == "" {
		b.wrong[key] = b.s.NotHeld(ctx, target, set.Kind, set.Name).Words
	}
	return b.wrong[key]
}
