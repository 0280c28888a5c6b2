package scim_test

import (
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/scim"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/standin"
)

const token = "a-token-for-the-roost-41"

// start starts an application and accepts its key.
func start(t testing.TB, c standin.Choices, settings map[string]string) (*world.Application, connect.Access) {
	t.Helper()
	c.Name, c.Token = "tickets", token
	if c.Licences == nil {
		c.Licences = map[string]int{"counter-seat": 1, "back-office": 40}
	}
	app, err := world.StartApplication(t.TempDir(), "127.0.7.11", c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(app.Stop)
	a := connect.Access{Target: "tickets", Address: app.Address, Secret: []byte(token), Wait: 10 * time.Second, Settings: map[string]string{
		"prove-at": "/token", "must-change-in": standin.Extension + ":changePassword", "last-sign-in-in": standin.Extension +
			":lastSignIn"}}
	for k, v := range settings {
		a.Settings[k] = v
	}
	return app, connecttest.Accept(t, scim.Connector{}, a)
}

// The suite, on servers that made different choices.
func TestSuite(t *testing.T) {
	for name, c := range map[string]standin.Choices{"all there is": {Cursors: true}, "no bulk": {NoBulk: true},
		"least": {NoPatch: true, NoFilter: true, NoBulk: true, NoETag: true, Page: 3}, "whole resources with versions": {NoPatch: true,
			NoBulk: true},
		"small bulks": {BulkMost: 2}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, a := start(t, c, nil)
			connecttest.Run(t, connecttest.Subject{Connector: scim.Connector{}, Access: a, Login: "suite.o'neil \"x\" ünal",
				Proves: true, Gate: true,
				Seat: "counter-seat", Rights: []string{"agent", `second, "role" Ø`},
				Attribute: model.Change{Attribute: "title", Before: []string{"Mate"}, After: []string{`Bosun, "second" Ø`}}})
		})
	}
}
