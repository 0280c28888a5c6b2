package host_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

func change(attribute string, before, after string) model.Change {
	c := model.Change{Attribute: attribute}
	if before != "" {
		c.Before = []string{before}
	}
	if after != "" {
		c.After = []string{after}
	}
	return c
}

func act(verb model.Verb, object model.ObjectKind, name string, changes ...model.Change) connect.Act {
	return connect.Act{Act: model.Act{Verb: verb, Object: object, Name: name, Changes: changes}}
}

func elevate(verb model.Verb, account, command string) connect.Act {
	return connect.Act{Act: model.Act{Verb: verb, Object: model.ElevationKind, Name: command, Member: account, MemberKind: model.Account,
		Changes: model.Entering(verb == model.JoinIt)}}
}

func exec(t *testing.T, h *world.Host, command string) string {
	t.Helper()
	out, err := h.Exec(command)
	if err != nil {
		t.Fatalf("%s: %v %s", command, err, out)
	}
	return strings.TrimSpace(out)
}

func apply(t *testing.T, s connect.Session, want connect.Outcome, acts ...connect.Act) []connect.Answer {
	t.Helper()
	got := connecttest.Apply(s, acts)
	for i, a := range got {
		if a.Outcome != want {
			t.Errorf("step %d, %s of %s: %s %q, want %s", i, acts[i].Verb, acts[i].Name, a.Outcome, a.Words, want)
		}
	}
	return got
}

// many makes n accounts with keys, each in two groups.
func many(n, from int) (acts []connect.Act) {
	for _, g := range []string{"deck", "stores"} {
		acts = append(acts, act(model.Create, model.GroupKind, g))
	}
	for i := range n {
		name := fmt.Sprintf("hand.%03d", from+i)
		acts = append(acts, act(model.Create, model.Account, name, change(model.Number, "", fmt.Sprint(3000+from+i)),
			change(model.FullName, "", "Hand O'Neill, "+fmt.Sprint(i)), change("shell", "", "/bin/sh"),
			change("keys", "", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI"+fmt.Sprintf("%04d", from+i)+" "+name)))
	}
	for i := range n {
		for _, g := range []string{"deck", "stores"} {
			acts = append(acts, connect.Act{Stage: 60, Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: g,
				Member: fmt.Sprintf("hand.%03d", from+i), MemberKind: model.Account, Changes: model.Entering(true)}})
		}
	}
	return acts
}

// Many accounts at once are written as the host's own tools would have: under the same lock, with the same backups, so
// that the tools' own checkers find nothing to say.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) {
			return start(t, setup+"\necho root:100000:65536 >/etc/subuid; echo root:100000:65536 >/etc/subgid; mkdir -p /etc/skel")
		}, "without": startSmall} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, "mkdir -p /etc/skel/.config; echo hello >/etc/skel/.profile; echo there >/etc/skel/.config/sub")
			s := connecttest.Open(t, host.Connector{}, a)
			apply(t, s, connect.Done, many(40, 0)...)
			apply(t, s, connect.AlreadySo, many(40, 0)...)
			o := connecttest.Find(t, s, model.Account, "hand.007")
			if o.Attributes.One(model.FullName) != "Hand O'Neill, 7" || len(o.Attributes.Get("keys")) != 1 ||
				o.Attributes.One("password-max-age") != "never" {
				t.Errorf("%v", o.Attributes.Map())
			}
			got := exec(t, h, `stat -c '%U %a' /home/hand.007 /home/hand.007/.ssh /home/hand.007/.ssh/authorized_keys `+
				`/home/hand.007/.config/sub | tr '\n' ';'; cat /home/hand.007/.profile; ls /etc/*+ /etc/*.lock 2>/dev/null; ls /etc/passwd- /etc/shadow-`)
			if !strings.HasPrefix(got, "hand.007 700;hand.007 700;hand.007 600;hand.007 644;hello") || !strings.HasSuffix(got,
				"/etc/passwd-\n/etc/shadow-") || strings.Contains(got, "lock") {
				t.Errorf("%s", got)
			}
			if name == "with account tools" {
				if out := exec(t, h, "pwck -qr; grpck -r; awk -F: '$1 == \"hand.039\" && $3 == 65536' /etc/subuid | wc -l"); out != "1" {
					t.Errorf("the tools find fault with it: %s", out)
				}
			}
			// One that cannot be is told of, and the others are done.
			acts := many(12, 100)
			acts = slices.DeleteFunc(acts, func(a connect.Act) bool { return a.Object == model.GroupKind && a.Verb == model.Create })
			acts[3].Changes[0].After = []string{"3007"} // hand.007's
			for i, got := range connecttest.Apply(s, acts) {
				mine := acts[i].Name == "hand.103" || acts[i].Member == "hand.103"
				if want := map[bool]connect.Outcome{true: connect.Failed, false: connect.Done}[mine]; got.Outcome != want {
					t.Errorf("%s %s: %+v, want %s", acts[i].Verb, acts[i].Name, got, want)
				}
			}
		})
	}
}

