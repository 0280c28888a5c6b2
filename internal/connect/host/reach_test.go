package host_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
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

// A login that is not root does all through sudo, and says so where sudo does not let it.
func TestLoginWithSudo(t *testing.T) {
	t.Parallel()
	h, a := start(t, "useradd -m -u 1990 keeper; mkdir -m 700 /home/keeper/.ssh; cp /root/.ssh/authorized_keys /home/keeper/.ssh/; "+
		"chown -R keeper /home/keeper/.ssh; useradd -m -u 1991 nobody2; mkdir /home/nobody2/.ssh; cp /root/.ssh/authorized_keys "+
		"/home/nobody2/.ssh/; "+
		"chown -R nobody2 /home/nobody2/.ssh; echo 'keeper ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/keeper; chmod 440 "+
		"/etc/sudoers.d/keeper")
	a.As = "keeper"
	s := connecttest.Open(t, host.Connector{}, a)
	if o := connecttest.Find(t, s, model.Account, "keeper"); !o.Ours {
		t.Error("our login is not seen as ours")
	}
	apply(t, s, connect.Done, act(model.Create, model.Account, "marit.fell"), elevate(model.JoinIt, "marit.fell", "all"))
	if list, err := connect.Watch(context.Background(), s); err != nil || len(list) != 0 {
		t.Errorf("our own session is listed: %+v %v", list, err)
	}
	exec(t, h, "id marit.fell")
	a.As = "nobody2"
	if err := connecttest.Open(t, host.Connector{}, a).Survey(context.Background(), func(model.Object) error { return nil }); err == nil ||
		!strings.Contains(err.Error(), "sudo: ") {
		t.Errorf("without the right: %v", err)
	}
}

// A shell that greets is heard out, and none of its greeting passes for an answer.
func TestGreeting(t *testing.T) {
	t.Parallel()
	_, a := start(t, "useradd -m -u 1990 keeper; mkdir -m 700 /home/keeper/.ssh; cp /root/.ssh/authorized_keys /home/keeper/.ssh/; "+
		"chown -R keeper /home/keeper/.ssh; "+
		"echo 'keeper ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/keeper; usermod -s /bin/bash keeper; "+
		"printf 'echo Welcome aboard; echo A:root:0:root:yes:/:/bin/false:fake; echo Z:\\nprintf \"no line end\"\\n' >/home/keeper/.bashrc")
	a.As = "keeper"
	o := connecttest.Find(t, connecttest.Open(t, host.Connector{}, a), model.Account, "root")
	if o.Attributes.One(model.FullName) == "fake" {
		t.Error("a greeting passes for an answer")
	}
}

// sshServer lets everybody in, and does with each shell what it is told. It shows the identity keys it is given, one connection after
// the other; the last stays.
func sshServer(t *testing.T, do func(ch ssh.Channel), keys ...ssh.Signer) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.2.14:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for n := 0; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			conf := &ssh.ServerConfig{
				PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
			conf.AddHostKey(keys[min(n, len(keys)-1)])
			go func() {
				defer c.Close()
				_, chans, reqs, err := ssh.NewServerConn(c, conf)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(reqs)
				for n := range chans {
					ch, reqs, err := n.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range reqs {
							_ = r.Reply(true, nil) // whoever is gone needs none
						}
					}()
					go do(ch)
				}
			}()
		}
	}()
	return l.Addr().String()
}

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(priv)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func line(s ssh.Signer) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey())))
}

// A host that answers endlessly is given up, whether it greets for ever or tells of accounts for ever.
func TestEndlessAnswers(t *testing.T) {
	t.Parallel()
	ours, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		talk func(ssh.Channel, string)
		want string
	}{
		"greeting": {func(ch ssh.Channel, _ string) {
			for {
				if _, err := io.WriteString(ch, strings.Repeat("Welcome aboard\n", 1000)); err != nil {
					return
				}
			}
		}, "bytes before it did what it was asked"},
		"accounts": {func(ch ssh.Channel, mark string) {
			_, _ = io.WriteString(ch, mark+"\n") // if it fails the next does
			for i := 0; ; i++ {
				if _, err := fmt.Fprintf(ch, "A:hand%d:%d:crew:no:/h:/bin/sh:\nA:mate%d:%d:crew:no:/h:/bin/sh:\n", i, i, i, i); err != nil {
					return
				}
			}
		}, "the most that is read"},
	} {
		t.Run(name, func(t *testing.T) {
			key := signer(t)
			address := sshServer(t, func(ch ssh.Channel) {
				b := make([]byte, 200)
				n, _ := ch.Read(b) // what cannot be read is no mark
				mark, _, _ := strings.Cut(strings.TrimPrefix(string(b[:n]), "echo "), "\n")
				go io.Copy(io.Discard, ch)
				c.talk(ch, mark)
			}, key)
			s := connecttest.Open(t, host.Connector{}, connect.Access{Target: "endless", Address: address, As: "root",
				Secret: ours.Private, Key: line(key),
				Wait: 30 * time.Second})
			if err := s.Survey(context.Background(), func(model.Object) error { return nil }); err == nil ||
				!strings.Contains(err.Error(), c.want) {
				t.Errorf("%v", err)
			}
		})
	}
}

