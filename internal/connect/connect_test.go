package connect

import (
	"errors"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

var schema = model.Schema{Kinds: []model.KindSchema{{Kind: model.Account, Attributes: []model.AttributeSchema{
	{Name: "shell"}, {Name: "full-name", Fold: true, Canonical: strings.TrimSpace}, {Name: "keys", Many: true},
	{Name: model.Password, Sealed: true}}}}}

func object(kind model.ObjectKind, name string, attributes ...string) *model.Object {
	o := &model.Object{Kind: kind, Name: name}
	for i := 0; i < len(attributes); i += 2 {
		o.Attributes = o.Attributes.With(attributes[i], strings.Split(attributes[i+1], ",")...)
	}
	return o
}

func see(objects ...*model.Object) View {
	out := Objects{}
	for _, o := range objects {
		out[model.Named{Kind: o.Kind, Name: o.Name}] = o
	}
	return out
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
	join := model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "marit", MemberKind: model.Account}
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
		{"create, there and as wanted", change(model.Create, "shell", "", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/bash")}, So, ""},
		{"create, there and different", change(model.Create, "shell", "", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/sh")}, Drifted,
			"account marit is there already and differs: shell is /bin/sh"},
		{"make, there and unclear", change(model.Create, "shell", "", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", model.Odd, "the column shell runs into the next")}, Drifted,
			"account marit is there already and differs: shell is empty, the column shell runs into the next"},
		{"change, as surveyed", change(model.Modify, "shell", "/bin/sh", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/sh")}, Ready, ""},
		{"change, done already", change(model.Modify, "shell", "/bin/sh", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/bash")}, So, ""},
		{"change, moved", change(model.Modify, "shell", "/bin/sh", "/bin/bash"),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/zsh")}, Drifted, "shell is /bin/zsh"},
		{"change, value gone", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), []*model.Object{object(model.Account, "marit")},
			Drifted, "shell is empty"},
		{"change, account gone", change(model.Modify, "shell", "/bin/sh", "/bin/bash"), nil, Drifted, "account marit is not there"},
		{"half done before", two, []*model.Object{object(model.Account, "marit", "shell", "/bin/bash", "home", "/a")}, Ready, ""},
		{"half moved", two, []*model.Object{object(model.Account, "marit", "shell", "/bin/sh", "home", "/c")}, Drifted, "home is /c"},
		{"case does not count", change(model.Modify, "full-name", "marit fell", "Marit Fell"),
			[]*model.Object{object(model.Account, "marit", "full-name", "MARIT FELL")}, So, ""},
		{"a set in another order", change(model.Modify, "keys", "", "a,b"),
			[]*model.Object{object(model.Account, "marit", "keys", "b,a")}, So, ""},
		{"adopt", change(model.AdoptIt, model.Owner, "nobody", "marit"), []*model.Object{object(model.Account, "marit")}, Ready, ""},
		{"adopt, gone", change(model.AdoptIt, model.Owner, "nobody", "marit"), nil, Drifted, "account marit is not there"},
		{"join", join, []*model.Object{object(model.GroupKind, "crew", model.Members, "hanne")}, Ready, ""},
		{"join, in it", join, []*model.Object{object(model.GroupKind, "crew", model.Members, "hanne,marit")}, So, ""},
		{"join, no group", join, nil, Drifted, "group crew is not there"},
		{"leave", leave, []*model.Object{object(model.GroupKind, "crew", model.Members, "marit")}, Ready, ""},
		{"leave, out of it", leave, []*model.Object{object(model.GroupKind, "crew")}, So, ""},
		{"leave, no group", leave, nil, So, ""},
		{"remove", change(model.Remove, "shell", "/bin/sh", ""), []*model.Object{object(model.Account, "marit", "shell", "/bin/sh")},
			Ready, ""},
		{"remove, gone", change(model.Remove, "shell", "/bin/sh", ""), nil, So, ""},
		{"remove, otherwise since", change(model.Remove, "shell", "/bin/sh", ""),
			[]*model.Object{object(model.Account, "marit", "shell", "/bin/zsh")}, Drifted, "shell is /bin/zsh"},
		{"remove whatever it is", model.Act{Verb: model.Remove, Object: model.Account, Name: "marit"},
			[]*model.Object{object(model.Account, "marit")}, Ready, ""},
		{"a policy that is not there", model.Act{Verb: model.SetRule, Object: model.PolicyKind, Name: "p"}, nil, Ready, ""},
		{"a secret cannot be compared", secret(model.Modify), []*model.Object{object(model.Account, "marit")}, Ready, ""},
		{"an account that is there, with a secret", secret(model.Create), []*model.Object{object(model.Account, "marit")}, So, ""},
		{"asked for in another form", change(model.Modify, "full-name", "x", " Marit "),
			[]*model.Object{object(model.Account, "marit", "full-name", "marit")}, So, ""},
		{"nest looks at groups", nest, []*model.Object{object(model.GroupKind, "crew", model.Members, "marit")}, Ready, ""},
	} {
		if got, words := Judge(Act{Act: c.act}, schema, see(c.there...)); got != c.want || words != c.words {
			t.Errorf("%s: %v %q, want %v %q", c.name, got, words, c.want, c.words)
		}
	}
}

func secret(verb model.Verb) model.Act {
	return model.Act{Verb: verb, Object: model.Account, Name: "marit", Changes: []model.Change{{Attribute: model.Password, Sealed: "7"}}}
}

// What a batch is about to do counts for the acts behind it.
func TestExpect(t *testing.T) {
	group := model.Act{Verb: model.Create, Object: model.GroupKind, Name: "crew"}
	join := model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "marit", MemberKind: model.Account}
	e := Expect(see())
	for i, a := range []model.Act{group, change(model.Create, "shell", "", "/bin/sh"), join,
		change(model.Modify, "shell", "/bin/sh", "/bin/bash")} {
		if got, words := Judge(Act{Act: a}, schema, e); got != Ready {
			t.Errorf("act %d: %v %s", i, got, words)
		}
		e.Take(a)
		if got, _ := Judge(Act{Act: a}, schema, e); got != So {
			t.Errorf("act %d is not expected to be carried out", i)
		}
	}
	e.Take(change(model.Remove, "", "", ""))
	if e.Object(model.Named{Kind: model.Account, Name: "marit"}) != nil {
		t.Error("a removed account is expected")
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
	cut := change(model.Modify, "full-name", "marit fell", "Marit Fell jr.")
	got := Verify(Act{Act: cut}, schema, see(object(model.Account, "marit", "full-name", "Marit Fell")), "")
	if got.Outcome != Failed || !strings.Contains(got.Words,
		`the target stores it otherwise than it was asked for: full-name is "Marit Fell" where`) {
		t.Errorf("%+v", got)
	}
	if got := Verify(Act{Act: secret(model.Modify)}, schema, not, ""); got.Outcome != Done {
		t.Errorf("what cannot be read back, without a complaint: %+v", got)
	}
	if got := Verify(Act{Act: secret(model.Modify)}, schema, not, "too short"); got.Outcome != Failed || got.Words != "too short" {
		t.Errorf("what cannot be read back, with one: %+v", got)
	}
	opened := Act{Act: model.Act{Verb: model.Enable, Object: model.Account, Name: "marit", Changes: []model.Change{
		{Attribute: model.Password, Sealed: "1"}, {Attribute: model.Disabled, Before: []string{"yes"}, After: []string{"no"}}}}}
	for disabled, want := range map[string]Outcome{"yes": Failed, "no": Done} {
		if got := Verify(opened, schema, see(object(model.Account, "marit", model.Disabled, disabled)), ""); got.Outcome != want {
			t.Errorf("opened with a new password, and disabled is %s: %+v", disabled, got)
		}
	}
	if got := Verify(Act{Act: change(model.Remove, "", "", "")}, schema, not, ""); got.Outcome != Failed ||
		!strings.Contains(got.Words, "is still there") {
		t.Errorf("a removal that is not shown: %+v", got)
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
	if got := unknown.Error(); !strings.Contains(got, "nobody has accepted yet") ||
		!strings.Contains(got, "roost target accept-key arctic-tern") {
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
