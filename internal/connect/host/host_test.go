package host_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

func start(t *testing.T, setup string, env ...string) (*world.Host, connect.Access) {
	t.Helper()
	key, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	h, err := world.StartHost(context.Background(), t.TempDir(), "arctic-tern", "127.0.2.11", setup, key, env...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Stop)
	a := connect.Access{Target: "arctic-tern", Address: h.Address, As: "root", Secret: key.Private, Wait: 10 * time.Second}
	return h, connecttest.Accept(t, host.Connector{}, a)
}

func TestSuite(t *testing.T) {
	t.Parallel()
	fresh, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	h, a := start(t, "useradd -m -u 1990 visitor; mkdir -m 700 /home/visitor/.ssh; cp /root/.ssh/authorized_keys /home/visitor/.ssh/; "+
		"chown -R visitor /home/visitor/.ssh")
	connecttest.Run(t, connecttest.Subject{Proves: true, Gate: true, Elevates: true, Fresh: fresh.Private,
		SignedIn:  func(t *testing.T) string { return signIn(t, h, a) },
		Connector: host.Connector{}, Access: a, Login: "suite.one", Number: "1999", Loose: [2]string{"Suite,,", "Suite"},
		Attribute: model.Change{Attribute: "shell", Before: []string{"/bin/sh"}, After: []string{"/bin/bash"}}})
}

// What is urgent waits for no batch that is under way.
func TestUrgent(t *testing.T) {
	t.Parallel()
	h, a := start(t, "useradd -m -u 1701 jarle.holm; mkdir /run/hen-roost.lock; sleep 300 & echo $! >/run/hen-roost.lock/pid")
	act := []connect.Act{{Act: model.Act{Verb: model.Disable, Object: model.Account, Name: "jarle.holm",
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}}}
	a.Urgent = true
	began := time.Now()
	got := connecttest.Apply(connecttest.Open(t, host.Connector{}, a), act)[0]
	if got.Outcome != connect.Done {
		t.Fatalf("after %v: %+v", time.Since(began), got)
	}
	names := slices.Repeat([]string{"nobody.such", "root", "jarle.holm"}, 13) // more than are asked at once
	for i, x := range connect.Admits(context.Background(), connecttest.Open(t, host.Connector{}, a), names) {
		if want := []connect.AdmissionState{connect.KeptOut, connect.LetIn, connect.KeptOut}[i%3]; x.State != want {
			t.Errorf("%d, %s: %+v, want %s", i, names[i], x, want)
		}
	}
	if out, err := h.Exec("ls -d /run/hen-roost.*"); err != nil || strings.TrimSpace(out) != "/run/hen-roost.lock" {
		t.Errorf("left behind: %q %v", out, err)
	}
}

// What an account that was made brought with it is told too by a step that was cut off, and is found done.
func TestBesideCutOff(t *testing.T) {
	t.Parallel()
	_, a := start(t, "")
	for _, act := range []connect.Act{
		connecttest.Act(model.Create, model.Account, "ada.life", model.Change{Attribute: model.Number, After: []string{"1901"}}),
		connecttest.Act(model.Remove, model.Account, "ada.life")} {
		for _, again := range []bool{false, true} {
			act.Again = again
			got := connecttest.Apply(connecttest.Open(t, host.Connector{}, a), []connect.Act{act})[0]
			if told := len(got.Made) == 1 || len(got.Gone) == 1; got.Outcome != connect.Done || !told {
				t.Errorf("%s, again %v: %+v", act.Verb, again, got)
			}
		}
	}
}

