package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/work"
)

const sideBySide = 12

// fleet starts n hosts with so many accounts each.
func fleet(ctx context.Context, w *workbench, n, each int) ([]connect.Access, error) {
	n = sized(n)
	key, err := world.NewKey()
	if err != nil {
		return nil, err
	}
	setup := fmt.Sprintf("for i in $(seq %d); do echo \"found$i:x:$((2000+i)):100:Found $i:/home/found$i:/bin/sh\" >>/etc/passwd; echo "+
		"\"found$i:!:19000:0:99999:7:::\" >>/etc/shadow; done\n", each)
	out := make([]connect.Access, n)
	errs := make([]error, n)
	var wg sync.WaitGroup
	for i := range n {
		wg.Go(func() {
			h, err := world.StartHost(ctx, filepath.Join(w.dir, "hosts"), fmt.Sprintf("h%d", i), fmt.Sprintf("127.0.2.%d", 100+i), setup,
				key)
			if err != nil {
				errs[i] = err
				return
			}
			w.later(h.Stop)
			a := connect.Access{Target: h.Name, Address: h.Address, As: "root", Secret: key.Private}
			for range 5 { // twenty hosts starting at once on two cores do not all answer in time
				_, err = host.Connector{}.Open(ctx, a)
				if k, ok := err.(*connect.KeyError); ok {
					a.Key = k.Offered
					break
				}
			}
			if a.Key == "" {
				errs[i] = err
			}
			out[i] = a
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// bareExec is a connection and one exec by the same library, and nothing else.
func bareExec(a connect.Access, script string) (string, error) {
	signer, err := ssh.ParsePrivateKey(a.Secret)
	if err != nil {
		return "", err
	}
	raw, err := net.Dial("tcp", a.Address)
	if err != nil {
		return "", err
	}
	c, chans, reqs, err := ssh.NewClientConn(&quick{raw}, a.Address,
		&ssh.ClientConfig{User: a.As, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return "", err
	}
	client := ssh.NewClient(c, chans, reqs)
	defer client.Close()
	s, err := client.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	s.Stdin = strings.NewReader(script)
	var out bytes.Buffer
	s.Stdout = &out
	err = s.Run("/bin/sh -s")
	return out.String(), err
}

// quick acknowledges at once, as our connector does, so that both pay the same.
type quick struct{ net.Conn }

func (q *quick) Read(b []byte) (int, error) {
	if raw, err := q.Conn.(*net.TCPConn).SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1) })
	}
	return q.Conn.Read(b)
}

// surveyHosts: twenty hosts read side by side, against the same connections that only print the files.
func surveyHosts(ctx context.Context, w *workbench) (float64, float64, error) {
	return surveyOf(ctx, w, 20, 7)
}

// surveyOf is that of so many hosts.
func surveyOf(ctx context.Context, w *workbench, n, rounds int) (float64, float64, error) {
	hosts, err := fleet(ctx, w, n, 50)
	if err != nil {
		return 0, 0, err
	}
	all := func(do func(connect.Access) error) error {
		var mu sync.Mutex
		var first error
		work.Each(ctx, hosts, sideBySide, func(_ context.Context, a connect.Access) {
			if err := do(a); err != nil {
				mu.Lock()
				first = err
				mu.Unlock()
			}
		})
		return first
	}
	return pair(rounds, func(int) error {
		return all(func(a connect.Access) error {
			n, err := work.Survey(ctx, host.Connector{}, a, work.Sink{Put: func([]model.Object) error { return nil }})
			if err == nil && n.Accounts != 50 {
				err = fmt.Errorf("%d accounts seen", n.Accounts)
			}
			return err
		})
	}, func(int) error {
		return all(func(a connect.Access) error {
			_, err := bareExec(a, "cat /etc/passwd /etc/group /etc/shadow")
			return err
		})
	})
}

// hundred makes the acts that create a hundred accounts.
func hundred(round int) []connect.Act {
	acts := make([]connect.Act, aHundred)
	for i := range acts {
		acts[i] = connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account, Name: fmt.Sprintf("ours%d.%d", round, i),
			Changes: []model.Change{{Attribute: model.Number, After: []string{fmt.Sprint(3000 + round*100 + i)}},
				{Attribute: model.FullName, After: []string{fmt.Sprintf("Hand %d", i)}},
				{Attribute: "shell", After: []string{"/bin/bash"}}}}}
	}
	return acts
}

