package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hen-roost/internal/client"
	"hen-roost/internal/demo/world"
)

// The large company as its administrators meet it: a declaration in twenty
// files, a directory and a host that are real, and a service that is a process
// of its own, spoken to through its command line and its API.
var (
	largeUsers  = sized(100_000)
	largeGroups = 2_000
	largeRoles  = 300
	largeFiles  = 20
	largeOnHost = sized(20_000) // accounts there
	largeSilent = sized(36)     // targets that take a connection and say nothing
	largeFound  = sized(14_000) // accounts that nobody declared, on each of two hosts
	largePools  = sized(200)    // groups of the directory that nobody declared
)

// large is that company, running.
type large struct {
	dir     string
	binary  string
	files   string // folder of the declaration
	profile string // the operator's sign-in
	data    string // of the service
	d       *world.Directory
	hosts   []*world.Host
	silent  []net.Listener
	serve   *exec.Cmd
	address string
	print   string
	client  *client.Client
}

// wouldDiffer is the one in a hundred whose entry or account is otherwise than declared.
func wouldDiffer(i int) bool { return i%100 == 7 }

// largeNumber is somebody's; those on the host have one that people's accounts have there.
func largeNumber(i int) int {
	if onHost(i) {
		return 10_000 + i*largeOnHost/largeUsers
	}
	return 100_000 + i
}

func onHost(i int) bool { return i%(largeUsers/largeOnHost) == 0 }

// largePeople writes the users, in so many files.
func largePeople() map[string]string {
	out := map[string]string{}
	bases := []string{"northquay", "southness"}
	for f := range largeFiles {
		var b strings.Builder
		b.WriteString("roost: 1\nusers:\n")
		for i := f * largeUsers / largeFiles; i < (f+1)*largeUsers/largeFiles; i++ {
			roles := fmt.Sprintf("role-%d", 1+i%(largeRoles-3))
			if i%2 == 0 {
				roles += ", deck"
			}
			if onHost(i) {
				roles += ", ashore"
			}
			fmt.Fprintf(&b, "  hand.%06d:\n    name: \"Åse Hand %d\"\n    given: Åse\n    family: Hand %d\n    number: %d\n    mail: "+
				"${user.id}@${params.domain}\n    details: {base: %s}\n    roles: [%s]\n", i, i, i, largeNumber(i), bases[i%2], roles)
		}
		out[fmt.Sprintf("people-%02d.yaml", f)] = b.String()
	}
	return out
}

// largeRest writes groups, roles and targets. Everybody holds the role named
// everyone, which gives the directory and what more is said.
func (l *large) largeRest(everyone, more string) string {
	var b strings.Builder
	b.WriteString("roost: 1\nparams: {domain: ternsound.example}\ngroups:\n  crew: {about: All on deck}\n")
	for i := range largeGroups - 1 {
		fmt.Fprintf(&b, "  group-%d: {about: Group %d}\n", i, i)
	}
	fmt.Fprintf(&b, "roles:\n  %s:\n    held-when: \"!user.service\"\n    gives:\n      - at: staff-directory\n        account: "+
		"{home: \"/home/${user.id}\", shell: /bin/bash}\n%s", everyone, more)
	b.WriteString("  deck: {gives: [{at: staff-directory, groups: [crew]}]}\n  ashore: {gives: [{at: northquay, account: {home: " +
		"\"/home/${user.id}\", shell: /bin/bash}}]}\n")
	for i := 1; i <= largeRoles-3; i++ {
		fmt.Fprintf(&b, "  role-%d:\n    about: Role %d\n    gives:\n      - {at: staff-directory, groups: [group-%d]}\n      "+
			"- {at: vessel-%02d, account: {shell: /bin/bash}, groups: [group-%d]}\n", i, i, i, i%largeSilent, 300+i*5)
	}
	fmt.Fprintf(&b, "targets:\n  staff-directory: {kind: directory, address: %q, login: {as: %q, secret: directory-password}, settings: "+
		"{people: %q, groups: %q}}\n", l.d.Address, world.Login, people, groups)
	for _, h := range l.hosts {
		fmt.Fprintf(&b, "  %s: {kind: host, address: %q, login: {as: root, secret: vessel-key}}\n", h.Name, h.Address)
	}
	for i, s := range l.silent {
		fmt.Fprintf(&b, "  vessel-%02d: {kind: host, address: %q, login: {as: root, secret: vessel-key}}\n", i, s.Addr())
	}
	return b.String()
}