// signIn lets somebody sign in over SSH and stay, and returns what their session is called.
func signIn(t *testing.T, h *world.Host, a connect.Access) string {
	t.Helper()
	signer, err := ssh.ParsePrivateKey(a.Secret)
	if err != nil {
		t.Fatal(err)
	}
	c, err := ssh.Dial("tcp", a.Address, &ssh.ClientConfig{User: "visitor", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	s, err := c.NewSession()
	if err == nil {
		err = s.Start("exec sleep 300")
	}
	if err != nil {
		t.Fatal(err)
	}
	watch := connecttest.Open(t, host.Connector{}, a)
	for range 50 {
		list, err := connect.Watch(context.Background(), watch)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			if o.Attributes.One(model.HeldBy) == "visitor" && strings.HasPrefix(o.Attributes.One(model.From), "127.0.") {
				return o.Name
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatal("whoever signed in is not seen")
	return ""
}

// What is no session is not ended, and neither is ours.
func TestEndNothingElse(t *testing.T) {
	t.Parallel()
	h, a := start(t, "")
	s := connecttest.Open(t, host.Connector{}, a)
	out, err := h.Exec("awk '{ sub(/^.*\\) /, \"\"); print $20 }' /proc/1/stat")
	if err != nil {
		t.Fatal(out)
	}
	names := []string{"1-" + strings.TrimSpace(out), "1-1", "1; reboot", "../1-2"}
	want := []connect.Outcome{connect.Failed, connect.AlreadySo, connect.Failed, connect.Failed}
	for i, got := range connect.End(context.Background(), s, names) {
		if got.Outcome != want[i] {
			t.Errorf("%s: %+v", names[i], got)
		}
	}
	if list, err := connect.Watch(context.Background(), s); err != nil || len(list) != 0 {
		t.Errorf("our own session is listed: %+v %v", list, err)
	}
}

// A host tells what it is.
func TestDetails(t *testing.T) {
	t.Parallel()
	_, a := start(t, "")
	o := connecttest.Find(t, connecttest.Open(t, host.Connector{}, a), model.SystemKind, model.Itself)
	for _, attribute := range []string{model.HostName, model.System, model.Version, model.UpSince} {
		if o.Attributes.One(attribute) == "" {
			t.Errorf("no %s: %v", attribute, o.Attributes.Map())
		}
	}
	if addresses := o.Attributes.Get(model.Addresses); !slices.Equal(addresses, []string{"192.0.2.2", "fd00::2"}) {
		t.Errorf("addresses %q", addresses)
	}
	if o.Attributes.One(model.ClockOff) != "0" || o.Attributes.One(model.HostName) != "arctic-tern" {
		t.Errorf("%v", o.Attributes.Map())
	}
}

// A host's own files may hold anything; nothing in them is run, and nothing in them passes for an answer.
func TestHostileNames(t *testing.T) {
	t.Parallel()
	h, a := start(t, `cat >>/etc/passwd <<'P'
o'neil; touch /run/owned:x:1500:1500:R:0:acted:0 $(touch /run/owned):/home/x y:/bin/sh
P
echo "o'neil; touch /run/owned:!:19000:0:99999:7:::" >>/etc/shadow
useradd -m -u 1501 keys.link
mkdir -p /home/keys.link/.ssh; ln -s /etc/shadow /home/keys.link/.ssh/authorized_keys
useradd -m -u 1502 keys.fifo
mkdir -p /home/keys.fifo/.ssh; mkfifo /home/keys.fifo/.ssh/authorized_keys`)
	s := connecttest.Open(t, host.Connector{}, a)
	o := connecttest.Find(t, s, model.Account, "o'neil; touch /run/owned")
	if got := o.Attributes.One(model.FullName); got != "/home/x y:/bin/sh" && !strings.Contains(got, "R") {
		t.Errorf("full name %q", got)
	}
	for _, name := range []string{"keys.link", "keys.fifo"} {
		if o := connecttest.Find(t, s, model.Account, name); o.Attributes.Has("keys") {
			t.Errorf("%s: keys were read through something that is no file: %v", name, o.Attributes.Get("keys"))
		}
	}
	act := model.Act{Verb: model.Disable, Object: model.Account, Name: o.Name,
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}
	create := model.Act{Verb: model.Create, Object: model.Account, Name: "x'; touch /run/owned; '",
		Changes: []model.Change{{Attribute: model.FullName, After: []string{"`touch /run/owned`\n$(touch /run/owned)"}}}}
	for _, answer := range connecttest.Apply(s, []connect.Act{{Act: create}, {Act: act}}) {
		if answer.Outcome == connect.Done && answer.Object == nil {
			t.Errorf("done without an account: %+v", answer)
		}
	}
	if out, err := h.Exec("ls /run/owned"); err == nil {
		t.Fatalf("a name was run as a command: %s", out)
	}
}

func TestElevationAndKeys(t *testing.T) {
	t.Parallel()
	h, a := start(t, `groupadd -g 27 sudo; useradd -m -u 1701 -G sudo jarle.holm; useradd -m -u 1702 wilma.toft; echo 'wilma.toft ALL=(ALL) ALL' >/etc/sudoers.d/wilma`)
	s := connecttest.Open(t, host.Connector{}, a)
	for name, want := range map[string]string{"jarle.holm": "group sudo", "wilma.toft": "sudoers"} {
		if got := connecttest.Find(t, s, model.Account, name).Attributes.One(model.Elevation); got != want {
			t.Errorf("%s can become superuser through %q, want %q", name, got, want)
		}
	}
	key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGq3kq0n7cPZqkqL0g9jV7kB5dL4W2Vd2m1o1b0T8mYf it's mine"
	set := func(before, after []string) connect.Act {
		return connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: "wilma.toft",
			Changes: []model.Change{{Attribute: "keys", Before: before, After: after}}}}
	}
	if got := connecttest.Apply(s, []connect.Act{set(nil, []string{key})}); got[0].Outcome != connect.Done {
		t.Fatalf("keys: %+v", got[0])
	}
	if got := connecttest.Find(t, s, model.Account, "wilma.toft").Attributes.Get("keys"); len(got) != 1 || got[0] != key {
		t.Errorf("keys came back as %q", got)
	}
	if got := connecttest.Apply(s, []connect.Act{set(nil, []string{key})}); got[0].Outcome != connect.AlreadySo {
		t.Errorf("the same keys again: %+v", got[0])
	}
	// A key that came since the survey is not wiped out, and an account whose keys differ is not told to be as wanted.
	if out, err := h.Exec("echo '  ssh-ed25519 AAAAother somebody' >>/home/wilma.toft/.ssh/authorized_keys; echo '# a comment' " +
		">>/home/wilma.toft/.ssh/authorized_keys"); err != nil {
		t.Fatal(out)
	}
	if got := connecttest.Apply(s, []connect.Act{set([]string{key}, []string{})}); got[0].Outcome != connect.Moved ||
		!strings.Contains(got[0].Words, "AAAAother") {
		t.Errorf("keys that changed since the survey: %+v", got[0])
	}
	made := connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: "wilma.toft",
		Changes: []model.Change{{Attribute: "keys", After: []string{key}}}}}
	if got := connecttest.Apply(s, []connect.Act{made}); got[0].Outcome != connect.Moved {
		t.Errorf("an account with other keys: %+v", got[0])
	}
	// An account of ours whose making was cut off before its keys were written is finished; anybody else's is left alone.
	if out, err := h.Exec("useradd -m -u 1703 half.made"); err != nil {
		t.Fatal(out)
	}
	made.Name = "half.made"
	if got := connecttest.Apply(s, []connect.Act{made}); got[0].Outcome != connect.Moved {
		t.Errorf("somebody else's account: %+v", got[0])
	}
	made.Again = true
	if got := connecttest.Apply(s, []connect.Act{made}); got[0].Outcome != connect.Done ||
		got[0].Object.Attributes.One("keys") != key {
		t.Errorf("our own, half made: %+v", got[0])
	}
	both := []string{key, "ssh-ed25519 AAAAother somebody"}
	if got := connecttest.Apply(s, []connect.Act{set(both, []string{})}); got[0].Outcome != connect.Done {
		t.Fatalf("no keys: %+v", got[0])
	}
}