// While another tool holds the account files nothing is written, and that is what is told.
func TestLockHeld(t *testing.T) {
	t.Parallel()
	h, a := start(t, `printf '#!/bin/sh\nsleep 60\n' >/tmp/hold; chmod 755 /tmp/hold; EDITOR=/tmp/hold vipw -q </dev/null >/dev/null 2>&1 &
		sleep 0.3`)
	s := connecttest.Open(t, host.Connector{}, a)
	before := exec(t, h, "cksum /etc/passwd /etc/shadow /etc/group")
	for _, got := range connecttest.Apply(s, many(10, 0)) {
		if got.Outcome != connect.Failed || !strings.Contains(got.Words, "lock") {
			t.Errorf("%+v", got)
		}
	}
	if after := exec(t, h, "cksum /etc/passwd /etc/shadow /etc/group"); after != before {
		t.Errorf("written all the same: %s", after)
	}
}

// The days of an account, and who keeps a group.
func TestDaysAndKeepers(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) { return start(t, setup) },
		"without":            startSmall} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, "[ -e /etc/gshadow ] || { sed 's/:.*/:!::/' /etc/group >/etc/gshadow; }")
			s := connecttest.Open(t, host.Connector{}, a)
			apply(t, s, connect.Done, act(model.Create, model.Account, "marit.fell", change("password-max-age", "", "90"),
				change("expires", "", "2031-10-31")), act(model.Create, model.GroupKind, "deck",
				model.Change{Attribute: model.Administrators, After: []string{"marit.fell"}}))
			o := connecttest.Find(t, s, model.Account, "marit.fell").Attributes
			if o.One("password-max-age") != "90" || o.One("expires") != "2031-10-31" || o.One("password-min-age") != "0" ||
				o.One("password-inactive") != "never" {
				t.Errorf("%v", o.Map())
			}
			if g := connecttest.Find(t, s, model.GroupKind, "deck"); g.Attributes.One(model.Administrators) != "marit.fell" {
				t.Errorf("%v", g.Attributes.Map())
			}
			apply(t, s, connect.Done, act(model.Modify, model.Account, "marit.fell", change("password-max-age", "90", "never"),
				change("password-warning", o.One("password-warning"), "14"), change("password-inactive", "never", "30")))
			if got := exec(t, h, "grep ^marit.fell: /etc/shadow | cut -d: -f4-8"); got != "0:99999:14:30:22583" {
				t.Errorf("%s", got)
			}
			// Shutting takes the day along; opening leaves one that is yet to come.
			apply(t, s, connect.Done, act(model.Disable, model.Account, "marit.fell", change(model.Disabled, "no", "yes")))
			apply(t, s, connect.Done, act(model.Modify, model.Account, "marit.fell", change("expires", "", "2031-10-31")),
				act(model.Enable, model.Account, "marit.fell", change(model.Disabled, "yes", "no")))
			if got := connecttest.Find(t, s, model.Account, "marit.fell").Attributes.One("expires"); got != "2031-10-31" {
				t.Errorf("expires %s", got)
			}
		})
	}
}

