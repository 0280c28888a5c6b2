// Package world starts the real systems of the sample world on loopback: hosts
// (sshd with the system's own account tools, each in namespaces of its own) and
// a directory (slapd with TLS). The demo, the tests and the benchmarks use it.
// It needs root, for the namespaces.
package world

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	_ "embed"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
)

//go:embed host.sh
var hostScript string

//go:embed small.sh
var smallScript string

// ErrNotRoot says that namespaces cannot be made.
var ErrNotRoot = errors.New("the sample hosts live in namespaces, which only root can make: run this as root")

// Key is a key pair that hosts accept for root.
type Key struct {
	Private []byte // PEM
	Public  string // one line, as in authorized_keys
}

// NewKey makes a key pair.
func NewKey() (Key, error) {
	pub, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return Key{}, err
	}
	block, err := ssh.MarshalPrivateKey(priv, "hen-roost")
	if err != nil {
		return Key{}, err
	}
	p, err := ssh.NewPublicKey(pub)
	if err != nil {
		return Key{}, err
	}
	return Key{pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p))) + " hen-roost"}, nil
}

// Host is a running host.
type Host struct {
	Name    string
	Address string
	dir     string
	ip      string
	port    int
	key     Key
	script  string
	setup   string
	env     []string
	cmd     *exec.Cmd
	gone    chan struct{}
}

// StartHost starts a host at an address of loopback, with a port of its own,
// after running setup (shell, as root) in it. dir holds its log.
func StartHost(ctx context.Context, dir, name, ip, setup string, key Key, env ...string) (*Host, error) {
	return startHost(ctx, hostScript, dir, name, ip, setup, key, env...)
}

// StartSmallHost starts one that has busybox's tools alone, and another ssh server.
func StartSmallHost(ctx context.Context, dir, name, ip, setup string, key Key, env ...string) (*Host, error) {
	return startHost(ctx, smallScript, dir, name, ip, setup, key, env...)
}

func startHost(ctx context.Context, script, dir, name, ip, setup string, key Key, env ...string) (*Host, error) {
	if os.Geteuid() != 0 {
		return nil, ErrNotRoot
	}
	port, err := freePort(ip)
	if err != nil {
		return nil, err
	}
	h := &Host{Name: name, Address: net.JoinHostPort(ip, strconv.Itoa(port)), dir: dir, ip: ip, port: port, key: key, script: script,
		setup: setup, env: env}
	return h, h.Start(ctx)
}

func freePort(ip string) (int, error) {
	l, err := net.Listen("tcp", ip+":0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Start starts the host anew, as it was found.
func (h *Host) Start(ctx context.Context) error {
	if err := os.MkdirAll(h.dir, 0o755); err != nil {
		return err
	}
	script, setup := filepath.Join(h.dir, h.Name+".start"), filepath.Join(h.dir, h.Name+".found")
	if err := errors.Join(os.WriteFile(script, []byte(h.script), 0o644), os.WriteFile(setup, []byte(h.setup), 0o644)); err != nil {
		return err
	}
	log, err := os.Create(h.LogFile())
	if err != nil {
		return err
	}
	defer log.Close()
	// The folder may lie under /tmp, which the host hides: the scripts are handed over before.
	h.cmd = exec.Command("unshare", "-m", "-u", "-p", "-f", "--kill-child", "--mount-proc", "--propagation", "private",
		"sh", "-c", `exec 3<"$1" 4<"$2"; shift 2; exec sh /dev/fd/3 "$@" /dev/fd/4`, "sh", script, setup, h.Name, h.ip,
		strconv.Itoa(h.port))
	h.cmd.Env = append([]string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8", "MGMT_KEY=" + h.key.Public}, h.env...)
	h.cmd.Stdout, h.cmd.Stderr = log, log
	h.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	if err := h.cmd.Start(); err != nil {
		return err
	}
	h.gone = make(chan struct{})
	go func() {
		_ = h.cmd.Wait()
		close(h.gone)
	}()
	return awaitPort(ctx, h.Address, h.gone, h.LogFile())
}

// Away has the host take connections and say nothing, as one that is far away does, or answer again.
func (h *Host) Away(away bool) error {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", h.PID(), h.PID()))
	if err != nil {
		return err
	}
	sshd, err := strconv.Atoi(strings.Fields(string(b) + " none")[0])
	if err != nil {
		return fmt.Errorf("%s: its sshd is not running", h.Name)
	}
	return syscall.Kill(sshd, map[bool]syscall.Signal{true: syscall.SIGSTOP, false: syscall.SIGCONT}[away])
}

// LogFile is where the host's sshd writes.
func (h *Host) LogFile() string { return filepath.Join(h.dir, h.Name+".log") }

// PID is the process whose end ends the host.
func (h *Host) PID() int { return h.cmd.Process.Pid }

// Exec runs a shell script inside the host, beside sshd, and returns what it printed.
func (h *Host) Exec(script string) (string, error) {
	cmd, err := h.Command(context.Background(), "sh", "-c", script)
	if err != nil {
		return "", err
	}
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// Command is a program that runs inside the host, beside sshd, once it is started.
func (h *Host) Command(ctx context.Context, words ...string) (*exec.Cmd, error) {
	child, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", h.PID(), h.PID()))
	if err != nil {
		return nil, err
	}
	enter := []string{"-t", strings.Fields(string(child))[0], "-m", "-u", "-p"}
	return exec.CommandContext(ctx, "nsenter", append(enter, words...)...), nil
}

// Stop ends the host and all that runs in it. Its port is free when it returns, so that it can be started anew.
func (h *Host) Stop() {
	_ = h.cmd.Process.Kill()
	<-h.gone
	for range 500 { // what runs in it ends a moment later than what holds it together
		c, err := net.DialTimeout("tcp", h.Address, time.Second)
		if err != nil {
			return
		}
		c.Close()
		time.Sleep(10 * time.Millisecond)
	}
}

// awaitPort waits until something listens, or the process that should is gone.
func awaitPort(ctx context.Context, address string, gone <-chan struct{}, log string) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		if err == nil {
			c.Close()
			return nil
		}
		select {
		case <-gone:
			b, _ := os.ReadFile(log)
			return fmt.Errorf("%s did not start: %s", address, strings.TrimSpace(string(b)))
		case <-ctx.Done():
			return fmt.Errorf("%s did not answer: %w", address, err)
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Running says whether the host has been started and has not ended.
func (h *Host) Running() bool {
	if h.gone == nil {
		return false
	}
	select {
	case <-h.gone:
		return false
	default:
		return true
	}
}