func TestFullDisk(t *testing.T) {
	t.Parallel()
	// Everything under /etc and /var lies on one small file system, which is filled to the brim.
	_, a := start(t, "dd if=/dev/zero of=/var/full bs=1M 2>/dev/null || true; dd if=/dev/zero of=/var/fuller bs=512 2>/dev/null || true")
	s := connecttest.Open(t, host.Connector{}, a)
	act := model.Act{Verb: model.Create, Object: model.Account, Name: "no.room",
		Changes: []model.Change{{Attribute: model.Number, After: []string{"1400"}}}}
	got := connecttest.Apply(s, []connect.Act{{Act: act}})[0]
	if !strings.Contains(got.Words, "No space left") {
		t.Errorf("a full disk is not told: %s %q", got.Outcome, got.Words)
	}
}

func TestTroubleOnTheWay(t *testing.T) {
	t.Parallel()
	h, a := start(t, "")
	other, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	refused := a
	refused.Secret = other.Private
	var r *connect.Refused
	if _, err := (host.Connector{}).Open(ctx, refused); !errors.As(err, &r) {
		t.Errorf("a refused key: %v", err)
	}
	silent, err := net.Listen("tcp", "127.0.2.12:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	hanging := a
	hanging.Address, hanging.Wait = silent.Addr().String(), 300*time.Millisecond
	if _, err := (host.Connector{}).Open(ctx, hanging); err == nil || !strings.Contains(err.Error(), "said nothing for 300ms") {
		t.Errorf("a host that hangs: %v", err)
	}
	s := connecttest.Open(t, host.Connector{}, a)
	h.Stop()
	got := connect.Apply(ctx, s, []connect.Act{{Act: model.Act{Verb: model.Create, Object: model.Account, Name: "late"}}})[0]
	if got.Outcome != connect.Unsure {
		t.Errorf("a lost connection: %+v", got)
	}
	if _, err := (host.Connector{}).Open(ctx, a); err == nil || connect.Reached(err) {
		t.Errorf("a host that is down: %v", err)
	}
}

// A batch of many is one exec, and each step has its answer.
func TestBatch(t *testing.T) {
	t.Parallel()
	_, a := start(t, "")
	s := connecttest.Open(t, host.Connector{}, a)
	var acts []connect.Act
	for i := range 30 {
		acts = append(acts, connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account,
			Name:    fmt.Sprintf("hand.%02d", i),
			Changes: []model.Change{{Attribute: model.Number, After: []string{fmt.Sprint(3000 + i/2)}}}}}) // every second number is taken
	}
	for i, got := range connecttest.Apply(s, acts) {
		want := connect.Done
		if i%2 == 1 {
			want = connect.Failed
		}
		if got.Outcome != want {
			t.Errorf("step %d: %s %q, want %s", i, got.Outcome, got.Words, want)
		}
	}
}