// Elevation is given in a file of our own, looked at by sudo's checker and by sudo itself, and never at the cost of others.
func TestElevation(t *testing.T) {
	t.Parallel()
	h, a := start(t, `useradd -m -u 1701 marit.fell; useradd -m -u 1702 odd; echo 'odd ALL=(ALL) ALL' >/etc/sudoers.d/10-odd; chmod 440 /etc/sudoers.d/10-odd`)
	s := connecttest.Open(t, host.Connector{}, a)
	command := `/usr/bin/id -u --x=a,b:c`
	apply(t, s, connect.Done, elevate(model.JoinIt, "marit.fell", command), elevate(model.JoinIt, "odd", "all"))
	apply(t, s, connect.AlreadySo, elevate(model.JoinIt, "marit.fell", command))
	if o := connecttest.Find(t, s, model.Account, "marit.fell"); o.Attributes.One(model.Elevation) != "elevation "+command {
		t.Errorf("%v", o.Attributes.Map())
	}
	if o := connecttest.Find(t, s, model.Account, "odd"); !slices.Equal(o.Attributes.Get(model.Elevation),
		[]string{"elevation all", "sudoers"}) {
		t.Errorf("%v", o.Attributes.Map())
	}
	exec(t, h, "sudo -n -l -U marit.fell "+command+" && ! sudo -n -l -U marit.fell /bin/sh && visudo -c && stat -c %a "+
		"/etc/sudoers.d/hen-roost | grep 440")
	for _, ghost := range []string{"nobody.such", "%sudo", "ALL", "a b"} {
		if got := connecttest.Apply(s, []connect.Act{elevate(model.JoinIt, ghost, "all")})[0]; got.Outcome != connect.Failed {
			t.Errorf("%s: %+v", ghost, got)
		}
	}
	if got := connecttest.Apply(s, []connect.Act{elevate(model.JoinIt, "odd",
		"/bin/x\nodd ALL=ALL")})[0]; got.Outcome != connect.Failed {
		t.Errorf("a line break: %+v", got)
	}
	// Somebody else's mistake is told, and keeps nobody from what sudo still gives.
	exec(t, h, "echo 'this is no rule' >/etc/sudoers.d/90-mistake")
	got := connecttest.Apply(s, []connect.Act{elevate(model.LeaveIt, "marit.fell", command)})[0]
	if got.Outcome != connect.Done || !strings.Contains(got.Words, "a mistake that is not ours") {
		t.Errorf("%+v", got)
	}
	exec(t, h, "rm /etc/sudoers.d/90-mistake; grep -c marit /etc/sudoers.d/hen-roost | grep 0; sed -i '/includedir/d' /etc/sudoers")
	if got := connecttest.Apply(s, []connect.Act{elevate(model.JoinIt, "marit.fell", "all")})[0]; got.Outcome != connect.Failed ||
		!strings.Contains(got.Words, "taken back") {
		t.Errorf("where sudo reads no such folder: %+v", got)
	}
	small, b := startSmall(t, "echo 'x:x:1701:100::/:/bin/sh' >>/etc/passwd")
	if got := connecttest.Apply(connecttest.Open(t, host.Connector{}, b), []connect.Act{elevate(model.JoinIt, "x",
		"all")})[0]; got.Outcome != connect.Failed || !strings.Contains(got.Words, "no sudo") {
		t.Errorf("%+v", got)
	}
	_ = small
}