// largeLDIF is what the directory holds.
func largeLDIF() string {
	var b strings.Builder
	members := map[string][]int{}
	for i := range largeUsers {
		shell := "/bin/bash"
		if wouldDiffer(i) {
			shell = "/bin/sh"
		}
		fmt.Fprintf(&b, "dn: uid=hand.%06[1]d,%[2]s\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: hand.%06[1]d\ncn: Åse "+
			"Hand %[1]d\nsn: Hand %[1]d\ngivenName: Åse\nmail: hand.%06[1]d@ternsound.example\nuidNumber: %[3]d\ngidNumber: 100\n"+
			"homeDirectory: /home/hand.%06[1]d\nloginShell: %[4]s\n\n", i, people, largeNumber(i), shell)
		if i%2 == 0 {
			members["crew"] = append(members["crew"], i)
		}
		role := fmt.Sprintf("group-%d", 1+i%(largeRoles-3))
		members[role] = append(members[role], i)
		if i < 50*largePools {
			pool := fmt.Sprintf("pool-%d", i%largePools)
			members[pool] = append(members[pool], i)
		}
	}
	for g, list := range members {
		fmt.Fprintf(&b, "dn: cn=%s,%s\nobjectClass: groupOfNames\ncn: %s\n", g, groups, g)
		for _, i := range list {
			fmt.Fprintf(&b, "member: uid=hand.%06d,%s\n", i, people)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// startLarge starts the company's systems and its service, with nothing declared yet.
func startLarge(ctx context.Context, w *workbench) (_ *large, err error) {
	l := &large{dir: w.dir, binary: w.binary, files: filepath.Join(w.dir, "declaration"), data: filepath.Join(w.dir, "service"),
		profile: filepath.Join(w.dir, "sign-in.json")}
	w.later(l.stop)
	key, err := world.NewKey()
	if err != nil {
		return l, err
	}
	if l.d, err = world.StartDirectory(ctx, filepath.Join(w.dir, "directory"), "127.0.4.101", "", false, world.WithoutSync); err != nil {
		return l, err
	}
	if err := l.d.LoadOffline(ctx, largeLDIF()); err != nil {
		return l, err
	}
	setup := fmt.Sprintf(`awk 'BEGIN { for (i = 0; i < %[1]d; i += %[2]d) {
		printf "hand.%%06d:x:%%d:100:Åse Hand %%d:/home/hand.%%06d:%%s\n", i, 10000+i/%[2]d, i, i,
			i %% 500 == 0 ? "/bin/sh" : "/bin/bash" >>"/etc/passwd"
		printf "hand.%%06d:!:19000:0:99999:7:::\n", i >>"/etc/shadow" } }'`+"\n", largeUsers, largeUsers/largeOnHost)
	found := fmt.Sprintf(`awk 'BEGIN { for (i = 0; i < %d; i++) {
		printf "found%%d:x:%%d:100:Found %%d:/home/found%%d:/bin/sh\n", i, 2000+i, i, i >>"/etc/passwd"
		printf "found%%d:!:19000:0:99999:7:::\n", i >>"/etc/shadow" } }'`+"\n", largeFound)
	for i, name := range []string{"northquay", "little-tern", "sooty-tern"} {
		if i > 0 {
			setup = found
		}
		h, err := world.StartHost(ctx, filepath.Join(w.dir, "hosts"), name, fmt.Sprintf("127.0.2.%d", 200+i), setup, key)
		if err != nil {
			return l, err
		}
		l.hosts = append(l.hosts, h)
	}
	for i := range largeSilent {
		s, err := net.Listen("tcp", fmt.Sprintf("127.0.5.%d:0", 1+i))
		if err != nil {
			return l, err
		}
		l.silent = append(l.silent, s)
	}
	if err := os.MkdirAll(l.files, 0o755); err != nil {
		return l, err
	}
	for name, text := range largePeople() {
		if err := os.WriteFile(filepath.Join(l.files, name), []byte(text), 0o644); err != nil {
			return l, err
		}
	}
	if err := l.write("everyone", ""); err != nil {
		return l, err
	}
	if err := l.start(); err != nil {
		return l, err
	}
	return l, l.signIn(ctx, key)
}

// write lays the declaration's other file out.
func (l *large) write(everyone, more string) error {
	return os.WriteFile(filepath.Join(l.files, "company.yaml"), []byte(l.largeRest(everyone, more)), 0o644)
}

// start starts the service's process and waits until it says that it is ready.
func (l *large) start() error {
	l.serve = exec.Command(l.binary, "serve", "--data", l.data, "--listen", "127.0.0.1:0", "--log-level", "warn")
	l.serve.Env = append(os.Environ(), "ROOST_PATIENCE=5s")
	l.serve.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	said, err := l.serve.StderrPipe()
	if err != nil {
		return err
	}
	if err := l.serve.Start(); err != nil {
		return err
	}
	ready := make(chan error, 1)
	go func() {
		var line []byte
		one := make([]byte, 1)
		for told := false; ; {
			if _, err := said.Read(one); err != nil {
				ready <- fmt.Errorf("the service ended: %s", line)
				return
			}
			if line = append(line, one[0]); one[0] != '\n' {
				continue
			}
			if _, err := fmt.Sscanf(string(line), "ready %s certificate %s", &l.address, &l.print); err == nil && !told {
				told = true
				ready <- nil
			} else if !strings.Contains(string(line), "level=INFO") {
				os.Stderr.Write(append([]byte("# service: "), line...))
			}
			line = nil
		}
	}()
	return <-ready
}

// halt stops the service in good order.
func (l *large) halt() error {
	if err := l.serve.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return l.serve.Wait()
}

func (l *large) stop() {
	if l.serve != nil && l.serve.ProcessState == nil {
		_ = l.halt()
	}
	for _, h := range l.hosts {
		h.Stop()
	}
	if l.d != nil {
		l.d.Stop()
	}
	for _, s := range l.silent {
		s.Close()
	}
}

// signIn makes the operator, signs in, and seals the secrets.
func (l *large) signIn(ctx context.Context, key world.Key) error {
	word := filepath.Join(l.dir, "word")
	if err := os.WriteFile(word, []byte(strings.ToLower(rand.Text())), 0o600); err != nil {
		return err
	}
	if out, err := exec.Command(l.binary, "operator", "first", "odd.strand", "--name", "Odd Strand", "--data", l.data, "--password-file",
		word).CombinedOutput(); err != nil {
		return fmt.Errorf("first operator: %w: %s", err, out)
	}
	password, err := os.ReadFile(word)
	if err != nil {
		return err
	}
	var who struct {
		Secret string `json:"secret"`
	}
	in := map[string]string{"name": "odd.strand", "password": string(password), "token": "bench"}
	if err := client.New(l.address, "", l.print).Send(ctx, http.MethodPost, "/session", in, &who); err != nil {
		return err
	}
	l.client = client.New(l.address, who.Secret, l.print)
	for name, value := range map[string][]byte{"vessel-key": key.Private, "directory-password": []byte(l.d.Password)} {
		if err := l.client.Send(ctx, http.MethodPut, "/secrets/"+name, map[string]any{"value": value}, nil); err != nil {
			return err
		}
	}
	return l.keep()
}

// keep writes the sign-in down for the command line.
func (l *large) keep() error {
	b, err := json.Marshal(map[string]string{"server": l.address, "operator": "odd.strand", "token": l.client.Token,
		"fingerprint": l.print})
	if err != nil {
		return err
	}
	l.client = client.New(l.address, l.client.Token, l.print)
	return os.WriteFile(l.profile, b, 0o600)
}

// roost runs the command line as a person does, a process from its start to its
// end, and returns what it printed and how long it took. Drift (exit status 3)
// is no error here.
func (l *large) roost(args ...string) (string, float64, error) {
	cmd := exec.Command(l.binary, args...)
	cmd.Env = append(os.Environ(), "ROOST_PROFILE="+l.profile)
	var out, told bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &told
	began := time.Now()
	err := cmd.Run()
	took := time.Since(began).Seconds()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 3 {
		err = nil
	}
	if err != nil {
		err = fmt.Errorf("roost %s: %w: %s%s", strings.Join(args, " "), err, clipped(out.String()), clipped(told.String()))
	}
	return out.String() + told.String(), took, err
}

func clipped(s string) string { return s[:min(len(s), 600)] }

// peak is the most memory that the service has taken since it was last asked, in MB.
func (l *large) peak() float64 { return peakOf(fmt.Sprint(l.serve.Process.Pid)) }

// peakOf is the most memory that a process has taken since it was last asked, in MB.
func peakOf(process string) float64 {
	dir := "/proc/" + process + "/"
	b, err := os.ReadFile(dir + "status")
	if err != nil {
		return 0
	}
	_ = os.WriteFile(dir+"clear_refs", []byte("5"), 0)
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			return float64(kb) / 1024
		}
	}
	return 0
}

// onDisk is what the service's database takes, its log for crashes apart, in MB.
func (l *large) onDisk() float64 {
	var sum int64
	_ = filepath.WalkDir(filepath.Join(l.data, "db", "data"), func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasPrefix(e.Name(), "ib_logfile") {
			return nil
		}
		if info, err := e.Info(); err == nil {
			sum += info.Size()
		}
		return nil
	})
	return float64(sum) / 1e6
}

// largest prints the files that take most.
func (l *large) largest() {
	_ = filepath.WalkDir(filepath.Join(l.data, "db", "data"), func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		if info, err := e.Info(); err == nil && info.Size() > 20e6 {
			fmt.Printf("# %s %.0f MB\n", e.Name(), float64(info.Size())/1e6)
		}
		return nil
	})
}
