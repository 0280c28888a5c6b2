package host_test

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/demo/world"
)

func TestHostileHosts(t *testing.T) {
	t.Parallel()
	ours, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	hostile := func(t *testing.T, answer func(ssh.Channel), keys ...ssh.Signer) connect.Access {
		return connect.Access{Target: "hostile", Address: sshServer(t, answer, keys...), As: "root", Secret: ours.Private,
			Wait: 2 * time.Second}
	}
	connecttest.Survives(t, host.Connector{}, connect.Access{As: "root", Secret: ours.Private})
	for what, answer := range map[string]func(ssh.Channel){
		"floods": func(c ssh.Channel) {
			for b := []byte(strings.Repeat("A:x\n", 16<<10)); ; {
				if _, err := c.Write(b); err != nil {
					return
				}
			}
		},
		"repeats what it is told": func(c ssh.Channel) { _, _ = io.Copy(c, c) },
		"repeats the password":    func(c ssh.Channel) { fmt.Fprintf(c, "no: %s\n", connecttest.HostileSecret); c.Close() },
	} {
		t.Run(what, func(t *testing.T) {
			if what != "floods" {
				t.Parallel()
			}
			if words := connecttest.Bears(t, host.Connector{}, hostile(t, answer, signer(t))); words == "" {
				t.Error("it was taken for a host")
			}
		})
	}
	t.Run("is somebody else the next time", func(t *testing.T) {
		a := hostile(t, func(c ssh.Channel) { c.Close() }, signer(t), signer(t))
		if words := connecttest.Bears(t, host.Connector{}, a); !strings.Contains(words, "the identity key has changed") {
			t.Errorf("%q", words)
		}
	})
}