// Every way to become superuser is named: includes, netgroups, doas, what PAM asks of su.
func TestWaysToPower(t *testing.T) {
	t.Parallel()
	_, a := start(t, `for n in 1 2 3 4 5; do useradd -m -u 170$n hand.$n; done; groupadd -g 2701 sailors; gpasswd -a hand.3 sailors >/dev/null
mkdir /etc/more.d; echo 'hand.1 ALL=(ALL) ALL' >/etc/more.d/one; echo 'hand.5 ALL=ALL' >/etc/more.d/no.t
echo '@includedir /etc/more.d' >/etc/sudoers.d/more; echo '+mates ALL=(ALL) ALL' >/etc/sudoers.d/net
printf 'permit nopass keepenv setenv { A B } hand.2\npermit :sailors as postgres\npermit persist :harbour cmd reboot\ndeny hand.4\n' >/etc/doas.conf
groupadd -g 2702 harbour; echo 'auth required pam_wheel.so use_uid group=rowers' >>/etc/pam.d/su`)
	s := connecttest.Open(t, host.Connector{}, a)
	for name, want := range map[string]string{"hand.1": "sudoers", "hand.2": "doas", "hand.3": "", "hand.4": "", "hand.5": ""} {
		if got := strings.Join(connecttest.Find(t, s, model.Account, name).Attributes.Get(model.Elevation), ", "); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	right := connecttest.Find(t, s, model.RightKind, model.Superuser).Attributes
	for _, g := range []string{"harbour", "rowers"} {
		if !slices.Contains(right.Get(model.MemberGroups), g) {
			t.Errorf("%s is not among %v", g, right.Get(model.MemberGroups))
		}
	}
	if !slices.Contains(right.Get(model.Members), "+mates") {
		t.Errorf("%v", right.Get(model.Members))
	}
}

// What is shared, what was delivered, what a directory has, what lies about.
func TestWatched(t *testing.T) {
	t.Parallel()
	_, a := start(t, `useradd -m -u 1701 marit.fell; useradd -o -u 1701 -d /home/marit.fell deck.pc; useradd -m -u 1702 guest; useradd -m -u 1703 shut.one; chage -E 1 shut.one; usermod -L shut.one
for n in marit.fell guest; do mkdir /home/$n/.ssh; echo 'from="10.0.0.0/8" ssh-ed25519 AAAAC3NzaSharedKey pier' >/home/$n/.ssh/authorized_keys; done
printf 'root:Rope-90-knots\n' | chpasswd; echo '* * * * * true' >/tmp/tab; crontab -u marit.fell /tmp/tab; echo hi >/var/mail/guest
printf '#!/bin/sh\necho root:x:0:0:root:/root:/bin/sh; echo far.away:x:70001:70001:Far Away:/home/far:/bin/sh\n' >/tmp/getent; chmod 755 /tmp/getent; mount --bind /tmp/getent /usr/bin/getent
printf 'passwd: files sss\ngroup: files\n' >/etc/nsswitch.conf`)
	s := connecttest.Open(t, host.Connector{}, a)
	get := func(name, attribute string) string {
		return strings.Join(connecttest.Find(t, s, model.Account, name).Attributes.Get(attribute), "; ")
	}
	for _, want := range [][3]string{{"marit.fell", model.SharedLogin, "has number 1701, as has deck.pc"}, {"guest", model.SharedLogin,
		"the key pier opens marit.fell, deck.pc too"},
		{"guest", model.FactoryMade, "delivered"}, {"root", model.FactoryMade, "the superuser can be signed in to with a password"},
		{"root", model.Locked, "no"}, {"marit.fell", model.LyingAbout, "cron-table"}, {"guest", model.LyingAbout, "mail-spool"},
		{"far.away", model.KeptBy, "a directory"}, {"far.away", model.Number, "70001"}} {
		if got := get(want[0], want[1]); !strings.Contains(got, want[2]) {
			t.Errorf("%s of %s: %q, want %q", want[1], want[0], got, want[2])
		}
	}
	if o := connecttest.Find(t, s, model.Account, "far.away"); !o.System {
		t.Error("an account of a directory is taken for the host's own")
	}
	apply(t, s, connect.Done, act(model.Modify, model.Account, "root", change(model.Locked, "no", "yes")))
	if get("root", model.Locked) != "yes" || get("root", model.FactoryMade) != "" {
		t.Error("the superuser's password is still open")
	}
	apply(t, connecttest.Open(t, host.Connector{}, a), connect.Done, act(model.Modify, model.Account, "root", change(model.Locked, "yes",
		"no")))
}

// With an account goes what lies about, and what still runs; what it owns elsewhere is told. Made again with the same
// number it has its home back.
func TestRemovalAndBack(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) {
			return start(t, strings.ReplaceAll(setup, "ADD", "useradd -m -u 1801 -s /bin/sh leaver; mkdir -p /var/mail"))
		},
		"without": func(t *testing.T, setup string) (*world.Host, connect.Access) {
			return startSmall(t, strings.ReplaceAll(setup, "ADD", "echo leaver:x:1801:1801::/home/leaver:/bin/sh >>/etc/passwd; "+
				"echo leaver:x:1801: >>/etc/group; echo 'leaver:!:1::::::' >>/etc/shadow; mkdir -p /home/leaver /var/mail; chown "+
				"1801:1801 /home/leaver"))
		}} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, `ADD
mkdir -p /var/spool/cron/crontabs /var/spool/cron/atjobs; echo '* * * * * true' >/var/spool/cron/crontabs/leaver; echo mail >/var/mail/leaver
echo log >/home/leaver/log; echo j >/var/spool/cron/atjobs/a00001; chown 1801 /home/leaver/log /var/mail/leaver /var/spool/cron/atjobs/a00001
echo left >/tmp/left.behind; chown 1801 /tmp/left.behind`)
			s := connecttest.Open(t, host.Connector{}, a)
			apply(t, s, connect.Done, act(model.Disable, model.Account, "leaver", change(model.Disabled, "no", "yes")))
			exec(t, h, "(setpriv --reuid=1801 --clear-groups sleep 300 || su -s /bin/sh leaver -c 'sleep 300') >/dev/null 2>&1 & sleep 0.2")
			gone := apply(t, s, connect.Done, act(model.Remove, model.Account, "leaver", change("disabled", "yes", ""), change("home",
				"/home/leaver", "archive")))
			for _, want := range []string{"its home is in /var/backups/homes/leaver-", "its cron table was removed",
				"a job of at was removed",
				"its mail was removed", "/tmp/left.behind"} {
				if !strings.Contains(gone[0].Words, want) {
					t.Errorf("%q is not in %q", want, gone[0].Words)
				}
			}
			if out := exec(t, h, "ls /home /var/spool/cron/crontabs /var/mail; stat -c %u /proc/[0-9]* 2>/dev/null | grep -c 1801; "+
				"true"); strings.Contains(out,
				"leaver") || !strings.HasSuffix(out, "0") {
				t.Errorf("%s", out)
			}
			back := apply(t, s, connect.Done, act(model.Create, model.Account, "leaver", change(model.Number, "", "1801"), change("shell",
				"", "/bin/sh"),
				change("home", "", "/home/leaver")))
			if !strings.Contains(back[0].Words, "its home came back from") || exec(t, h,
				"cat /home/leaver/log; stat -c %u /home/leaver") != "log\n1801" {
				t.Errorf("%+v", back[0])
			}
			apply(t, s, connect.Done, act(model.Remove, model.Account, "leaver", change("home", "/home/leaver", "remove")))
			other := apply(t, s, connect.Done, act(model.Create, model.Account, "leaver", change(model.Number, "", "1888"),
				change("shell", "", "/bin/sh")))
			if out, _ := h.Exec("cat /home/leaver/log"); strings.Contains(out, "log\n") && !strings.Contains(out, "No such") {
				t.Errorf("somebody else of that name got the home: %s %+v", out, other[0])
			}
		})
	}
}

