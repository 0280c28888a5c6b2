package connect

import (
	"errors"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

var schema = model.Schema{Account: []model.AttributeSchema{{Name: "shell"}, {Name: "full-name", Fold: true}, {Name: "keys", Many: true}}}

func object(kind model.ObjectKind, name string, attributes ...string) *model.Object {
	o := &model.Object{Kind: kind, Name: name}
	for i := 0; i < len(attributes); i += 2 {
		o.Attributes = o.Attributes.With(attributes[i], strings.Split(attributes[i+1], ",")...)
	}
	return o
}

func see(objects ...*model.Object) View {
	return func(kind model.ObjectKind, name string) *model.Object {
		for _, o := range objects {
			if o.Kind == kind && o.Name == name {
				return o
			}
		}
		return nil
	}
}

func change(verb model.Verb, attribute, before, after string) model.Act {
	c := model.Change{Attribute: attribute}
	if before != "" {
		c.Before = strings.Split(before, ",")
	}
	if after != "" {
		c.After = strings.Split(after, ",")
	}
	return model.Act{Verb: verb, Object: model.Account, Name: "marit", Changes: []model.Change{c}}
}

func TestJudge(t *testing.T) {
	join := model.Act{Verb: model.JoinIt, Object: model.Membership, Name: "crew", Member: "marit", MemberKind: model.Account}
	leave, nest := join, join
	leave.Verb = model.LeaveIt
	nest.MemberKind = model.GroupKind
	two := change(model.Modify, "shell", "/bin/sh", "/bin/bash")
	two.Changes = append(two.Changes, model.Change{Attribute: "home", Before: []string{"/a"}, After: []string{"/b"}})
	for _, c := range []struct {
		name  string
		act   model.Act
		there []*model.Object
		want  Standing
		words string
	}{
		{"create, nothing there", change(model.Create, "shell", "", "/bin/bash"), nil, Ready, ""},
		{"create, there and as wanted", change(model.Create, "shell", "", "/bin/bash"), []*model.Object{object(model.Account, "marit", "shell", "/bin/bash")}, So, ""},
		{"create, there and different", change(model.Create, "shell", "", "/bin/bash"), []*model.Object{object(model.Account, "marit", "shell", "/bin/sh")}, Drifted, "account marit is there already and differs: shell is /bin/sh"},
		{"change, as surveyed", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), []*model.Object{object(model.Account, "marit", "shell", "/bin/sh")}, Ready, ""},
		{"change, done already", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), []*model.Object{object(model.Account, "marit", "shell", "/bin/bash")}, So, ""},
		{"change, moved", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), []*model.Object{object(model.Account, "marit", "shell", "/bin/zsh")}, Drifted, "shell is /bin/zsh"},
		{"change, value gone", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), []*model.Object{object(model.Account, "marit")}, Drifted, "shell is empty"},
		{"change, account gone", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), nil, Drifted, "account marit is not there"},
		{"half done before", two, []*model.Object{object(model.Account, "marit", "shell", "/bin/bash", "home", "/a")}, Ready, ""},
		{"half moved", two, []*model.Object{object(model.Account, "marit", "shell", "/bin/sh", "home", "/c")}, Drifted, "home is /c"},
		{"case does not count", change(model.Modify, "full-name", "marit fell", "Marit Fell"), []*model.Object{object(model.Account, "marit", "full-name", "MARIT FELL")}, So, ""},
		{"a set in another order", change(model.Modify, "keys", "", "a,b"), []*model.Object{object(model.Account, "marit", "keys", "b,a")}, So, ""},
		{"adopt", change(model.AdoptIt, model.Owner, "nobody", "marit"), []*model.Object{object(model.Account, "marit")}, Ready, ""},
		{"adopt, gone", change(model.AdoptIt, model.Owner, "nobody", "marit"), nil, Drifted, "account marit is not there"},
		{"join", join, []*model.Object{object(model.GroupKind, "crew", model.Members, "hanne")}, Ready, ""},
		{"join, in it", join, []*model.Object{object(model.GroupKind, "crew", model.Members, "hanne,marit")}, So, ""},
		{"join, no group", join, nil, Drifted, "group crew is not there"},
		{"leave", leave, []*model.Object{object(model.GroupKind, "crew", model.Members, "marit")}, Ready, ""},
		{"leave, out of it", leave, []*model.Object{object(model.GroupKind, "crew")}, So, ""},
		{"nest looks at groups", nest, []*model.Object{object(model.GroupKind, "crew", model.Members, "marit")}, Ready, ""},
	} {
		if got, words := Judge(c.act, schema, see(c.there...)); got != c.want || words != c.words {
			t.Errorf("%s: %v %q, want %v %q", c.name, got, words, c.want, c.words)
		}
	}
}

