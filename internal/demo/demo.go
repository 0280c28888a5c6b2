// Package demo starts the sample world, Tern Sound Ferries: its hosts and its
// directory as they are found, and a Hen Roost that looks after them.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	files "hen-roost/demo"
	"hen-roost/internal/api"
	"hen-roost/internal/client"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/standin"
)

// Operator signs in to the demo first. Second approves what he drafts, at a prompt of her own.
const (
	Operator = "odd.strand"
	Second   = "ines.moreau"
)

// hosts of the company and where on loopback each lives.
var hosts = []struct {
	name, param, ip string
	start           func(ctx context.Context, dir, name, ip, setup string, key world.Key, env ...string) (*world.Host, error)
}{
	{"arctic-tern", "arctic_tern", "127.0.2.1", world.StartHost}, {"sooty-tern", "sooty_tern", "127.0.2.2", world.StartHost},
	{"little-tern", "little_tern", "127.0.2.3", world.StartHost}, {"northquay", "northquay", "127.0.2.4", world.StartHost},
	{"slipway", "slipway", "127.0.2.5", world.StartSmallHost},
}

// Options say how to start the demo.
type Options struct {
	Dir     string        // a folder of its own; what an earlier demo left there is forgotten
	Listen  string        // of the service
	Batch   int           // steps in a batch; 0: as usual
	Wait    time.Duration // patience with targets; 0: as usual
	Log     *slog.Logger
	Version string
	Second  bool // there is a second operator: without one the team is of one
}

// Demo is a running sample world.
type Demo struct {
	Server      *serve.Server
	Password    string // of Operator
	Declaration string // folder with the declaration
	Dialects    string // folder with what teaches the company's own kinds of targets
	Profile     string // file with the operator's sign-in, for the command line
	Approver    string // file with that of the second operator, where there is one
	Data        string // the service's own folder
	Hosts       map[string]*world.Host
	Directory   *world.Directory
	Stores      *world.MariaDB
	Rota        *world.Postgres
	Ticketing   *world.Application
	Portal      *world.Application
	Switch      *world.Spoken
	Router      *world.Spoken
	Crewing     *world.Spoken
	Timetables  *world.Spoken
	dir         string
	config      serve.Config
}

const marker = "hen-roost-demo"

// forget empties the demo's folder, and refuses one that is somebody else's.
func forget(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); len(entries) > 0 && err != nil {
		return fmt.Errorf("%s is not empty and no demo of ours; choose another folder with --dir", dir)
	}
	for _, e := range entries {
		if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, marker), []byte("The folder of a Hen Roost demo. It may be deleted.\n"), 0o644)
}