// Homes are seen with their last use, and go if they are still as they were seen.
func TestHomes(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) { return start(t, setup) },
		"without":            startSmall} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, `for n in stale fresh 'with space' taken; do mkdir -p "/home/$n/deep/er"; echo 12345 >"/home/$n/deep/er/f"; chown -R 1900 "/home/$n"; done
chown -R 1901 /home/taken; mkdir "/home/stale/x
d 1900 1000000000 0 "; mkdir -p "/home/stale/x
d 1900 1000000000 0 /home/fresh"; touch -d '2024-05-01 12:00:00' /home/stale/deep/er/f /home/stale '/home/with space/deep/er/f' '/home/with space'; ln -s /etc /home/link`)
			a.Homes = true
			s := connecttest.Open(t, host.Connector{}, a)
			o := connecttest.Find(t, s, model.HomeKind, "/home/stale")
			if o.Attributes.One(model.LastUse) != "2024-05-01" || o.Attributes.One(model.Number) != "1900" ||
				o.Attributes.Has(model.HeldBy) {
				t.Errorf("%v", o.Attributes.Map())
			}
			if got := connecttest.Find(t, s, model.HomeKind,
				"/home/fresh").Attributes.One(model.LastUse); got != time.Now().UTC().Format(time.DateOnly) {
				t.Errorf("fresh: %s", got)
			}
			list, err := connect.Homes(context.Background(), s)
			if err != nil || len(list) < 4 || slices.ContainsFunc(list, func(o model.Object) bool { return o.Name == "/home/link" }) {
				t.Errorf("%v %v", list, err)
			}
			drop := func(folder, last, how string) connect.Act {
				return act(model.Remove, model.HomeKind, folder, change(model.Number, "1900", ""), change(model.LastUse, last, ""),
					change("home", "", how))
			}
			apply(t, s, connect.Done, drop("/home/with space", "2024-05-01", "remove"), drop("/home/stale", "2024-05-01", "archive"))
			apply(t, s, connect.AlreadySo, drop("/home/stale", "2024-05-01", "archive"))
			apply(t, s, connect.Moved, drop("/home/fresh", "2024-05-01", "remove"))
			apply(t, s, connect.Moved, drop("/home/taken", time.Now().UTC().Format(time.DateOnly), "remove"))
			if out := exec(t, h, "ls /home; tar -tzf /var/backups/homes/home-1900-*.tar.gz | grep -c "+
				"er/f"); out != "fresh\nlink\ntaken\n1" {
				t.Errorf("%s", out)
			}
		})
	}
}

