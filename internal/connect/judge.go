package connect

import (
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Standing is where a target stands towards an act.
type Standing int

const (
	Ready   Standing = iota // as it was when the act was drafted
	So                      // already as the act would leave it
	Drifted                 // neither
	Barred                  // never mind how it stands: the act can be asked of no such target
)

// View is what has been read of a target.
type View interface {
	// Object is the object of that name, nil when there is none. Of a set it may
	// lack the members.
	Object(model.Named) *model.Object
	// Member says whether a member is in a set.
	Member(set, member model.Named) bool
}

// Judge says where the target stands towards an act, and in words how it
// differs when it has drifted. Only what the act changes is looked at.
func Judge(act Act, schema model.Schema, view View) (Standing, string) {
	o := view.Object(act.Of())
	switch {
	case act.Moves():
		return judgeMove(act, schema.Of(act.Object), o, view)
	case act.Verb == model.Remove:
		return judgeRemoval(act, schema, o)
	case act.Verb == model.AdoptIt && o != nil:
		return Ready, ""
	case o == nil && act.Formerly() != "" && view.Object(model.Named{Kind: act.Object, Name: act.Formerly()}) == nil:
		return Drifted, fmt.Sprintf("%s %s is not there", act.Object, act.Formerly())
	case o == nil && (act.Verb == model.Create || act.Verb == model.SetRule):
		return Ready, ""
	case o == nil:
		return Drifted, fmt.Sprintf("%s %s is not there", act.Object, act.Name)
	}
	so, ready, made, words := differences(act, schema, o)
	switch {
	case so && !sealing(act), so && act.Verb == model.Create && !act.Again:
		return So, ""
	case act.Verb != model.Create && ready, act.Verb == model.Create && act.Again && made:
		return Ready, ""
	case act.Verb == model.Create:
		return Drifted, fmt.Sprintf("%s %s is there already and differs: %s", act.Object, act.Name, words)
	}
	return Drifted, words
}

// differences compares an object with an act: so when it is as the act leaves
// it, ready when what differs is as it was before the act, made when it could be
// what is left of the same act that was cut off: all that differs is unset.
func differences(act Act, schema model.Schema, o *model.Object) (so, ready, made bool, words string) {
	so, ready, made = true, true, true
	var parts []string
	for _, c := range act.Changes {
		s, _ := schema.Find(act.Object, c.Attribute)
		found := o.Attributes.Get(c.Attribute)
		if c.Sealed != "" || s.Same(found, c.After) {
			continue // a secret cannot be compared; what was done before is done
		}
		so = false
		made = made && len(found) == 0
		before := s.Same(found, c.Before)
		if ready = ready && before; !before || act.Verb == model.Create { // of what is there already: all that is not as it is to be
			parts = append(parts, fmt.Sprintf("%s is %s", c.Attribute, quoted(found)))
		}
	}
	if odd := o.Attributes.One(model.Odd); odd != "" && !so {
		parts = append(parts, odd)
	}
	return so, ready, made, strings.Join(parts, ", ")
}

// sealing says whether an act sets something that cannot be read.
func sealing(act Act) bool {
	return slices.ContainsFunc(act.Changes, func(c model.Change) bool { return c.Sealed != "" })
}

func judgeMove(act Act, kind *model.KindSchema, set *model.Object, view View) (Standing, string) {
	if set == nil && act.Verb == model.JoinIt && (kind == nil || !kind.ByJoining) {
		return Drifted, fmt.Sprintf("%s %s is not there", act.Object, act.Name)
	}
	in := set != nil && view.Member(act.Of(), model.Named{Kind: act.MemberKind, Name: act.Member})
	if in == (act.Verb == model.JoinIt) {
		return So, ""
	}
	return Ready, ""
}

// judgeRemoval lets go what is still as it was: what the act says was there before.
func judgeRemoval(act Act, schema model.Schema, o *model.Object) (Standing, string) {
	if o == nil {
		return So, ""
	}
	var words []string
	for _, c := range act.Changes {
		s, _ := schema.Find(act.Object, c.Attribute)
		if found := o.Attributes.Get(c.Attribute); c.Before != nil && !s.Same(found, c.Before) {
			words = append(words, fmt.Sprintf("%s is %s", c.Attribute, quoted(found)))
		}
	}
	if words != nil {
		return Drifted, strings.Join(words, ", ")
	}
	return Ready, ""
}

func quoted(v []string) string {
	if len(v) == 0 {
		return "empty"
	}
	return strings.Join(v, " ")
}

// Verify turns what was read back into an answer: done only if the target
// shows it. trouble is what the target said when it was asked, if it complained.
// Of what it cannot show, that it said nothing is all there is; see Proved.
func Verify(act Act, schema model.Schema, view View, trouble string) Answer {
	a := seen(act, view)
	act.Again = false
	standing, words := Judge(act, schema, view)
	switch {
	case standing == So, standing == Ready && act.Verb == model.AdoptIt, sealing(act) && trouble == "" && shows(act, schema, a.Object):
		a.Outcome, a.Words = Done, trouble
	case trouble != "":
		a.Outcome, a.Words = Failed, trouble
	case act.Verb == model.Remove:
		a.Outcome, a.Words = Failed, fmt.Sprintf("the target took the removal, and %s %s is still there", act.Object, act.Name)
	default:
		a.Outcome, a.Words = Failed, "the target took the change but does not show it"
		if words != "" {
			a.Words += ": " + words
		}
		if kept := otherwise(act.Act, a.Object); kept != "" {
			a.Words = "the target stores it otherwise than it was asked for: " + kept + "; declare it as the target stores it"
		}
	}
	return a
}

// shows says whether an object is in all that can be read as an act leaves it: open above all, where that was asked.
func shows(act Act, schema model.Schema, o *model.Object) bool {
	if o == nil {
		return false
	}
	so, _, _, _ := differences(act, schema, o)
	return so
}

// otherwise says which values a target took, and keeps in a form of its own: a
// space is trimmed, a character that it does not know is dropped.
func otherwise(act model.Act, o *model.Object) string {
	var parts []string
	for _, c := range act.Changes {
		if o == nil || len(c.After) != 1 {
			continue
		}
		found := o.Attributes.Get(c.Attribute)
		if len(found) == 1 && found[0] != c.After[0] && !slices.Equal(found, c.Before) {
			parts = append(parts, fmt.Sprintf("%s is %q where %q was asked for", c.Attribute, found[0], c.After[0]))
		}
	}
	return strings.Join(parts, ", ")
}

// Found answers an act whose target was found standing as so or drifted before it was touched.
func Found(act Act, standing Standing, words string, view View) Answer {
	a := seen(act, view)
	a.Outcome, a.Words = Moved, words
	if standing == So {
		a.Outcome = AlreadySo
		if act.Again {
			a.Outcome, a.Words = Done, "was carried out before the connection or the service was lost; read back now"
		}
	}
	return a
}

// seen is an answer with what was read.
func seen(act Act, view View) Answer {
	a := Answer{Object: view.Object(act.Of())}
	if act.Moves() {
		in := a.Object != nil && view.Member(act.Of(), model.Named{Kind: act.MemberKind, Name: act.Member})
		a.In = &in
	}
	if was := (model.Named{Kind: act.Object, Name: act.Formerly()}); was.Name != "" && a.Object != nil && view.Object(was) == nil {
		a.Gone = []model.Named{was}
	}
	return a
}

// Objects is a view of objects that were read whole, sets with their members.
type Objects map[model.Named]*model.Object

// Object implements View.
func (o Objects) Object(n model.Named) *model.Object { return o[n] }

// Member implements View.
func (o Objects) Member(set, member model.Named) bool {
	attribute := model.Members
	if member.Kind == model.GroupKind {
		attribute = model.MemberGroups
	}
	s := o[set]
	return s != nil && slices.Contains(s.Attributes.Get(attribute), member.Name)
}