func byHand(round, i int) string {
	return fmt.Sprintf("useradd -m -u %d -c 'Hand %d' -s /bin/bash bare%d.%d\n", 13000+round*100+i, i, round, i)
}

func applyHundred(ctx context.Context, a connect.Access, round int) error {
	s, err := host.Connector{}.Open(ctx, a)
	if err != nil {
		return err
	}
	defer s.Close()
	for _, answer := range connect.Apply(ctx, s, hundred(round)) {
		if answer.Outcome != connect.Done {
			return fmt.Errorf("%s: %s", answer.Outcome, answer.Words)
		}
	}
	return nil
}

// accountsScript: a hundred accounts with homes, each read before and read
// back, against one script of the same useradd on a twin of the host.
func accountsScript(ctx context.Context, w *workbench) (float64, float64, error) {
	hosts, err := fleet(ctx, w, 2, 50)
	if err != nil {
		return 0, 0, err
	}
	return pair(5, func(round int) error { return applyHundred(ctx, hosts[0], round) }, func(round int) error {
		var script strings.Builder
		for i := range aHundred {
			script.WriteString(byHand(round, i))
		}
		_, err := bareExec(hosts[1], script.String())
		return err
	})
}

// accountsConnections: the same by hand, the ssh program once for each account.
func accountsConnections(ctx context.Context, w *workbench) (float64, float64, error) {
	hosts, err := fleet(ctx, w, 2, 50)
	if err != nil {
		return 0, 0, err
	}
	key := filepath.Join(w.dir, "key")
	if err := os.WriteFile(key, hosts[1].Secret, 0o600); err != nil {
		return 0, 0, err
	}
	address, port, err := net.SplitHostPort(hosts[1].Address)
	if err != nil {
		return 0, 0, err
	}
	return pair(1, func(round int) error { return applyHundred(ctx, hosts[0], round) }, func(round int) error {
		for i := range aHundred {
			out, err := exec.CommandContext(ctx, "ssh", "-F", "none", "-i", key, "-p", port, "-o", "StrictHostKeyChecking=no", "-o",
				"UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR",
				"root@"+address, byHand(round, i)).CombinedOutput()
			if err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
		}
		return nil
	})
}

// accountsChange: two thousand accounts that exist are adopted and given
// another full name, in batches as a round has them, each read before and read
// back, against one script of the same usermod on a twin of the host.
func accountsChange(ctx context.Context, w *workbench) (float64, float64, error) {
	accounts, batch := sized(2000), min(250, sized(2000))
	hosts, err := fleet(ctx, w, 2, accounts)
	if err != nil {
		return 0, 0, err
	}
	before := func(round, i int) string {
		if round == 0 {
			return fmt.Sprintf("Found %d", i)
		}
		return fmt.Sprintf("Hand %d of %d", i, round)
	}
	return pair(3, func(round int) error {
		s, err := host.Connector{}.Open(ctx, hosts[0])
		if err != nil {
			return err
		}
		defer s.Close()
		for from := 0; from < accounts; from += batch {
			var acts []connect.Act
			for i := from + 1; i <= from+batch; i++ {
				name := fmt.Sprintf("found%d", i)
				acts = append(acts, connect.Act{Stage: 1, Act: model.Act{Verb: model.AdoptIt, Object: model.Account, Name: name, User: name,
					Changes: []model.Change{{Attribute: model.Owner, Before: []string{"nobody"}, After: []string{name}}}}},
					connect.Act{Stage: 2, Act: model.Act{Verb: model.Modify, Object: model.Account, Name: name, User: name,
						Changes: []model.Change{{Attribute: model.FullName, Before: []string{before(round, i)},
							After: []string{before(round+1, i)}}}}})
			}
			for _, answer := range connect.Apply(ctx, s, acts) {
				if answer.Outcome != connect.Done {
					return fmt.Errorf("%s: %s", answer.Outcome, answer.Words)
				}
			}
		}
		return nil
	}, func(round int) error {
		var script strings.Builder
		for i := 1; i <= accounts; i++ {
			fmt.Fprintf(&script, "usermod -c '%s' found%d\n", before(round+1, i), i)
		}
		_, err := bareExec(hosts[1], script.String())
		return err
	})
}