// Only our own keys are looked after where that is asked for; what others put there stays, above them.
func TestOnlyOurKeys(t *testing.T) {
	t.Parallel()
	h, a := start(t, "useradd -m -u 1701 marit.fell; mkdir -m 700 /home/marit.fell/.ssh; echo 'ssh-ed25519 AAAAtheirs laptop' "+
		">/home/marit.fell/.ssh/authorized_keys; chown -R marit.fell /home/marit.fell/.ssh")
	a.Settings = map[string]string{"keys": "at-least"}
	s := connecttest.Open(t, host.Connector{}, a)
	apply(t, s, connect.Done, act(model.Modify, model.Account, "marit.fell", change("keys", "", "ssh-ed25519 AAAAours desk")))
	o := connecttest.Find(t, s, model.Account, "marit.fell").Attributes
	if o.One("keys") != "ssh-ed25519 AAAAours desk" || o.One("other-keys") != "ssh-ed25519 AAAAtheirs laptop" {
		t.Errorf("%v", o.Map())
	}
	apply(t, s, connect.Done, act(model.Modify, model.Account, "marit.fell", change("keys", "ssh-ed25519 AAAAours desk", `from="10.0.0.0/8" ssh-ed25519 AAAAnew desk`)))
	if out := exec(t, h, "grep -v '^#' /home/marit.fell/.ssh/authorized_keys"); out != "ssh-ed25519 AAAAtheirs "+
		"laptop\nfrom=\"10.0.0.0/8\" ssh-ed25519 AAAAnew desk" {
		t.Errorf("%s", out)
	}
	apply(t, s, connect.Done, connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: "marit.fell",
		Changes: []model.Change{{Attribute: "keys", Before: []string{`from="10.0.0.0/8" ssh-ed25519 AAAAnew desk`}}}}})
}

// A number is changed with all that the account owns.
func TestRenumber(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) {
			return start(t, "useradd -m -u 1502 jorunn; "+setup)
		}, "without": func(t *testing.T, setup string) (*world.Host, connect.Access) {
			return startSmall(t, "echo jorunn:x:1502:100::/home/jorunn:/bin/sh >>/etc/passwd; mkdir /home/jorunn; chown 1502 "+
				"/home/jorunn; "+setup)
		}} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, "echo x >/tmp/far; chown 1502 /tmp/far; echo x >/home/jorunn/near; chown 1502 /home/jorunn/near")
			s := connecttest.Open(t, host.Connector{}, a)
			apply(t, s, connect.Done, act(model.Modify, model.Account, "jorunn", change(model.Number, "1502", "1002")))
			if out := exec(t, h, "stat -c %u /tmp/far /home/jorunn /home/jorunn/near | sort -u"); out != "1002" {
				t.Errorf("%s", out)
			}
			exec(t, h, "echo bilge:x:5900: >>/etc/group; echo x >/tmp/tool; chgrp 5900 /tmp/far /tmp/tool; chmod 2755 /tmp/tool")
			got := apply(t, s, connect.Done, act(model.Modify, model.GroupKind, "bilge", change(model.Number, "5900", "5901")))
			if out := exec(t, h, "stat -c %g /tmp/far /tmp/tool | sort -u"); out != "5901" ||
				!strings.Contains(got[0].Words, "chmod g+s): /tmp/tool") {
				t.Errorf("%s %+v", out, got[0])
			}
		})
	}
}