// Nothing is reported done unless it was read back.
func TestVerify(t *testing.T) {
	act := Act{Act: change(model.Modify, "shell", "/bin/sh", "/bin/bash")}
	so, not := see(object(model.Account, "marit", "shell", "/bin/bash")), see(object(model.Account, "marit", "shell", "/bin/sh"))
	for _, c := range []struct {
		name, trouble string
		view          View
		want          Outcome
		words         string
	}{
		{"shown", "", so, Done, ""},
		{"shown in spite of a complaint", "mail spool not found", so, Done, "mail spool not found"},
		{"refused", "no space left", not, Failed, "no space left"},
		{"taken and not shown", "", not, Failed, "the target took the change but does not show it"},
		{"gone meanwhile", "", see(), Failed, "the target took the change but does not show it: account marit is not there"},
	} {
		got := Verify(act, schema, c.view, c.trouble)
		if got.Outcome != c.want || got.Words != c.words {
			t.Errorf("%s: %s %q, want %s %q", c.name, got.Outcome, got.Words, c.want, c.words)
		}
	}
	trimmed := change(model.Modify, "full-name", "marit fell", "Marit Fell ")
	if got := Verify(Act{Act: trimmed}, schema, see(object(model.Account, "marit", "full-name", "Marit Fell")), ""); got.Outcome != Failed || !strings.Contains(got.Words, `the target stores it otherwise than it was asked for: full-name is "Marit Fell" where`) {
		t.Errorf("%+v", got)
	}
	if got := Found(act, So, "", so); got.Outcome != AlreadySo || got.Object == nil {
		t.Errorf("found so: %+v", got)
	}
	act.Again = true
	if got := Found(act, So, "", so); got.Outcome != Done || !strings.Contains(got.Words, "before the connection or the service was lost") {
		t.Errorf("found so after a try: %+v", got)
	}
	if got := Found(act, Drifted, "shell is /bin/zsh", not); got.Outcome != Moved || got.Words != "shell is /bin/zsh" {
		t.Errorf("found moved: %+v", got)
	}
}

func TestErrors(t *testing.T) {
	unknown := &KeyError{Target: "arctic-tern", Print: "SHA256:new"}
	changed := &KeyError{Target: "arctic-tern", Print: "SHA256:new", Accepted: "old", Was: "SHA256:old"}
	if got := unknown.Error(); !strings.Contains(got, "nobody has accepted yet") || !strings.Contains(got, "roost target accept-key arctic-tern") {
		t.Error(got)
	}
	if got := changed.Error(); !strings.Contains(got, "REFUSED") || !strings.Contains(got, "from SHA256:old to SHA256:new") {
		t.Error(got)
	}
	cause := errors.New("connection refused")
	down := &Error{Target: "arctic-tern", Op: "connect", Err: cause}
	if !errors.Is(down, cause) || down.Error() != "arctic-tern: connect: connection refused" || Reached(down) {
		t.Error(down)
	}
	for _, err := range []error{unknown, changed, &Error{Err: &Refused{cause}}} {
		if !Reached(err) {
			t.Errorf("%v comes from a target that answered", err)
		}
	}
	if got := All(make([]Act, 3), NotTried, "x"); len(got) != 3 || got[2].Outcome != NotTried {
		t.Error(got)
	}
}
