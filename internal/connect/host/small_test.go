package host_test

import (
	"context"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

// startSmall starts a host without account tools.
func startSmall(t *testing.T, setup string) (*world.Host, connect.Access) {
	t.Helper()
	key, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	h, err := world.StartSmallHost(context.Background(), t.TempDir(), "slipway", "127.0.2.13", setup, key)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Stop)
	a := connect.Access{Target: "slipway", Address: h.Address, As: "root", Secret: key.Private, Wait: 10 * time.Second}
	return h, connecttest.Accept(t, host.Connector{}, a)
}

// A host of busybox and another ssh server passes the same suite, its account files written by us.
func TestSmallSuite(t *testing.T) {
	fresh, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	h, a := startSmall(t, "echo visitor:x:1990:100::/home/visitor:/bin/sh >>/etc/passwd; echo 'visitor:*:19000::::::' >>/etc/shadow; "+
		"mkdir -p /home/visitor/.ssh; cp /root/.ssh/authorized_keys /home/visitor/.ssh/; chmod 700 /home/visitor/.ssh; chown -R 1990 "+
		"/home/visitor")
	connecttest.Run(t, connecttest.Subject{Proves: true, Fresh: fresh.Private, Blind: true,
		SignedIn:  func(t *testing.T) string { return signIn(t, h, a) },
		Connector: host.Connector{}, Access: a, Login: "suite.one", Number: "1999", Loose: [2]string{"Suite,,", "Suite"},
		Attribute: model.Change{Attribute: "shell", Before: []string{"/bin/sh"}, After: []string{"/bin/ash"}}})
}
