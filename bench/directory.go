package main

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

var many = sized(100_000)

var (
	people = "ou=People," + world.Suffix
	groups = "ou=Groups," + world.Suffix
)

type bigDirectory struct {
	d      *world.Directory
	access connect.Access
	memory float64 // MB at the most, of the process that read it
}

func directory(ctx context.Context, w *workbench, name, entries string, durable bool) (*world.Directory, connect.Access, error) {
	d, err := world.StartDirectory(ctx, filepath.Join(w.dir, name), "127.0.4.100", entries, durable)
	if err != nil {
		return nil, connect.Access{}, err
	}
	w.later(d.Stop)
	a := connect.Access{Target: name, Address: d.Address, As: world.Login, Secret: []byte(d.Password), Wait: time.Minute,
		Settings: map[string]string{"people": people, "groups": groups}}
	_, err = ldap.Connector{}.Open(ctx, a)
	if k, ok := err.(*connect.KeyError); ok {
		a.Key = k.Offered
		err = nil
	}
	return d, a, err
}

// hundredThousand starts a directory with that many people, once.
func (w *workbench) hundredThousand(ctx context.Context) (*bigDirectory, error) {
	if w.big != nil {
		return w.big, nil
	}
	var b strings.Builder
	for i := range many {
		fmt.Fprintf(&b, "dn: uid=hand.%06[1]d,%[2]s\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: hand.%06[1]d\ncn: Hand "+
			"Number %[1]d\nsn: Number %[1]d\ngivenName: Hand\nmail: hand.%06[1]d@ternsound.example\nuidNumber: %[3]d\ngidNumber: "+
			"%[3]d\nhomeDirectory: /home/hand.%06[1]d\nloginShell: /bin/bash\n\n", i, people, 100_000+i)
	}
	d, a, err := directory(ctx, w, "big", "", false)
	if err != nil {
		return nil, err
	}
	if err := d.LoadOffline(ctx, b.String()); err != nil {
		return nil, err
	}
	w.big = &bigDirectory{d: d, access: a}
	return w.big, nil
}

// directoryRead: a whole process that reads 100,000 entries into observations
// and keeps them all, against ldapsearch in pages of 1,000 for the same attributes.
func directoryRead(ctx context.Context, w *workbench) (float64, float64, error) {
	big, err := w.hundredThousand(ctx)
	if err != nil {
		return 0, 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	access, err := json.Marshal(big.access)
	if err != nil {
		return 0, 0, err
	}
	file := filepath.Join(w.dir, "access.json")
	if err := os.WriteFile(file, access, 0o600); err != nil {
		return 0, 0, err
	}
	password := filepath.Join(w.dir, "password")
	if err := os.WriteFile(password, big.access.Secret, 0o600); err != nil {
		return 0, 0, err
	}
	return pair(5, func(int) error {
		cmd := exec.Command(self, "-read-directory", file)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		big.memory = float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
		return nil
	}, func(int) error {
		cmd := exec.Command("ldapsearch", "-LLL", "-x", "-H", "ldaps://"+big.access.Address, "-D", big.access.As, "-y", password, "-E",
			"pr=1000/noprompt", "-b", people, "(&(objectClass=inetOrgPerson)(uid=*))",
			"uid", "cn", "givenName", "sn", "mail", "uidNumber", "gidNumber", "homeDirectory", "loginShell", "pwdAccountLockedTime",
			"entryUUID", "objectClass")
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+big.d.Authority())
		return cmd.Run()
	})
}

// readDirectory is the process that directoryRead starts.
func readDirectory(ctx context.Context, file string) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var a connect.Access
	if err := json.Unmarshal(b, &a); err != nil {
		return err
	}
	s, err := ldap.Connector{}.Open(ctx, a)
	if err != nil {
		return err
	}
	defer s.Close()
	seen := make([]model.Object, 0, many)
	if err := s.Survey(ctx, func(o model.Object) error {
		if o.Kind == model.Account { // there are its tree and itself too
			seen = append(seen, o)
		}
		return nil
	}); err != nil {
		return err
	}
	if len(seen) != many {
		return fmt.Errorf("%d entries", len(seen))
	}
	return nil
}

// directoryMemory: what that process took at the most, against the promised 300 MB.
func directoryMemory(ctx context.Context, w *workbench) (float64, float64, error) {
	if w.big == nil || w.big.memory == 0 {
		if _, _, err := directoryRead(ctx, w); err != nil {
			return 0, 0, err
		}
	}
	return w.big.memory, 300, nil
}

var adds = sized(2000)

// directoryAdd: two thousand entries added, each looked for before and read
// back, against a bare connection with eight requests under way.
func directoryAdd(ctx context.Context, w *workbench) (float64, float64, error) {
	_, a, err := directory(ctx, w, "add", "", true)
	if err != nil {
		return 0, 0, err
	}
	return pair(3, func(round int) error {
		acts := make([]connect.Act, adds)
		for i := range acts {
			n := fmt.Sprint(10_000 + round*adds + i)
			acts[i] = connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account, Name: "ours." + n,
				Changes: []model.Change{
					{Attribute: model.Number, After: []string{n}}, {Attribute: model.FullName, After: []string{"Hand " + n}},
					{Attribute: "shell", After: []string{"/bin/bash"}}}}}
		}
		s, err := ldap.Connector{}.Open(ctx, a)
		if err != nil {
			return err
		}
		defer s.Close()
		for _, answer := range connect.Apply(ctx, s, acts) {
			if answer.Outcome != connect.Done {
				return fmt.Errorf("%s: %s", answer.Outcome, answer.Words)
			}
		}
		return nil
	}, func(round int) error { return bareAdd(a, round) })
}

// dialBare signs in with nothing of ours between.
func dialBare(a connect.Access) (*goldap.Conn, error) {
	c, err := goldap.DialURL("ldaps://"+a.Address, goldap.DialWithTLSConfig(&tls.Config{InsecureSkipVerify: true}))
	if err != nil {
		return nil, err
	}
	if err := c.Bind(a.As, string(a.Secret)); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func bareAdd(a connect.Access, round int) error {
	c, err := dialBare(a)
	if err != nil {
		return err
	}
	defer c.Close()
	var wg sync.WaitGroup
	queue, errs := make(chan int), make(chan error, adds)
	for range 8 {
		wg.Go(func() {
			for i := range queue {
				n := fmt.Sprint(500_000 + round*adds + i)
				r := goldap.NewAddRequest("uid=bare."+n+","+people, nil)
				for name, value := range map[string]string{"uid": "bare." + n, "cn": "Hand " + n, "sn": n, "uidNumber": n, "gidNumber": n,
					"homeDirectory": "/home/" + n, "loginShell": "/bin/bash"} {
					r.Attribute(name, []string{value})
				}
				r.Attribute("objectClass", []string{"inetOrgPerson", "posixAccount"})
				if err := c.Add(r); err != nil {
					errs <- err
				}
			}
		})
	}
	for i := range adds {
		queue <- i
	}
	close(queue)
	wg.Wait()
	close(errs)
	return <-errs
}