// Start starts everything, with secrets set and nothing declared yet.
func Start(ctx context.Context, o Options) (*Demo, error) {
	if os.Geteuid() != 0 {
		return nil, world.ErrNotRoot
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	if err := forget(dir); err != nil {
		return nil, err
	}
	d := &Demo{dir: dir, Hosts: map[string]*world.Host{}, Declaration: filepath.Join(dir, "declaration"),
		Profile:  filepath.Join(dir, "sign-in.json"),
		Password: strings.ToLower(rand.Text()[:16])}
	d.Data, d.Dialects = filepath.Join(dir, "service"), filepath.Join(dir, "dialects")
	d.config = serve.Config{Listen: o.Listen, Data: d.Data, Log: o.Log, Version: o.Version, Batch: o.Batch, Wait: o.Wait,
		Drops: filepath.Join(d.dir, "drops"), Dialects: d.Dialects}
	if err := errors.Join(os.MkdirAll(d.config.Drops, 0o755), os.CopyFS(d.config.Dialects, files.Dialects())); err != nil {
		return nil, err
	}
	err = d.start(ctx)
	if err == nil && o.Second {
		err = d.enrol(ctx)
	}
	if err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

func (d *Demo) start(ctx context.Context) error {
	key, err := world.NewKey()
	if err != nil {
		return err
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	begin := func(what string, start func() error) {
		wg.Go(func() {
			if err := start(); err != nil {
				mu.Lock()
				errs = append(errs, fmt.Errorf("%s: %w", what, err))
				mu.Unlock()
			}
		})
	}
	for _, h := range hosts {
		begin(h.name, func() error {
			found, err := fs.ReadFile(files.Found(), h.name+".sh")
			if err != nil {
				return err
			}
			made, err := h.start(ctx, filepath.Join(d.dir, "hosts"), h.name, h.ip, string(found), key)
			mu.Lock()
			defer mu.Unlock()
			d.Hosts[h.name] = made
			return err
		})
	}
	begin("staff-directory", func() error {
		found, err := fs.ReadFile(files.Found(), "staff-directory.ldif")
		if err != nil {
			return err
		}
		d.Directory, err = world.StartDirectory(ctx, filepath.Join(d.dir, "directory"), "127.0.4.1", string(found), false)
		return err
	})
	begin("stores-database", func() error {
		found, err := fs.ReadFile(files.Found(), "stores-database.sql")
		if err != nil {
			return err
		}
		d.Stores, err = world.StartMariaDB(ctx, filepath.Join(d.dir, "stores"), "127.0.5.21", string(found))
		return err
	})
	begin("rota-database", func() error {
		found, err := fs.ReadFile(files.Found(), "rota-database.sql")
		if err != nil {
			return err
		}
		d.Rota, err = world.StartPostgres(ctx, "127.0.6.21", string(found))
		return err
	})
	begin("ticketing", func() error {
		d.Ticketing, err = d.application("ticketing", "127.0.7.21", standin.Choices{Cursors: true,
			Licences: map[string]int{"counter-seat": 10, "back-office": 3}})
		return err
	})
	begin("crew-portal", func() error {
		d.Portal, err = d.application("crew-portal", "127.0.7.22", standin.Choices{NoPatch: true, NoFilter: true, NoBulk: true,
			NoETag: true, Page: 5, Licences: map[string]int{"planner-seat": 12}})
		return err
	})
	for _, x := range []struct {
		name, ip string
		start    func(dir, ip string) (*world.Spoken, error)
		made     **world.Spoken
	}{{"northquay-switch", "127.0.9.1", world.StartSwitch, &d.Switch}, {"old-bridge", "127.0.9.21", world.StartRouter, &d.Router},
		{"crewing", "127.0.9.22", world.StartCrewing, &d.Crewing}, {"timetables", "127.0.9.23", world.StartTimetables, &d.Timetables}} {
		begin(x.name, func() (err error) {
			*x.made, err = x.start(filepath.Join(d.dir, x.name), x.ip)
			return err
		})
	}
	begin("service", func() error {
		d.Server, err = serve.Start(ctx, d.config)
		return err
	})
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}
	if err := errors.Join(d.writeDeclaration(), os.WriteFile(filepath.Join(d.dir, "crew.csv"), files.Crew(), 0o644)); err != nil {
		return err
	}
	return d.signIn(ctx, key)
}

// application starts one as it is found.
func (d *Demo) application(name, ip string, c standin.Choices) (*world.Application, error) {
	found, err := fs.ReadFile(files.Found(), name+".jsonl")
	if err != nil {
		return nil, err
	}
	c.Name, c.Token = name, rand.Text()
	a, err := world.StartApplication(filepath.Join(d.dir, name), ip, c)
	if err != nil {
		return nil, err
	}
	return a, a.Load(found)
}

// writeDeclaration lays the company's files out, with the addresses of this demo.
func (d *Demo) writeDeclaration() error {
	if err := os.CopyFS(d.Declaration, files.Declaration()); err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString("roost: 1\n\n# Where this demo's systems listen.\nparams:\n")
	for _, h := range hosts {
		fmt.Fprintf(&b, "  %s: %s\n", h.param, d.Hosts[h.name].Address)
	}
	fmt.Fprintf(&b, "  staff_directory: %s\n  stores_database: %s\n  rota_database: %s\n  ticketing: %s\n  crew_portal: %s\n  "+
		"northquay_switch: %s\n  old_bridge: %s\n  crewing: %s\n  timetables: %s\n",
		d.Directory.Address, d.Stores.Address, d.Rota.Address, d.Ticketing.Address, d.Portal.Address, d.Switch.Address,
		d.Router.Address, d.Crewing.Address, d.Timetables.Address)
	return os.WriteFile(filepath.Join(d.Declaration, "addresses.yaml"), []byte(b.String()), 0o644)
}

// passwordFile holds the operator's password, for commands that ask for it again.
func (d *Demo) passwordFile() string { return filepath.Join(d.dir, "operator-password") }

// signIn makes the first operator, signs in as them, and seals the secrets.
func (d *Demo) signIn(ctx context.Context, key world.Key) error {
	if _, err := d.Server.Service.FirstOperator(ctx, Operator, "Odd Strand", d.Password); err != nil {
		return err
	}
	secret, err := d.profile(ctx, Operator, d.Password, d.passwordFile(), d.Profile)
	if err != nil {
		return err
	}
	c := client.New(d.Server.Address, secret, d.Server.Print)
	for name, value := range map[string][]byte{"vessel-key": key.Private, "directory-password": []byte(d.Directory.Password),
		"stores-database-password": []byte(d.Stores.Password), "rota-database-password": []byte(d.Rota.Password),
		"ticketing-token": []byte(d.Ticketing.Token), "crew-portal-token": []byte(d.Portal.Token),
		"northquay-switch-password": []byte(d.Switch.Password), "old-bridge-password": []byte(d.Router.Password),
		"crewing-password": []byte(d.Crewing.Password), "timetables-password": []byte(d.Timetables.Password)} {
		if err := c.Send(ctx, http.MethodPut, "/secrets/"+name, map[string]any{"value": value}, nil); err != nil {
			return err
		}
	}
	return nil
}

// profile signs an operator in for the command line, and leaves the password in a file beside. It returns the token.
func (d *Demo) profile(ctx context.Context, name, password, passwordFile, file string) (token string, err error) {
	var who api.SignedIn
	in := map[string]string{"name": name, "password": password, "token": "demo"}
	if err := client.New(d.Server.Address, "", d.Server.Print).Send(ctx, http.MethodPost, "/session", in, &who); err != nil {
		return "", err
	}
	profile, err := json.Marshal(map[string]string{"server": d.Server.Address, "operator": name, "token": who.Secret,
		"fingerprint": d.Server.Print})
	if err != nil {
		return "", err
	}
	return who.Secret, errors.Join(os.WriteFile(passwordFile, []byte(password+"\n"), 0o600), os.WriteFile(file, profile, 0o600))
}

// enrol adds the second operator, who approves and runs, and releases secrets.
func (d *Demo) enrol(ctx context.Context) error {
	password := strings.ToLower(rand.Text()[:16])
	if _, err := d.Server.Service.AddOperator(ctx, door.Itself, Second, "Inès Moreau", password,
		[]string{"draft", "approve", "run", "suspend", "restore", "credential", "administer"}); err != nil {
		return err
	}
	d.Approver = filepath.Join(d.dir, "second-sign-in.json")
	_, err := d.profile(ctx, Second, password, filepath.Join(d.dir, "second-password"), d.Approver)
	return err
}

// Close ends everything that was started.
func (d *Demo) Close() {
	var wg sync.WaitGroup
	if d.Server != nil {
		d.Server.Close()
	}
	for _, h := range d.Hosts {
		if h != nil && h.Running() {
			wg.Go(h.Stop)
		}
	}
	if d.Directory != nil {
		wg.Go(d.Directory.Stop)
	}
	if d.Stores != nil {
		wg.Go(d.Stores.Stop)
	}
	if d.Rota != nil {
		wg.Go(d.Rota.Remove)
	}
	for _, s := range []*world.Spoken{d.Switch, d.Router, d.Crewing, d.Timetables} {
		if s != nil {
			wg.Go(s.Stop)
		}
	}
	for _, a := range []*world.Application{d.Ticketing, d.Portal} {
		if a != nil {
			wg.Go(a.Stop)
		}
	}
	wg.Wait()
}
