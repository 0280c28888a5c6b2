package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"hen-roost/internal/client"
	"hen-roost/internal/demo/world"
)

// doors are the figures of the large company through its doors: each is taken
// where it comes in a story that is told once.
type doors struct {
	*large
	took map[string][2]float64 // ours, and what is beside it
}

// through returns a figure of the story.
func through(name string) func(context.Context, *workbench) (float64, float64, error) {
	return func(ctx context.Context, w *workbench) (float64, float64, error) {
		if w.doors == nil {
			l, err := startLarge(ctx, w)
			if err != nil {
				return 0, 0, err
			}
			w.doors = &doors{large: l, took: map[string][2]float64{}}
			if err := w.doors.tell(ctx); err != nil {
				return 0, 0, err
			}
		}
		x, ok := w.doors.took[name]
		if !ok {
			return 0, 0, fmt.Errorf("the story does not tell it")
		}
		return x[0], x[1], nil
	}
}

func (d *doors) note(name string, ours, beside float64) {
	d.took[name] = [2]float64{ours, beside}
	fmt.Printf("# %s %.3f beside %.3f\n", name, ours, beside)
}

// command notes how long the command line takes: the median of so many.
func (d *doors) command(name string, aim float64, times int, args ...string) error {
	var all []float64
	for range times {
		_, took, err := d.roost(args...)
		if err != nil {
			return err
		}
		all = append(all, took)
	}
	d.note(name, median(all), aim)
	return nil
}

