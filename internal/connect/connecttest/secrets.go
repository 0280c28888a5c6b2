package connecttest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// secrets are set, proved, and shown nowhere.
func (x suite) secrets() {
	s, can := x.schema.Find(model.Account, model.Password)
	if !can || !s.Sealed {
		return
	}
	set := x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: "one"})
	answers := x.try("a password", []model.Act{set}, connect.Done)
	if said := fmt.Sprintf("%+v %v %q", answers, connect.Seal([]byte(thePassword)),
		[]any{connect.Seal([]byte(thePassword))}); strings.Contains(said, "Rope") || !strings.Contains(said, "(sealed)") {
		x.Errorf("a secret is shown: %s", said)
	}
	if o := Find(x, x.open(), model.Account, x.name); o.Attributes.Has(model.Password) || o.Attributes.Has(model.Passwordless) {
		x.Errorf("the password is read, or there is none: %v", o.Attributes.Map())
	}
	x.try("none at all", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: none})},
		connect.Failed)
	if !x.Proves {
		return
	}
	session := x.open()
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("one"+thePassword))); p != connect.Proved {
		x.Errorf("the new password: %s %s", p, words)
	}
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("another"))); p != connect.Disproved {
		x.Errorf("a wrong password: %s %s", p, words)
	}
	var wg sync.WaitGroup
	for i := range 4 { // several at once, as they come
		wg.Go(func() {
			word, want := "one"+thePassword, connect.Proved
			if i == 3 {
				word, want = "another", connect.Disproved
			}
			if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte(word))); p != want {
				x.Errorf("beside others: %s %s, want %s", p, words, want)
			}
		})
	}
	wg.Wait()
	x.try("a second one", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: "two"})},
		connect.Done)
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("one"+thePassword))); p != connect.Disproved {
		x.Errorf("the first password still works: %s %s", p, words)
	}
	if _, has := x.schema.Find(model.Account, model.MustChange); has {
		x.try("one that must be changed", []model.Act{x.account(model.Modify, x.name,
			model.Change{Attribute: model.Password, Sealed: "three"}, to(model.MustChange, "yes"))}, connect.Done)
		if o := Find(x, x.open(), model.Account, x.name); o.Attributes.One(model.MustChange) != "yes" {
			x.Errorf("it need not be changed: %v", o.Attributes.Map())
		}
		if p, words := connect.Prove(context.Background(), session, x.name,
			connect.Seal([]byte("three"+thePassword))); p != connect.Proved {
			x.Errorf("the one that must be changed: %s %s", p, words)
		}
		x.try("it need not be changed", []model.Act{x.account(model.Modify, x.name, fromTo(model.MustChange, "yes", "no"))})
	}
	x.try("shut", []model.Act{x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes"))}, connect.Done)
	x.try("a password while it is shut", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password,
		Sealed: "four"})},
		connect.Done)
	if o := Find(x, x.open(), model.Account, x.name); o.Attributes.One(model.Disabled) != "yes" {
		x.Errorf("a new password has opened it: %v", o.Attributes.Map())
	}
	x.try("open", []model.Act{x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"))}, connect.Done)
	x.try("shut once more", []model.Act{x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes"))}, connect.Done)
	x.try("open with another password", []model.Act{x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"),
		model.Change{Attribute: model.Password, Sealed: "six"})}, connect.Done)
	six := connect.Seal([]byte("six" + thePassword))
	if p, words := connect.Prove(context.Background(), x.open(), x.name, six); x.Proves && p != connect.Proved {
		x.Errorf("opened with another password: %s %s", p, words)
	}
}

// elevation is given and taken, and tried by whoever has it.
func (x suite) elevation() {
	if k := x.schema.Of(model.ElevationKind); !k.Does(model.JoinIt) || !x.Elevates {
		return
	}
	x.try("a password to try it with", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password,
		Sealed: "five"})},
		connect.Done)
	secret := connect.Seal([]byte("five" + thePassword))
	for _, step := range []struct {
		verb model.Verb
		want connect.Proof
	}{{model.LeaveIt, connect.Disproved}, {model.JoinIt, connect.Proved}, {model.LeaveIt, connect.Disproved}} {
		x.try("elevation", []model.Act{move(step.verb, model.ElevationKind, "all", x.name)})
		x.try("elevation again", []model.Act{move(step.verb, model.ElevationKind, "all", x.name)}, connect.AlreadySo)
		if p, words := connect.ProveElevation(context.Background(), x.open(), x.name, secret); p != step.want {
			x.Errorf("after %s: %s %s, want %s", step.verb, p, words, step.want)
		}
	}
	if p, _ := connect.ProveElevation(context.Background(), x.open(), x.name, connect.Seal([]byte("another"))); p == connect.Proved {
		x.Error("a wrong password becomes superuser")
	}
}

// sessions are seen and ended.
func (x suite) sessions() {
	if x.SignedIn == nil {
		if _, err := connect.Watch(context.Background(), x.open()); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			x.Errorf("who is signed in: %v", err)
		}
		return
	}
	name := x.SignedIn(x.T)
	s := x.open()
	seen := func() bool {
		list, err := connect.Watch(context.Background(), s)
		if err != nil {
			x.Fatal(err)
		}
		return slices.ContainsFunc(list, func(o model.Object) bool { return o.Name == name && o.Kind == model.SessionKind })
	}
	if !seen() {
		x.Fatalf("session %s is not seen", name)
	}
	for _, want := range []connect.Outcome{connect.Done, connect.AlreadySo} {
		if got := connect.End(context.Background(), s, []string{name}); len(got) != 1 || got[0].Outcome != want {
			x.Errorf("ending it: %+v, want %s", got, want)
		}
	}
	if seen() {
		x.Error("it is still there")
	}
}
