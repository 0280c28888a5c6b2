package test

import (
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/demo/world"
	"hen-roost/internal/service/life"
)

// A bosun's laptop is lost: she is thrown out of where she is signed in and shut out everywhere but on the vessel
// that is at sea; it comes back, and she is shut out there too. Then it is found.
func TestCutOff(t *testing.T) {
	d := prepared(t)
	key, err := world.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(key.Private)
	if err != nil {
		t.Fatal(err)
	}
	public := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	must(t, d, "edit", "users", "bjorn.aasen", "--set", "keys="+public, "--because", "a new laptop", "--yes")
	must(t, d, "draft", "--because", "spring deck crew")
	must(t, d, "approve", "1")
	must(t, d, "run", "1")
	signIn := func(host string) (*ssh.Client, error) {
		return ssh.Dial("tcp", d.Hosts[host].Address, &ssh.ClientConfig{User: "bjorn.aasen", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
			HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 20 * time.Second})
	}
	laptop, err := signIn("arctic-tern")
	if err != nil {
		t.Fatal(err)
	}
	defer laptop.Close()
	s, err := laptop.NewSession()
	if err == nil {
		err = s.Start("exec sleep 600")
	}
	if err != nil {
		t.Fatal(err)
	}
	gone := make(chan error, 1)
	go func() { gone <- laptop.Wait() }()

	atSea := signalSSHD(t, d, "little-tern", syscall.SIGSTOP)
	out := expect(t, d, 4, "4 of 5 accounts are shut. 1 still open: tried again until shut.",
		"suspend", "bjorn.aasen", "--because", "laptop lost", "--security")
	for _, want := range []string{"still open", "1 ended", "the directory refuses it: Account locked", "Your account has expired",
		"it took the connection but said nothing"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q: %s", want, out)
		}
	}
	select {
	case <-gone:
	case <-time.After(10 * time.Second):
		t.Error("she is still signed in")
	}
	if c, err := signIn("sooty-tern"); err == nil {
		c.Close()
		t.Error("she signs in where she is shut out")
	}
	expect(t, d, 0, "Nothing differs on sooty-tern of bjorn.aasen.", "drift", "--user", "bjorn.aasen", "--target", "sooty-tern")
	atSea(syscall.SIGCONT)
	var last life.Suspension
	await(t, "the vessel that was at sea", func() bool {
		last = decode[life.Suspension](t, must(t, d, "suspension", "show", "1", "-o", "json"))
		return last.Tally[life.Shut] == 5
	})
	if c, err := signIn("little-tern"); err == nil {
		c.Close()
		t.Error("she signs in on the vessel that was at sea")
	}
	expect(t, d, 0, "still open: account bjorn.aasen", "record", "--user", "bjorn.aasen", "--size", "1000")
	expect(t, d, 0, "in force", "suspension", "list", "--in-force")

	// Somebody else cannot end it alone.
	profile := filepath.Join(t.TempDir(), "jo.json")
	const password = "a long enough password"
	if out, said, code := roost(t, d.Profile, password+"\n", "operator", "add", "jo.moreau", "--duties", "restore", "--password-file",
		"-"); code != 0 {
		t.Fatal(out, said)
	}
	if out, said, code := roost(t, profile, password, "sign-in", d.Server.Address, "--operator", "jo.moreau", "--password-file", "-",
		"--fingerprint", d.Server.Print); code != 0 {
		t.Fatal(out, said)
	}
	if out, said, code := roost(t, profile, "", "restore", "bjorn.aasen", "--because", "it is mine"); code != 0 ||
		!strings.Contains(out, "somebody else must want it too") {
		t.Errorf("%d %s %s", code, out, said)
	}
	if _, said, code := roost(t, profile, "", "suspend", "marit.fell", "--because", "x"); code != 1 || !strings.Contains(said, "duty") {
		t.Errorf("who may restore suspends: %d %s", code, said)
	}
	expect(t, d, 0, "is complete: 5 done", "restore", "bjorn.aasen", "--because", "laptop found")
	c, err := signIn("little-tern")
	if err != nil {
		t.Fatalf("she is not let in again: %v", err)
	}
	c.Close()
	expect(t, d, 0, "Nothing differs of bjorn.aasen.", "drift", "--user", "bjorn.aasen")
}
