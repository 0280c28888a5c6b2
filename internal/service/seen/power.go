package seen

import (
	"context"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/store"
)

// PowerOn is who can become superuser on a target and through what, as it was last seen: nil where nobody can. moved are sets that
// steps are about to bring into others.
func (s *Seen) PowerOn(ctx context.Context, d *resolve.Desired, moved []model.Named) (*power.Power, error) {
	told, err := s.Store.Set(ctx, d.Target.Name, model.Named{Kind: model.RightKind, Name: model.Superuser})
	right := &told
	if err == store.ErrNone {
		right, err = nil, nil
	}
	var ways []model.Named
	if err == nil && d.Schema.Of(model.ElevationKind) != nil {
		ways, err = s.Store.SetsOfKind(ctx, d.Target.Name, model.ElevationKind)
	}
	if err != nil {
		return nil, err
	}
	return PowerFrom(d, right, ways, moved, func(sets []model.Named) ([]model.Object, error) {
		return s.Store.SetsNamed(ctx, d.Target.Name, sets)
	})
}

// PowerFrom is PowerOn from what is read of a target; nil where a target of its kind has no superuser.
func PowerFrom(d *resolve.Desired, right *model.Object, ways, moved []model.Named, load power.Load) (*power.Power, error) {
	var mighty func(string) bool
	if k := d.Schema.Of(model.RightKind); k != nil && k.Spelled != nil {
		mighty = k.Spelled.Mighty
	}
	var attributes []model.AttributeSchema
	for _, a := range d.Schema.Account().Attributes {
		if len(a.Mighty) > 0 {
			attributes = append(attributes, a)
		}
	}
	if right == nil && len(ways)+len(attributes) == 0 && mighty == nil && d.Schema.Of(model.ElevationKind) == nil {
		return nil, nil
	}
	p, err := power.Of(right, ways, moved, mighty, d.Schema.FoldNames, load)
	for _, k := range d.Schema.Kinds {
		if k.OneOf && err == nil {
			p.Single(k.Kind)
		}
	}
	for _, a := range attributes {
		if err == nil {
			p.Values(a.Name, a.Mighty)
		}
	}
	return p, err
}