// Where homes cannot be made the account is, and the step says what it lacks.
func TestReadOnlyHomes(t *testing.T) {
	t.Parallel()
	_, a := start(t, "mount -o remount,ro /home")
	s := connecttest.Open(t, host.Connector{}, a)
	acts := many(20, 0)
	for i, got := range connecttest.Apply(s, acts) {
		if acts[i].Object == model.Account && (got.Outcome != connect.Failed || !strings.Contains(got.Words, "home")) {
			t.Errorf("%s: %+v", acts[i].Name, got) // its keys are not there
		}
	}
	for _, acts := range [][]connect.Act{{act(model.Create, model.Account, "one.alone")}, {act(model.Create, model.Account, "a"),
		act(model.Create, model.Account, "b"), act(model.Create, model.Account, "c"), act(model.Create, model.Account, "d"),
		act(model.Create, model.Account, "e"), act(model.Create, model.Account, "f"), act(model.Create, model.Account, "g"),
		act(model.Create, model.Account, "h")}} {
		for _, got := range connecttest.Apply(s, acts) {
			if got.Outcome != connect.Done || !strings.Contains(got.Words, "Read-only") && !strings.Contains(got.Words,
				"cannot create directory") {
				t.Errorf("%+v", got)
			}
		}
	}
}

// A disk that fills up while many are written leaves the files as they were, and says so.
func TestFullDiskForMany(t *testing.T) {
	t.Parallel()
	h, a := start(t, "")
	s := connecttest.Open(t, host.Connector{}, a)
	before := exec(t, h, "md5sum /etc/passwd /etc/shadow /etc/group; dd if=/dev/zero of=/var/full bs=1M 2>/dev/null; dd if=/dev/zero "+
		"of=/var/fuller bs=512 2>/dev/null; true")
	for _, got := range connecttest.Apply(s, many(30, 0)) {
		if got.Outcome != connect.Failed || !strings.Contains(got.Words, "No space left") && !strings.Contains(got.Words, "full") {
			t.Errorf("%+v", got)
			break
		}
	}
	if after := exec(t, h, "rm /var/full /var/fuller; md5sum /etc/passwd /etc/shadow /etc/group"); after != before {
		t.Errorf("%s\n%s", before, after)
	}
	apply(t, s, connect.Done, many(30, 0)...)
}

// What is mounted in a home is nobody's home, and what runs under a number that two names share is not one's to end.
func TestRemovalSparesOthers(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T, string) (*world.Host, connect.Access){
		"with account tools": func(t *testing.T, setup string) (*world.Host, connect.Access) { return start(t, setup) },
		"without":            startSmall} {
		t.Run(name, func(t *testing.T) {
			h, a := start(t, `for n in mounted:1801 one:1802 other:1802; do echo "${n%:*}:x:${n#*:}:100::/home/${n%:*}:/bin/sh" >>/etc/passwd
echo "${n%:*}:!:1::::::" >>/etc/shadow; mkdir -p /home/${n%:*}; chown ${n#*:} /home/${n%:*}; done
mkdir -p /home/mounted/mnt /tmp/precious; echo dear >/tmp/precious/file; mount --bind /tmp/precious /home/mounted/mnt`)
			s := connecttest.Open(t, host.Connector{}, a)
			for _, n := range []string{"mounted", "one"} {
				apply(t, s, connect.Done, act(model.Disable, model.Account, n, change(model.Disabled, "no", "yes")))
			}
			if got := connecttest.Apply(s, []connect.Act{act(model.Remove, model.Account, "mounted", change("home",
				"/home/mounted", "remove"))})[0]; got.Outcome != connect.Failed || exec(t, h, "cat /tmp/precious/file") != "dear" {
				t.Errorf("%+v", got)
			}
			exec(t, h, "(setpriv --reuid=1802 --clear-groups sleep 30 || su -s /bin/sh other -c 'sleep 30') >/dev/null 2>&1 & sleep 0.2")
			connecttest.Apply(s, []connect.Act{act(model.Remove, model.Account, "one", change("home", "/home/one",
				"remove"))}) // refused, where the tools do so
			if out := exec(t, h, "stat -c %u /proc/[0-9]* 2>/dev/null | grep -c 1802; true"); out == "0" {
				t.Error("what somebody else runs was ended")
			}
		})
	}
}
