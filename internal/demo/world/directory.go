package world

import (
	"context"
	"crypto/rand"
	"crypto/sha1"
	_ "embed"
	"encoding/base64"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
)

//go:embed slapd.ldif
var slapdConfig string

// What the sample directory is called inside.
const (
	Suffix = "dc=ternsound,dc=example"
	Login  = "cn=hen-roost," + Suffix
)

// Directory is a running slapd.
type Directory struct {
	Address  string // host:port, TLS
	Password string // of Login
	dir      string
	server
}

// Without says what a directory shall not have.
type Without string

// WithoutSync is a directory that cannot tell what changed (RFC 4533), until
// Directory.Sync lets it.
const WithoutSync Without = "syncprov"

// StartDirectory makes and starts a directory at an address of loopback with
// the given entries in it. durable keeps every change on disk before it answers.
func StartDirectory(ctx context.Context, dir, ip, entries string, durable bool, without ...Without) (*Directory, error) {
	port, err := freePort(ip)
	if err != nil {
		return nil, err
	}
	d := &Directory{Address: net.JoinHostPort(ip, strconv.Itoa(port)), Password: rand.Text(), dir: dir}
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	for _, sub := range []string{"cfg", "db"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	if err := d.prepare(ip, durable, without); err != nil {
		return nil, err
	}
	if err := d.Start(ctx); err != nil {
		return nil, err
	}
	return d, d.Load(entries)
}

var posixGroup = regexp.MustCompile(`(?s)(NAME 'posixGroup'.*?)STRUCTURAL`)

// overlay is the part of the configuration that lays an overlay over the entries.
func overlay(name Without) *regexp.Regexp {
	return regexp.MustCompile(`(?s)dn: olcOverlay=\{\d\}` + string(name) + `,.*?\n\n`)
}

// Sync lets a directory that was started WithoutSync tell what changed from now on.
func (d *Directory) Sync() error { return d.Load(overlay(WithoutSync).FindString(slapdConfig)) }

func (d *Directory) prepare(ip string, durable bool, without []Without) error {
	if err := certify(d.dir, "directory.ternsound.example", ip); err != nil {
		return err
	}
	posix, err := os.ReadFile("/etc/ldap/schema/nis.ldif")
	if err != nil {
		return fmt.Errorf("slapd is not installed (Debian: apt-get install slapd ldap-utils): %w", err)
	}
	// A group of names that is a POSIX group too: posixGroup must be auxiliary, as its successor draft has it.
	posix = posixGroup.ReplaceAll(posix, []byte("${1}AUXILIARY"))
	sync := "olcDbNoSync: TRUE"
	if durable {
		sync = "olcDbNoSync: FALSE"
	}
	config := strings.NewReplacer("$B", d.dir, "$SYNC", sync).Replace(slapdConfig)
	for _, name := range without {
		config = overlay(name).ReplaceAllString(config, "")
	}
	base := fmt.Sprintf("dn: %[1]s\nobjectClass: dcObject\nobjectClass: organization\ndc: ternsound\no: Tern Sound Ferries\n\n"+
		"dn: ou=People,%[1]s\nobjectClass: organizationalUnit\nou: People\n\ndn: ou=Groups,%[1]s\nobjectClass: organizationalUnit\nou: "+
		"Groups\n\n"+
		// Without a policy that locks, an account that is locked is let in all the same.
		"dn: ou=Policies,%[1]s\nobjectClass: organizationalUnit\nou: Policies\n\ndn: cn=everybody,ou=Policies,%[1]s\nobjectClass: device\n"+
		"objectClass: pwdPolicy\ncn: everybody\npwdAttribute: userPassword\npwdLockout: TRUE\npwdMustChange: TRUE\n\n"+
		"dn: %[2]s\nobjectClass: device\nobjectClass: simpleSecurityObject\ncn: hen-roost\nuserPassword: %[3]s\n", Suffix, Login,
		ssha(d.Password))
	for name, text := range map[string]string{"posix.ldif": string(posix), "cfg.ldif": config, "base.ldif": base} {
		if err := os.WriteFile(filepath.Join(d.dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	for n, file := range []string{"cfg.ldif", "base.ldif"} {
		out, err := exec.Command("slapadd", "-F", filepath.Join(d.dir, "cfg"), "-n", strconv.Itoa(n), "-l",
			filepath.Join(d.dir, file)).CombinedOutput()
		if err != nil {
			return fmt.Errorf("slapadd %s: %w: %s", file, err, out)
		}
	}
	return nil
}

// ssha hashes a password the way every directory knows (salted SHA-1; the password is random and 130 bits long).
func ssha(password string) string {
	salt := make([]byte, 8)
	rand.Read(salt)
	sum := sha1.Sum(append([]byte(password), salt...))
	return "{SSHA}" + base64.StdEncoding.EncodeToString(append(sum[:], salt...))
}

// Authority is the file with the certificate of the directory's authority.
func (d *Directory) Authority() string { return filepath.Join(d.dir, "ca.pem") }

func (d *Directory) local() string { return "ldapi://" + url.PathEscape(filepath.Join(d.dir, "ldapi")) }

// LogFile is where slapd writes every operation.
func (d *Directory) LogFile() string { return filepath.Join(d.dir, "log") }

// Start starts the directory anew on what it holds.
func (d *Directory) Start(ctx context.Context) error {
	level := "0"
	if os.Getenv("WORLD_LDAP_LOG") != "" {
		level = "stats"
	}
	cmd := exec.Command("/usr/sbin/slapd", "-F", filepath.Join(d.dir, "cfg"), "-h", d.local()+" ldaps://"+d.Address+"/", "-d", level)
	return d.run(ctx, cmd, d.LogFile(), d.Address, nil)
}

// Load adds entries (LDIF) as the directory's own root.
func (d *Directory) Load(entries string) error {
	if strings.TrimSpace(entries) == "" {
		return nil
	}
	cmd := exec.Command("ldapadd", "-Q", "-Y", "EXTERNAL", "-H", d.local())
	cmd.Stdin = strings.NewReader(entries)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("ldapadd: %w: %s", err, tail(string(out)))
	}
	return nil
}

// Search asks the directory as its own root, past our connector, and returns LDIF.
func (d *Directory) Search(filter string, attributes ...string) (string, error) {
	out, err := exec.Command("ldapsearch", append([]string{"-LLL", "-Q", "-o", "ldif-wrap=no", "-Y", "EXTERNAL", "-H", d.local(), "-b",
		Suffix, filter}, attributes...)...).CombinedOutput()
	return string(out), err
}

// Stop ends the directory and waits until it is gone.
func (d *Directory) Stop() { d.end(syscall.SIGTERM) }

func tail(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-4):], " / ")
}

// LoadOffline adds many entries (LDIF) while the directory is stopped: a
// hundred thousand take seconds rather than minutes.
func (d *Directory) LoadOffline(ctx context.Context, entries string) error {
	d.Stop()
	cmd := exec.Command("slapadd", "-q", "-F", filepath.Join(d.dir, "cfg"), "-n", "1")
	cmd.Stdin = strings.NewReader(entries)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("slapadd: %w: %s", err, tail(string(out)))
	}
	return d.Start(ctx)
}