// tell goes through the company's life: declared, surveyed, looked at, edited, put right.
func (d *doors) tell(ctx context.Context) error {
	for _, chapter := range []func(context.Context) error{d.declared, d.surveyed, d.lookedAt, d.putRight, d.edited, d.changed, d.renamed,
		d.crowded, d.read, d.kept} {
		if err := chapter(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (d *doors) declared(context.Context) error {
	d.peak()
	if err := d.command("declare", 8, 1, "declare", d.files, "--because", "bench", "--yes"); err != nil {
		return err
	}
	d.note("declare-memory", d.peak(), 400)
	return nil
}

// surveyed reads the systems: first those that say nothing are found out, then the keys are accepted.
func (d *doors) surveyed(context.Context) error {
	if _, _, err := d.roost("revision", "approve", "--yes", "--password-file", filepath.Join(d.dir, "word")); err != nil {
		return err
	}
	_, _, _ = d.roost("survey")
	if _, _, err := d.roost("target", "accept-key", "--all-new"); err != nil {
		return err
	}
	for _, x := range []struct {
		name, target string
		aim          float64
	}{{"survey-first", "staff-directory", 0}, {"survey-unchanged", "staff-directory", 0}, {"host-first", "northquay", 1},
		{"host-again", "northquay", 0.6}} {
		if err := d.survey(x.name, x.target, x.aim); err != nil {
			return err
		}
	}
	_, _, err := d.roost("survey", "little-tern", "sooty-tern")
	return err
}

// survey notes how long a target takes, beside what it may take, or what ldapsearch does.
func (d *doors) survey(name, target string, aim float64) error {
	if aim == 0 {
		password := filepath.Join(d.dir, "password")
		if err := os.WriteFile(password, []byte(d.d.Password), 0o600); err != nil {
			return err
		}
		cmd := exec.Command("ldapsearch", "-LLL", "-x", "-H", "ldaps://"+d.d.Address, "-D", world.Login, "-y", password, "-E",
			"pr=1000/noprompt", "-b", people, "(&(objectClass=inetOrgPerson)(uid=*))", "uid", "cn", "givenName", "sn", "mail", "uidNumber",
			"gidNumber", "homeDirectory", "loginShell", "pwdAccountLockedTime", "entryUUID", "objectClass")
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+d.d.Authority())
		began := time.Now()
		if err := cmd.Run(); err != nil {
			return err
		}
		aim = time.Since(began).Seconds()
	}
	_, took, err := d.roost("survey", target)
	d.note(name, took, aim)
	return err
}

// changed are surveys on an ordinary day, with and without a directory that can tell what changed.
func (d *doors) changed(context.Context) error {
	change := func(shell string) error {
		var b strings.Builder
		for i := range 100 {
			fmt.Fprintf(&b, "dn: uid=hand.%06d,%s\nchangetype: modify\nreplace: loginShell\nloginShell: %s\n\n", 1000+i, people, shell)
		}
		return d.d.Load(b.String())
	}
	for _, step := range []func() error{
		func() error { return change("/bin/zsh") },
		func() error { return d.survey("survey-changed", "staff-directory", 0) },
		d.d.Sync,
		func() error { _, _, err := d.roost("survey", "staff-directory"); return err },
		func() error { return change("/bin/ksh") },
		func() error { return d.survey("survey-sync", "staff-directory", 0.1) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// page is how long one answer of the API takes, in ms: the median of so many.
func (d *doors) page(ctx context.Context, times int, path string, q url.Values, into any) (float64, error) {
	var all []float64
	for range times {
		began := time.Now()
		if err := d.client.Get(ctx, path, q, into); err != nil {
			return 0, err
		}
		all = append(all, time.Since(began).Seconds()*1000)
	}
	return median(all), nil
}

// worst is the slowest of the pages of findings: from the first to the last, of
// each kind, of each target.
func (d *doors) worst(ctx context.Context) (ms float64, total int, err error) {
	type findings struct {
		Next  string         `json:"next"`
		Total int            `json:"total"`
		Kinds map[string]int `json:"kinds"`
	}
	walk := func(choice url.Values) (first findings, err error) {
		after := ""
		for n := 0; n == 0 || after != ""; n++ {
			q := url.Values{"size": {"1000"}, "after": {after}}
			for k, v := range choice {
				q[k] = v
			}
			if n%20 == 0 { // one in twenty as the console asks for it
				q.Set("size", "50")
			}
			var f findings
			began := time.Now()
			if err := d.client.Get(ctx, "/findings", q, &f); err != nil {
				return first, err
			}
			if took := time.Since(began).Seconds() * 1000; q.Get("size") == "50" {
				if ms = max(ms, took); took > 50 {
					fmt.Printf("# page %d of %v: %.0f ms\n", n, choice, took)
				}
			}
			if after = f.Next; n == 0 {
				first = f
			}
		}
		return first, nil
	}
	all, err := walk(nil)
	for kind := range all.Kinds {
		if err == nil {
			_, err = walk(url.Values{"kind": {kind}})
		}
	}
	for _, target := range []string{"northquay", "staff-directory"} {
		if err == nil {
			_, err = walk(url.Values{"target": {target}})
		}
	}
	return ms, all.Total, err
}

// pages are those that a person opens, with some number of findings.
func (d *doors) pages(ctx context.Context, suffix string) error {
	ms, total, err := d.worst(ctx)
	if err != nil {
		return err
	}
	fmt.Printf("# %d findings\n", total)
	d.note("findings-page"+suffix, ms, 50)
	var any struct{}
	for name, path := range map[string]string{"overview": "/overview", "target-page": "/targets/staff-directory"} {
		ms, err := d.page(ctx, 9, path, nil, &any)
		if err == nil && name == "target-page" {
			var held float64
			held, err = d.page(ctx, 9, path+"/accounts", url.Values{"size": {"50"}}, &any)
			ms = max(ms, held)
		}
		if err != nil {
			return err
		}
		d.note(name+suffix, ms, 50)
	}
	return nil
}

func (d *doors) lookedAt(ctx context.Context) error {
	if err := d.pages(ctx, ""); err != nil {
		return err
	}
	for _, c := range []struct {
		name string
		aim  float64
		args []string
	}{
		{"drift-target", 0.5, []string{"drift", "--target", "northquay"}}, {"drift-all", 0.5, []string{"drift"}},
		{"who-has", 0.3, []string{"explain", "--who-has", "group-7", "staff-directory"}},
		{"who-has-crowd", 0.3, []string{"explain", "--who-has", "crew", "staff-directory"}},
	} {
		if err := d.command(c.name, c.aim, 5, c.args...); err != nil {
			return err
		}
	}
	return nil
}

func (d *doors) edited(context.Context) error {
	var all []float64
	for i := range 7 {
		user := fmt.Sprintf("hand.%06d", sized(40_000)+1+10*i)
		_, edit, err := d.roost("edit", "users", user, "--set", "name=Åse Other", "--because", "bench", "--yes")
		if err != nil {
			return err
		}
		out, look, err := d.roost("drift", "--user", user)
		if err != nil || !strings.Contains(out, "Åse Other") {
			return fmt.Errorf("the edit does not show: %w: %s", err, clipped(out))
		}
		all = append(all, edit+look)
	}
	d.note("edit-until-drift", median(all), 0.3)
	one := fmt.Sprintf("hand.%06d", sized(40_000)+2)
	if err := d.command("rename-a-person", 2, 1, "rename", one, "hand.other", "--because", "bench", "--yes"); err != nil {
		return err
	}
	if out, _, err := d.roost("rename", "hand.other", one, "--because", "bench", "--yes"); err != nil {
		return fmt.Errorf("%w: %s", err, clipped(out))
	}
	var csv strings.Builder
	csv.WriteString("id,name,given,family,number,mail\n")
	for i := range 5000 {
		fmt.Fprintf(&csv, "hire.%05[1]d,New Hire %[1]d,New,Hire %[1]d,%[2]d,hire.%05[1]d@ternsound.example\n", i, 400_000+i)
	}
	file := filepath.Join(d.dir, "hires.csv")
	if err := os.WriteFile(file, []byte(csv.String()), 0o644); err != nil {
		return err
	}
	if err := d.command("import-5000", 10, 1, "import", file, "--role", "role-7", "--into", "people-19.yaml", "--because", "bench",
		"--yes"); err != nil {
		return err
	}
	// They go again: what follows is about those who were there.
	_, _, err := d.roost("declare", d.files, "--because", "bench", "--yes")
	return err
}

func (d *doors) putRight(ctx context.Context) error {
	if err := d.command("draft", 4, 1, "draft", "--target", "staff-directory", "--because", "bench"); err != nil {
		return err
	}
	if err := d.command("draft-shown", 0.5, 5, "round", "show", "1"); err != nil {
		return err
	}
	if _, _, err := d.roost("approve", "1"); err != nil {
		return err
	}
	var r struct {
		Steps     int            `json:"steps"`
		Outcomes  map[string]int `json:"outcomes"`
		StartedAt time.Time      `json:"started-at"`
		EndedAt   time.Time      `json:"ended-at"`
	}
	if _, _, err := d.roost("run", "1"); err != nil {
		return err
	}
	if err := d.client.Get(ctx, "/rounds/1", nil, &r); err != nil {
		return err
	}
	fmt.Printf("# %d steps: %v\n", r.Steps, r.Outcomes)
	d.note("run", r.EndedAt.Sub(r.StartedAt).Seconds(), float64(r.Steps)/5000)
	return nil
}

func (d *doors) renamed(context.Context) error {
	if err := d.write("everybody", ""); err != nil {
		return err
	}
	return d.command("role-renamed", 8, 1, "declare", d.files, "--because", "bench", "--yes")
}

// crowded asks for six more groups of everybody, looks at all that is missing then, and takes it back.
func (d *doors) crowded(ctx context.Context) error {
	const six = "        groups: [group-1800, group-1801, group-1802, group-1803, group-1804, group-1805]\n"
	if err := d.write("everybody", six); err != nil {
		return err
	}
	if _, _, err := d.roost("declare", d.files, "--because", "bench", "--yes"); err != nil {
		return err
	}
	if err := d.pages(ctx, "-crowded"); err != nil {
		return err
	}
	fmt.Printf("# on disk %.0f MB\n", d.onDisk())
	if err := d.write("everybody", ""); err != nil {
		return err
	}
	_, _, err := d.roost("declare", d.files, "--because", "bench", "--yes")
	return err
}

// readers ask for pages, each one after the other, and say how long the slowest one in a hundred takes, in s.
func (d *doors) readers(ctx context.Context, n int, path func(i int) string) (p50, p99 float64, err error) {
	ctx, stop := context.WithTimeout(ctx, time.Duration(turns(8))*time.Second)
	defer stop()
	var mu sync.Mutex
	var all []float64
	var wg sync.WaitGroup
	for r := range n {
		wg.Go(func() {
			c := client.New(d.address, d.client.Token, d.print)
			for i := r; ctx.Err() == nil; i += n {
				var any struct{}
				began := time.Now()
				e := c.Get(ctx, path(i), nil, &any)
				mu.Lock()
				switch {
				case ctx.Err() != nil:
				case e != nil:
					err = e
				case i >= n: // the first asks for a connection too
					all = append(all, time.Since(began).Seconds())
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if len(all) == 0 {
		return 0, 0, fmt.Errorf("nobody was answered: %w", err)
	}
	slices.Sort(all)
	fmt.Printf("# %d readers: %d answers, half of them within %.3f s\n", n, len(all), all[len(all)/2])
	return all[len(all)/2], all[len(all)*99/100], err
}

func (d *doors) read(ctx context.Context) error {
	overview := func(int) string { return "/overview" }
	person := func(i int) string { return fmt.Sprintf("/users/hand.%06d", i*37%largeUsers) }
	for name, path := range map[string]func(int) string{"readers-overview": overview, "readers-person": person} {
		_, p99, err := d.readers(ctx, 50, path)
		if err != nil {
			return err
		}
		d.note(name, p99, 0.3)
	}
	// The same with a round under way and twenty who watch.
	if _, _, err := d.roost("draft", "--target", "northquay", "--because", "bench"); err != nil {
		return err
	}
	if _, _, err := d.roost("approve", "2"); err != nil {
		return err
	}
	watching, leave := context.WithCancel(ctx)
	defer leave()
	for range 20 {
		go func() {
			_ = client.New(d.address, d.client.Token, d.print).Events(watching, "/watch",
				func(string, []byte) (bool, error) { return false, nil })
		}()
	}
	for name, path := range map[string]func(int) string{"readers-overview-busy": overview, "readers-person-busy": person} {
		if name == "readers-overview-busy" {
			if _, _, err := d.roost("run", "2", "--no-wait"); err != nil {
				return err
			}
		}
		_, p99, err := d.readers(ctx, 50, path)
		if err != nil {
			return err
		}
		d.note(name, p99, 0.6)
	}
	return nil
}

// kept is what stays: on disk, in the record, and how soon a service is there again.
func (d *doors) kept(ctx context.Context) error {
	var head struct {
		Seq int `json:"checkpoint"`
	}
	if err := d.client.Get(ctx, "/record-head", nil, &head); err != nil {
		return err
	}
	check := func(turn string) error {
		_, took, err := d.roost("record", "--verify")
		d.note(turn, took*1e6/float64(head.Seq), 2)
		return err
	}
	if err := check("record-check-first"); err != nil {
		return err
	}
	if err := d.halt(); err != nil {
		return err
	}
	began := time.Now()
	if err := d.start(); err != nil {
		return err
	}
	if err := d.keep(); err != nil {
		return err
	}
	if _, _, err := d.roost("user", "show", "hand.000123"); err != nil {
		return err
	}
	d.note("restart", time.Since(began).Seconds(), 3)
	fmt.Printf("# on disk %.0f MB\n", d.onDisk())
	pause(150 * time.Second) // entries are sealed and room is given back in time
	if err := check("record-check"); err != nil {
		return err
	}
	d.note("on-disk", d.onDisk(), 600)
	d.note("record-entry", d.recordBytes()/float64(head.Seq), 350)
	d.largest()
	return nil
}

// recordBytes is what the record takes on disk.
func (d *doors) recordBytes() (sum float64) {
	files, _ := filepath.Glob(filepath.Join(d.data, "db", "data", "roost", "record*.ibd"))
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			sum += float64(info.Size())
		}
	}
	return sum
}

// standLarge starts the large company and waits to be interrupted.
func standLarge(w *workbench) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	l, err := startLarge(ctx, w)
	if err != nil {
		return err
	}
	fmt.Printf("# standing in %s\nexport ROOST_PROFILE=%s\n", w.dir, l.profile)
	<-ctx.Done()
	return nil
}
