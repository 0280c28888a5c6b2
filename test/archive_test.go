package test

import (
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/service/life"
)

// The home of somebody who was removed is fetched, sealed here, and taken away there; returned it is in its place again.
func TestSealedHomes(t *testing.T) {
	d := taken(t)
	for _, target := range []string{"northquay", "slipway"} {
		h := d.Hosts[target]
		if out, err := h.Exec("for n in 'old crew' late; do mkdir -p \"/home/$n\"; head -c 3000000 /dev/urandom >\"/home/$n/log\"; " +
			"touch -d 2025-01-31 \"/home/$n/log\" \"/home/$n\"; chown -R 1991 \"/home/$n\"; done; md5sum </home/late/log " +
			">/tmp/sum"); err != nil {
			t.Fatal(out)
		}
	}
	out := expect(t, d, 0, "Look at it: roost round show", "home", "draft", "northquay", "slipway", "--seal", "--because", "end of season")
	id := out[strings.LastIndex(out, " ")+1 : len(out)-1]
	must(t, d, "approve", id)
	must(t, d, "run", id)
	var list []life.Archive
	await(t, "the homes to be fetched", func() bool {
		list = decode[life.Archives](t, must(t, d, "home", "archives", "-o", "json")).Items
		n := 0
		for _, a := range list {
			if a.State == "kept" {
				n++
			}
		}
		return n == 4
	})
	for _, target := range []string{"northquay", "slipway"} {
		if out, err := d.Hosts[target].Exec("ls /home | grep -c 'late\\|old crew'; ls /var/backups/homes/sealing | wc " +
			"-l"); strings.Join(strings.Fields(out), " ") != "0 0" {
			t.Errorf("%s: %s %v", target, out, err)
		}
	}
	for _, a := range list {
		if a.Bytes < 2_900_000 || a.Until == nil {
			t.Errorf("%+v", a)
		}
		expect(t, d, 0, "is on "+a.Target+" again: it is in /var/backups/homes/home-1991-", "home", "return", fmt.Sprint(a.ID),
			"--because", "wanted again")
	}
	if out, err := d.Hosts["slipway"].Exec("cd /tmp; for f in /var/backups/homes/home-1991-*; do tar -xzf $f; done; md5sum " +
		"<home/late/log | cmp - /tmp/sum && echo same"); !strings.Contains(out, "same") {
		t.Errorf("%s %v", out, err)
	}
	expect(t, d, 0, "returned the sealed home", "record", "--target", "slipway", "--size", "1000")
	expect(t, d, 1, "there is no archive 99", "home", "return", "99", "--because", "x")
}