// What is odd on a host is seen as the system itself sees it, and told.
func TestOddAccounts(t *testing.T) {
	t.Parallel()
	h, a := start(t, `useradd -m -u 1601 twice; useradd -m -u 1602 open.door; passwd -d open.door >/dev/null; useradd -m -u 1603 shut.door; passwd -d shut.door >/dev/null; chage -E 1 shut.door
printf 'twice:x:1699:1699:Second:/home/second:/bin/false\nno account at all\n# a comment\n+::::::\nj\370rgen:x:1604:1604::/home/j:/bin/sh\ntoor:x:0:0::/root:/bin/sh\n' >>/etc/passwd
printf 'twice:x:9999:toor\n' >>/etc/group`)
	s := connecttest.Open(t, host.Connector{}, a)
	all := map[string]model.Object{}
	groups := map[string]model.Object{}
	if err := s.Survey(context.Background(), func(o model.Object) error {
		if o.Kind == model.GroupKind {
			groups[o.Name] = o
		} else {
			all[o.Name] = o
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	system, err := h.Exec("getent passwd twice")
	if err != nil || !strings.HasPrefix(system, "twice:x:1601:") || all["twice"].Attributes.One(model.Number) != "1601" {
		t.Errorf("the system says %q, the survey %v", system, all["twice"].Attributes.Map())
	}
	for name, want := range map[string]string{
		"twice":                    "its name stands in /etc/passwd again, on line",
		"(line 12 of /etc/passwd)": `is no account or group, and the system passes over it: "no account at all"`,
		"(line 14 of /etc/passwd)": "is no account",
		`j\xf8rgen`:                "its name is not UTF-8", "toor": "the superuser's number beside root", "open.door": "", "shut.door": "",
	} {
		if got := all[name].Attributes.One(model.Odd); !strings.Contains(got, want) || want == "" && got != "" {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if !strings.Contains(groups["twice"].Attributes.One(model.Odd), "/etc/group again") ||
		groups["twice"].Attributes.One(model.Number) != "1601" {
		t.Errorf("%+v", groups["twice"])
	}
	for name, want := range map[string]bool{"open.door": true, "shut.door": false, "twice": false} {
		if all[name].Attributes.Has(model.Passwordless) != want {
			t.Errorf("%s is passwordless: %v", name, !want)
		}
	}
	if !all["root"].Ours || !all["toor"].System {
		t.Error("our login, or a second superuser, is not seen as such")
	}
	disable := model.Act{Verb: model.Disable, Object: model.Account, Name: "twice",
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"partly"}, After: []string{"yes"}}}}
	if got := connecttest.Apply(s, []connect.Act{{Act: disable}})[0]; got.Outcome != connect.Moved ||
		!strings.Contains(got.Words, "stands twice in /etc/passwd") {
		t.Errorf("%+v", got)
	}
}

// A password that would end the line in which it stands sets nobody's.
func TestUnfitPasswords(t *testing.T) {
	t.Parallel()
	h, a := start(t, "useradd -m -u 1801 marit.fell")
	s := connecttest.Open(t, host.Connector{}, a)
	set := connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: "marit.fell",
		Changes: []model.Change{{Attribute: model.Password, Sealed: "x"}}}}
	before, _ := h.Exec("cat /etc/shadow")
	for _, word := range []string{"fair wind\nroot:taken", "fair\x00wind", strings.Repeat("fair", 200), ""} {
		set.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte(word))}
		if got := connecttest.Apply(s, []connect.Act{set})[0]; got.Outcome != connect.Failed ||
			!strings.Contains(got.Words, "which no host takes") && word != "" {
			t.Errorf("%+v", got)
		}
	}
	if after, _ := h.Exec("cat /etc/shadow"); after != before {
		t.Error("somebody's password was set")
	}
}