// A host shows a certificate: who signed it is what counts, for whom, and until when.
func TestHostCertificates(t *testing.T) {
	t.Parallel()
	ours, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	authority, other := signer(t), signer(t)
	certified := func(by ssh.Signer, until time.Duration, names ...string) ssh.Signer {
		key := signer(t)
		cert := &ssh.Certificate{Key: key.PublicKey(), CertType: ssh.HostCert, ValidPrincipals: names,
			ValidAfter: uint64(time.Now().Add(-time.Hour).Unix()), ValidBefore: uint64(time.Now().Add(until).Unix())}
		if err := cert.SignCert(rand.Reader, by); err != nil {
			t.Fatal(err)
		}
		s, err := ssh.NewCertSigner(cert, key)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for name, c := range map[string]struct {
		key  ssh.Signer
		want string
	}{
		"by its name":      {certified(authority, time.Hour, "arctic-tern"), ""},
		"by its address":   {certified(authority, time.Hour, "127.0.2.14"), ""},
		"of another":       {certified(authority, time.Hour, "sooty-tern"), "does not hold for it"},
		"run out":          {certified(authority, -time.Minute, "arctic-tern"), "does not hold for it"},
		"by somebody else": {certified(other, time.Hour, "arctic-tern"), "was signed by"},
		"a bare key":       {signer(t), "and no certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			address := sshServer(t, func(ch ssh.Channel) { ch.Close() }, c.key)
			s, err := host.Connector{}.Open(context.Background(), connect.Access{Target: "arctic-tern", Address: address, As: "root",
				Secret: ours.Private, Settings: map[string]string{"host-authority": line(authority)}, Wait: 5 * time.Second})
			if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
				t.Errorf("%v, want %q", err, c.want)
			}
			if s != nil {
				s.Close()
			}
		})
	}
}

// A power cut in the middle of a batch leaves files that are whole, and nobody with more than before; the same batch
// once more does what is left.
func TestPowerCut(t *testing.T) {
	t.Parallel()
	disk := t.TempDir()
	if err := os.Chmod(disk, 0o755); err != nil {
		t.Fatal(err)
	}
	key, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	h, err := world.StartHost(context.Background(), filepath.Join(disk, "log"), "arctic-tern", "127.0.2.11", "", key,
		"HOST_DISK="+filepath.Join(disk, "host"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if h.Running() {
			h.Stop()
		}
	})
	a := connecttest.Accept(t, host.Connector{}, connect.Access{Target: "arctic-tern", Address: h.Address, As: "root",
		Secret: key.Private, Wait: 10 * time.Second})
	acts := many(60, 0)
	for round, pause := range []time.Duration{30, 60, 90, 120, 150, 180, 220, 260} { // milliseconds; some fall into the writing
		s := connecttest.Open(t, host.Connector{}, a)
		done := make(chan struct{})
		go func() { connecttest.Apply(s, acts); close(done) }()
		time.Sleep(pause * time.Millisecond)
		h.Stop()
		<-done
		if err := h.Start(context.Background()); err != nil {
			t.Fatal(err)
		}
		a = connecttest.Accept(t, host.Connector{}, connect.Access{Target: "arctic-tern", Address: h.Address, As: "root",
			Secret: key.Private,
			Wait:   10 * time.Second})
		// What stands in the other files and not yet in passwd is nobody's; an account in passwd has its line everywhere.
		out, err := h.Exec("pwck -qr 2>&1 | grep -e invalid -e 'entry in /etc/shadow'; grpck -r 2>&1 | grep -e invalid; " +
			"awk -F: 'NF != 7' /etc/passwd; awk -F: 'NF != 9' /etc/shadow; awk -F: 'NF != 4' /etc/group")
		if err != nil || strings.TrimSpace(out) != "" {
			t.Errorf("cut after %d ms (%d): %s %v", pause, round, out, err)
		}
	}
	for i := range acts {
		acts[i].Again = true // tried, with an unknown end
	}
	apply(t, connecttest.Open(t, host.Connector{}, a), connect.Done, acts...)
	if out := exec(t, h, "pwck -qr; grpck -r; ls /etc/*.lock /etc/*+ 2>/dev/null; grep -c ^hand /etc/passwd; ls "+
		"/home/hand.059/.ssh"); out != "60\nauthorized_keys" {
		t.Errorf("%s", out)
	}
}
