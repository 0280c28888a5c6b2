package connecttest_test

import (
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/model"
)

// The made-up target passes what it is there to try.
func TestMemory(t *testing.T) {
	m := &connecttest.Memory{}
	act := func(verb model.Verb, kind model.ObjectKind, name, attribute, value string) model.Act {
		return model.Act{Verb: verb, Object: kind, Name: name, Changes: []model.Change{{Attribute: attribute, After: []string{value}}}}
	}
	connecttest.Run(t, connecttest.Subject{
		Connector: m, Access: connecttest.Accept(t, m, connect.Access{Target: "memory", As: "hen-roost@%"}), Login: "suite.one",
		Number: "1999", Proves: true, Gate: true, Elevates: true,
		Attribute: model.Change{Attribute: "shell", Before: []string{"/bin/sh"}, After: []string{"/bin/bash"}},
		Loose:     [2]string{"  Spaced ", "Spaced"},
		Things: []model.Act{
			act(model.Create, model.PlaceKind, "people", model.Path, "ou=People"),
			act(model.Create, model.RightKind, "counter", model.Allows, "sell"),
			act(model.SetRule, model.PolicyKind, "staff", "password.length", "12"),
		},
		SignedIn: func(*testing.T) string { m.SignIn("tty1", "suite.one@%"); return "tty1" },
		Change: func(_ *testing.T, account string) {
			m.Put(model.Object{Kind: model.Account, Name: account,
				Attributes: model.Pack(model.Attribute{Name: model.FullName, Values: []string{"Changed"}},
					model.Attribute{Name: model.Disabled, Values: []string{"no"}})})
		},
		Forget: func(*testing.T, string) string { return "99999" },
	})
}