// Every rule that lets somebody be superuser is read, and none that does not.
func TestPower(t *testing.T) {
	t.Parallel()
	_, a := start(t, `groupadd -g 27 sudo; groupadd -g 2701 bosuns; groupadd -g 2702 riggers
for n in 1 2 3 4 5 6 7; do useradd -m -u 170$n hand.$n; done; useradd -m -u 1708 -g sudo hand.8; usermod -aG riggers hand.5
cat >/etc/sudoers.d/crew <<'S'
User_Alias OFFICERS = hand.1, %bosuns : MATES = hand.2
OFFICERS, ghost.hand ALL = (ALL) \
  ALL
MATES ALL=(root) /usr/sbin/reboot # when at sea
hand.3 ALL=(postgres) ALL
#1704 ALL=ALL
%#2702 ALL=NOPASSWD: ALL
Defaults:hand.6 !authenticate
Runas_Alias OP = hand.6
hand.7 ALL=(OP : root) ALL
S`)
	s := connecttest.Open(t, host.Connector{}, a)
	right := connecttest.Find(t, s, model.RightKind, model.Superuser)
	if got := strings.Join(right.Attributes.Get(model.Members), " "); got != "ghost.hand hand.1 hand.2 hand.4 hand.7 root" {
		t.Errorf("named: %s", got)
	}
	if got := right.Attributes.Get(model.MemberGroups); !slices.Contains(got, "bosuns") || !slices.Contains(got, "riggers") ||
		!slices.Contains(got, "sudo") {
		t.Errorf("groups: %v", got)
	}
	for name, want := range map[string]string{"hand.1": "sudoers", "hand.2": "sudoers", "hand.3": "", "hand.4": "sudoers",
		"hand.5": "group riggers", "hand.6": "", "hand.7": "sudoers", "hand.8": "primary group sudo"} {
		if got := strings.Join(connecttest.Find(t, s, model.Account, name).Attributes.Get(model.Elevation), ", "); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

// A home goes with its account when it is the account's alone and nobody can put another in its place; what is
// archived is whole before anything goes, and is never written over.
func TestHomesOfTheRemoved(t *testing.T) {
	t.Parallel()
	h, a := start(t, `useradd -m -u 1801 leaver; echo first >/home/leaver/log
		mkdir /home/own; useradd -u 1802 -d /home/own/home trap; mkdir /home/own/home; chown -R trap /home/own
		useradd -u 1803 -d /home/leaver/inner guest; useradd -m -u 1804 busy; useradd -u 1805 -d /home/open/home open
		mkdir -p /home/open/home; chmod 777 /home/open; chown open /home/open/home`)
	s := connecttest.Open(t, host.Connector{}, a)
	remove := func(name, how string) connect.Answer {
		t.Helper()
		o := connecttest.Find(t, s, model.Account, name)
		return connecttest.Apply(s, []connect.Act{{Act: model.Act{Verb: model.Remove, Object: model.Account, Name: name,
			Changes: []model.Change{{Attribute: model.Home, Before: o.Attributes.Get(model.Home), After: []string{how}}}}}})[0]
	}
	exec := func(command string) string {
		t.Helper()
		out, err := h.Exec(command)
		if err != nil {
			t.Fatal(out)
		}
		return strings.TrimSpace(out)
	}
	for _, name := range []string{"leaver", "trap", "open"} {
		if got := remove(name, "archive"); got.Outcome != connect.Failed ||
			!strings.Contains(got.Words, "is not a folder of "+name+" alone") {
			t.Errorf("%s: %+v", name, got)
		}
	}
	exec("userdel guest")
	if got := remove("leaver", "archive"); got.Outcome != connect.Done ||
		!strings.Contains(got.Words, "its home is in /var/backups/homes/leaver-") {
		t.Errorf("%+v", got)
	}
	exec("useradd -m -u 1801 leaver; echo second >/home/leaver/log")
	if got := remove("leaver", "archive"); got.Outcome != connect.Done {
		t.Errorf("again on the same day: %+v", got)
	}
	got := exec("for f in /var/backups/homes/leaver-*; do tar -xzOf $f home/leaver/log; done | sort | tr '\\n' ' '; ls /home")
	if got != "first second busy\nopen\nown" {
		t.Errorf("%q", got)
	}
	// While somebody works under it neither the account nor its home goes.
	exec("su -s /bin/sh busy -c 'sleep 60 >/dev/null 2>&1 & echo $! >/tmp/busy'")
	if got := remove("busy", "remove"); got.Outcome != connect.Failed || exec("ls -d /home/busy; kill $(cat /tmp/busy)") != "/home/busy" {
		t.Errorf("%+v", got)
	}
	for range 50 {
		if exec("kill -0 $(cat /tmp/busy) 2>/dev/null || echo gone") == "gone" {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if got := remove("busy", "remove"); got.Outcome != connect.Done || exec("ls /home") != "open\nown" {
		t.Errorf("%+v %s", got, exec("ls /home"))
	}
}

// The clock of a host may be years off: a password is set, is to be changed, and signs
// in all the same, and what is shut stays shut.
func TestClockOff(t *testing.T) {
	t.Parallel()
	for _, date := range []string{"915148800", "4102444800"} { // 1999 and 2100
		h, a := start(t, "useradd -m -u 1802 marit.fell; useradd -m -u 1803 hanne.vik; printf 'hanne.vik:Rope-90-knots\\n' | chpasswd; "+
			"usermod -L -e 1 hanne.vik; printf '#!/bin/sh\\necho "+date+"\\n' >/tmp/date; chmod 755 /tmp/date; mount --bind /tmp/date "+
			"/usr/bin/date")
		s := connecttest.Open(t, host.Connector{}, a)
		for _, name := range []string{"marit.fell", "hanne.vik"} {
			act := connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: name, Changes: []model.Change{
				{Attribute: model.Password, Sealed: "x"}, {Attribute: model.MustChange, After: []string{"yes"}}}},
				Secrets: map[string]connect.Secret{model.Password: connect.Seal([]byte("Rope-91-knots"))}}
			if got := connecttest.Apply(s, []connect.Act{act})[0]; got.Outcome != connect.Done {
				t.Errorf("%s: %+v", name, got)
			}
		}
		if p, words := connect.Prove(context.Background(), s, "marit.fell", connect.Seal([]byte("Rope-91-knots"))); p != connect.Proved {
			t.Errorf("%s: %s %s", date, p, words)
		}
		if out, _ := h.Exec("passwd -S hanne.vik | cut -d' ' -f2; su -s /bin/sh -c true hanne.vik 2>&1"); !strings.HasPrefix(out, "L") ||
			!strings.Contains(out, "expired") {
			t.Errorf("%s: %s", date, out)
		}
		h.Stop()
	}
}

// Keys are written whatever is asked of the account at its next sign-in, and where it may not sign in at all.
func TestKeysOfWhoMayNotSignIn(t *testing.T) {
	t.Parallel()
	h, a := start(t, "for n in must.change is.shut; do useradd -m $n; printf '%s:Rope-90-knots\\n' $n | chpasswd; done; "+
		"chage -d 0 must.change; usermod -L -e 1 is.shut")
	s := connecttest.Open(t, host.Connector{}, a)
	for _, name := range []string{"must.change", "is.shut"} {
		key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0mXc1nR1v9t0d6wG5b2yq3o8u7s4h6k9l0p1q2r3s4 " + name
		act := connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: name,
			Changes: []model.Change{{Attribute: "keys", After: []string{key}}}}}
		if got := connecttest.Apply(s, []connect.Act{act})[0]; got.Outcome != connect.Done {
			t.Errorf("%s: %+v", name, got)
		}
		if out, err := h.Exec("stat -c %U:%a ~" + name + "/.ssh ~" + name + "/.ssh/authorized_keys"); err != nil ||
			strings.TrimSpace(out) != name+":700\n"+name+":600" {
			t.Errorf("%s: %s %v", name, out, err)
		}
	}
}
