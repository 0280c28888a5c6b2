package dialect

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

func (f *File) makeSchema() model.Schema {
	s := model.Schema{Kind: f.Kind, About: f.About, FoldNames: f.Fold, SystemNames: f.System, Factory: f.Factory,
		Settings: f.Needs, Needs: f.Needs,
		Runs: map[string]string{"host": model.OnHost, "here": model.Here}[f.Reach.Over], Differs: f.Draft != nil && f.Draft.Differs.Set()}
	if f.Actions != nil {
		s.Permits = &model.Permits{Attribute: f.Actions.Given, AtOnce: f.Actions.AtOnce, Examples: f.Actions.Examples}
	}
	for _, name := range slices.Sorted(maps.Keys(f.Holds)) {
		s.Kinds = append(s.Kinds, f.Holds[name].schema(model.KindNamed(name), len(f.Powers()) > 0))
		if last := &s.Kinds[len(s.Kinds)-1]; last.Kind == model.Account && f.History != nil && f.History.Is["account"].Set() {
			last.Attributes = append(last.Attributes, model.AttributeSchema{Name: model.ChangedBy})
		}
	}
	slices.SortFunc(s.Kinds, func(a, b model.KindSchema) int { return int(a.Kind) - int(b.Kind) })
	if f.Signed != nil {
		k := model.KindSchema{Kind: model.SessionKind, Name: model.OnePart("name", "."),
			Attributes: []model.AttributeSchema{{Name: model.HeldBy}, {Name: model.From}, {Name: model.Since}}}
		if f.Signed.List != nil && len(f.Signed.List.In) > 0 {
			k.Attributes = append(k.Attributes, model.AttributeSchema{Name: model.HoldsSets, Many: true})
		}
		s.Kinds = append(s.Kinds, k)
	}
	if f.Target != nil || f.History != nil {
		k := model.KindSchema{Kind: model.SystemKind, Name: model.OnePart("name", ".")}
		var told map[string]Expression
		if f.Target != nil {
			told = f.Target.Is
		}
		for _, a := range slices.Sorted(maps.Keys(told)) {
			if a == "now" {
				a = model.ClockOff
			}
			k.Attributes = append(k.Attributes, model.AttributeSchema{Name: a})
		}
		if f.History != nil {
			k.Attributes = append(k.Attributes, model.AttributeSchema{Name: model.Commits, Many: true})
		}
		s.Kinds = append(s.Kinds, k)
	}
	return s
}

// Powers are the rights by which somebody administers the system.
func (f *File) Powers() []string {
	if h := f.Holds[model.RightKind.String()]; h != nil {
		return h.Mighty
	}
	return nil
}

// schema describes objects of a kind; powers says whether some rights make superuser.
func (h *Holds) schema(kind model.ObjectKind, powers bool) model.KindSchema {
	pattern := "."
	if h.Name.Set() {
		pattern = h.Name.String()
	}
	k := model.KindSchema{Kind: kind, About: h.About, Name: model.OnePart(map[bool]string{true: "login",
		false: "name"}[kind == model.Account],
		pattern), Watched: h.Watched}
	for _, m := range h.Members {
		k.Members = append(k.Members, model.KindNamed(m))
	}
	for _, v := range []struct {
		can  bool
		verb model.Verb
	}{{len(h.Create) > 0, model.Create}, {len(h.Set) > 0, model.Modify}, {len(h.Remove) > 0, model.Remove},
		{len(h.Disable) > 0, model.Disable}, {len(h.Enable) > 0, model.Enable}, {kind == model.Account, model.AdoptIt},
		{len(h.Join) > 0, model.JoinIt}, {len(h.Leave) > 0, model.LeaveIt}} {
		if v.can {
			k.Verbs = append(k.Verbs, v.verb)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(h.Attributes)) {
		a := h.Attributes[name]
		_, settable := h.Set[name]
		k.Attributes = append(k.Attributes, model.AttributeSchema{Name: name, About: a.About, Many: a.Many, Fold: a.Fold, From: a.From,
			Settable: settable, Mighty: a.Mighty})
		powers = powers || len(a.Mighty) > 0
	}
	if kind == model.RightKind {
		k.Spelled, k.OneOf = h.spelling(), len(h.OneOf) > 0
	}
	if kind == model.Account {
		if _, can := h.Set[model.Password]; can {
			k.Attributes = append(k.Attributes, model.AttributeSchema{Name: model.Password, Sealed: true})
		}
		for _, name := range []string{model.Disabled, model.Elevation} {
			if name == model.Elevation && powers || slices.ContainsFunc(h.List, func(l *Listing) bool { return l.Is[name].Set() }) {
				k.Attributes = append(k.Attributes, model.AttributeSchema{Name: name, Many: name == model.Elevation})
			}
		}
	}
	return k
}

// spelling is how a declared right names those of the system: each for itself, by its name.
func (h *Holds) spelling() *model.Spelling {
	return &model.Spelling{
		Read: func(text string) ([]string, error) {
			if h.Name.Set() && !h.Name.MatchString(text) || text == "" {
				return nil, fmt.Errorf("%q is not what a right is called there (%s)", text, h.Name)
			}
			if len(h.OneOf) > 0 && !slices.Contains(h.OneOf, text) {
				return nil, fmt.Errorf("%q is none of those of which an account has one there: %s", text, strings.Join(h.OneOf, ", "))
			}
			return []string{text}, nil
		},
		Covers: func(wide, narrow string) bool {
			at, other := slices.Index(h.OneOf, wide), slices.Index(h.OneOf, narrow)
			return wide == narrow || at >= 0 && other > at
		},
		Mighty: func(right string) bool { return slices.Contains(h.Mighty, right) },
	}
}
