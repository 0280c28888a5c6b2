package host_test

import (
	"context"
	"strings"
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

// An account that is made with a password has its home as another does, and a key can be given to it.
func TestSmallHome(t *testing.T) {
	t.Parallel()
	h, a := startSmall(t, "")
	act := connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: "ulla.niemi", Changes: []model.Change{
		{Attribute: model.Number, After: []string{"1801"}}, {Attribute: model.Password, Sealed: "1"}}},
		Secrets: map[string]connect.Secret{model.Password: connect.Seal([]byte("a-first-one-for-ulla-7"))}}
	keyed := connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: "ulla.niemi", Changes: []model.Change{
		{Attribute: model.Keys, After: []string{"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4"}}}}}
	for _, x := range []connect.Act{act, keyed} {
		got := connecttest.Apply(connecttest.Open(t, host.Connector{}, a), []connect.Act{x})
		connecttest.Outcomes(t, got, "done")
	}
	if out, err := h.Exec("stat -c '%u %a' /home/ulla.niemi; cat /home/ulla.niemi/.ssh/authorized_keys | wc -l"); err != nil ||
		!strings.HasPrefix(out, "1801 7") || !strings.HasSuffix(strings.TrimSpace(out), "1") {
		t.Errorf("%q %v", out, err)
	}
}

// A host of busybox and another ssh server passes the same suite, its account files written by us.
func TestSmallSuite(t *testing.T) {
	t.Parallel()
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

// A group is renamed with its number, its members and who administers it, on hosts with account tools and without; and back.
func TestRenameGroup(t *testing.T) {
	t.Parallel()
	rename := func(from, to string) connect.Act {
		return connecttest.Act(model.Create, model.GroupKind, to, model.Change{Attribute: model.Formerly, Before: []string{from}},
			model.Change{Attribute: model.Number, Before: []string{"7001"}, After: []string{"7001"}})
	}
	const setup = "echo 'bilge:x:7001:root' >>/etc/group; [ ! -e /etc/gshadow ] || echo 'bilge:!::root' >>/etc/gshadow"
	small, a := startSmall(t, setup)
	large, b := start(t, setup)
	for _, x := range []struct {
		host *world.Host
		a    connect.Access
	}{{small, a}, {large, b}} {
		s := connecttest.Open(t, host.Connector{}, x.a)
		got := connecttest.Apply(s, []connect.Act{rename("bilge", "deck")})
		connecttest.Outcomes(t, got, "done ")
		if len(got[0].Gone) != 1 || got[0].Gone[0].Name != "bilge" {
			t.Errorf("%+v", got[0])
		}
		if out, err := x.host.Exec("grep ^deck: /etc/group; grep -c ^bilge: /etc/group || true"); err != nil ||
			strings.TrimSpace(out) != "deck:x:7001:root\n0" {
			t.Errorf("%q %v", out, err)
		}
		connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{rename("bilge", "deck"), rename("none", "nothing")}),
			"already-so ", "moved group none is not there")
		connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{rename("deck", "bilge")}), "done ")
	}
}
