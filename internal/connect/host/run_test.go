package host_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
)

// A program is run with its arguments as they are and its input whole, also where sudo lets our login; its status and all that it
// says come back, and nothing is known of one that does not end.
func TestRun(t *testing.T) {
	t.Parallel()
	_, a := start(t, "useradd -m keeper; mkdir -m 700 /home/keeper/.ssh; cp /root/.ssh/authorized_keys /home/keeper/.ssh/; "+
		"echo 'echo ahoy' >/home/keeper/.bashrc; chown -R keeper /home/keeper; echo 'keeper ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/k; "+
		"printf '#!/bin/sh\\nfor x; do printf \"<%%s>\" \"$x\"; done; cat; id -u; echo oh >&2; exit 7\\n' >/etc/tell; "+
		"chmod +x /etc/tell")
	for _, as := range []string{"root", "keeper"} {
		a := a
		a.As, a.Wait = as, 3*time.Second
		r, err := connect.RunOn(connecttest.Open(t, host.Connector{}, a))
		if err != nil {
			t.Fatal(err)
		}
		said, status, err := r.Run(context.Background(), []string{"/etc/tell", `a "b" $(id) 'c'`, "", "*", "-n"}, "one\ntwo 'three' %s\\", 1000)
		if want := "<a \"b\" $(id) 'c'><><*><-n>one\ntwo 'three' %s\\0\noh\n"; said != want || status != 7 || err != nil {
			t.Errorf("%s: %q %d %v, want %q", as, said, status, err, want)
		}
		if _, status, err := r.Run(context.Background(), []string{"no-such-program"}, "", 1000); status != 127 || err != nil {
			t.Errorf("%s: %d %v", as, status, err)
		}
		if _, _, err := r.Run(context.Background(), []string{"seq", "100000"}, "", 1000); err == nil ||
			!strings.Contains(err.Error(), "more than 1000 bytes") {
			t.Errorf("%s: %v", as, err)
		}
		if _, _, err := r.Run(context.Background(), []string{"sleep", "60"}, "", 1000); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("%s: %v", as, err)
		}
		if said, _, err := r.Run(context.Background(), []string{"echo", "still here"}, "", 1000); said != "still here\n" || err != nil {
			t.Errorf("%s: after one that was given up: %q %v", as, said, err)
		}
	}
	if _, err := connect.RunOn(bare{}); !errors.Is(err, errors.ErrUnsupported) {
		t.Errorf("%v", err)
	}
}

// bare is a session that offers nothing.
type bare struct{ connect.Session }

func (bare) Offers() connect.Offers { return connect.Offers{} }
