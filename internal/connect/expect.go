package connect

import "hen-roost/internal/core/model"

// Expected is a view of a target as it will be once acts of a batch have been
// carried out, so that those that lean on them can be judged in the same
// reading. What really became of them is told by reading back.
type Expected struct {
	View
	objects map[model.Named]*model.Object
	moved   map[[2]model.Named]bool
}

// Expect begins with what was read.
func Expect(read View) *Expected {
	return &Expected{View: read, objects: map[model.Named]*model.Object{}, moved: map[[2]model.Named]bool{}}
}

// Object implements View.
func (e *Expected) Object(name model.Named) *model.Object {
	if o, known := e.objects[name]; known {
		return o
	}
	return e.View.Object(name)
}

// Member implements View.
func (e *Expected) Member(set, member model.Named) bool {
	if in, known := e.moved[[2]model.Named{set, member}]; known {
		return in
	}
	return e.View.Member(set, member)
}

// Take expects an act to be carried out.
func (e *Expected) Take(act model.Act) {
	switch {
	case act.Moves():
		e.moved[[2]model.Named{act.Of(), {Kind: act.MemberKind, Name: act.Member}}] = act.Verb == model.JoinIt
	case act.Verb == model.Remove:
		e.objects[act.Of()] = nil
	default:
		o := model.Object{Kind: act.Object, Name: act.Name}
		if was := e.Object(act.Of()); was != nil {
			o = *was
		}
		for _, c := range act.Changes {
			if c.Sealed == "" && act.Verb != model.AdoptIt {
				o.Attributes = o.Attributes.With(c.Attribute, c.After...)
			}
		}
		if act.Verb == model.Create && act.Object == model.Account && !o.Attributes.Has(model.Disabled) { // it is made open
			o.Attributes = o.Attributes.With(model.Disabled, "no")
		}
		if was := act.Formerly(); was != "" {
			e.objects[model.Named{Kind: act.Object, Name: was}] = nil
		}
		e.objects[act.Of()] = &o
	}
}
